/* SPDX-License-Identifier: MIT */
/* Volumes that no tool here makes, composed byte by byte from the published formats. */
#include "volumes.h"

#include "base/bytes.h"
#include "base/checksum.h"

#define MIB (1u << 20)

static Composed *compose(const char *filesystem, gsize length)
{
    Composed *composed = g_new0(Composed, 1);
    composed->filesystem = filesystem;
    composed->length = length;
    composed->data = g_malloc0(length);
    return composed;
}

void composed_free(Composed *composed)
{
    g_free(composed->data);
    g_free(composed);
}

static void put_text(guint8 *at, const char *text)
{
    memcpy(at, text, strlen(text));
}

static void put_uuid(guint8 *at)
{
    for (guint i = 0; i < 16; i++)
        at[i] = (guint8)(0x50 + i);
}

#define UUID "50515253-5455-5657-5859-5a5b5c5d5e5f"

/* --- HFS+ in its wrapper, after TN1150 --- */

Composed *composed_wrapped_hfsplus(void)
{
    enum { BLOCK = 4096, FIRST = 16, BEGIN = 3, BEHIND = 2 };
    g_autoptr(Composed) inside = composed_hfsplus(FALSE, 0);
    gsize blocks = BEGIN + inside->length / BLOCK + BEHIND;
    gsize start = FIRST * 512 + BEGIN * BLOCK;
    Composed *composed = compose("hfsplus", FIRST * 512 + blocks * BLOCK + 1024);
    composed->label = inside->label;
    composed->uuid = inside->uuid;
    composed->first_byte = start + inside->first_byte;
    composed->first_length = inside->first_length;
    composed->copy_byte = start + inside->copy_byte;
    composed->copy_length = inside->copy_length;
    guint8 *block = composed->data + 1024;
    memcpy(block, "BD", 2);
    ek_put_be16(block + 18, (guint16)blocks);
    ek_put_be32(block + 20, BLOCK);
    ek_put_be16(block + 28, FIRST);
    memcpy(block + 124, "H+", 2);
    ek_put_be16(block + 126, BEGIN);
    ek_put_be16(block + 128, (guint16)(inside->length / BLOCK));
    memcpy(composed->data + start, inside->data, inside->length);
    return composed;
}

/* --- APFS, after the Apple File System Reference --- */

#define APFS_BLOCK 4096u

static void seal_apfs(guint8 *block)
{
    guint64 one = 0;
    guint64 two = 0;
    EkSpan span = {block, APFS_BLOCK};
    for (gsize i = 8; i < APFS_BLOCK; i += 4) {
        one = (one + ek_span_le32(span, i)) % 0xffffffff;
        two = (two + one) % 0xffffffff;
    }
    guint64 low = 0xffffffff - (one + two) % 0xffffffff;
    guint64 high = 0xffffffff - (one + low) % 0xffffffff;
    ek_put_le64(block, high << 32 | low);
}

static void put_apfs_super(guint8 *b, guint64 transaction)
{
    ek_put_le64(b + 8, 1);
    ek_put_le64(b + 16, transaction);
    ek_put_le32(b + 24, 0x80000001);
    put_text(b + 32, "NXSB");
    ek_put_le32(b + 36, APFS_BLOCK);
    ek_put_le64(b + 40, 3000);
    put_uuid(b + 72);
    ek_put_le32(b + 104, 8);
    ek_put_le64(b + 112, 1);
    seal_apfs(b);
}

Composed *composed_apfs(void)
{
    Composed *composed = compose("apfs", 3000 * APFS_BLOCK);
    composed->uuid = UUID;
    composed->first_length = APFS_BLOCK;
    composed->copy_byte = 4 * APFS_BLOCK;
    composed->copy_length = APFS_BLOCK;
    put_apfs_super(composed->data, 7);
    for (guint i = 0; i < 2; i++) {
        guint8 *map = composed->data + (1 + 2 * i) * APFS_BLOCK;
        ek_put_le64(map + 8, 1 + 2 * i);
        ek_put_le64(map + 16, 6 + i);
        ek_put_le32(map + 24, 0x4000000c);
        seal_apfs(map);
        put_apfs_super(map + APFS_BLOCK, 6 + i);
    }
    return composed;
}

/* --- ReFS --- */

Composed *composed_refs(void)
{
    Composed *composed = compose("refs", 20001 * 512);
    composed->uuid = "5EED000000000042";
    composed->first_length = 512;
    composed->copy_byte = 20000 * 512;
    composed->copy_length = 512;
    guint8 *boot = composed->data;
    put_text(boot + 3, "ReFS");
    put_text(boot + 16, "FSRS");
    ek_put_le16(boot + 20, 512);
    ek_put_le64(boot + 24, 20000);
    ek_put_le32(boot + 32, 512);
    ek_put_le32(boot + 36, 8);
    boot[40] = 3;
    boot[41] = 4;
    ek_put_le64(boot + 56, 0x5eed000000000042);
    memcpy(composed->data + composed->copy_byte, boot, 512);
    return composed;
}

/* --- BitLocker --- */

Composed *composed_bitlocker(void)
{
    static const gsize places[] = {2 * MIB, 5 * MIB, 9 * MIB};
    Composed *composed = compose("bitlocker", 12 * MIB);
    composed->first_length = 512;
    composed->copy_byte = places[1];
    composed->copy_length = 64;
    guint8 *boot = composed->data;
    put_text(boot + 3, "-FVE-FS-");
    ek_put_le16(boot + 11, 512);
    boot[510] = 0x55;
    boot[511] = 0xaa;
    for (guint i = 0; i < G_N_ELEMENTS(places); i++) {
        guint8 *block = composed->data + places[i];
        ek_put_le64(boot + 176 + 8 * i, places[i]);
        put_text(block, "-FVE-FS-");
        ek_put_le16(block + 8, 64);
        ek_put_le16(block + 10, 2);
        ek_put_le64(block + 16, composed->length);
        for (guint k = 0; k < G_N_ELEMENTS(places); k++)
            ek_put_le64(block + 32 + 8 * k, places[k]);
    }
    return composed;
}

/* --- LVM2 --- */

Composed *composed_lvm(void)
{
    Composed *composed = compose("lvm2", 16 * MIB);
    composed->label = "fenvg";
    composed->uuid = "aB3dEf7hIjKlMnOpQrStUvWxYz012345";
    guint8 *label = composed->data + 512;
    put_text(label, "LABELONE");
    ek_put_le64(label + 8, 1);
    ek_put_le32(label + 20, 32);
    put_text(label + 24, "LVM2 001");
    put_text(label + 32, composed->uuid);
    ek_put_le64(label + 64, composed->length);
    ek_put_le64(label + 72, MIB);
    ek_put_le64(label + 104, 4096);
    ek_put_le64(label + 112, MIB - 4096);
    ek_put_le32(label + 16, ek_crc32_from(0xf597a6cf, (EkSpan){label + 20, 492}));
    guint8 *area = composed->data + 4096;
    put_text(area + 4, " LVM2 x[5A%r0N*>");
    ek_put_le64(area + 40, 512);
    put_text(area + 512, "fenvg {\nid = \"x\"\n}\n");
    return composed;
}

/* --- Linux RAID --- */

#define RAID_MAGIC 0xa92b4efcu

static guint32 raid_sum(const guint8 *data, gsize length)
{
    guint64 sum = 0;
    for (gsize i = 0; i < length; i += 4)
        sum += ek_span_le32((EkSpan){data, length}, i);
    return (guint32)(sum & 0xffffffff) + (guint32)(sum >> 32);
}

Composed *composed_raid(guint minor)
{
    Composed *composed = compose("linux-raid", 16 * MIB);
    gsize place = minor == 0 ? composed->length - 8192 : minor == 1 ? 0 : 4096;
    gsize content = minor == 0 ? 0 : MIB;
    guint8 *super = composed->data + place;
    composed->label = "fen:0";
    composed->uuid = UUID;
    composed->length_is_least = TRUE;
    ek_put_le32(super, RAID_MAGIC);
    ek_put_le32(super + 4, 1);
    put_uuid(super + 16);
    put_text(super + 32, composed->label);
    ek_put_le64(super + 64, 1772000000);
    ek_put_le32(super + 72, 1);
    ek_put_le32(super + 92, 2);
    ek_put_le64(super + 128, content / 512);
    ek_put_le64(super + 136, (composed->length - MIB) / 512);
    ek_put_le64(super + 144, place / 512);
    ek_put_le64(super + 192, 1772500000);
    ek_put_le32(super + 220, 2);
    ek_put_le32(super + 216, raid_sum(super, 256 + 4));
    return composed;
}

Composed *composed_old_raid(void)
{
    Composed *composed = compose("linux-raid", 16 * MIB);
    gsize place = composed->length - 65536;
    guint8 *super = composed->data + place;
    composed->uuid = "42005eed-5051-5253-5455-56575859005a";
    composed->length_is_least = TRUE;
    ek_put_le32(super, RAID_MAGIC);
    ek_put_le32(super + 8, 90);
    ek_put_be32(super + 20, 0x42005eed);
    ek_put_le32(super + 24, 1772000000);
    ek_put_le32(super + 28, 1);
    ek_put_le32(super + 32, (guint32)(place / 1024));
    ek_put_le32(super + 40, 2);
    static const guint8 rest[] = {0x50, 0x51, 0x52, 0x53, 0x54, 0x55,
                                  0x56, 0x57, 0x58, 0x59, 0x00, 0x5a};
    memcpy(super + 52, rest, sizeof rest);
    ek_put_le32(super + 152, raid_sum(super, 4096));
    return composed;
}

/* --- dynamic disks, after the kernel's block/partitions/ldm.h --- */

Composed *composed_ldm(void)
{
    const guint sectors = 40000;
    const guint database = sectors - 2048;
    Composed *composed = compose("ldm", sectors * 512);
    composed->label = "FenDg0";
    composed->uuid = "11112222-3333-4444-5555-666677778888";
    composed->first_byte = 6 * 512;
    composed->first_length = 512;
    composed->copy_byte = (sectors - 1) * 512;
    composed->copy_length = 512;
    guint8 *head = composed->data + composed->first_byte;
    put_text(head, "PRIVHEAD");
    ek_put_be16(head + 12, 2);
    ek_put_be16(head + 14, 12);
    put_text(head + 0x30, composed->uuid);
    put_text(head + 0xf0, composed->label);
    ek_put_be64(head + 0x11b, 63);
    ek_put_be64(head + 0x123, database - 63);
    ek_put_be64(head + 0x12b, database);
    ek_put_be64(head + 0x133, 2048);
    memcpy(composed->data + composed->copy_byte, head, 512);
    put_text(composed->data + (database + 1) * 512, "TOCBLOCK");
    put_text(composed->data + (database + 17) * 512, "VMDB");
    return composed;
}

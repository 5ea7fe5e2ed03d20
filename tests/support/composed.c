/* SPDX-License-Identifier: MIT */
/* Files put together byte by byte, as the published formats say. */
#include "composed.h"

#include "base/bytes.h"
#include "base/checksum.h"
#include "fixture.h"

#include <string.h>

typedef GByteArray Bytes;

static void text(Bytes *bytes, const char *words)
{
    compose_bytes(bytes, words, strlen(words));
}

static void le(Bytes *bytes, guint64 value, guint width)
{
    compose_number(bytes, value, width, FALSE);
}

static void be(Bytes *bytes, guint64 value, guint width)
{
    compose_number(bytes, value, width, TRUE);
}

static void zeros(Bytes *bytes, gsize length)
{
    gsize at = bytes->len;
    g_byte_array_set_size(bytes, (guint)(at + length));
    memset(bytes->data + at, 0, length);
}

/* Zeros up to a place. */
static void up_to(Bytes *bytes, gsize place)
{
    g_assert_cmpuint(bytes->len, <=, place);
    zeros(bytes, place - bytes->len);
}

static void noise(Bytes *bytes, gsize length, guint32 seed)
{
    gsize at = bytes->len;
    g_byte_array_set_size(bytes, (guint)(at + length));
    fill_noise(bytes->data + at, length, seed);
}

static EkSpan from(const Bytes *bytes, gsize at)
{
    return (EkSpan){bytes->data + at, bytes->len - at};
}

/* --- sound ------------------------------------------------------------------------------------ */

static void add_page(Bytes *ogg, guint8 flags, guint number, const void *data, gsize length)
{
    gsize first = ogg->len;
    text(ogg, "OggS");
    le(ogg, 0, 1);
    le(ogg, flags, 1);
    le(ogg, 960 * (guint64)number, 8);
    le(ogg, 77, 4);
    le(ogg, number, 4);
    le(ogg, 0, 4);
    le(ogg, length / 255 + 1, 1);
    for (gsize i = 0; i < length / 255; i++)
        le(ogg, 255, 1);
    le(ogg, length % 255, 1);
    compose_bytes(ogg, data, length);
    ek_put_le32(ogg->data + first + 22, ek_crc32_forward(0, from(ogg, first)));
}

static void add_ogg(GPtrArray *list, guint32 seed)
{
    Bytes *ogg = g_byte_array_new();
    guint8 sound[4000];
    add_page(ogg, 2, 0, "OpusHead\1\1\0\0\x80\xbb\0\0\0\0\0", 19);
    add_page(ogg, 0, 1, "OpusTags\0\0\0\0\0\0\0\0", 16);
    for (guint i = 2; i < 12; i++) {
        fill_noise(sound, sizeof sound, seed + i);
        add_page(ogg, i == 11 ? 4 : 0, i, sound, sizeof sound);
    }
    compose_add(list, "ogg", "opus", ogg, TRUE, TRUE);
}

/* The highest bit first, no inversion. */
static guint crc_of(EkSpan span, guint polynomial, guint width)
{
    guint crc = 0;
    for (gsize i = 0; i < span.length; i++) {
        crc ^= (guint)span.data[i] << (width - 8);
        for (guint bit = 0; bit < 8; bit++)
            crc = crc << 1 ^ ((crc >> (width - 1) & 1) != 0 ? polynomial : 0);
        crc &= (1u << width) - 1;
    }
    return crc;
}

/* Frames of 1024 samples of 16 bits, none of them packed. */
static void add_flac(GPtrArray *list, guint32 seed)
{
    Bytes *flac = g_byte_array_new();
    guint frames = 12;
    text(flac, "fLaC");
    be(flac, 0x80000022, 4);
    be(flac, 1024, 2);
    be(flac, 1024, 2);
    be(flac, 0, 6);
    be(flac, (guint64)44100 << 44 | (guint64)15 << 36 | (guint64)frames * 1024, 8);
    zeros(flac, 16);
    for (guint i = 0; i < frames; i++) {
        gsize first = flac->len;
        be(flac, 0xfff8a908, 4);
        be(flac, i, 1);
        be(flac, crc_of(from(flac, first), 0x07, 8), 1);
        be(flac, 2, 1);
        noise(flac, 2048, seed + i);
        be(flac, crc_of(from(flac, first), 0x8005, 16), 2);
    }
    compose_add(list, "flac", "flac", flac, TRUE, TRUE);
}

static void add_sounds(GPtrArray *list, guint32 seed)
{
    Bytes *au = g_byte_array_new();
    text(au, ".snd");
    be(au, 24, 4);
    be(au, 9001, 4);
    be(au, 1, 4);
    be(au, 8000, 4);
    be(au, 1, 4);
    noise(au, 9001, seed);
    compose_add(list, "au", "au", au, FALSE, FALSE);
    Bytes *amr = g_byte_array_new();
    text(amr, "#!AMR\n");
    for (guint i = 0; i < 300; i++) {
        be(amr, 7 << 3 | 4, 1);
        noise(amr, 31, seed + i);
    }
    compose_add(list, "amr", "amr", amr, FALSE, FALSE);
}

/* --- pictures --------------------------------------------------------------------------------- */

/* One channel, each row two runs of bytes as they are. */
static void add_psd(GPtrArray *list, guint32 seed)
{
    Bytes *psd = g_byte_array_new();
    guint height = 90;
    text(psd, "8BPS");
    be(psd, 1, 2);
    zeros(psd, 6);
    be(psd, 1, 2);
    be(psd, height, 4);
    be(psd, 200, 4);
    be(psd, 8, 2);
    be(psd, 1, 2);
    be(psd, 0, 4);
    be(psd, 16, 4);
    text(psd, "8BIM");
    be(psd, 1005, 2);
    be(psd, 0, 2);
    be(psd, 4, 4);
    be(psd, 72, 4);
    be(psd, 0, 4);
    be(psd, 1, 2);
    for (guint i = 0; i < height; i++)
        be(psd, 202, 2);
    for (guint i = 0; i < 2 * height; i++) {
        be(psd, 99, 1);
        noise(psd, 100, seed + i);
    }
    compose_add(list, "psd", "psd", psd, FALSE, TRUE);
}

static void add_ico(GPtrArray *list, guint32 seed)
{
    Bytes *ico = g_byte_array_new();
    le(ico, 0x00010000, 4);
    le(ico, 1, 2);
    le(ico, 0x1010, 4);
    le(ico, 1, 2);
    le(ico, 32, 2);
    le(ico, 40 + 16 * 16 * 4 + 64, 4);
    le(ico, 22, 4);
    le(ico, 40, 4);
    le(ico, 16, 4);
    le(ico, 32, 4);
    le(ico, 1 | 32 << 16, 4);
    zeros(ico, 24);
    noise(ico, 16 * 16 * 4 + 64, seed);
    compose_add(list, "ico", "ico", ico, FALSE, FALSE);
}

static void add_codestream(GPtrArray *list, guint32 seed)
{
    Bytes *picture = g_byte_array_new();
    be(picture, 0xff4fff51, 4);
    be(picture, 41, 2);
    zeros(picture, 39);
    for (guint i = 0; i < 3; i++) {
        be(picture, 0xff90000a, 4);
        be(picture, i, 2);
        be(picture, 14 + 5000, 4);
        be(picture, 1, 2);
        be(picture, 0xff93, 2);
        noise(picture, 5000, seed + i);
    }
    be(picture, 0xffd9, 2);
    compose_add(list, "jpeg2000", "j2k", picture, FALSE, FALSE);
}

static void add_raf(GPtrArray *list, guint32 seed)
{
    Bytes *raf = g_byte_array_new();
    text(raf, "FUJIFILMCCD-RAW ");
    up_to(raf, 84);
    be(raf, 160, 4);
    be(raf, 900, 4);
    be(raf, 1100, 4);
    be(raf, 100, 4);
    be(raf, 1300, 4);
    be(raf, 9001, 4);
    up_to(raf, 160);
    be(raf, 0xffd8, 2);
    noise(raf, 1300 + 9001 - 162, seed);
    compose_add(list, "raf", "raf", raf, FALSE, FALSE);
}

/* --- tables, documents ------------------------------------------------------------------------ */

static void add_dbf(GPtrArray *list, guint32 seed)
{
    static const struct {
        const char *name;
        char type;
        guint8 bytes;
    } fields[] = {{"VARIETY", 'C', 20}, {"PACKETS", 'N', 8}, {"SOWN", 'D', 8}};
    Bytes *dbf = g_byte_array_new();
    guint rows = 300;
    be(dbf, 0x037c0517, 4);
    le(dbf, rows, 4);
    le(dbf, 32 + 32 * G_N_ELEMENTS(fields) + 1, 2);
    le(dbf, 37, 2);
    up_to(dbf, 32);
    for (gsize i = 0; i < G_N_ELEMENTS(fields); i++) {
        gsize first = dbf->len;
        text(dbf, fields[i].name);
        up_to(dbf, first + 11);
        le(dbf, (guint8)fields[i].type, 1);
        up_to(dbf, first + 16);
        le(dbf, fields[i].bytes, 1);
        up_to(dbf, first + 32);
    }
    le(dbf, 13, 1);
    for (guint i = 0; i < rows; i++) {
        g_autofree char *row =
            g_strdup_printf(" Marsh pea %-10u%8u20240%u15", i, (seed + i) % 977, 1 + i % 9);
        compose_bytes(dbf, row, 37);
    }
    le(dbf, 26, 1);
    compose_add(list, "dbf", "dbf", dbf, FALSE, TRUE);
}

static void add_jet(GPtrArray *list, guint32 seed)
{
    Bytes *jet = g_byte_array_new();
    be(jet, 0x00010000, 4);
    text(jet, "Standard ACE DB");
    zeros(jet, 1);
    le(jet, 2, 1);
    up_to(jet, 4096);
    for (guint i = 0; i < 5; i++) {
        le(jet, 1 + i % 4, 1);
        le(jet, 1, 1);
        noise(jet, 4094, seed + i);
    }
    compose_add(list, "access", "accdb", jet, FALSE, FALSE);
}

static void add_help(GPtrArray *list, guint32 seed)
{
    Bytes *chm = g_byte_array_new();
    text(chm, "ITSF");
    le(chm, 3, 4);
    le(chm, 0x60, 4);
    up_to(chm, 0x38);
    le(chm, 0x60, 8);
    le(chm, 0x18, 8);
    le(chm, 0x78, 8);
    up_to(chm, 0x60);
    le(chm, 0x1fe, 4);
    le(chm, 0, 4);
    le(chm, 0x78 + 9001, 8);
    le(chm, 0, 8);
    text(chm, "ITSP");
    noise(chm, 9001 - 4, seed);
    compose_add(list, "chm", "chm", chm, FALSE, FALSE);
}

static void add_shortcut(GPtrArray *list)
{
    Bytes *link = g_byte_array_new();
    le(link, 0x4c, 4);
    le(link, 0x00021401, 4);
    le(link, 0, 4);
    be(link, 0xc000000000000046, 8);
    le(link, 0x85, 4); /* a list of what leads there, a description, in UTF-16 */
    up_to(link, 76);
    le(link, 20, 2);
    zeros(link, 20);
    le(link, 5, 2);
    for (const char *p = "Seeds"; *p != '\0'; p++)
        le(link, (guint8)*p, 2);
    le(link, 12, 4);
    zeros(link, 8);
    le(link, 0, 4);
    compose_add(list, "shortcut", "lnk", link, FALSE, TRUE);
}

static void add_store(GPtrArray *list, guint32 seed)
{
    Bytes *pst = g_byte_array_new();
    guint32 bytes = 0x4400 + 512 + 3000;
    text(pst, "!BDN");
    le(pst, 0, 4);
    text(pst, "SM");
    le(pst, 23, 2);
    up_to(pst, 184);
    le(pst, bytes, 8);
    noise(pst, 0x4400 - pst->len, seed);
    zeros(pst, 496);
    le(pst, 0x8484, 2);
    zeros(pst, 14);
    noise(pst, 3000, seed + 1);
    ek_put_le32(pst->data + 4, ek_crc32_from(0, (EkSpan){pst->data + 8, 471}));
    compose_add(list, "outlook", "pst", pst, FALSE, FALSE);
}

static void add_plain(GPtrArray *list, guint32 seed)
{
    static const char *const words[] = {"marsh", "pea",  "tray", "sown", "late", "cold", "store",
                                        "noon",  "seed", "lot",  "nine", "dry",  "shelf"};
    Bytes *notes = g_byte_array_new();
    Bytes *table = g_byte_array_new();
    Bytes *wide = g_byte_array_new();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    text(notes, "Notes on the cold store\n\n");
    le(wide, 0xfeff, 2);
    for (guint i = 0; i < 1700; i++) {
        const char *word = words[g_rand_int_range(random, 0, G_N_ELEMENTS(words))];
        text(notes, word);
        text(notes, i % 11 == 10 ? ".\n" : " ");
        for (const char *p = word; *p != '\0'; p++)
            le(wide, (guint8)*p, 2);
        le(wide, ' ', 2);
        g_autofree char *row =
            g_strdup_printf("%u,%s,%d\n", i, word, g_rand_int_range(random, 0, 99));
        text(table, row);
    }
    compose_add(list, "text", "txt", notes, FALSE, FALSE);
    compose_add(list, "text", "csv", table, FALSE, FALSE);
    compose_add(list, "text", "txt", wide, FALSE, FALSE);
}

/* --- archives --------------------------------------------------------------------------------- */

static void end_old_block(Bytes *rar, gsize first)
{
    ek_put_le16(rar->data + first, (guint16)(ek_crc32(from(rar, first + 2)) & 0xffff));
}

static void add_old_rar(GPtrArray *list, guint32 seed)
{
    Bytes *rar = g_byte_array_new();
    Bytes *data = g_byte_array_new();
    noise(data, 9001, seed);
    compose_bytes(rar, "Rar!\x1a\7\0", 7);
    gsize first = rar->len;
    le(rar, 0, 2);
    le(rar, 0x73, 1);
    le(rar, 0, 2);
    le(rar, 13, 2);
    zeros(rar, 6);
    end_old_block(rar, first);
    first = rar->len;
    le(rar, 0, 2);
    le(rar, 0x74, 1);
    le(rar, 0x8000, 2);
    le(rar, 32 + 8, 2);
    le(rar, 9001, 4);
    le(rar, 9001, 4);
    le(rar, 3, 1);
    le(rar, ek_crc32(from(data, 0)), 4);
    le(rar, 0x58af5a00, 4);
    le(rar, 20, 1);
    le(rar, 0x30, 1);
    le(rar, 8, 2);
    le(rar, 0, 4);
    text(rar, "tray.dat");
    end_old_block(rar, first);
    compose_bytes(rar, data->data, data->len);
    first = rar->len;
    le(rar, 0, 2);
    le(rar, 0x7b, 1);
    le(rar, 0x4000, 2);
    le(rar, 7, 2);
    end_old_block(rar, first);
    g_byte_array_unref(data);
    compose_add(list, "rar", "rar", rar, FALSE, TRUE);
}

/* A block with its sum; numbers are below 128, but for the length of what follows. */
static void add_block(Bytes *rar, const Bytes *header)
{
    Bytes *block = g_byte_array_new();
    le(block, header->len, 1);
    compose_bytes(block, header->data, header->len);
    le(rar, ek_crc32(from(block, 0)), 4);
    compose_bytes(rar, block->data, block->len);
    g_byte_array_unref(block);
}

static void add_new_rar(GPtrArray *list, guint32 seed)
{
    Bytes *rar = g_byte_array_new();
    Bytes *data = g_byte_array_new();
    Bytes *header = g_byte_array_new();
    noise(data, 9001, seed);
    compose_bytes(rar, "Rar!\x1a\7\1\0", 8);
    compose_bytes(header, "\1\0\0", 3);
    add_block(rar, header);
    g_byte_array_set_size(header, 0);
    compose_bytes(header, "\2\2", 2);
    le(header, 0x80 | (9001 & 127), 1);
    le(header, 9001 >> 7, 1);
    le(header, 4, 1);
    le(header, 0x80 | (9001 & 127), 1);
    le(header, 9001 >> 7, 1);
    le(header, 0, 1);
    le(header, ek_crc32(from(data, 0)), 4);
    compose_bytes(header, "\0\0\10tray.dat", 11);
    add_block(rar, header);
    compose_bytes(rar, data->data, data->len);
    g_byte_array_set_size(header, 0);
    compose_bytes(header, "\5\0\0", 3);
    add_block(rar, header);
    g_byte_array_unref(header);
    g_byte_array_unref(data);
    compose_add(list, "rar", "rar", rar, FALSE, TRUE);
}

static guint32 exclusive(EkSpan span, guint32 sum)
{
    gsize whole = span.length / 4 * 4;
    for (gsize i = 0; i < whole; i += 4)
        sum ^= ek_span_le32(span, i);
    guint32 rest = 0;
    for (gsize i = whole; i < span.length; i++)
        rest = rest << 8 | span.data[i];
    return sum ^ rest;
}

static void add_cabinet(GPtrArray *list, guint32 seed)
{
    Bytes *cab = g_byte_array_new();
    text(cab, "MSCF");
    zeros(cab, 12);
    le(cab, 36 + 8, 4);
    le(cab, 0, 4);
    le(cab, 0x0103, 2);
    le(cab, 1, 2);
    le(cab, 1, 2);
    zeros(cab, 6);
    le(cab, 36 + 8 + 16 + 9, 4);
    le(cab, 3, 2);
    le(cab, 0, 2);
    le(cab, 2 * 32768 + 3001, 4);
    zeros(cab, 12);
    compose_bytes(cab, "tray.dat", 9);
    for (guint i = 0; i < 3; i++) {
        /* All but the last are as large as they may be. */
        guint held = i < 2 ? 32768 : 3001;
        gsize first = cab->len;
        le(cab, 0, 4);
        le(cab, held, 2);
        le(cab, held, 2);
        noise(cab, held, seed + i);
        guint32 sum = exclusive(from(cab, first + 8), 0);
        ek_put_le32(cab->data + first, exclusive((EkSpan){cab->data + first + 4, 4}, sum));
    }
    ek_put_le32(cab->data + 8, cab->len);
    compose_add(list, "cab", "cab", cab, FALSE, TRUE);
}

/* --- disk images, discs and programs ---------------------------------------------------------- */

static void add_vdi(GPtrArray *list, guint32 seed)
{
    Bytes *vdi = g_byte_array_new();
    text(vdi, "<<< image >>>\n");
    up_to(vdi, 0x40);
    le(vdi, 0xbeda107f, 4);
    le(vdi, 0x00010001, 4);
    up_to(vdi, 0x154);
    le(vdi, 512, 4);
    le(vdi, 1024, 4);
    up_to(vdi, 0x170);
    le(vdi, 4 * 4096, 8);
    le(vdi, 4096, 4);
    le(vdi, 0, 4);
    le(vdi, 4, 4);
    le(vdi, 2, 4);
    up_to(vdi, 512);
    le(vdi, 0, 4);
    le(vdi, G_MAXUINT32, 4);
    le(vdi, 1, 4);
    le(vdi, G_MAXUINT32, 4);
    up_to(vdi, 1024);
    noise(vdi, 2 * 4096, seed);
    compose_add(list, "vdi", "vdi", vdi, FALSE, FALSE);
}

static void add_qcow(GPtrArray *list, guint32 seed)
{
    Bytes *qcow = g_byte_array_new();
    be(qcow, 0x514649fb, 4);
    be(qcow, 2, 4);
    up_to(qcow, 20);
    be(qcow, 12, 4);
    be(qcow, 1 << 20, 8);
    up_to(qcow, 48);
    be(qcow, 4096, 8);
    be(qcow, 1, 4);
    up_to(qcow, 4096);
    be(qcow, 8192, 8);
    up_to(qcow, 8192);
    for (guint i = 0; i < 5; i++)
        be(qcow, 1, 2);
    up_to(qcow, 12288);
    noise(qcow, 2 * 4096, seed);
    compose_add(list, "qcow", "qcow2", qcow, FALSE, FALSE);
}

static void add_vmdk(GPtrArray *list, guint32 seed)
{
    Bytes *vmdk = g_byte_array_new();
    text(vmdk, "KDMV");
    le(vmdk, 1, 4);
    le(vmdk, 3, 4);
    le(vmdk, 8 * 512, 8); /* sectors of the disk */
    le(vmdk, 8, 8);       /* of a grain */
    up_to(vmdk, 44);
    le(vmdk, 512, 4);
    le(vmdk, 1, 8);
    le(vmdk, 1, 8);
    le(vmdk, 8, 8);
    up_to(vmdk, 512);
    le(vmdk, 2, 4);
    up_to(vmdk, 1024);
    le(vmdk, 8, 4);
    le(vmdk, 16, 4);
    up_to(vmdk, 8 * 512);
    noise(vmdk, 2 * 8 * 512, seed);
    compose_add(list, "vmdk", "vmdk", vmdk, FALSE, FALSE);
}

static void put_complement(Bytes *bytes, gsize first, gsize length, gsize at)
{
    guint32 sum = 0;
    for (gsize i = 0; i < length; i++)
        sum += bytes->data[first + i];
    ek_put_be32(bytes->data + first + at, ~sum);
}

static void add_vhd(GPtrArray *list, guint32 seed)
{
    Bytes *vhd = g_byte_array_new();
    text(vhd, "conectix");
    be(vhd, 2, 4);
    be(vhd, 0x10000, 4);
    be(vhd, 512, 8);
    up_to(vhd, 512);
    put_complement(vhd, 0, 512, 64);
    text(vhd, "cxsparse");
    be(vhd, G_MAXUINT64, 8);
    be(vhd, 1536, 8);
    be(vhd, 0x10000, 4);
    be(vhd, 2, 4);
    be(vhd, 4096, 4);
    up_to(vhd, 1536);
    put_complement(vhd, 512, 1024, 36);
    be(vhd, 4, 4);
    be(vhd, G_MAXUINT32, 4);
    up_to(vhd, 2048 + 512);
    noise(vhd, 4096, seed);
    g_autofree guint8 *footer = g_memdup2(vhd->data, 512);
    compose_bytes(vhd, footer, 512);
    compose_add(list, "vhd", "vhd", vhd, FALSE, FALSE);
}

static void put_sum(Bytes *bytes, gsize first, gsize length)
{
    ek_put_le32(bytes->data + first + 4,
                ~ek_crc32c(G_MAXUINT32, (EkSpan){bytes->data + first, length}));
}

static void add_vhdx(GPtrArray *list, guint32 seed)
{
    Bytes *vhdx = g_byte_array_new();
    text(vhdx, "vhdxfile");
    up_to(vhdx, 65536);
    text(vhdx, "head");
    up_to(vhdx, 65536 + 68);
    le(vhdx, 4096, 4);
    le(vhdx, 4 * 65536, 8);
    up_to(vhdx, 65536 + 4096);
    put_sum(vhdx, 65536, 4096);
    up_to(vhdx, 3 * 65536);
    text(vhdx, "regi");
    le(vhdx, 0, 4);
    le(vhdx, 2, 8);
    compose_bytes(vhdx, "\x66\x77\xc2\x2d\x23\xf6\0\x42\x9d\x64\x11\x5e\x9b\xfd\x4a\x08", 16);
    le(vhdx, 4 * 65536 + 4096, 8);
    le(vhdx, 16, 8);
    compose_bytes(vhdx, "\x06\xa2\x7c\x8b\x90\x47\x9a\x4b\xb8\xfe\x57\x5f\x05\x0f\x88\x6e", 16);
    le(vhdx, 4 * 65536 + 8192, 8);
    le(vhdx, 4096, 8);
    up_to(vhdx, 4 * 65536);
    put_sum(vhdx, 3 * 65536, 65536);
    up_to(vhdx, 4 * 65536 + 4096);
    le(vhdx, 1 << 20 | 6, 8); /* a block at the first MiB */
    up_to(vhdx, 4 * 65536 + 8192);
    text(vhdx, "metadata");
    le(vhdx, 0, 2);
    le(vhdx, 1, 2);
    up_to(vhdx, 4 * 65536 + 8192 + 32);
    compose_bytes(vhdx, "\x37\x67\xa1\xca\x36\xfa\x43\x4d\xb3\xb6\x33\xf0\xaa\x44\xe7\x6b", 16);
    le(vhdx, 1024, 4);
    up_to(vhdx, 4 * 65536 + 8192 + 1024);
    le(vhdx, 1 << 20, 4);
    up_to(vhdx, 1 << 20);
    noise(vhdx, 1 << 20, seed);
    compose_add(list, "vhdx", "vhdx", vhdx, FALSE, FALSE);
}

static void both(Bytes *bytes, guint32 value)
{
    le(bytes, value, 4);
    be(bytes, value, 4);
}

/* A descriptor, a path table with the root only, the root folder, and something in it. */
static void add_disc(GPtrArray *list, guint32 seed)
{
    Bytes *iso = g_byte_array_new();
    up_to(iso, 32768);
    compose_bytes(iso, "\1CD001\1", 7);
    up_to(iso, 32768 + 40);
    text(iso, "SEEDS");
    up_to(iso, 32768 + 80);
    both(iso, 24);
    up_to(iso, 32768 + 128);
    le(iso, 2048, 2);
    be(iso, 2048, 2);
    both(iso, 10);
    le(iso, 17, 4);
    up_to(iso, 32768 + 813);
    text(iso, "2026010112000000");
    up_to(iso, 17 * 2048);
    le(iso, 1, 1);
    le(iso, 0, 1);
    le(iso, 18, 4);
    le(iso, 1, 2);
    up_to(iso, 18 * 2048);
    le(iso, 34, 1);
    le(iso, 0, 1);
    both(iso, 18);
    both(iso, 2048);
    zeros(iso, 14);
    le(iso, 1, 1);
    le(iso, 0, 1);
    up_to(iso, 19 * 2048);
    noise(iso, 5 * 2048, seed);
    compose_add(list, "iso", "iso", iso, FALSE, FALSE);
}

static void add_program(GPtrArray *list, guint32 seed)
{
    Bytes *program = g_byte_array_new();
    le(program, 0xfeedfacf, 4);
    le(program, 0x01000007, 4);
    le(program, 3, 4);
    le(program, 2, 4);
    le(program, 1, 4);
    le(program, 72, 4);
    zeros(program, 8);
    le(program, 0x19, 4);
    le(program, 72, 4);
    zeros(program, 32);
    le(program, 0, 8);
    le(program, 9001, 8);
    zeros(program, 16);
    noise(program, 9001 - program->len, seed);
    compose_add(list, "mach-o", "macho", program, FALSE, FALSE);
}

void add_composed(GPtrArray *list, guint32 seed)
{
    add_ogg(list, seed);
    add_flac(list, seed);
    add_sounds(list, seed);
    add_psd(list, seed);
    add_ico(list, seed);
    add_codestream(list, seed);
    add_raf(list, seed);
    add_dbf(list, seed);
    add_jet(list, seed);
    add_help(list, seed);
    add_shortcut(list);
    add_store(list, seed);
    add_plain(list, seed);
    add_old_rar(list, seed);
    add_new_rar(list, seed);
    add_cabinet(list, seed);
    add_vdi(list, seed);
    add_qcow(list, seed);
    add_vmdk(list, seed);
    add_vhd(list, seed);
    add_vhdx(list, seed);
    add_disc(list, seed);
    add_program(list, seed);
}

/* SPDX-License-Identifier: MIT */
/* Writes what hunting is measured on. Usage: bench_images records|forged FILE MIB
 * records: nothing but NTFS file records, numbered, in runs. forged: noise with 100 000 boot
 * sectors and superblocks in it that are valid in themselves, each its own, and nothing behind
 * them. */
#include "base/bytes.h"

#include <glib.h>
#include <stdio.h>
#include <string.h>

#define MIB ((gsize)1 << 20)
#define RECORD 1024u
#define FORGED 100000u

static void put_record(guint8 *record, guint32 number)
{
    memset(record, 0, RECORD);
    memcpy(record, "FILE", 4);
    ek_put_le16(record + 4, 0x30);
    ek_put_le16(record + 6, RECORD / 512 + 1);
    ek_put_le16(record + 0x14, 0x38);
    ek_put_le16(record + 0x16, 1);
    ek_put_le32(record + 0x18, 0x40);
    ek_put_le32(record + 0x1c, RECORD);
    ek_put_le32(record + 0x2c, number);
    ek_put_le32(record + 0x38, G_MAXUINT32);
}

static void put_ntfs(guint8 *p, GRand *random)
{
    memset(p, 0, 512);
    memcpy(p, "\xeb\x52\x90NTFS    ", 11);
    ek_put_le16(p + 11, 512);
    p[13] = 8;
    p[21] = 0xf8;
    ek_put_le64(p + 40, (guint64)g_rand_int_range(random, 4000, 1 << 20) * 8 - 1);
    ek_put_le64(p + 48, (guint64)g_rand_int_range(random, 4, 400));
    ek_put_le64(p + 56, (guint64)g_rand_int_range(random, 4, 400));
    p[64] = 0xf6;
    p[68] = 1;
    ek_put_le32(p + 72, g_rand_int(random));
    ek_put_le16(p + 510, 0xaa55);
}

static void put_fat(guint8 *p, GRand *random)
{
    memset(p, 0, 512);
    memcpy(p, "\xeb\x58\x90        ", 11);
    ek_put_le16(p + 11, 512);
    p[13] = 1;
    ek_put_le16(p + 14, 32);
    p[16] = 2;
    p[21] = 0xf8;
    ek_put_le32(p + 32, (guint32)g_rand_int_range(random, 80000, 200000));
    ek_put_le32(p + 36, 1600);
    ek_put_le32(p + 44, 2);
    ek_put_le16(p + 48, 1);
    ek_put_le16(p + 50, 6);
    p[66] = 0x29;
    ek_put_le32(p + 67, g_rand_int(random));
    memcpy(p + 82, "FAT32   ", 8);
    ek_put_le16(p + 510, 0xaa55);
}

static void put_ext(guint8 *p, GRand *random)
{
    memset(p, 0, 1024);
    ek_put_le32(p, 2048);
    ek_put_le32(p + 4, 8192);
    ek_put_le32(p + 20, 1);
    ek_put_le32(p + 32, 8192);
    ek_put_le32(p + 36, 8192);
    ek_put_le32(p + 40, 2048);
    ek_put_le16(p + 56, 0xef53);
    ek_put_le16(p + 58, 1);
    ek_put_le16(p + 60, 1);
    ek_put_le32(p + 76, 1);
    ek_put_le32(p + 84, 11);
    ek_put_le16(p + 88, 128);
    for (gsize i = 0; i < 16; i += 4)
        ek_put_le32(p + 104 + i, g_rand_int(random));
}

static void fill(guint8 *data, GRand *random)
{
    for (gsize i = 0; i < MIB; i += 4)
        ek_put_le32(data + i, g_rand_int(random));
}

static void put_forged(guint8 *data, GRand *random, guint count)
{
    void (*const put[])(guint8 *, GRand *) = {put_ntfs, put_fat, put_ext};
    for (guint i = 0; i < count; i++) {
        gsize at = (gsize)g_rand_int_range(random, 0, (gint)(MIB / 512) - 2) * 512;
        put[g_rand_int_range(random, 0, G_N_ELEMENTS(put))](data + at, random);
    }
}

int main(int argc, char **argv)
{
    if (argc != 4)
        return 2;
    FILE *out = fopen(argv[2], "wb");
    guint64 mib = g_ascii_strtoull(argv[3], NULL, 10);
    gboolean records = g_str_equal(argv[1], "records");
    g_autoptr(GRand) random = g_rand_new_with_seed(7);
    g_autofree guint8 *data = g_malloc(MIB);
    guint8 *noise = g_malloc(MIB);
    fill(noise, random);
    for (guint64 i = 0; out != NULL && i < mib; i++) {
        memcpy(data, noise, MIB);
        for (gsize at = 0; records && at < MIB; at += RECORD)
            put_record(data + at, (guint32)(i * (MIB / RECORD) + at / RECORD));
        if (!records)
            put_forged(data, random, (guint)(FORGED / MAX(mib, 1)));
        if (fwrite(data, 1, MIB, out) != MIB)
            return 1;
    }
    g_free(noise);
    return out == NULL || fclose(out) != 0;
}

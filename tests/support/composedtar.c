/* SPDX-License-Identifier: MIT */
/* Archives of tar, entry by entry (POSIX.1-2001, and the sparse files of GNU tar). */
#include "composed.h"

#include <string.h>

#define BLOCK 512u
#define RECORD 10240u

static void add_zeros(GByteArray *archive, gsize length)
{
    g_autofree guint8 *zeros = g_malloc0(length + 1);
    compose_bytes(archive, zeros, length);
}

static void fill_up(GByteArray *archive, gsize to)
{
    add_zeros(archive, (to - archive->len % to) % to);
}

/* Sets the sum of a header. */
static void set_sum(guint8 *head, ComposedTarSum how)
{
    guint32 sum = 0;
    gint32 as_signed = 0;
    memset(head + 148, ' ', 8);
    for (gsize i = 0; i < BLOCK; i++) {
        sum += head[i];
        as_signed += (gint8)head[i];
    }
    guint32 written = how == COMPOSED_TAR_SIGNED ? (guint32)as_signed : sum;
    g_snprintf((char *)head + 148, 7, "%06o", how == COMPOSED_TAR_WRONG ? written + 1 : written);
}

static void add_head(GByteArray *archive, const char *name, char kind, gsize told,
                     ComposedTarSum how, gboolean has_more)
{
    guint8 head[BLOCK] = {0};
    g_strlcpy((char *)head, name, 100);
    g_snprintf((char *)head + 100, 8, "0000644");
    g_snprintf((char *)head + 124, 12, "%011" G_GSIZE_MODIFIER "o", told);
    g_snprintf((char *)head + 136, 12, "%011o", 1750000000u);
    head[156] = (guint8)kind;
    memcpy(head + 257, "ustar\00000", 8);
    head[482] = has_more ? 1 : 0;
    set_sum(head, how);
    compose_bytes(archive, head, sizeof head);
}

void compose_tar_entry(GByteArray *archive, const char *name, char kind, gsize told,
                       ComposedTarSum how, const void *data, gsize bytes)
{
    add_head(archive, name, kind, told, how, FALSE);
    compose_bytes(archive, data, bytes);
    fill_up(archive, BLOCK);
}

void compose_tar_sparse(GByteArray *archive, const char *name, guint blocks, const void *data,
                        gsize bytes)
{
    add_head(archive, name, 'S', bytes, COMPOSED_TAR_RIGHT, blocks > 0);
    for (guint i = 0; i < blocks; i++) {
        guint8 places[BLOCK] = {0};
        places[504] = i + 1 < blocks ? 1 : 0;
        compose_bytes(archive, places, sizeof places);
    }
    compose_bytes(archive, data, bytes);
    fill_up(archive, BLOCK);
}

void compose_tar_end(GByteArray *archive, gboolean fills_record)
{
    add_zeros(archive, (gsize)2 * BLOCK);
    if (fills_record)
        fill_up(archive, RECORD);
}

/* One with all that may stand before an entry. */
void add_composed_tar(GPtrArray *list, guint32 seed)
{
    static const char records[] = "20 comment=seedlist\n13 size=9000\n";
    GByteArray *archive = g_byte_array_new();
    g_autoptr(GByteArray) table = g_byte_array_new();
    for (guint i = 0; table->len < 9000; i++) {
        g_autofree char *row =
            g_strdup_printf("HF-%05u;Silene;%u seeds\n", seed % 90000 + i, i * i % 97);
        compose_bytes(table, row, strlen(row));
    }
    compose_tar_entry(archive,
                      "Samenpr\xc3\xbc"
                      "fung.csv",
                      '0', table->len, COMPOSED_TAR_SIGNED, table->data, table->len);
    compose_tar_entry(archive, "PaxHeaders/catalogue", 'x', sizeof records - 1, COMPOSED_TAR_RIGHT,
                      records, sizeof records - 1);
    compose_tar_entry(archive, "catalogue.csv", '0', 0, COMPOSED_TAR_RIGHT, table->data, 9000);
    compose_tar_sparse(archive, "store.db", 3, table->data, 5000);
    compose_tar_entry(archive, "labels", '5', 0, COMPOSED_TAR_RIGHT, "", 0);
    compose_tar_end(archive, TRUE);
    compose_add(list, "tar", "tar", archive, FALSE, FALSE);
}

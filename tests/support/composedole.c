/* SPDX-License-Identifier: MIT */
/* Compound files (MS-CFB) put together byte by byte: a stream, the directory, and behind them the
 * table of sectors, with a list of the sectors that hold it where the header has no room for all.
 */
#include "composed.h"

#include "base/bytes.h"
#include "fixture.h"

#include <string.h>

#define SECTOR 512u
#define EACH (SECTOR / 4)
#define IN_HEAD 109u
#define END 0xfffffffeu
#define TABLE 0xfffffffdu
#define LIST 0xfffffffcu

typedef struct {
    guint32 data; /* sectors of the stream, which begins at sector 0 */
    guint32 tables;
    guint32 lists;
} Layout;

/* The table takes room that it must list too. */
static Layout lay_out(guint32 data)
{
    Layout layout = {data, 1, 0};
    for (guint i = 0; i < 4; i++) {
        guint32 all = data + 1 + layout.tables + layout.lists;
        layout.tables = (all + EACH - 1) / EACH;
        layout.lists =
            layout.tables > IN_HEAD ? (layout.tables - IN_HEAD + EACH - 2) / (EACH - 1) : 0;
    }
    return layout;
}

static void put_entry(guint8 *entry, const char *name, guint8 kind, guint32 first, guint32 bytes)
{
    for (gsize i = 0; name[i] != 0; i++)
        entry[2 * i] = (guint8)name[i];
    ek_put_le16(entry + 64, (guint16)(2 * strlen(name) + 2));
    entry[66] = kind;
    entry[67] = 1;
    ek_put_le32(entry + 68, 0xffffffff);
    ek_put_le32(entry + 72, 0xffffffff);
    ek_put_le32(entry + 76, kind == 5 ? 1 : 0xffffffff);
    ek_put_le32(entry + 116, first);
    ek_put_le32(entry + 120, bytes);
}

static void put_head(guint8 *head, const Layout *layout)
{
    guint32 first_table = layout->data + 1;
    guint32 first_list = first_table + layout->tables;
    memcpy(head, "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", 8);
    memcpy(head + 24, "\x3e\0\3\0\xfe\xff\x09\0\6\0", 10);
    ek_put_le32(head + 44, layout->tables);
    ek_put_le32(head + 48, layout->data);
    ek_put_le32(head + 56, 4096);
    ek_put_le32(head + 60, END);
    ek_put_le32(head + 68, layout->lists > 0 ? first_list : END);
    ek_put_le32(head + 72, layout->lists);
    for (guint32 i = 0; i < IN_HEAD; i++)
        ek_put_le32(head + 76 + 4 * i, i < layout->tables ? first_table + i : 0xffffffff);
}

static void put_tables(guint8 *file, const Layout *layout)
{
    guint32 first_table = layout->data + 1;
    guint32 first_list = first_table + layout->tables;
    guint8 *table = file + SECTOR * (gsize)(first_table + 1);
    memset(table, 0xff, SECTOR * (gsize)layout->tables);
    for (guint32 i = 0; i < layout->data; i++)
        ek_put_le32(table + 4 * (gsize)i, i + 1 < layout->data ? i + 1 : END);
    ek_put_le32(table + 4 * (gsize)layout->data, END);
    for (guint32 i = 0; i < layout->tables + layout->lists; i++)
        ek_put_le32(table + 4 * (gsize)(first_table + i), i < layout->tables ? TABLE : LIST);
    for (guint32 i = 0; i < layout->lists; i++) {
        guint8 *list = file + SECTOR * (gsize)(first_list + i + 1);
        for (guint32 k = 0; k < EACH - 1; k++) {
            guint32 number = IN_HEAD + i * (EACH - 1) + k;
            ek_put_le32(list + 4 * (gsize)k,
                        number < layout->tables ? first_table + number : 0xffffffff);
        }
        ek_put_le32(list + SECTOR - 4, i + 1 < layout->lists ? first_list + i + 1 : END);
    }
}

GByteArray *compose_ole(guint32 sectors, guint32 seed)
{
    Layout layout = lay_out(sectors);
    gsize length = SECTOR * (gsize)(1 + layout.data + 1 + layout.tables + layout.lists);
    GByteArray *bytes = g_byte_array_new();
    g_byte_array_set_size(bytes, (guint)length);
    guint8 *file = bytes->data;
    memset(file, 0, length);
    put_head(file, &layout);
    fill_noise(file + SECTOR, SECTOR * (gsize)layout.data, seed);
    guint8 *directory = file + SECTOR * (gsize)(layout.data + 1);
    put_entry(directory, "Root Entry", 5, END, 0);
    put_entry(directory + 128, "WordDocument", 2, 0, SECTOR * layout.data);
    put_tables(file, &layout);
    return bytes;
}

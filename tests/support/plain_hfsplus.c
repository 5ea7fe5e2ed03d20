/* SPDX-License-Identifier: MIT */
/* A plain second reader of HFS+. */
#include "plain.h"

#define ROOT 2u

typedef struct {
    guint32 number;
    guint32 parent;
    char *name;
    guint64 fork; /* place of a file's data fork; 0: a folder */
    guint64 node; /* where the record stands */
} Entry;

static guint64 node_place(const Plain *plain, guint64 fork, guint64 offset)
{
    guint64 block = b32(plain, 1024 + 40);
    for (guint i = 0; i < 8; i++) {
        guint64 bytes = b32(plain, fork + 20 + 8ull * i) * block;
        if (offset < bytes)
            return b32(plain, fork + 16 + 8ull * i) * block + offset;
        offset -= bytes;
    }
    g_assert_not_reached();
}

static char *name_at(const Plain *plain, guint64 at)
{
    gunichar2 units[256];
    guint count = b16(plain, at);
    for (guint i = 0; i < count; i++) {
        gunichar2 unit = b16(plain, at + 2 + 2ull * i);
        units[i] = unit == '/' ? ':' : unit;
    }
    g_autofree char *text = g_utf16_to_utf8(units, count, NULL, NULL, NULL);
    return g_utf8_normalize(text, -1, G_NORMALIZE_NFC);
}

static void take_leaf(const Plain *plain, guint64 node, guint32 size, GArray *entries)
{
    for (guint i = 0; i < b16(plain, node + 10); i++) {
        guint64 record = node + b16(plain, node + size - 2 * (i + 1));
        guint64 data = record + 2 + b16(plain, record);
        guint type = b16(plain, data);
        if (type != 1 && type != 2)
            continue;
        Entry entry = {b32(plain, data + 8), b32(plain, record + 2), name_at(plain, record + 6),
                       type == 2 ? data + 88 : 0, node};
        g_array_append_val(entries, entry);
    }
}

static char *path_of(const GArray *entries, const Entry *entry, guint32 size, GArray *way)
{
    char *path = g_strdup(entry->name);
    plain_need(way, entry->node, size, 0);
    for (guint32 parent = entry->parent; parent != ROOT;) {
        const Entry *folder = NULL;
        for (guint i = 0; i < entries->len && folder == NULL; i++)
            if (g_array_index(entries, Entry, i).number == parent)
                folder = &g_array_index(entries, Entry, i);
        g_assert(folder != NULL);
        path = plain_join(folder->name, path);
        plain_need(way, folder->node, size, 0);
        parent = folder->parent;
    }
    return path;
}

void plain_hfsplus(const Plain *plain, PlainVolume *volume)
{
    guint64 catalog = 1024 + 272;
    guint64 block = b32(plain, 1024 + 40);
    guint64 head = node_place(plain, catalog, 0);
    guint32 size = b16(plain, head + 32);
    GArray *entries = g_array_new(FALSE, FALSE, sizeof(Entry));
    for (guint32 leaf = b32(plain, head + 24); leaf != 0;) {
        guint64 node = node_place(plain, catalog, (guint64)leaf * size);
        take_leaf(plain, node, size, entries);
        leaf = b32(plain, node);
    }
    for (guint i = 0; i < entries->len; i++) {
        const Entry *entry = &g_array_index(entries, Entry, i);
        if (entry->fork == 0)
            continue;
        g_array_set_size(volume->way, 0);
        char *path = path_of(entries, entry, size, volume->way);
        PlainFile *file = plain_file(volume, path, b64(plain, entry->fork));
        guint64 offset = 0;
        plain_need(file->map, entry->fork - 88, 248, 0);
        for (guint k = 0; k < 8; k++) {
            guint64 count = b32(plain, entry->fork + 20 + 8ull * k) * block;
            if (count > 0)
                plain_piece(file, offset, count, b32(plain, entry->fork + 16 + 8ull * k) * block);
            offset += count;
        }
    }
    for (guint i = 0; i < entries->len; i++)
        g_free(g_array_index(entries, Entry, i).name);
    g_array_unref(entries);
}

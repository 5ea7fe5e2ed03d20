/* SPDX-License-Identifier: MIT */
/* A plain second reader of ext2, ext3 and ext4. */
#include "plain.h"

#define EXTENTS 0x80000u
#define INLINE 0x10000000u

typedef struct {
    const Plain *plain;
    PlainVolume *volume;
    guint64 size; /* of a block */
    guint32 inodes_a_group;
    guint64 inode_bytes;
    guint64 groups; /* place of their descriptors */
    guint64 group_bytes;
    gboolean is_wide;
} Ext;

static guint64 inode_at(const Ext *ext, guint32 number)
{
    guint64 group = ext->groups + (number - 1) / ext->inodes_a_group * ext->group_bytes;
    guint64 table = p32(ext->plain, group + 8);
    if (ext->is_wide)
        table |= (guint64)p32(ext->plain, group + 40) << 32;
    return table * ext->size + (number - 1) % ext->inodes_a_group * ext->inode_bytes;
}

static void add_extents(const Ext *ext, PlainFile *file, guint64 node)
{
    guint depth = p16(ext->plain, node + 6);
    ext->volume->deepest = MAX(ext->volume->deepest, depth);
    plain_need(file->map, node, 12, 0);
    for (guint i = 0; i < p16(ext->plain, node + 2); i++) {
        guint64 at = node + 12 + 12ull * i;
        plain_need(file->map, at, 12, 0);
        if (depth > 0) {
            add_extents(ext, file,
                        (p32(ext->plain, at + 4) | (guint64)p16(ext->plain, at + 8) << 32) *
                            ext->size);
            continue;
        }
        guint64 count = p16(ext->plain, at + 4);
        guint64 first = p32(ext->plain, at + 8) | (guint64)p16(ext->plain, at + 6) << 32;
        /* More than 32768: never written. */
        if (count <= 32768)
            plain_piece(file, p32(ext->plain, at) * ext->size, count * ext->size,
                        first * ext->size);
    }
}

/* Blocks that a block of numbers leads to, `level` times; returns the offset behind them. */
static guint64 add_blocks(const Ext *ext, PlainFile *file, guint64 block, guint level,
                          guint64 offset)
{
    guint64 each = ext->size;
    for (guint i = 0; i < level; i++)
        each *= ext->size / 4;
    if (block != 0 && level == 0)
        plain_piece(file, offset, ext->size, block * ext->size);
    each /= level > 0 ? ext->size / 4 : 1;
    for (guint64 i = 0; block != 0 && level > 0 && i < ext->size / 4; i++) {
        guint64 entry = block * ext->size + 4 * i;
        if (offset + i * each < file->size)
            plain_need(file->map, entry, 4, 0);
        add_blocks(ext, file, p32(ext->plain, entry), level - 1, offset + i * each);
    }
    each *= level > 0 ? ext->size / 4 : 1;
    return offset + each;
}

static void add_map(const Ext *ext, PlainFile *file, guint64 inode)
{
    guint64 offset = 0;
    plain_need(file->map, inode + 40, 60, 0);
    for (guint i = 0; i < 15; i++)
        offset = add_blocks(ext, file, p32(ext->plain, inode + 40 + 4ull * i), i < 12 ? 0 : i - 11,
                            offset);
}

/* Up to 60 bytes stand in the inode, the rest in its attribute "data". */
static void add_inline(const Ext *ext, PlainFile *file, guint64 inode)
{
    plain_piece(file, 0, 60, inode + 40);
    guint64 first = inode + 128 + p16(ext->plain, inode + 128) + 4;
    for (guint64 at = first; file->size > 60 && p32(ext->plain, at) != 0;
         at += 16 + (ext->plain->bytes[at] + 3u) / 4 * 4)
        if (ext->plain->bytes[at + 1] == 7 && ext->plain->bytes[at] == 4 &&
            memcmp(ext->plain->bytes + at + 16, "data", 4) == 0)
            plain_piece(file, 60, p32(ext->plain, at + 8), first + p16(ext->plain, at + 2));
}

static void add_content(const Ext *ext, PlainFile *file, guint64 inode)
{
    guint32 flags = p32(ext->plain, inode + 32);
    if ((flags & INLINE) != 0)
        add_inline(ext, file, inode);
    else if ((flags & EXTENTS) != 0)
        add_extents(ext, file, inode + 40);
    else
        add_map(ext, file, inode);
}

static void read_folder(const Ext *ext, const char *path, guint32 number);

static void read_entries(const Ext *ext, const char *path, guint64 at, guint64 end)
{
    GArray *way = ext->volume->way;
    guint before = way->len;
    while (at + 8 <= end && p16(ext->plain, at + 4) >= 8) {
        guint32 number = p32(ext->plain, at);
        const char *name = (const char *)ext->plain->bytes + at + 8;
        gsize length = ext->plain->bytes[at + 6];
        guint64 entry = at;
        gboolean is_dot =
            (length == 1 && name[0] == '.') || (length == 2 && name[0] == '.' && name[1] == '.');
        at += p16(ext->plain, at + 4);
        if (number == 0 || length == 0 || is_dot)
            continue;
        guint64 inode = inode_at(ext, number);
        g_array_set_size(way, before);
        plain_need(way, entry, 8 + length, 0);
        plain_need(way, inode, ext->inode_bytes, 0);
        guint mode = p16(ext->plain, inode) & 0xf000u;
        char *full = plain_join(path, g_strndup(name, length));
        if (mode == 0x8000) {
            guint64 size = p32(ext->plain, inode + 4) | (guint64)p32(ext->plain, inode + 108) << 32;
            add_content(ext, plain_file(ext->volume, full, size), inode);
            continue;
        }
        if (mode == 0x4000)
            read_folder(ext, full, number);
        g_free(full);
    }
    g_array_set_size(way, before);
}

static void read_folder(const Ext *ext, const char *path, guint32 number)
{
    guint64 inode = inode_at(ext, number);
    PlainFile folder = plain_folder(p32(ext->plain, inode + 4));
    guint deepest = ext->volume->deepest;
    add_content(ext, &folder, inode);
    g_array_append_vals(ext->volume->way, folder.map->data, folder.map->len);
    ext->volume->deepest = deepest; /* of files only */
    for (guint i = 0; i < folder.pieces->len; i++) {
        const PlainPiece *piece = &g_array_index(folder.pieces, PlainPiece, i);
        gboolean is_inline = (p32(ext->plain, inode + 32) & INLINE) != 0;
        guint64 skip = is_inline && i == 0 ? 4 : 0; /* which folder it is in */
        guint64 step = is_inline ? piece->bytes : ext->size;
        for (guint64 at = 0; at < piece->bytes; at += step)
            read_entries(ext, path, piece->place + at + skip, piece->place + at + step);
    }
    plain_folder_clear(&folder);
}

void plain_ext(const Plain *plain, PlainVolume *volume)
{
    guint64 super = 1024;
    Ext ext = {.plain = plain,
               .volume = volume,
               .size = 1024ull << p32(plain, super + 24),
               .inodes_a_group = p32(plain, super + 40),
               .inode_bytes = p32(plain, super + 76) != 0 ? p16(plain, super + 88) : 128,
               .is_wide = (p32(plain, super + 96) & 0x80) != 0};
    ext.group_bytes = ext.is_wide ? p16(plain, super + 254) : 32;
    ext.groups = ext.size * (p32(plain, super + 20) + 1ull);
    plain_need(volume->way, inode_at(&ext, 2), ext.inode_bytes, 0);
    read_folder(&ext, "", 2);
}

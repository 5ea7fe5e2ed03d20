/* SPDX-License-Identifier: MIT */
/* Second readers of the file systems, as plain as can be. */
#include "plain.h"

#define SECTOR 512u

static void file_free(gpointer data)
{
    PlainFile *file = data;
    g_free(file->path);
    plain_folder_clear(file);
    g_free(file);
}

void plain_free(PlainVolume *volume)
{
    g_ptr_array_unref(volume->files);
    g_array_unref(volume->way);
    g_free(volume);
}

PlainVolume *plain_read(const char *format, const guint8 *bytes, gsize length)
{
    static const struct {
        const char *format;
        void (*read)(const Plain *plain, PlainVolume *volume);
    } readers[] = {{"fat", plain_fat},
                   {"exfat", plain_exfat},
                   {"ext", plain_ext},
                   {"ntfs", plain_ntfs},
                   {"hfsplus", plain_hfsplus}};
    PlainVolume *volume = g_new0(PlainVolume, 1);
    Plain plain = {bytes, length};
    volume->way = g_array_new(FALSE, FALSE, sizeof(PlainNeed));
    volume->files = g_ptr_array_new_with_free_func(file_free);
    for (gsize i = 0; i < G_N_ELEMENTS(readers); i++)
        if (g_str_equal(format, readers[i].format))
            readers[i].read(&plain, volume);
    return volume;
}

char *plain_join(const char *folder, char *name)
{
    if (*folder == '\0')
        return name;
    char *path = g_strdup_printf("%s/%s", folder, name);
    g_free(name);
    return path;
}

PlainFile *plain_file(PlainVolume *volume, char *path, guint64 size)
{
    PlainFile *file = g_new0(PlainFile, 1);
    *file = plain_folder(size);
    file->path = path;
    g_array_append_vals(file->way, volume->way->data, volume->way->len);
    g_ptr_array_add(volume->files, file);
    return file;
}

PlainFile plain_folder(guint64 size)
{
    return (PlainFile){.size = size,
                       .pieces = g_array_new(FALSE, FALSE, sizeof(PlainPiece)),
                       .way = g_array_new(FALSE, FALSE, sizeof(PlainNeed)),
                       .map = g_array_new(FALSE, FALSE, sizeof(PlainNeed))};
}

void plain_folder_clear(PlainFile *folder)
{
    g_array_unref(folder->pieces);
    g_array_unref(folder->way);
    g_array_unref(folder->map);
}

void plain_need(GArray *needs, guint64 place, guint64 bytes, guint64 copy)
{
    guint64 first = place / SECTOR * SECTOR;
    PlainNeed need = {first, (place + bytes + SECTOR - 1) / SECTOR * SECTOR - first,
                      copy != 0 ? copy / SECTOR * SECTOR : 0};
    PlainNeed *last = needs->len > 0 ? &g_array_index(needs, PlainNeed, needs->len - 1) : NULL;
    if (last == NULL || memcmp(last, &need, sizeof need) != 0)
        g_array_append_val(needs, need);
}

void plain_piece(PlainFile *file, guint64 offset, guint64 bytes, guint64 place)
{
    PlainPiece *last = file->pieces->len > 0
                           ? &g_array_index(file->pieces, PlainPiece, file->pieces->len - 1)
                           : NULL;
    if (offset >= file->size)
        return;
    bytes = MIN(bytes, file->size - offset);
    if (last != NULL && last->offset + last->bytes == offset &&
        last->place + last->bytes == place) {
        last->bytes += bytes;
        return;
    }
    PlainPiece piece = {offset, bytes, place};
    g_array_append_val(file->pieces, piece);
}

char *plain_sha256(const PlainVolume *volume, const PlainFile *file, const guint8 *bytes)
{
    static const guint8 zeros[65536];
    g_autoptr(GChecksum) sum = g_checksum_new(G_CHECKSUM_SHA256);
    guint64 at = 0;
    (void)volume;
    if (file->is_packed)
        return NULL;
    for (guint i = 0; i <= file->pieces->len; i++) {
        const PlainPiece *piece =
            i < file->pieces->len ? &g_array_index(file->pieces, PlainPiece, i) : NULL;
        for (guint64 end = piece != NULL ? piece->offset : file->size; at < end;) {
            guint64 part = MIN(end - at, sizeof zeros);
            g_checksum_update(sum, zeros, (gssize)part);
            at += part;
        }
        if (piece == NULL)
            break;
        g_checksum_update(sum, bytes + piece->place, (gssize)piece->bytes);
        at += piece->bytes;
    }
    return g_strdup(g_checksum_get_string(sum));
}

guint plain_count(const PlainVolume *volume, guint pieces)
{
    guint count = 0;
    for (guint i = 0; i < volume->files->len; i++)
        count += ((const PlainFile *)volume->files->pdata[i])->pieces->len > pieces;
    return count;
}

/* SPDX-License-Identifier: MIT */
/* Second readers of the file systems, as plain as can be: for healthy volumes that the system's own
 * tools made, by the published formats, sharing nothing with what they are the witnesses of. */
#ifndef EK_TESTS_PLAIN_H
#define EK_TESTS_PLAIN_H

#include <glib.h>
#include <string.h>

/* A volume in memory. */
typedef struct {
    const guint8 *bytes;
    gsize length;
} Plain;

/* Where a piece of a file lies; pieces that touch in both are one. What none covers is zeros. */
typedef struct {
    guint64 offset;
    guint64 bytes;
    guint64 place;
} PlainPiece;

/* Sectors that something hangs on, and where the same stands once more (0: nowhere). */
typedef struct {
    guint64 place;
    guint64 bytes;
    guint64 copy;
} PlainNeed;

typedef struct {
    char *path; /* UTF-8, "/" between folders; for those that are there */
    guint64 size;
    GArray *pieces;     /* PlainPiece, in order */
    gboolean is_packed; /* its bytes are not as they lie */
    GArray *way;        /* PlainNeed: what leads to it, from the root folder on */
    GArray *map;        /* PlainNeed: what leads from there to its content */
} PlainFile;

/* What else such a reader sees. */
typedef struct {
    GPtrArray *files;       /* PlainFile* */
    guint lists;            /* NTFS: files with a list of attributes */
    gboolean table_is_long; /* NTFS: $MFT itself has one */
    guint deepest;          /* ext4: levels of the deepest extent tree above its leaves */
    GArray *way;            /* of readers: what led to where they are; files get a copy of it */
} PlainVolume;

/* Reads "fat", "exfat", "ext", "ntfs" or "hfsplus". The caller frees. */
PlainVolume *plain_read(const char *format, const guint8 *bytes, gsize length);
void plain_free(PlainVolume *volume);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(PlainVolume, plain_free)

/* SHA-256 of a file's content, hex; NULL where it is packed. The caller frees. */
char *plain_sha256(const PlainVolume *volume, const PlainFile *file, const guint8 *bytes);

/* How many of the files lie in more than `pieces`. */
guint plain_count(const PlainVolume *volume, guint pieces);

/* --- for the readers --- */

static inline guint16 p16(const Plain *plain, guint64 at)
{
    return (guint16)(plain->bytes[at] | plain->bytes[at + 1] << 8);
}

static inline guint32 p32(const Plain *plain, guint64 at)
{
    return p16(plain, at) | (guint32)p16(plain, at + 2) << 16;
}

static inline guint64 p64(const Plain *plain, guint64 at)
{
    return p32(plain, at) | (guint64)p32(plain, at + 4) << 32;
}

static inline guint16 b16(const Plain *plain, guint64 at)
{
    return GUINT16_SWAP_LE_BE(p16(plain, at));
}

static inline guint32 b32(const Plain *plain, guint64 at)
{
    return GUINT32_SWAP_LE_BE(p32(plain, at));
}

static inline guint64 b64(const Plain *plain, guint64 at)
{
    return GUINT64_SWAP_LE_BE(p64(plain, at));
}

/* "folder/name", "name" in the root; takes the name. */
char *plain_join(const char *folder, char *name);

PlainFile *plain_file(PlainVolume *volume, char *path, guint64 size);

/* Adds a piece, no further than the file's size. */
void plain_piece(PlainFile *file, guint64 offset, guint64 bytes, guint64 place);

/* Adds the sectors that bytes lie in to a way or a map. */
void plain_need(GArray *needs, guint64 place, guint64 bytes, guint64 copy);

/* A list of blocks for a folder's content, which only its reader needs. */
PlainFile plain_folder(guint64 size);
void plain_folder_clear(PlainFile *folder);

void plain_fat(const Plain *plain, PlainVolume *volume);
void plain_exfat(const Plain *plain, PlainVolume *volume);
void plain_ext(const Plain *plain, PlainVolume *volume);
void plain_ntfs(const Plain *plain, PlainVolume *volume);
void plain_hfsplus(const Plain *plain, PlainVolume *volume);

#endif

/* SPDX-License-Identifier: MIT */
/* Reading a file at any place: through its extents, or out of what is decoded just now. */
#include "files/access.h"

#include <string.h>

#define WINDOW (8u << 20) /* decoded bytes that wait at most */
#define BACK (1u << 20)   /* of those that were read, how many are kept */

/* A piece of what was decoded: bytes of the window, or a hole. */
typedef struct {
    EkByte offset;
    EkByte bytes;
    gboolean is_hole;
} Piece;

/* A thread decodes, and waits while enough is there. */
typedef struct {
    EkFiles files;
    EkFile file;
    GThread *thread;
    GMutex lock;
    GCond changed;
    GArray *pieces;     /* Piece, in order, without gaps */
    GByteArray *window; /* the bytes of all that are no holes */
    EkByte first;       /* what the pieces begin at */
    EkByte next;        /* what comes next */
    EkByte wanted;      /* up to here it is asked for */
    EkByte skip;        /* what is before this is not kept */
    gboolean is_over;
    gboolean stop;
} Decoding;

struct EkAccess {
    EkReader *reader;
    const EkVolume *volume;
    EkFile file;
    GArray *extents;
    Decoding *decoding; /* NULL: the file is not encoded, or it was not begun */
};

/* --- decoding -------------------------------------------------------------------------------- */

/* Drops what was read long ago, or all of it where it is skipped. Locked. */
static void drop_before(Decoding *decoding, EkByte offset)
{
    guint count = 0;
    guint bytes = 0;
    while (count < decoding->pieces->len) {
        const Piece *piece = &g_array_index(decoding->pieces, Piece, count);
        if (piece->offset + piece->bytes > offset)
            break;
        decoding->first = piece->offset + piece->bytes;
        bytes += piece->is_hole ? 0 : (guint)piece->bytes;
        count++;
    }
    if (count == 0)
        return;
    g_array_remove_range(decoding->pieces, 0, count);
    g_byte_array_remove_range(decoding->window, 0, bytes);
}

static gboolean take_decoded(void *data, const guint8 *bytes, gsize length)
{
    Decoding *decoding = data;
    g_mutex_lock(&decoding->lock);
    while (!decoding->stop && decoding->window->len >= WINDOW &&
           decoding->next >= MAX(decoding->wanted, decoding->skip))
        g_cond_wait(&decoding->changed, &decoding->lock);
    Piece piece = {decoding->next, length, bytes == NULL};
    decoding->next += length;
    g_array_append_val(decoding->pieces, piece);
    if (bytes != NULL)
        g_byte_array_append(decoding->window, bytes, (guint)length);
    drop_before(decoding, decoding->skip);
    gboolean goes_on = !decoding->stop;
    g_cond_broadcast(&decoding->changed);
    g_mutex_unlock(&decoding->lock);
    return goes_on;
}

static void *decode(void *data)
{
    Decoding *decoding = data;
    decoding->files.format->decode(decoding->files.opened, &decoding->file, take_decoded, decoding);
    g_mutex_lock(&decoding->lock);
    decoding->is_over = TRUE;
    g_cond_broadcast(&decoding->changed);
    g_mutex_unlock(&decoding->lock);
    return NULL;
}

static void decoding_free(Decoding *decoding)
{
    if (decoding == NULL)
        return;
    g_mutex_lock(&decoding->lock);
    decoding->stop = TRUE;
    g_cond_broadcast(&decoding->changed);
    g_mutex_unlock(&decoding->lock);
    g_thread_join(decoding->thread);
    ek_files_close(&decoding->files);
    g_array_unref(decoding->pieces);
    g_byte_array_unref(decoding->window);
    g_mutex_clear(&decoding->lock);
    g_cond_clear(&decoding->changed);
    g_free(decoding);
}

/* The volume is opened once more: what it remembers is for one thread. */
static Decoding *decoding_new(const EkAccess *access, GError **error)
{
    Decoding *decoding = g_new0(Decoding, 1);
    if (!ek_files_open(&decoding->files, access->reader, access->volume, error)) {
        g_free(decoding);
        return NULL;
    }
    decoding->file = access->file;
    decoding->pieces = g_array_new(FALSE, FALSE, sizeof(Piece));
    decoding->window = g_byte_array_new();
    g_mutex_init(&decoding->lock);
    g_cond_init(&decoding->changed);
    decoding->thread = g_thread_new("decode", decode, decoding);
    return decoding;
}

/* What of the window stands at `offset`, which is in it. Locked. */
static gsize copy_decoded(const Decoding *decoding, EkByte offset, guint8 *buffer, gsize length,
                          EkByte *hole)
{
    gsize at = 0;
    gsize done = 0;
    for (guint i = 0; i < decoding->pieces->len && done < length; i++) {
        const Piece *piece = &g_array_index(decoding->pieces, Piece, i);
        EkByte end = piece->offset + piece->bytes;
        EkByte from = offset + done;
        if (from < end && piece->is_hole) {
            *hole = done == 0 ? end - from : 0;
            return done;
        }
        if (from < end) {
            gsize some = (gsize)MIN(length - done, end - from);
            memcpy(buffer + done, decoding->window->data + at + (from - piece->offset), some);
            done += some;
        }
        at += piece->is_hole ? 0 : (gsize)piece->bytes;
    }
    return done;
}

static gsize read_decoded(EkAccess *access, EkByte offset, guint8 *buffer, gsize length,
                          EkByte *hole)
{
    Decoding *decoding = access->decoding;
    if (decoding != NULL && offset < decoding->first) {
        decoding_free(decoding);
        decoding = access->decoding = NULL;
    }
    if (decoding == NULL)
        decoding = access->decoding = decoding_new(access, NULL);
    if (decoding == NULL) {
        *hole = length;
        return 0;
    }
    g_mutex_lock(&decoding->lock);
    decoding->wanted = offset + length;
    decoding->skip = offset - MIN(offset, BACK);
    drop_before(decoding, decoding->skip);
    g_cond_broadcast(&decoding->changed);
    while (decoding->next < decoding->wanted && !decoding->is_over)
        g_cond_wait(&decoding->changed, &decoding->lock);
    gsize done = copy_decoded(decoding, offset, buffer, length, hole);
    /* It came to an end too early. */
    if (done == 0 && *hole == 0)
        *hole = length;
    g_mutex_unlock(&decoding->lock);
    return done;
}

/* --- extents --------------------------------------------------------------------------------- */

/* The first extent that ends behind `offset`. */
static guint extent_at(const GArray *extents, EkByte offset)
{
    guint low = 0;
    guint high = extents->len;
    while (low < high) {
        guint middle = low + (high - low) / 2;
        const EkExtent *extent = &g_array_index(extents, EkExtent, middle);
        if (extent->offset + extent->bytes <= offset)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/* In one extent, or before it: as many as can be told at once. */
static gsize read_part(const EkAccess *access, EkByte offset, guint8 *buffer, gsize length,
                       EkByte *hole)
{
    guint index = extent_at(access->extents, offset);
    const EkExtent *extent =
        index < access->extents->len ? &g_array_index(access->extents, EkExtent, index) : NULL;
    if (extent == NULL || offset < extent->offset) {
        length = extent != NULL ? (gsize)MIN(length, extent->offset - offset) : length;
        memset(buffer, 0, length);
        return length;
    }
    EkByte rest = extent->offset + extent->bytes - offset;
    EkByte place = ek_extent_place(extent);
    EkRange range;
    length = (gsize)MIN(length, rest);
    if (place == EK_UNPLACED || !ek_range_checked(place + (offset - extent->offset), length,
                                                  ek_reader_bytes(access->reader), &range)) {
        *hole = rest;
        return 0;
    }
    EkRange missing = {ek_range_end(range), 0};
    gboolean is_bad = FALSE;
    ek_reader_next_hole(access->reader, range.first, ek_range_end(range), &missing, &is_bad);
    if (missing.first == range.first && missing.bytes > 0) {
        *hole = missing.bytes;
        return 0;
    }
    length = (gsize)(missing.first - range.first);
    if (ek_reader_read(access->reader, range.first, buffer, length, NULL, NULL))
        return length;
    *hole = length;
    return 0;
}

gsize ek_access_read(EkAccess *access, EkByte offset, guint8 *buffer, gsize length, EkByte *hole)
{
    gsize done = 0;
    *hole = 0;
    if (offset >= access->file.size)
        return 0;
    length = (gsize)MIN(length, access->file.size - offset);
    if ((access->file.flags & EK_FILE_ENCODED) != 0)
        return read_decoded(access, offset, buffer, length, hole);
    while (done < length) {
        EkByte missing = 0;
        gsize some = read_part(access, offset + done, buffer + done, length - done, &missing);
        if (some == 0) {
            *hole = done == 0 ? MIN(missing, access->file.size - offset) : 0;
            break;
        }
        done += some;
    }
    return done;
}

gboolean ek_access_is_packed(const EkFile *file, const GArray *extents)
{
    gboolean packed = (file->flags & EK_FILE_ENCODED) != 0;
    for (guint i = 0; i < extents->len; i++)
        packed = packed || g_array_index(extents, EkExtent, i).is_packed;
    return packed;
}

EkAccess *ek_access_new(EkReader *reader, const EkVolume *volume, const EkFile *file,
                        GArray *extents, GError **error)
{
    EkAccess *access = g_new0(EkAccess, 1);
    access->reader = reader;
    access->volume = volume;
    access->file = *file;
    access->extents = extents;
    /* That it can be decoded is known before anything is read. */
    if ((file->flags & EK_FILE_ENCODED) != 0 &&
        (access->decoding = decoding_new(access, error)) == NULL) {
        ek_access_free(access);
        return NULL;
    }
    return access;
}

void ek_access_free(EkAccess *access)
{
    decoding_free(access->decoding);
    g_array_unref(access->extents);
    g_free(access);
}

gboolean ek_access_read_on(EkAccess *access, gboolean zeros, EkByte offset, guint8 *buffer,
                           gsize wanted, gsize *done)
{
    *done = 0;
    while (*done < wanted) {
        EkByte hole = 0;
        gsize some = ek_access_read(access, offset + *done, buffer + *done, wanted - *done, &hole);
        if (some == 0 && hole == 0)
            return TRUE;
        if (some == 0 && !zeros)
            return FALSE;
        if (some == 0) {
            some = (gsize)MIN(hole, wanted - *done);
            memset(buffer + *done, 0, some);
        }
        *done += some;
    }
    return TRUE;
}

/* SPDX-License-Identifier: MIT */
/* Reading the image of a case back. */
#include "work/checking.h"

#include "base/digest.h"
#include "case/mapstore.h"
#include "work/sums.h"

#include <string.h>

#define PIECE_BYTES (1u << 20)
#define PIECES 8

typedef struct {
    EkView view;
    EkLock *lock;
    guint32 sector_size;
    const EkCheckParts *parts;
    EkCheck *check;
} Checking;

static gboolean open_checking(Checking *self, const char *folder, const EkCheckParts *parts,
                              EkCheck *check, GError **error)
{
    *self = (Checking){.parts = parts, .check = check};
    if (!ek_view_open_locked(&self->view, folder, EK_LOCK_IMAGING, &self->lock, error))
        return FALSE;
    const EkCaseInfo *info = ek_case_info(self->view.opened);
    self->sector_size = info->sector_size;
    *check = (EkCheck){.blocks = ek_divide_up(info->bytes, EK_BLOCK_BYTES), .bytes = info->bytes};
    return TRUE;
}

static void close_checking(Checking *self)
{
    g_clear_pointer(&self->lock, ek_lock_release);
    ek_view_close(&self->view);
}

static gboolean go_on(const Checking *self, GError **error)
{
    if (self->parts->progress != NULL)
        self->parts->progress(self->parts->data, self->check);
    if (g_atomic_int_get(self->parts->cancel) == 0)
        return TRUE;
    return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
}

static gboolean check_block(Checking *self, guint64 block, guint64 kept, GError **error)
{
    guint64 sum = 0;
    EkByte first = block * EK_BLOCK_BYTES;
    self->check->done = first;
    if (!go_on(self, error) ||
        !ek_sums_of_block(self->view.reader, self->sector_size, block, &sum, error))
        return FALSE;
    if (sum == kept)
        return TRUE;
    self->check->changed++;
    self->parts->changed(self->parts->data, first, MIN(EK_BLOCK_BYTES, self->check->bytes - first));
    return TRUE;
}

/* The first block at or after `block` that has data in the image, or an edit over it. */
static guint64 next_with_data(const Checking *self, guint64 block)
{
    EkByte from = block * EK_BLOCK_BYTES;
    EkRange range;
    guint64 next = G_MAXUINT64;
    if (from >= self->check->bytes)
        return next;
    if (ek_image_next_data(self->view.image, from, &range))
        next = MAX(range.first, from) / EK_BLOCK_BYTES;
    if (ek_overlay_next(self->view.kept, from, self->check->bytes, &range))
        next = MIN(next, range.first / EK_BLOCK_BYTES);
    return next;
}

/* Blocks without a sum that is kept were all zeros, or never read: as holes are. */
static gboolean check_blocks(Checking *self, GError **error)
{
    sqlite3 *store = ek_case_map(self->view.opened);
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store, error, "SELECT block,sum FROM block_sum ORDER BY block", "");
    if (rows == NULL)
        return FALSE;
    int got = ek_sql_step(store, rows, error);
    for (guint64 block = 0; got >= 0;) {
        guint64 with_sum = got == 1 ? (guint64)sqlite3_column_int64(rows, 0) : G_MAXUINT64;
        block = MIN(with_sum, next_with_data(self, block));
        if (block >= self->check->blocks)
            return TRUE;
        guint64 kept = block == with_sum ? (guint64)sqlite3_column_int64(rows, 1) : 0;
        if (!check_block(self, block, kept, error))
            return FALSE;
        if (block == with_sum)
            got = ek_sql_step(store, rows, error);
        block++;
    }
    return FALSE;
}

static gboolean has_sums(const Checking *self, GError **error)
{
    if (ek_sums_are_kept(self->view.opened))
        return TRUE;
    return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                        "%s has no block checksums (adopted image, or made by an older version). "
                        "--sha256 prints the SHA-256 of the image",
                        ek_case_folder(self->view.opened));
}

gboolean ek_checking_run(const char *folder, const EkCheckParts *parts, EkCheck *check,
                         GError **error)
{
    Checking self;
    gboolean fine = open_checking(&self, folder, parts, check, error) && has_sums(&self, error) &&
                    check_blocks(&self, error);
    if (fine)
        check->done = check->bytes;
    close_checking(&self);
    return fine;
}

/* --- the digest: one thread reads, another hashes --- */

typedef struct {
    guint8 data[PIECE_BYTES];
    gsize length; /* 0: the end */
} Piece;

typedef struct {
    GAsyncQueue *full;
    GAsyncQueue *empty;
    EkSha256 *digest;
} Hashing;

static gpointer hash(gpointer data)
{
    Hashing *hashing = data;
    for (;;) {
        Piece *piece = g_async_queue_pop(hashing->full);
        if (piece->length == 0)
            return NULL;
        ek_sha256_update(hashing->digest, piece->data, piece->length);
        g_async_queue_push(hashing->empty, piece);
    }
}

static gboolean feed(Checking *self, Hashing *hashing, EkByte from, GError **error)
{
    gboolean fine = TRUE;
    for (EkByte at = from; fine && at < self->check->bytes; at += PIECE_BYTES) {
        self->check->done = at;
        Piece *piece = g_async_queue_pop(hashing->empty);
        piece->length = (gsize)MIN(PIECE_BYTES, self->check->bytes - at);
        fine = go_on(self, error) &&
               ek_reader_read(self->view.reader, at, piece->data, piece->length, NULL, error);
        g_async_queue_push(fine ? hashing->full : hashing->empty, piece);
    }
    Piece *last = g_async_queue_pop(hashing->empty);
    last->length = 0;
    g_async_queue_push(hashing->full, last);
    return fine;
}

char *ek_checking_digest(const char *folder, const EkCheckParts *parts, EkPrefix *prefix,
                         GError **error)
{
    Checking self;
    EkCheck check;
    char *result = NULL;
    if (open_checking(&self, folder, parts, &check, error)) {
        Piece *pieces = g_new(Piece, PIECES);
        EkByte from = prefix->digest != NULL ? prefix->bytes : 0;
        g_autoptr(EkSha256) digest = g_steal_pointer(&prefix->digest);
        if (digest == NULL)
            digest = ek_sha256_new();
        Hashing hashing = {g_async_queue_new(), g_async_queue_new(), digest};
        for (int i = 0; i < PIECES; i++)
            g_async_queue_push(hashing.empty, &pieces[i]);
        GThread *thread = g_thread_new("hash", hash, &hashing);
        gboolean fine = feed(&self, &hashing, from, error);
        g_thread_join(thread);
        if (fine)
            result = ek_sha256_finish_hex(digest);
        g_async_queue_unref(hashing.full);
        g_async_queue_unref(hashing.empty);
        g_free(pieces);
    }
    close_checking(&self);
    return result;
}

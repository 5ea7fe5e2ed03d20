/* SPDX-License-Identifier: MIT */
/* The digest of an image's beginning, taken while it is read. */
#include "capture/prefix.h"

#define ZEROS 65536u

typedef struct {
    guint8 *buffer; /* NULL: zeros */
    EkByte length;  /* 0: the end */
} Piece;

struct EkPrefixWork {
    EkPrefix *prefix;
    EkByte next; /* byte that is taken next */
    GThread *thread;
    GAsyncQueue *pieces;
    void (*release)(void *data, guint8 *buffer);
    void *data;
};

void ek_prefix_clear(EkPrefix *prefix)
{
    g_clear_pointer(&prefix->digest, ek_sha256_free);
    prefix->bytes = 0;
}

static void add_zeros(EkSha256 *digest, EkByte length)
{
    static const guint8 zeros[ZEROS];
    for (; length > 0; length -= MIN(length, ZEROS))
        ek_sha256_update(digest, zeros, (gsize)MIN(length, ZEROS));
}

static gpointer hash(gpointer data)
{
    EkPrefixWork *work = data;
    for (;;) {
        g_autofree Piece *piece = g_async_queue_pop(work->pieces);
        if (piece->length == 0)
            return NULL;
        if (piece->buffer == NULL) {
            add_zeros(work->prefix->digest, piece->length);
        } else {
            ek_sha256_update(work->prefix->digest, piece->buffer, (gsize)piece->length);
            work->release(work->data, piece->buffer);
        }
        work->prefix->bytes += piece->length;
    }
}

EkPrefixWork *ek_prefix_work_new(EkPrefix *prefix, void (*release)(void *data, guint8 *buffer),
                                 void *data)
{
    EkPrefixWork *work = g_new0(EkPrefixWork, 1);
    *work =
        (EkPrefixWork){.prefix = prefix, .next = prefix->bytes, .release = release, .data = data};
    if (prefix->digest == NULL)
        prefix->digest = ek_sha256_new();
    work->pieces = g_async_queue_new_full(g_free);
    work->thread = g_thread_new("hash", hash, work);
    return work;
}

gboolean ek_prefix_take(EkPrefixWork *work, EkByte first, guint8 *buffer, EkByte length)
{
    if (first != work->next || length == 0)
        return FALSE;
    work->next += length;
    Piece piece = {buffer, length};
    g_async_queue_push(work->pieces, g_memdup2(&piece, sizeof piece));
    return TRUE;
}

void ek_prefix_work_finish(EkPrefixWork *work, gboolean kept)
{
    g_async_queue_push(work->pieces, g_new0(Piece, 1));
    g_thread_join(work->thread);
    if (!kept)
        ek_prefix_clear(work->prefix);
    g_async_queue_unref(work->pieces);
    g_free(work);
}

/* SPDX-License-Identifier: MIT */
/* Files found by content that are there anyway: by length first, then byte by byte. */
#include "work/copies.h"

#include "work/indexing.h"

#include <string.h>

#define CHUNK (64u << 10)

/* A file of the catalogue. */
typedef struct {
    guint64 number;
    EkByte bytes;
    gboolean is_copy;
} Content;

typedef struct {
    EkView *view;
    EkContentStore *store;
    const gint *cancel;
    EkInventory *inventory;
    GArray *contents; /* Content, by length */
    guint8 *one;
    guint8 *other;
    GError *error;
} Comparing;

static gint by_length(gconstpointer a, gconstpointer b)
{
    const Content *one = a;
    const Content *other = b;
    return one->bytes != other->bytes ? (one->bytes < other->bytes ? -1 : 1)
                                      : (one->number < other->number ? -1 : 1);
}

static gboolean note(void *data, const EkContentEntry *entry)
{
    GArray *contents = data;
    Content content = {entry->number, entry->bytes, FALSE};
    if (entry->state == EK_CONTENT_WHOLE && entry->bytes > 0)
        g_array_append_val(contents, content);
    return TRUE;
}

/* Where the bytes of a plain file lie; NULL: it is not plain. */
static GArray *plain_pieces(Comparing *comparing, guint64 number, EkByte bytes)
{
    g_autoptr(GArray) extents =
        ek_inventory_extents(comparing->inventory, number, &comparing->error);
    g_autoptr(GArray) pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkByte at = 0;
    for (guint i = 0; extents != NULL && i < extents->len && at < bytes; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        EkRange piece = {ek_extent_place(extent), MIN(extent->bytes, bytes - at)};
        if (extent->offset != at || extent->is_packed || piece.first == EK_UNPLACED ||
            extent->stored < piece.bytes)
            return NULL;
        g_array_append_val(pieces, piece);
        at += piece.bytes;
    }
    return extents != NULL && at == bytes ? g_steal_pointer(&pieces) : NULL;
}

/* Both have as many bytes; the pieces of both are gone through side by side. */
static gboolean is_same(Comparing *comparing, const GArray *one, const GArray *other)
{
    EkReader *reader = comparing->view->reader;
    guint i = 0;
    guint k = 0;
    EkRange left = {0, 0};
    EkRange right = {0, 0};
    for (;;) {
        if (left.bytes == 0) {
            if (i == one->len)
                return TRUE;
            left = g_array_index(one, EkRange, i++);
        }
        if (right.bytes == 0) {
            if (k == other->len)
                return TRUE;
            right = g_array_index(other, EkRange, k++);
        }
        gsize length = (gsize)MIN(MIN(left.bytes, right.bytes), CHUNK);
        if (g_atomic_int_get(comparing->cancel) != 0 ||
            !ek_reader_read(reader, left.first, comparing->one, length, NULL, NULL) ||
            !ek_reader_read(reader, right.first, comparing->other, length, NULL, NULL) ||
            memcmp(comparing->one, comparing->other, length) != 0)
            return FALSE;
        left = (EkRange){left.first + length, left.bytes - length};
        right = (EkRange){right.first + length, right.bytes - length};
    }
}

/* The first of the catalogue's files that is not shorter. */
static guint first_of_length(const GArray *contents, EkByte bytes)
{
    guint low = 0;
    guint high = contents->len;
    while (low < high) {
        guint middle = low + (high - low) / 2;
        if (g_array_index(contents, Content, middle).bytes < bytes)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/* A file of a volume that is as long as one of the catalogue. */
static gboolean compare(void *data, guint64 number, guint64 bytes)
{
    Comparing *comparing = data;
    g_autoptr(GArray) pieces = NULL;
    guint first = first_of_length(comparing->contents, bytes);
    for (guint i = first; i < comparing->contents->len; i++) {
        Content *content = &g_array_index(comparing->contents, Content, i);
        if (content->bytes != bytes)
            break;
        if (content->is_copy)
            continue;
        if (pieces == NULL)
            pieces = plain_pieces(comparing, number, bytes);
        if (pieces == NULL)
            return comparing->error == NULL;
        g_autoptr(GArray) own =
            ek_contentstore_pieces(comparing->store, content->number, &comparing->error);
        content->is_copy = own != NULL && is_same(comparing, own, pieces);
        if (content->is_copy &&
            !ek_contentstore_set_copy(comparing->store, content->number, &comparing->error))
            return FALSE;
    }
    return comparing->error == NULL && g_atomic_int_get(comparing->cancel) == 0;
}

static gboolean compare_volume(Comparing *comparing, const EkCaseVolume *entry, GError **error)
{
    g_autoptr(GArray) lengths = g_array_new(FALSE, FALSE, sizeof(guint64));
    g_autoptr(EkIndexing) indexing = ek_indexing_new(comparing->view, entry->number, NULL);
    /* One that cannot be listed has nothing to compare with. */
    if (indexing == NULL || !ek_indexing_run(indexing, comparing->cancel, NULL))
        return TRUE;
    for (guint i = 0; i < comparing->contents->len; i++) {
        EkByte bytes = g_array_index(comparing->contents, Content, i).bytes;
        if (lengths->len == 0 || g_array_index(lengths, guint64, lengths->len - 1) != bytes)
            g_array_append_val(lengths, bytes);
    }
    comparing->inventory = ek_indexing_inventory(indexing);
    gboolean fine =
        ek_inventory_each_of_lengths(comparing->inventory, lengths, compare, comparing, error);
    if (comparing->error == NULL)
        return fine;
    g_propagate_error(error, g_steal_pointer(&comparing->error));
    return FALSE;
}

gboolean ek_copies_mark(EkView *view, const GPtrArray *volumes, EkContentStore *store,
                        const gint *cancel, GError **error)
{
    g_autoptr(GArray) contents = g_array_new(FALSE, FALSE, sizeof(Content));
    if (volumes->len == 0 || !ek_contentstore_each(store, note, contents, error))
        return volumes->len == 0;
    g_array_sort(contents, by_length);
    g_autofree guint8 *one = g_malloc(CHUNK);
    g_autofree guint8 *other = g_malloc(CHUNK);
    Comparing comparing = {view, store, cancel, NULL, contents, one, other, NULL};
    gboolean fine = TRUE;
    for (guint i = 0; fine && contents->len > 0 && i < volumes->len; i++)
        fine = compare_volume(&comparing, volumes->pdata[i], error);
    if (fine && g_atomic_int_get(cancel) != 0)
        return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    return fine && ek_contentstore_flush(store, error);
}

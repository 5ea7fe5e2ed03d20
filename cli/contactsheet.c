/* SPDX-License-Identifier: MIT */
/* Small pictures of what was found, for the report. */
#include "contactsheet.h"

#include "peeking.h"

#include <string.h>

#define TRIES 4u /* files that are looked into for each picture that is wanted */

static void picture_free(void *data)
{
    EkSheetPicture *picture = data;
    g_free(picture->path);
    g_free(picture->note);
    g_free(picture->pixels);
    g_free(picture);
}

typedef struct {
    EkPeeker *peeker;
    EkSheetOpen open;
    void *data;
    const gint *cancel;
    GHashTable *volumes; /* number to EkIndexing; NULL there: it does not open */
} Sheet;

/* Volumes stay open while the sheet is drawn: folders of several take turns. */
static EkIndexing *volume_of(Sheet *sheet, guint number)
{
    gpointer known = NULL;
    gpointer key = GUINT_TO_POINTER(number);
    if (g_hash_table_lookup_extended(sheet->volumes, key, NULL, &known))
        return known;
    EkIndexing *indexing = sheet->open(sheet->data, number, NULL);
    g_hash_table_insert(sheet->volumes, key, indexing);
    return indexing;
}

static char *path_of(const EkExhibit *exhibit)
{
    g_autofree char *place = ek_cli_place_word(exhibit->volume);
    return g_strdup_printf("%s: %s", place, exhibit->path);
}

/* NULL: it shows nothing. */
static EkSheetPicture *picture_of(Sheet *sheet, const EkExhibit *exhibit, GError **error)
{
    EkPeek peek = {0};
    EkSheetPicture *picture = NULL;
    EkIndexing *indexing = volume_of(sheet, exhibit->volume);
    g_autoptr(GArray) extents =
        indexing != NULL
            ? ek_inventory_extents(ek_indexing_inventory(indexing), exhibit->file.number, NULL)
            : NULL;
    if (extents == NULL)
        return NULL;
    gboolean fine = ek_peeker_look(sheet->peeker, ek_indexing_files(indexing), &exhibit->file,
                                   extents, sheet->cancel, &peek, error);
    if (fine && peek.look == EK_LOOK_PIXELS) {
        picture = g_new0(EkSheetPicture, 1);
        picture->path = path_of(exhibit);
        picture->note = g_strdup(exhibit->condition != EK_CONDITION_WHOLE ? "incomplete"
                                 : peek.opens == EK_OPENS_NO              ? "damaged"
                                                                          : "");
        picture->pixels = g_steal_pointer(&peek.pixels);
        picture->wide = peek.wide;
        picture->high = peek.high;
    }
    ek_peek_clear(&peek);
    return picture;
}

cairo_surface_t *ek_sheet_surface(const EkSheetPicture *picture)
{
    int wide = (int)picture->wide;
    int high = (int)picture->high;
    cairo_surface_t *surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, wide, high);
    guint8 *data = cairo_image_surface_get_data(surface);
    gsize stride = (gsize)cairo_image_surface_get_stride(surface);
    const guint8 *from = picture->pixels;
    for (gsize line = 0; data != NULL && line < picture->high; line++)
        for (gsize column = 0; column < picture->wide; column++, from += 3) {
            guint32 pixel = (guint32)from[0] << 16 | (guint32)from[1] << 8 | from[2];
            memcpy(data + line * stride + 4 * column, &pixel, sizeof pixel);
        }
    cairo_surface_mark_dirty(surface);
    return surface;
}

GByteArray *ek_sheet_png(const EkSheetPicture *picture, GError **error)
{
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    cairo_surface_t *surface = ek_sheet_surface(picture);
    cairo_status_t status = cairo_surface_write_to_png_stream(surface, ek_canvas_put_bytes, bytes);
    cairo_surface_destroy(surface);
    if (status == CAIRO_STATUS_SUCCESS)
        return g_steal_pointer(&bytes);
    ek_error_set(error, EK_ERROR_FAILED, "a small picture cannot be written: %s",
                 cairo_status_to_string(status));
    return NULL;
}

static void indexing_free(void *data)
{
    if (data != NULL)
        ek_indexing_free(data);
}

GPtrArray *ek_contact_sheet(const EkShowcase *showcase, guint most, EkSheetOpen open, void *data,
                            const gint *cancel, GError **error)
{
    GPtrArray *pictures = g_ptr_array_new_with_free_func(picture_free);
    const EkPeekCanvas canvas = {.columns = EK_SHEET_WIDE,
                                 .lines = EK_SHEET_HIGH,
                                 .colors = 1u << 24,
                                 .pixels = TRUE,
                                 .look_only = TRUE};
    g_autoptr(EkPeeker) peeker = ek_peeking_new(&canvas);
    g_autoptr(GHashTable) volumes =
        g_hash_table_new_full(g_direct_hash, g_direct_equal, NULL, indexing_free);
    g_autoptr(GPtrArray) list = ek_showcase_list(showcase);
    Sheet sheet = {peeker, open, data, cancel, volumes};
    GError *failure = NULL;
    for (guint i = 0; i < list->len && i < most * TRIES && pictures->len < most; i++) {
        EkSheetPicture *picture = picture_of(&sheet, list->pdata[i], &failure);
        if (picture != NULL)
            g_ptr_array_add(pictures, picture);
        if (failure != NULL)
            break;
    }
    if (failure != NULL)
        g_propagate_error(error, failure);
    return pictures;
}

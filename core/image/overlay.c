/* SPDX-License-Identifier: MIT */
/* Bytes that lie over an image, by position. */
#include "image/overlay.h"

#include <string.h>

typedef struct {
    EkRange range;
    guint8 *bytes;
} Layer;

struct EkOverlay {
    GPtrArray *layers; /* Layer*, lowest first */
};

static void layer_free(gpointer data)
{
    Layer *layer = data;
    g_free(layer->bytes);
    g_free(layer);
}

EkOverlay *ek_overlay_new(void)
{
    EkOverlay *overlay = g_new0(EkOverlay, 1);
    overlay->layers = g_ptr_array_new_with_free_func(layer_free);
    return overlay;
}

void ek_overlay_free(EkOverlay *overlay)
{
    g_ptr_array_unref(overlay->layers);
    g_free(overlay);
}

void ek_overlay_add(EkOverlay *overlay, EkByte first, const guint8 *bytes, gsize length)
{
    if (length == 0)
        return;
    Layer *layer = g_new0(Layer, 1);
    layer->range = (EkRange){first, length};
    layer->bytes = g_memdup2(bytes, length);
    g_ptr_array_add(overlay->layers, layer);
}

void ek_overlay_lay(const EkOverlay *overlay, EkByte first, guint8 *buffer, gsize length)
{
    EkRange here = {first, length};
    for (guint i = 0; i < overlay->layers->len; i++) {
        const Layer *layer = overlay->layers->pdata[i];
        if (!ek_ranges_overlap(layer->range, here))
            continue;
        EkByte from = MAX(layer->range.first, first);
        EkByte to = MIN(ek_range_end(layer->range), ek_range_end(here));
        memcpy(buffer + (from - first), layer->bytes + (from - layer->range.first),
               (gsize)(to - from));
    }
}

gboolean ek_overlay_is_empty(const EkOverlay *overlay)
{
    return overlay->layers->len == 0;
}

gboolean ek_overlay_next(const EkOverlay *overlay, EkByte from, EkByte limit, EkRange *covered)
{
    EkByte first = limit;
    EkByte end = limit;
    for (guint i = 0; i < overlay->layers->len; i++) {
        EkRange range = ((const Layer *)overlay->layers->pdata[i])->range;
        if (ek_range_end(range) > from && MAX(range.first, from) < first)
            first = MAX(range.first, from);
    }
    if (first >= limit)
        return FALSE;
    /* The run ends where the layer that reaches furthest from its start does; a layer that goes on
     * from there is the next run. */
    end = first;
    for (guint i = 0; i < overlay->layers->len; i++) {
        EkRange range = ((const Layer *)overlay->layers->pdata[i])->range;
        if (range.first <= first && ek_range_end(range) > first)
            end = MAX(end, ek_range_end(range));
    }
    *covered = (EkRange){first, MIN(end, limit) - first};
    return TRUE;
}

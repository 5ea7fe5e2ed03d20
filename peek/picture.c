/* SPDX-License-Identifier: MIT */
/* Pictures: do they decode, and how they look in a terminal. */
#include "peek.h"

#include "files/peekwire.h"

#include <chafa.h>
#include <gdk-pixbuf/gdk-pixbuf.h>
#include <string.h>

#define PIXELS_MOST (32u << 20) /* of a picture that is decoded as a whole: 128 MiB */
#define REDUCTION 8             /* of one that is larger, where its decoder can do that */
#define CELL_SHAPE 0.5f         /* a character's width to its height */
#define CELL_PIXELS 8           /* a side, of what is drawn as one character */

/* The decoders that are here, by media type. */
static GHashTable *known;

gboolean picture_prepare(void)
{
    known = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    GSList *formats = gdk_pixbuf_get_formats();
    for (GSList *at = formats; at != NULL; at = at->next) {
        g_autofree char *name = gdk_pixbuf_format_get_name(at->data);
        g_auto(GStrv) types = gdk_pixbuf_format_get_mime_types(at->data);
        if (gdk_pixbuf_format_is_scalable(at->data) || gdk_pixbuf_format_is_disabled(at->data))
            continue;
        /* Its code is loaded now: later no file can be opened. */
        GdkPixbufLoader *loader = gdk_pixbuf_loader_new_with_type(name, NULL);
        if (loader == NULL)
            continue;
        gdk_pixbuf_loader_close(loader, NULL);
        g_object_unref(loader);
        for (char **type = types; *type != NULL; type++)
            g_hash_table_replace(known, g_strdup(*type), g_strdup(name));
    }
    g_slist_free(formats);
    chafa_set_n_threads(1);
    return g_hash_table_size(known) > 0;
}

typedef struct {
    int width;
    int height;
    gboolean too_large;
    int lines; /* that were decoded */
} Shape;

static void count_lines(GdkPixbufLoader *loader, int x, int y, int width, int height, gpointer data)
{
    Shape *shape = data;
    (void)loader;
    (void)x;
    (void)width;
    shape->lines = MAX(shape->lines, y + height);
}

/* Its last chunk is there (PNG, ISO/IEC 15948, 5.3). */
static gboolean png_ends(const Content *content)
{
    gsize at = 8;
    while (content->length - at >= 12) {
        const guint8 *chunk = content->bytes + at;
        guint64 length =
            (guint64)chunk[0] << 24 | (guint64)chunk[1] << 16 | (guint64)chunk[2] << 8 | chunk[3];
        if (length > content->length - at - 12)
            return FALSE;
        if (memcmp(chunk + 4, "IEND", 4) == 0)
            return TRUE;
        at += (gsize)length + 12;
    }
    return FALSE;
}

static guint64 little(const guint8 *bytes)
{
    return (guint64)bytes[0] | (guint64)bytes[1] << 8 | (guint64)bytes[2] << 16 |
           (guint64)bytes[3] << 24;
}

/* A BMP says its length in its header, an icon where each of its pictures ends in a table. */
static gboolean is_long_enough(const Content *content, const char *format)
{
    if (g_str_equal(format, "bmp"))
        return content->length >= 6 && little(content->bytes + 2) <= content->length;
    if (!g_str_equal(format, "ico"))
        return TRUE;
    gsize count = content->length >= 6 ? content->bytes[4] | (gsize)content->bytes[5] << 8 : 0;
    for (gsize i = 0; i < count && 6 + 16 * (i + 1) <= content->length; i++) {
        const guint8 *entry = content->bytes + 6 + 16 * i;
        if (little(entry + 8) + little(entry + 12) > content->length)
            return FALSE;
    }
    return TRUE;
}

/* What decoders do not say of a picture they opened; NULL: nothing. The caller frees. */
static char *hidden_fault(const Content *content, const char *format, const Shape *shape,
                          gboolean *starved)
{
    if (g_str_equal(format, "jpeg"))
        return jpeg_fault(content, starved);
    if (shape->lines < shape->height || !is_long_enough(content, format) ||
        (g_str_equal(format, "png") && content->length > 8 && !png_ends(content)))
        return g_strdup("it breaks off");
    return NULL;
}

/* Decides before anything is decoded. A size of nothing ends the decoder. */
static void take_size(GdkPixbufLoader *loader, int width, int height, gpointer data)
{
    Shape *shape = data;
    GdkPixbufFormat *format = gdk_pixbuf_loader_get_format(loader);
    g_autofree char *name = format != NULL ? gdk_pixbuf_format_get_name(format) : NULL;
    gboolean reduces = g_strcmp0(name, "jpeg") == 0;
    guint64 pixels = (guint64)MAX(width, 0) * (guint64)MAX(height, 0);
    shape->width = width;
    shape->height = height;
    shape->too_large =
        pixels == 0 ||
        pixels > (reduces ? (guint64)PIXELS_MOST * REDUCTION * REDUCTION : PIXELS_MOST);
    if (shape->too_large)
        gdk_pixbuf_loader_set_size(loader, 0, 0);
    else if (pixels > PIXELS_MOST)
        gdk_pixbuf_loader_set_size(loader, MAX(width / REDUCTION, 1), MAX(height / REDUCTION, 1));
}

/* What shines through is white, as on paper. */
static void give_pixels(const GdkPixbuf *full, const Canvas *canvas, Finding *finding)
{
    double wide = gdk_pixbuf_get_width(full);
    double high = gdk_pixbuf_get_height(full);
    double scale = MIN(MIN(canvas->columns / wide, canvas->lines / high), 1.0);
    int columns = CLAMP((int)(wide * scale), 1, (int)canvas->columns);
    int lines = CLAMP((int)(high * scale), 1, (int)canvas->lines);
    g_autoptr(GdkPixbuf) small = gdk_pixbuf_composite_color_simple(
        full, columns, lines, GDK_INTERP_BILINEAR, 255, 16, 0xffffff, 0xffffff);
    if (small == NULL)
        return;
    gsize each = (gsize)gdk_pixbuf_get_n_channels(small);
    gsize stride = (gsize)gdk_pixbuf_get_rowstride(small);
    const guint8 *from = gdk_pixbuf_read_pixels(small);
    g_autoptr(GByteArray) pixels = g_byte_array_new();
    for (gsize line = 0; line < (gsize)lines; line++)
        for (gsize column = 0; column < (gsize)columns; column++)
            g_byte_array_append(pixels, from + line * stride + column * each, EK_PEEK_PIXEL_BYTES);
    g_autofree char *packed = g_base64_encode(pixels->data, pixels->len);
    g_string_printf(finding->shown, "%d %d %s", columns, lines, packed);
    finding->look = "pixels";
}

static void draw_characters(const GdkPixbuf *full, const Canvas *canvas, Finding *finding)
{
    gint columns = (gint)canvas->columns;
    gint lines = (gint)canvas->lines;
    chafa_calc_canvas_geometry(gdk_pixbuf_get_width(full), gdk_pixbuf_get_height(full), &columns,
                               &lines, CELL_SHAPE, FALSE, FALSE);
    g_autoptr(GdkPixbuf) small = gdk_pixbuf_scale_simple(
        full, MAX(columns, 1) * CELL_PIXELS, MAX(lines, 1) * CELL_PIXELS, GDK_INTERP_BILINEAR);
    if (small == NULL)
        return;
    ChafaCanvasConfig *config = chafa_canvas_config_new();
    ChafaSymbolMap *symbols = chafa_symbol_map_new();
    chafa_symbol_map_add_by_tags(symbols, CHAFA_SYMBOL_TAG_SPACE);
    chafa_symbol_map_add_by_tags(symbols, canvas->ascii
                                              ? CHAFA_SYMBOL_TAG_ASCII
                                              : CHAFA_SYMBOL_TAG_BLOCK | CHAFA_SYMBOL_TAG_BORDER);
    chafa_canvas_config_set_symbol_map(config, symbols);
    chafa_canvas_config_set_geometry(config, columns, lines);
    chafa_canvas_config_set_canvas_mode(config,
                                        canvas->colors == 0     ? CHAFA_CANVAS_MODE_FGBG
                                        : canvas->colors <= 16  ? CHAFA_CANVAS_MODE_INDEXED_16
                                        : canvas->colors <= 256 ? CHAFA_CANVAS_MODE_INDEXED_240
                                                                : CHAFA_CANVAS_MODE_TRUECOLOR);
    ChafaCanvas *drawn = chafa_canvas_new(config);
    chafa_canvas_draw_all_pixels(
        drawn, gdk_pixbuf_get_has_alpha(small) ? CHAFA_PIXEL_RGBA8_UNASSOCIATED : CHAFA_PIXEL_RGB8,
        gdk_pixbuf_read_pixels(small), gdk_pixbuf_get_width(small), gdk_pixbuf_get_height(small),
        gdk_pixbuf_get_rowstride(small));
    ChafaTermInfo *terminal = chafa_term_db_get_fallback_info(chafa_term_db_get_default());
    GString *text = chafa_canvas_print(drawn, terminal);
    g_string_append_len(finding->shown, text->str, (gssize)text->len);
    g_string_append_c(finding->shown, '\n');
    finding->look = "picture";
    g_string_free(text, TRUE);
    chafa_term_info_unref(terminal);
    chafa_canvas_unref(drawn);
    chafa_symbol_map_unref(symbols);
    chafa_canvas_config_unref(config);
}

void picture_draw(const GdkPixbuf *picture, const Canvas *canvas, Finding *finding)
{
    if (canvas->columns == 0 || canvas->lines == 0)
        return;
    if (canvas->pixels)
        give_pixels(picture, canvas, finding);
    else
        draw_characters(picture, canvas, finding);
}

/* As its camera was held. */
static void draw_upright(GdkPixbuf *full, const Canvas *canvas, Finding *finding)
{
    g_autoptr(GdkPixbuf) upright = gdk_pixbuf_apply_embedded_orientation(full);
    picture_draw(upright != NULL ? upright : full, canvas, finding);
}

void picture_show(const guint8 *bytes, gsize length, int least, const Canvas *canvas,
                  Finding *finding)
{
    Shape shape = {0};
    Content content = {bytes, length, length, 0};
    Finding inside = {0};
    type_find(&content, &inside);
    const char *format = g_hash_table_lookup(known, inside.mime);
    g_free(inside.type);
    g_free(inside.mime);
    if (format == NULL)
        return;
    g_autoptr(GdkPixbufLoader) loader = gdk_pixbuf_loader_new_with_type(format, NULL);
    if (loader == NULL)
        return;
    g_signal_connect(loader, "size-prepared", G_CALLBACK(take_size), &shape);
    gboolean fine = gdk_pixbuf_loader_write(loader, bytes, length, NULL);
    fine = gdk_pixbuf_loader_close(loader, NULL) && fine;
    GdkPixbuf *picture = gdk_pixbuf_loader_get_pixbuf(loader);
    if (fine && picture != NULL && !shape.too_large && MIN(shape.width, shape.height) >= least)
        draw_upright(picture, canvas, finding);
}

/* Did it end for want of memory? That says nothing about the picture. */
static gboolean is_starved(const GError *error)
{
    return g_error_matches(error, GDK_PIXBUF_ERROR, GDK_PIXBUF_ERROR_INSUFFICIENT_MEMORY);
}

gboolean picture_judge(const Content *content, const Canvas *canvas, Finding *finding)
{
    const char *format = g_hash_table_lookup(known, finding->mime);
    if (format == NULL)
        return FALSE;
    if (content->length < content->size) {
        finding_says(finding, "unchecked", "too large to be decoded here");
        return TRUE;
    }
    g_autoptr(GError) error = NULL;
    g_autoptr(GError) late = NULL;
    Shape shape = {0};
    g_autoptr(GdkPixbufLoader) loader = gdk_pixbuf_loader_new_with_type(format, &error);
    if (loader == NULL) {
        finding_says(finding, "unchecked", "%s", error->message);
        return TRUE;
    }
    g_signal_connect(loader, "size-prepared", G_CALLBACK(take_size), &shape);
    g_signal_connect(loader, "area-updated", G_CALLBACK(count_lines), &shape);
    gboolean fine = gdk_pixbuf_loader_write(loader, content->bytes, content->length, &error);
    fine = gdk_pixbuf_loader_close(loader, fine ? &error : &late) && fine;
    gboolean starved = is_starved(error) || is_starved(late);
    g_autofree char *fault =
        fine && !shape.too_large ? hidden_fault(content, format, &shape, &starved) : NULL;
    GdkPixbuf *picture = gdk_pixbuf_loader_get_pixbuf(loader);
    if (starved)
        finding_says(finding, "unchecked", "%d x %d pixels: decoding it needs too much memory",
                     shape.width, shape.height);
    else if (shape.too_large)
        finding_says(finding, "unchecked", "%d x %d pixels: too large to be decoded here",
                     shape.width, shape.height);
    else if (fault != NULL)
        finding_says(finding, "no", "%d x %d pixels, but not all of them right: %s", shape.width,
                     shape.height, fault);
    else if (fine && picture != NULL)
        finding_says(finding, "yes", "%d x %d pixels", shape.width, shape.height);
    else
        finding_says(finding, "no", "%s",
                     error != NULL ? error->message : "it has no picture in it");
    if (picture != NULL && !starved && !shape.too_large)
        draw_upright(picture, canvas, finding);
    return TRUE;
}

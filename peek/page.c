/* SPDX-License-Identifier: MIT */
/* The first page of a PDF: its words, or how it looks. */
#include "peek.h"

#ifdef EK_PEEK_PAGES

#include <poppler.h>
#include <string.h>

#define SIDE_MOST 1024      /* pixels of a page that is drawn with characters */
#define POINTS_MOST 20000.0 /* a side; 278 inches */
#define WORDS_FROM 8        /* pages that are asked for words */
#define LEAST_WORDS 16u     /* bytes: fewer say less than the picture */

typedef PopplerDocument Document;
typedef PopplerPage Page;
static void document_free(Document *document)
{
    g_object_unref(document);
}
static void page_free(Page *page)
{
    g_object_unref(page);
}
G_DEFINE_AUTOPTR_CLEANUP_FUNC(Document, document_free)
G_DEFINE_AUTOPTR_CLEANUP_FUNC(Page, page_free)

/* One page with a word on it: what is needed for one is loaded before the lock. */
static const char sample[] =
    "%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n"
    "2 0 obj<</Type/Pages/Kids[3 0 R]/Count 1>>endobj\n"
    "3 0 obj<</Type/Page/Parent 2 0 R/MediaBox[0 0 90 90]/Contents 4 0 R"
    "/Resources<</Font<</F 5 0 R>>>>>>endobj\n"
    "4 0 obj<</Length 35>>stream\nBT /F 12 Tf 9 9 Td (seeds) Tj ET    \nendstream endobj\n"
    "5 0 obj<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>endobj\n"
    "trailer<</Root 1 0 R/Size 6>>\n%%EOF\n";

/* White where nothing is; NULL: it cannot be drawn. The caller unrefs. */
static GdkPixbuf *draw_page(Page *page, guint columns, guint lines)
{
    double wide = 0;
    double high = 0;
    poppler_page_get_size(page, &wide, &high);
    if (!(wide >= 1 && high >= 1 && wide <= POINTS_MOST && high <= POINTS_MOST))
        return NULL;
    double scale = MIN(columns / wide, lines / high);
    int across = CLAMP((int)(wide * scale), 1, (int)columns);
    int down = CLAMP((int)(high * scale), 1, (int)lines);
    cairo_surface_t *surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, across, down);
    cairo_t *drawn = cairo_create(surface);
    cairo_set_source_rgb(drawn, 1, 1, 1);
    cairo_paint(drawn);
    cairo_scale(drawn, scale, scale);
    poppler_page_render(page, drawn);
    gboolean fine = cairo_status(drawn) == CAIRO_STATUS_SUCCESS;
    cairo_destroy(drawn);
    cairo_surface_flush(surface);
    const guint8 *data = cairo_image_surface_get_data(surface);
    gsize stride = (gsize)cairo_image_surface_get_stride(surface);
    GdkPixbuf *picture =
        fine && data != NULL ? gdk_pixbuf_new(GDK_COLORSPACE_RGB, FALSE, 8, across, down) : NULL;
    for (gsize line = 0; picture != NULL && line < (gsize)down; line++) {
        guint8 *to =
            gdk_pixbuf_get_pixels(picture) + line * (gsize)gdk_pixbuf_get_rowstride(picture);
        for (gsize column = 0; column < (gsize)across; column++) {
            guint32 pixel;
            memcpy(&pixel, data + line * stride + 4 * column, sizeof pixel);
            *to++ = (guint8)(pixel >> 16);
            *to++ = (guint8)(pixel >> 8);
            *to++ = (guint8)pixel;
        }
    }
    cairo_surface_destroy(surface);
    return picture;
}

/* The words of its first pages. The caller frees. */
static GString *words_of(Document *document, const Canvas *canvas)
{
    GString *words = g_string_new(NULL);
    guint enough = canvas->columns * canvas->lines;
    int pages = MIN(poppler_document_get_n_pages(document), WORDS_FROM);
    for (int i = 0; i < pages && words->len < enough; i++) {
        g_autoptr(Page) page = poppler_document_get_page(document, i);
        g_autofree char *text = page != NULL ? poppler_page_get_text(page) : NULL;
        if (text != NULL && *g_strchug(text) != '\0')
            g_string_append_printf(words, "%s\n", g_strchomp(text));
    }
    return words;
}

gboolean page_prepare(void)
{
    g_autoptr(GBytes) bytes = g_bytes_new_static(sample, sizeof sample - 1);
    g_autoptr(Document) document = poppler_document_new_from_bytes(bytes, NULL, NULL);
    g_autoptr(Page) page = document != NULL ? poppler_document_get_page(document, 0) : NULL;
    GdkPixbuf *picture = page != NULL ? draw_page(page, 32, 32) : NULL;
    g_clear_object(&picture);
    return TRUE;
}

void page_show(const Content *content, const Canvas *canvas, Finding *finding)
{
    if (!g_str_equal(finding->mime, "application/pdf") || canvas->columns == 0 ||
        canvas->lines == 0 || content->length < content->size)
        return;
    g_autoptr(GError) error = NULL;
    g_autoptr(GBytes) bytes = g_bytes_new_static(content->bytes, content->length);
    g_autoptr(Document) document = poppler_document_new_from_bytes(bytes, NULL, &error);
    if (document == NULL) {
        if (g_error_matches(error, POPPLER_ERROR, POPPLER_ERROR_ENCRYPTED))
            finding_says(finding, "unchecked", "it opens with a password only");
        return;
    }
    g_autoptr(Page) page = poppler_document_get_page(document, 0);
    if (page == NULL)
        return;
    g_autoptr(GString) words = canvas->pixels ? g_string_new(NULL) : words_of(document, canvas);
    if (words->len >= LEAST_WORDS) {
        text_show(words->str, words->len, canvas, finding);
        return;
    }
    g_autoptr(GdkPixbuf) picture = draw_page(page, canvas->pixels ? canvas->columns : SIDE_MOST,
                                             canvas->pixels ? canvas->lines : SIDE_MOST);
    if (picture != NULL)
        picture_draw(picture, canvas, finding);
}

#else

gboolean page_prepare(void)
{
    return TRUE;
}

void page_show(const Content *content, const Canvas *canvas, Finding *finding)
{
    (void)content;
    (void)canvas;
    (void)finding;
}

#endif

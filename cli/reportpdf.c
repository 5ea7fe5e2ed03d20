/* SPDX-License-Identifier: MIT */
/* The report as PDF: text is broken into lines, and what does not fit goes to the next page. */
#include "reportpdf.h"

#include "base/error.h"
#include "base/text.h"

#include <cairo-pdf.h>
#include <string.h>

/* Points: an A4 page, its margins, and the steps from line to line. */
#define WIDE 595.0
#define HIGH 842.0
#define LEFT 50.0
#define RIGHT 545.0
#define TOP 56.0
#define BOTTOM 790.0
#define SIZE 9.5
#define LINE 13.0
#define INDENT 14.0
#define TERM 96.0 /* where the value of a term begins, from the left */
#define GAP 6.0
#define COLUMNS_MOST 8u
#define PICTURE_WIDE 1280.0 /* what pictures are drawn in */

typedef struct {
    cairo_t *cr;
    double y; /* of the next line's foot */
    guint page;
    char *title;
    guint number;     /* of the last item of a numbered list; 0: none is open */
    gboolean is_list; /* the last thing was an item */
    EkReportColumn columns[COLUMNS_MOST];
    guint count;
} Pdf;

/* --- lines ----------------------------------------------------------------------------------- */

static void put_foot(Pdf *pdf)
{
    g_autofree char *number = g_strdup_printf("%u", pdf->page);
    ek_canvas_ink(pdf->cr, 0.4);
    ek_canvas_write(pdf->cr, LEFT, HIGH - 28, 8, FALSE, pdf->title);
    ek_canvas_write(pdf->cr, RIGHT - ek_canvas_width(pdf->cr, 8, number), HIGH - 28, 8, FALSE,
                    number);
    ek_canvas_ink(pdf->cr, 0.1);
}

/* Begins a page where so much does not fit on this one. */
static void need(Pdf *pdf, double height)
{
    if (pdf->y + height <= BOTTOM)
        return;
    put_foot(pdf);
    cairo_show_page(pdf->cr);
    pdf->page++;
    pdf->y = TOP;
}

/* How many bytes of a text fit into a line: whole words, or as much of a word as there is room
 * for. */
static gsize fitting(Pdf *pdf, const char *text, double size, double width)
{
    gsize fits = 0;
    gsize last_word = 0;
    for (const char *p = text; *p != '\0';) {
        const char *next = g_utf8_next_char(p);
        g_autofree char *part = g_strndup(text, (gsize)(next - text));
        if (ek_canvas_width(pdf->cr, size, part) > width && fits > 0)
            return last_word > 0 ? last_word : fits;
        fits = (gsize)(next - text);
        if (*p == ' ' || *p == '/')
            last_word = fits;
        p = next;
    }
    return fits;
}

/* The lines that a text takes; the caller frees. */
static GPtrArray *lines_of(Pdf *pdf, const char *text, double size, gboolean bold, double width)
{
    GPtrArray *lines = g_ptr_array_new_with_free_func(g_free);
    g_autofree char *safe = ek_text_printable(text, FALSE);
    /* Widths are those of this face. */
    cairo_select_font_face(pdf->cr, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                           bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    for (const char *p = safe; *p != '\0';) {
        gsize length = fitting(pdf, p, size, width);
        char *line = g_strndup(p, length);
        g_ptr_array_add(lines, g_strchomp(line));
        p += length;
        while (*p == ' ')
            p++;
    }
    return lines;
}

static void put_text(Pdf *pdf, double x, const char *text, double size, gboolean bold)
{
    g_autoptr(GPtrArray) lines = lines_of(pdf, text, size, bold, RIGHT - x);
    double step = size * LINE / SIZE;
    for (guint i = 0; i < lines->len; i++) {
        need(pdf, step);
        ek_canvas_write(pdf->cr, x, pdf->y, size, bold, lines->pdata[i]);
        pdf->y += step;
    }
}

/* --- the parts ------------------------------------------------------------------------------- */

static void on_begin(void *data, const char *title, const char *when)
{
    Pdf *pdf = data;
    pdf->title = ek_text_printable(title, FALSE);
    ek_canvas_ink(pdf->cr, 0.1);
    pdf->y = TOP + 8;
    put_text(pdf, LEFT, title, 18, TRUE);
    ek_canvas_ink(pdf->cr, 0.4);
    put_text(pdf, LEFT, when, SIZE, FALSE);
    ek_canvas_ink(pdf->cr, 0.1);
}

static void on_answer(void *data, const char *text, gboolean has_gaps)
{
    Pdf *pdf = data;
    pdf->y += 2 * GAP;
    double top = pdf->y - 11;
    put_text(pdf, LEFT + INDENT, text, 12, FALSE);
    cairo_rectangle(pdf->cr, LEFT, top, 4, pdf->y - top - 5);
    ek_canvas_ink(pdf->cr, has_gaps ? 0.45 : 0.15);
    cairo_fill(pdf->cr);
    ek_canvas_ink(pdf->cr, 0.1);
}

/* A heading stays with what follows it. */
static void on_heading(void *data, const char *title, guint level)
{
    Pdf *pdf = data;
    pdf->number = 0;
    pdf->is_list = FALSE;
    pdf->y += level == 1 ? 3 * GAP : 1.5 * GAP;
    need(pdf, level == 1 ? 9 * LINE : 6 * LINE);
    if (level == 1 && pdf->y > TOP) {
        ek_canvas_ink(pdf->cr, 0.75);
        cairo_set_line_width(pdf->cr, 0.6);
        cairo_move_to(pdf->cr, LEFT, pdf->y - 16);
        cairo_line_to(pdf->cr, RIGHT, pdf->y - 16);
        cairo_stroke(pdf->cr);
        ek_canvas_ink(pdf->cr, 0.1);
    }
    put_text(pdf, LEFT, title, level == 1 ? 12.5 : 10.5, TRUE);
}

static void on_term(void *data, const char *name, const char *value)
{
    Pdf *pdf = data;
    need(pdf, LINE);
    double y = pdf->y;
    guint page = pdf->page;
    put_text(pdf, LEFT + TERM, value, SIZE, FALSE);
    if (pdf->page != page || pdf->y == y)
        pdf->y = MAX(pdf->y, y + LINE);
    if (pdf->page == page) {
        ek_canvas_ink(pdf->cr, 0.4);
        ek_canvas_write(pdf->cr, LEFT, y, SIZE, FALSE, name);
        ek_canvas_ink(pdf->cr, 0.1);
    }
}

static void on_text(void *data, const char *text, gboolean is_small)
{
    Pdf *pdf = data;
    pdf->number = 0;
    pdf->is_list = FALSE;
    pdf->y += GAP / 2;
    put_text(pdf, LEFT, text, is_small ? 8 : SIZE, FALSE);
}

static void on_item(void *data, const char *text, gboolean is_numbered)
{
    Pdf *pdf = data;
    g_autofree char *mark =
        is_numbered ? g_strdup_printf("%u.", ++pdf->number) : g_strdup("\xe2\x80\xa2");
    pdf->y += pdf->is_list ? 0 : GAP / 2;
    pdf->is_list = TRUE;
    need(pdf, LINE);
    ek_canvas_write(pdf->cr, LEFT, pdf->y, SIZE, FALSE, mark);
    put_text(pdf, LEFT + (is_numbered ? 1.6 : 0.8) * INDENT, text, SIZE, FALSE);
}

static double column_wide(const Pdf *pdf, guint column)
{
    return (RIGHT - LEFT) * pdf->columns[column].share / 100;
}

static void put_rule(Pdf *pdf, double y)
{
    ek_canvas_ink(pdf->cr, 0.85);
    cairo_set_line_width(pdf->cr, 0.4);
    cairo_move_to(pdf->cr, LEFT, y);
    cairo_line_to(pdf->cr, RIGHT, y);
    cairo_stroke(pdf->cr);
    ek_canvas_ink(pdf->cr, 0.1);
}

static void put_strip(Pdf *pdf, double x, const EkReportFile *file)
{
    double wide = 62.0 / G_N_ELEMENTS(file->parts);
    cairo_set_line_width(pdf->cr, 0.5);
    cairo_rectangle(pdf->cr, x, pdf->y - 8, 62, 8);
    cairo_stroke(pdf->cr);
    for (guint i = 0; i < G_N_ELEMENTS(file->parts); i++) {
        double height = 4.0 * ek_report_part(file, i);
        cairo_rectangle(pdf->cr, x + wide * i, pdf->y - height, wide - 0.4, height);
        ek_canvas_ink(pdf->cr, 0.3);
        cairo_fill(pdf->cr);
    }
    ek_canvas_ink(pdf->cr, 0.1);
}

/* A row is as high as the highest of its cells, and is not broken. */
static void put_row(Pdf *pdf, const EkReportCell *cells, gboolean bold)
{
    GPtrArray *lines[COLUMNS_MOST];
    guint most = 1;
    double x = LEFT;
    for (guint i = 0; i < pdf->count; i++) {
        lines[i] = lines_of(pdf, cells[i].text, SIZE - 0.5, bold, column_wide(pdf, i) - GAP);
        most = MAX(most, lines[i]->len);
    }
    need(pdf, MIN(most * LINE, BOTTOM - TOP));
    for (guint i = 0; i < pdf->count; i++) {
        double wide = column_wide(pdf, i);
        for (guint k = 0; k < lines[i]->len; k++) {
            const char *line = lines[i]->pdata[k];
            /* In the face that it is written with. */
            ek_canvas_write(pdf->cr, -WIDE, 0, SIZE - 0.5, bold, "");
            double left = pdf->columns[i].right
                              ? x + wide - GAP - ek_canvas_width(pdf->cr, SIZE - 0.5, line)
                              : x;
            ek_canvas_write(pdf->cr, left, pdf->y + k * LINE, SIZE - 0.5, bold, line);
        }
        if (cells[i].strip != NULL)
            put_strip(pdf, x, cells[i].strip);
        g_ptr_array_unref(lines[i]);
        x += wide;
    }
    pdf->y += most * LINE;
    put_rule(pdf, pdf->y - LINE + 3.5);
}

static void on_table(void *data, const EkReportColumn *columns, guint count)
{
    Pdf *pdf = data;
    EkReportCell titles[COLUMNS_MOST];
    pdf->is_list = FALSE;
    pdf->count = MIN(count, COLUMNS_MOST);
    for (guint i = 0; i < pdf->count; i++) {
        pdf->columns[i] = columns[i];
        titles[i] = (EkReportCell){columns[i].title, NULL};
    }
    pdf->y += GAP;
    need(pdf, 3 * LINE);
    put_row(pdf, titles, TRUE);
}

static void on_row(void *data, const EkReportCell *cells)
{
    put_row(data, cells, FALSE);
}

static gboolean on_picture(void *data, const char *what, int height, EkCanvasDraw draw,
                           const void *drawn, GError **error)
{
    Pdf *pdf = data;
    double scale = (RIGHT - LEFT) / PICTURE_WIDE;
    double high = height * scale;
    (void)what;
    pdf->y += GAP;
    need(pdf, high);
    cairo_save(pdf->cr);
    cairo_translate(pdf->cr, LEFT, pdf->y);
    cairo_scale(pdf->cr, scale, scale);
    cairo_rectangle(pdf->cr, 0, 0, PICTURE_WIDE, height);
    cairo_clip(pdf->cr);
    draw(pdf->cr, drawn);
    cairo_restore(pdf->cr);
    ek_canvas_ink(pdf->cr, 0.1);
    pdf->y += high + LINE;
    return cairo_status(pdf->cr) == CAIRO_STATUS_SUCCESS ||
           ek_error_set(error, EK_ERROR_FAILED, "the picture could not be drawn: %s",
                        cairo_status_to_string(cairo_status(pdf->cr)));
}

#define SHEET_COLUMNS 4u
#define SHEET_HIGH 88.0
#define SHEET_FOOT 36.0

/* A picture with its name below it, and what is wrong with it. */
static void put_small(Pdf *pdf, const EkSheetPicture *picture, double x, double wide)
{
    cairo_surface_t *surface = ek_sheet_surface(picture);
    double scale = MIN(MIN(wide / picture->wide, SHEET_HIGH / picture->high), 1.0);
    cairo_save(pdf->cr);
    cairo_translate(pdf->cr, x, pdf->y + SHEET_HIGH - picture->high * scale);
    cairo_scale(pdf->cr, scale, scale);
    cairo_set_source_surface(pdf->cr, surface, 0, 0);
    cairo_paint(pdf->cr);
    cairo_restore(pdf->cr);
    cairo_surface_destroy(surface);
    g_autofree char *name = g_path_get_basename(picture->path);
    g_autoptr(GPtrArray) lines = lines_of(pdf, name, 7, FALSE, wide);
    ek_canvas_ink(pdf->cr, 0.3);
    double y = pdf->y + SHEET_HIGH;
    for (guint i = 0; i < MIN(lines->len, 2); i++)
        ek_canvas_write(pdf->cr, x, y += 9, 7, FALSE, lines->pdata[i]);
    ek_canvas_write(pdf->cr, x, y + 9, 7, TRUE, picture->note);
    ek_canvas_ink(pdf->cr, 0.1);
}

static gboolean on_sheet(void *data, const GPtrArray *pictures, GError **error)
{
    Pdf *pdf = data;
    double wide = (RIGHT - LEFT + GAP) / SHEET_COLUMNS;
    for (guint i = 0; i < pictures->len; i += SHEET_COLUMNS) {
        need(pdf, SHEET_HIGH + SHEET_FOOT);
        for (guint k = i; k < MIN(i + SHEET_COLUMNS, pictures->len); k++)
            put_small(pdf, pictures->pdata[k], LEFT + (k - i) * wide, wide - GAP);
        pdf->y += SHEET_HIGH + SHEET_FOOT;
    }
    return cairo_status(pdf->cr) == CAIRO_STATUS_SUCCESS ||
           ek_error_set(error, EK_ERROR_FAILED, "the small pictures could not be drawn: %s",
                        cairo_status_to_string(cairo_status(pdf->cr)));
}

static void on_end(void *data, const char *text)
{
    Pdf *pdf = data;
    pdf->y += GAP;
    on_text(pdf, text, TRUE);
    put_foot(pdf);
    cairo_show_page(pdf->cr);
}

GByteArray *ek_report_pdf(const EkReportPage *page, GError **error)
{
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    cairo_surface_t *surface =
        cairo_pdf_surface_create_for_stream(ek_canvas_put_bytes, bytes, WIDE, HIGH);
    Pdf pdf = {.cr = cairo_create(surface), .page = 1};
    EkReportWriter writer = {&pdf,    on_begin, on_answer, on_heading, on_term,  on_text,
                             on_item, on_table, on_row,    on_picture, on_sheet, on_end};
    gboolean fine = ek_report_write(page, &writer, error);
    cairo_status_t status = cairo_status(pdf.cr);
    cairo_destroy(pdf.cr);
    cairo_surface_finish(surface);
    status = status == CAIRO_STATUS_SUCCESS ? cairo_surface_status(surface) : status;
    cairo_surface_destroy(surface);
    g_free(pdf.title);
    if (fine && status != CAIRO_STATUS_SUCCESS)
        ek_error_set(error, EK_ERROR_FAILED, "the pages could not be drawn: %s",
                     cairo_status_to_string(status));
    return fine && status == CAIRO_STATUS_SUCCESS ? g_steal_pointer(&bytes) : NULL;
}

/* SPDX-License-Identifier: MIT */
/* The report as HTML. Whatever comes from the drive or from the user is escaped. */
#include "reporthtml.h"

#include "base/text.h"

#include <string.h>

#define COLUMNS_MOST 8u

static const char style[] =
    "body{font:16px/1.5 system-ui,sans-serif;color:#1d2125;background:#fff;margin:0 auto;"
    "max-width:62rem;padding:1.5rem}"
    "h1{font-size:1.7rem;line-height:1.25;margin:0 0 .3rem}"
    "h2{font-size:1.2rem;margin:2.2rem 0 .5rem;padding-top:.6rem;border-top:1px solid #c9ced3}"
    "h3{font-size:1rem;margin:1.4rem 0 .3rem}"
    ".answer{font-size:1.25rem;margin:1rem 0;padding:.8rem 1rem;border-left:.4rem solid #2d6a4f;"
    "background:#f2f5f3}.answer.gaps{border-color:#9a6700;background:#f8f4ea}"
    "table{border-collapse:collapse;width:100%;table-layout:fixed;min-width:30rem;margin:.5rem 0}"
    "th,td{text-align:left;vertical-align:top;padding:.25rem .7rem .25rem 0;"
    "border-bottom:1px solid #e2e5e8}th{font-weight:600}"
    ".n{text-align:right;white-space:nowrap;font-variant-numeric:tabular-nums}"
    ".path{overflow-wrap:anywhere}.soft{color:#59636e}"
    "dl{display:grid;grid-template-columns:max-content 1fr;gap:.15rem 1rem;margin:.5rem 0}"
    "dt{color:#59636e}dd{margin:0;overflow-wrap:anywhere}"
    ".wide{overflow-x:auto}img{max-width:100%;height:auto;border:1px solid #e2e5e8}"
    ".sheet{display:grid;grid-template-columns:repeat(auto-fill,minmax(11rem,1fr));gap:1rem;"
    "margin:.5rem 0}figure{margin:0;break-inside:avoid}figure img{max-height:150px;"
    "object-fit:contain;object-position:left bottom}"
    "figcaption{font-size:.78rem;line-height:1.3;color:#59636e;overflow-wrap:anywhere}"
    ".strip{border:1px solid #59636e;vertical-align:middle}"
    "@media(max-width:40rem){body{padding:.9rem}dl{grid-template-columns:1fr}dt{margin-top:.4rem}"
    "td,th{padding-right:.4rem}table{table-layout:auto;min-width:0;font-size:.8rem}}"
    "@media print{body{max-width:none;padding:0;font-size:11px}h2{break-after:avoid}"
    "tr,img{break-inside:avoid}*{print-color-adjust:exact}}";

/* What is open, and must be closed before anything else begins. */
typedef enum { OPEN_NOTHING, OPEN_TERMS, OPEN_ITEMS, OPEN_STEPS, OPEN_TABLE } Open;

typedef struct {
    GString *page;
    Open open;
    EkReportColumn columns[COLUMNS_MOST]; /* of the table that is open */
    guint count;
} Html;

static void put(GString *page, const char *text)
{
    g_autofree char *printable = ek_text_printable(text, FALSE);
    g_autofree char *safe = g_markup_escape_text(printable, -1);
    g_string_append(page, safe);
}

/* Puts what was open to its end, and opens this. */
static void open_block(Html *html, Open block)
{
    static const char *const begins[] = {"", "<dl>\n", "<ul>\n", "<ol>\n", ""};
    static const char *const ends[] = {"", "</dl>\n", "</ul>\n", "</ol>\n",
                                       "</tbody></table></div>\n"};
    if (html->open == block && block != OPEN_TABLE)
        return;
    g_string_append(html->page, ends[html->open]);
    g_string_append(html->page, begins[block]);
    html->open = block;
}

static void put_element(Html *html, const char *begin, const char *text, const char *end)
{
    g_string_append(html->page, begin);
    put(html->page, text);
    g_string_append(html->page, end);
}

static void on_begin(void *data, const char *title, const char *when)
{
    Html *html = data;
    g_string_append(html->page, "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n"
                                "<meta charset=\"utf-8\">\n<meta name=\"viewport\" "
                                "content=\"width=device-width, initial-scale=1\">\n");
    put_element(html, "<title>", title, "</title>\n");
    g_string_append_printf(html->page, "<style>%s</style>\n</head>\n<body>\n", style);
    put_element(html, "<h1>", title, "</h1>\n");
    put_element(html, "<p class=\"soft\">", when, "</p>\n");
}

static void on_answer(void *data, const char *text, gboolean has_gaps)
{
    put_element(data, has_gaps ? "<p class=\"answer gaps\">" : "<p class=\"answer\">", text,
                "</p>\n");
}

static void on_heading(void *data, const char *title, guint level)
{
    open_block(data, OPEN_NOTHING);
    put_element(data, level == 1 ? "<h2>" : "<h3>", title, level == 1 ? "</h2>\n" : "</h3>\n");
}

static void on_term(void *data, const char *name, const char *value)
{
    open_block(data, OPEN_TERMS);
    put_element(data, "<dt>", name, "</dt>");
    put_element(data, "<dd>", value, "</dd>\n");
}

static void on_text(void *data, const char *text, gboolean is_small)
{
    open_block(data, OPEN_NOTHING);
    put_element(data, is_small ? "<p class=\"soft\">" : "<p>", text, "</p>\n");
}

static void on_item(void *data, const char *text, gboolean is_numbered)
{
    open_block(data, is_numbered ? OPEN_STEPS : OPEN_ITEMS);
    put_element(data, "<li>", text, "</li>\n");
}

static void on_table(void *data, const EkReportColumn *columns, guint count)
{
    Html *html = data;
    open_block(html, OPEN_TABLE);
    html->count = MIN(count, COLUMNS_MOST);
    memcpy(html->columns, columns, html->count * sizeof *columns);
    g_string_append(html->page, "<div class=\"wide\"><table><thead><tr>");
    for (guint i = 0; i < html->count; i++) {
        g_string_append_printf(html->page, "<th style=\"width:%u%%\"%s>", columns[i].share,
                               columns[i].right ? " class=\"n\"" : "");
        put_element(html, "", columns[i].title, "</th>");
    }
    g_string_append(html->page, "</tr></thead>\n<tbody>\n");
}

/* Eight cells: filled, half filled, or empty. */
static void put_strip(GString *page, const EkReportFile *file)
{
    g_string_append(page, "<svg class=\"strip\" viewBox=\"0 0 80 10\" width=\"96\" "
                          "height=\"12\" role=\"img\" aria-label=\"parts that are there\">"
                          "<rect width=\"80\" height=\"10\" fill=\"#fff\"/>");
    for (guint i = 0; i < G_N_ELEMENTS(file->parts); i++) {
        guint height = 5 * ek_report_part(file, i);
        if (height > 0)
            g_string_append_printf(page,
                                   "<rect x=\"%u\" y=\"%u\" width=\"9.4\" height=\"%u\" "
                                   "fill=\"#2d6a4f\"/>",
                                   10 * i, 10 - height, height);
    }
    g_string_append(page, "</svg>");
}

static void on_row(void *data, const EkReportCell *cells)
{
    Html *html = data;
    g_string_append(html->page, "<tr>");
    for (guint i = 0; i < html->count; i++) {
        g_string_append(html->page,
                        html->columns[i].right ? "<td class=\"n\">" : "<td class=\"path\">");
        if (cells[i].strip != NULL)
            put_strip(html->page, cells[i].strip);
        else
            put(html->page, cells[i].text);
        g_string_append(html->page, "</td>");
    }
    g_string_append(html->page, "</tr>\n");
}

/* As a file of its own inside the page: its names meet no others. */
static gboolean on_picture(void *data, const char *what, int height, EkCanvasDraw draw,
                           const void *drawn, GError **error)
{
    Html *html = data;
    g_autoptr(GByteArray) bytes = ek_canvas_bytes(TRUE, height, draw, drawn, error);
    if (bytes == NULL)
        return FALSE;
    g_autofree char *packed = g_base64_encode(bytes->data, bytes->len);
    open_block(html, OPEN_NOTHING);
    put_element(html, "<p><img alt=\"", what, "\" ");
    g_string_append_printf(html->page, "src=\"data:image/svg+xml;base64,%s\"></p>\n", packed);
    return TRUE;
}

static void on_end(void *data, const char *text)
{
    on_text(data, text, TRUE);
    g_string_append(((Html *)data)->page, "</body>\n</html>\n");
}

static gboolean on_sheet(void *data, const GPtrArray *pictures, GError **error)
{
    Html *html = data;
    open_block(html, OPEN_NOTHING);
    g_string_append(html->page, "<div class=\"sheet\">\n");
    for (guint i = 0; i < pictures->len; i++) {
        const EkSheetPicture *picture = pictures->pdata[i];
        g_autoptr(GByteArray) png = ek_sheet_png(picture, error);
        if (png == NULL)
            return FALSE;
        g_autofree char *packed = g_base64_encode(png->data, png->len);
        put_element(html, "<figure><img alt=\"", picture->path, "\" ");
        g_string_append_printf(html->page,
                               "width=\"%u\" height=\"%u\" src=\"data:image/png;base64,%s\">",
                               picture->wide, picture->high, packed);
        put_element(html, "<figcaption>", picture->path, "");
        if (*picture->note != '\0')
            put_element(html, "<br><b>", picture->note, "</b>");
        g_string_append(html->page, "</figcaption></figure>\n");
    }
    g_string_append(html->page, "</div>\n");
    return TRUE;
}

GByteArray *ek_report_html(const EkReportPage *page, GError **error)
{
    Html html = {.page = g_string_new(NULL)};
    EkReportWriter writer = {&html,   on_begin, on_answer, on_heading, on_term,  on_text,
                             on_item, on_table, on_row,    on_picture, on_sheet, on_end};
    gboolean fine = ek_report_write(page, &writer, error);
    gsize length = html.page->len;
    char *text = g_string_free(html.page, FALSE);
    if (fine)
        return g_byte_array_new_take((guint8 *)text, length);
    g_free(text);
    return NULL;
}

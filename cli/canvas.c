/* SPDX-License-Identifier: MIT */
/* What the pictures share. */
#include "canvas.h"

#include "base/text.h"
#include "output.h"
#include "work/guard.h"

#include <cairo-svg.h>

#define WIDTH 1280
#define LEFT EK_CANVAS_LEFT
#define COLUMNS EK_CANVAS_COLUMNS
#define TICKS_MOST 7

void ek_canvas_ink(cairo_t *cr, double shade)
{
    cairo_set_source_rgb(cr, shade, shade, shade);
}

void ek_canvas_write(cairo_t *cr, double x, double y, double size, gboolean bold, const char *text)
{
    cairo_select_font_face(cr, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                           bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(cr, size);
    cairo_move_to(cr, x, y);
    cairo_show_text(cr, text);
}

double ek_canvas_width(cairo_t *cr, double size, const char *text)
{
    cairo_text_extents_t extents;
    cairo_set_font_size(cr, size);
    cairo_text_extents(cr, text, &extents);
    return extents.x_advance;
}

void ek_canvas_heading(cairo_t *cr, const EkCaseInfo *info, const char *title, const char *part)
{
    g_autoptr(GDateTime) now = g_date_time_new_now_local();
    g_autofree char *date = g_date_time_format(now, "%Y-%m-%d %H:%M");
    g_autofree char *model = ek_text_escape(info->model != NULL ? info->model : "model unknown");
    g_autofree char *serial = ek_text_escape(info->serial != NULL ? info->serial : "unknown");
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *line =
        g_strdup_printf("%s, serial %s, %s, %" G_GUINT64_FORMAT " sectors of %u bytes", model,
                        serial, label, info->sectors, info->sector_size);
    ek_canvas_ink(cr, 0.1);
    ek_canvas_write(cr, LEFT, 48, 26, TRUE, title);
    ek_canvas_write(cr, LEFT, 76, 15, FALSE, line);
    ek_canvas_ink(cr, 0.35);
    ek_canvas_write(cr, LEFT + COLUMNS - ek_canvas_width(cr, 15, date), 48, 15, FALSE, date);
    ek_canvas_write(cr, LEFT, 104, 15, FALSE, part);
}

void ek_canvas_write_left(cairo_t *cr, double y, double size, const char *text)
{
    ek_canvas_write(cr, LEFT - 10 - ek_canvas_width(cr, size, text), y, size, FALSE, text);
}

/* The least of 1, 2, 5, 10, 20, 50 … sectors, KiB, MiB and so on that makes few enough ticks. */
static EkByte tick_step(EkByte bytes, guint32 sector_size)
{
    static const guint steps[] = {1, 2, 5, 10, 20, 50, 100, 200, 500};
    for (EkByte unit = 1024; unit < G_MAXUINT64 / 1024000; unit *= 1024)
        for (gsize i = 0; i < G_N_ELEMENTS(steps); i++)
            if (bytes / (unit * steps[i]) < TICKS_MOST && unit * steps[i] % sector_size == 0)
                return unit * steps[i];
    return bytes;
}

static void draw_tick(cairo_t *cr, double y, EkByte at, EkRange part, guint32 sector_size)
{
    g_autofree char *number = g_strdup_printf("%" G_GUINT64_FORMAT, at / sector_size);
    g_autofree char *size = ek_text_size(at);
    double x = LEFT + (double)(at - part.first) / (double)MAX(part.bytes, 1) * COLUMNS;
    double number_wide = ek_canvas_width(cr, 14, number);
    double size_wide = ek_canvas_width(cr, 13, size);
    ek_canvas_ink(cr, 0.2);
    cairo_set_line_width(cr, 1);
    cairo_move_to(cr, x, y);
    cairo_line_to(cr, x, y + 7);
    cairo_stroke(cr);
    /* In the middle of its tick, but within the picture. */
    double left = MAX(x - number_wide / 2, LEFT);
    ek_canvas_write(cr, MIN(left, LEFT + COLUMNS - number_wide), y + 23, 14, FALSE, number);
    left = MAX(x - size_wide / 2, LEFT);
    ek_canvas_ink(cr, 0.4);
    ek_canvas_write(cr, MIN(left, LEFT + COLUMNS - size_wide), y + 41, 13, FALSE, size);
}

void ek_canvas_scale(cairo_t *cr, double y, EkRange part, guint32 sector_size)
{
    EkByte step = MAX(tick_step(part.bytes, sector_size), 1);
    for (EkByte at = ek_divide_up(part.first, step) * step;
         at >= part.first && at - part.first < part.bytes; at += step)
        draw_tick(cr, y, at, part, sector_size);
    ek_canvas_ink(cr, 0.4);
    ek_canvas_write_left(cr, y + 23, 13, "sector");
}

static cairo_status_t draw_on(cairo_surface_t *surface, EkCanvasDraw draw, const void *data)
{
    cairo_t *cr = cairo_create(surface);
    ek_canvas_ink(cr, 1);
    cairo_paint(cr);
    draw(cr, data);
    cairo_status_t status = cairo_status(cr);
    cairo_destroy(cr);
    return status;
}

cairo_status_t ek_canvas_put_bytes(void *data, const unsigned char *bytes, unsigned length)
{
    g_byte_array_append(data, bytes, length);
    return CAIRO_STATUS_SUCCESS;
}

/* The picture as the bytes of a file; NULL with *error. */
GByteArray *ek_canvas_bytes(gboolean is_svg, int height, EkCanvasDraw draw, const void *data,
                            GError **error)
{
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    cairo_surface_t *surface =
        is_svg ? cairo_svg_surface_create_for_stream(ek_canvas_put_bytes, bytes, WIDTH, height)
               : cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, height);
    cairo_status_t status = draw_on(surface, draw, data);
    if (status == CAIRO_STATUS_SUCCESS && !is_svg)
        status = cairo_surface_write_to_png_stream(surface, ek_canvas_put_bytes, bytes);
    cairo_surface_finish(surface);
    if (status == CAIRO_STATUS_SUCCESS)
        status = cairo_surface_status(surface);
    cairo_surface_destroy(surface);
    if (status == CAIRO_STATUS_SUCCESS)
        return g_steal_pointer(&bytes);
    ek_error_set(error, EK_ERROR_FAILED, "the picture could not be drawn: %s",
                 cairo_status_to_string(status));
    return NULL;
}

gboolean ek_canvas_draw(const EkCli *cli, const char *png, const char *svg, const char *folder,
                        int height, EkCanvasDraw draw, const void *data, GError **error)
{
    const char *paths[] = {png, svg};
    EkView view;
    if ((png != NULL || svg != NULL) && !ek_view_open(&view, folder, FALSE, error))
        return FALSE;
    /* A picture that is begun is finished: no half of one is left. */
    EkGuard guard = {cli->system, &view, NULL, ek_cli_watch_signals()};
    gboolean fine = TRUE;
    for (gsize i = 0; fine && i < G_N_ELEMENTS(paths); i++)
        fine = paths[i] == NULL || ek_guard_output(&guard, paths[i], "the picture", error);
    if (png != NULL || svg != NULL)
        ek_view_close(&view);
    for (gsize i = 0; fine && i < G_N_ELEMENTS(paths); i++) {
        g_autoptr(GByteArray) bytes =
            paths[i] != NULL ? ek_canvas_bytes(i == 1, height, draw, data, error) : NULL;
        fine = paths[i] == NULL ||
               (bytes != NULL && ek_output_write(paths[i], "the picture", bytes, error));
        if (fine && paths[i] != NULL)
            ek_cli_print("%s is drawn\n", paths[i]);
    }
    return fine;
}

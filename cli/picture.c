/* SPDX-License-Identifier: MIT */
#include "picture.h"

#include "base/text.h"
#include "profile.h"

#include <cairo-svg.h>
#include <cairo.h>
#include <string.h>

#define WIDTH 1280
#define HEIGHT 600
#define LEFT 84.0
#define COLUMNS 1140u /* one point wide each */
#define TOP 130.0
#define CELLS 45u
#define CELL 5.0
#define PROFILE (CELLS * CELL)
#define TICKS 6

static void set_ink(cairo_t *cr, double shade)
{
    cairo_set_source_rgb(cr, shade, shade, shade);
}

static void write_at(cairo_t *cr, double x, double y, double size, gboolean bold, const char *text)
{
    cairo_select_font_face(cr, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                           bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(cr, size);
    cairo_move_to(cr, x, y);
    cairo_show_text(cr, text);
}

static double width_of(cairo_t *cr, double size, const char *text)
{
    cairo_text_extents_t extents;
    cairo_set_font_size(cr, size);
    cairo_text_extents(cr, text, &extents);
    return extents.x_advance;
}

/* A state's ground: its colour, and over it strokes of its own, so that it does without colour. */
static void fill_ground(cairo_t *cr, const EkLayer *layer)
{
    cairo_set_source_rgb(cr, layer->rgb[0], layer->rgb[1], layer->rgb[2]);
    cairo_fill_preserve(cr);
}

/* Strokes a box, within the path that is there. */
static void stroke_ground(cairo_t *cr, const EkLayer *layer, double x, double y, double width,
                          double height)
{
    cairo_save(cr);
    cairo_clip(cr);
    cairo_new_path(cr);
    if (layer->state == EK_STATE_GOOD || layer->state == EK_STATE_UNTOUCHED) {
        cairo_restore(cr);
        return;
    }
    cairo_set_line_width(cr, 1);
    set_ink(cr, layer->state == EK_STATE_BAD ? 1 : 0.25);
    double step = layer->state == EK_STATE_BAD ? 5 : 6;
    double lean = layer->state == EK_STATE_BAD ? height : 0;
    for (double at = x - height; at < x + width + height; at += step) {
        cairo_move_to(cr, at, y + height);
        cairo_line_to(cr, at + lean, y);
    }
    cairo_stroke(cr);
    cairo_restore(cr);
}

static void draw_heading(cairo_t *cr, const EkPicture *picture)
{
    const EkCaseInfo *info = picture->info;
    g_autoptr(GDateTime) now = g_date_time_new_now_local();
    g_autofree char *date = g_date_time_format(now, "%Y-%m-%d %H:%M");
    g_autofree char *name = ek_text_escape(picture->name);
    g_autofree char *title = g_strdup_printf("Read map of case %s", name);
    g_autofree char *model = ek_text_escape(info->model != NULL ? info->model : "model unknown");
    g_autofree char *serial = ek_text_escape(info->serial != NULL ? info->serial : "unknown");
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *line =
        g_strdup_printf("%s, serial %s, %s, %" G_GUINT64_FORMAT " sectors of %u", model, serial,
                        label, info->sectors, info->sector_size);
    set_ink(cr, 0.1);
    write_at(cr, LEFT, 48, 26, TRUE, title);
    write_at(cr, LEFT, 76, 15, FALSE, line);
    set_ink(cr, 0.35);
    write_at(cr, LEFT + COLUMNS - width_of(cr, 15, date), 48, 15, FALSE, date);
    g_autofree char *part = g_strdup_printf(
        "sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT ", %s", picture->part.first,
        picture->part.first + picture->part.count - 1,
        picture->part.count == info->sectors ? "the whole drive" : "a part of the drive");
    write_at(cr, LEFT, 104, 15, FALSE, part);
}

/* Above a column with anything bad or set aside: a flag that is wide enough to be seen. */
static void draw_flags(cairo_t *cr, EkSector (*tally)[EK_STATES], guint columns, double wide)
{
    static const EkState states[] = {EK_STATE_SET_ASIDE, EK_STATE_BAD};
    for (gsize i = 0; i < G_N_ELEMENTS(states); i++) {
        for (gsize layer = 0; layer < EK_LAYERS; layer++)
            if (ek_layers[layer].state == states[i])
                cairo_set_source_rgb(cr, ek_layers[layer].rgb[0], ek_layers[layer].rgb[1],
                                     ek_layers[layer].rgb[2]);
        for (guint c = 0; c < columns; c++)
            if (tally[c][states[i]] > 0)
                cairo_rectangle(cr, LEFT + c * wide - 1, TOP - 18 + 9 * (double)i, wide + 2, 7);
        cairo_fill(cr);
    }
}

static void draw_profile(cairo_t *cr, const EkPicture *picture)
{
    guint columns = (guint)MIN(COLUMNS, picture->part.count);
    double wide = (double)COLUMNS / columns;
    EkSector(*tally)[EK_STATES] = g_malloc_n(columns, sizeof *tally);
    ek_profile_measure(picture->map, picture->part.first, picture->part.count, columns, tally);
    for (gsize layer = 0; layer < EK_LAYERS; layer++) {
        for (guint c = 0; c < columns; c++) {
            guint cells[EK_LAYERS];
            double below = 0;
            ek_profile_share(tally[c], CELLS, cells);
            for (gsize i = 0; i < layer; i++)
                below += cells[i];
            if (cells[layer] > 0)
                cairo_rectangle(cr, LEFT + c * wide, TOP + PROFILE - (below + cells[layer]) * CELL,
                                wide, cells[layer] * CELL);
        }
        fill_ground(cr, &ek_layers[layer]);
        stroke_ground(cr, &ek_layers[layer], LEFT, TOP, COLUMNS, PROFILE);
    }
    draw_flags(cr, tally, columns, wide);
    g_free(tally);
    set_ink(cr, 0.2);
    cairo_set_line_width(cr, 1);
    cairo_rectangle(cr, LEFT - 0.5, TOP - 0.5, COLUMNS + 1, PROFILE + 1);
    cairo_stroke(cr);
    write_at(cr, LEFT - 36, TOP + 12, 14, FALSE, "all");
    write_at(cr, LEFT - 42, TOP + PROFILE / 2 + 5, 14, FALSE, "half");
    write_at(cr, LEFT - 48, TOP + PROFILE, 14, FALSE, "none");
}

static void draw_scale(cairo_t *cr, const EkPicture *picture)
{
    double y = TOP + PROFILE;
    for (int tick = 0; tick < TICKS; tick++) {
        double share = (double)tick / (TICKS - 1);
        EkSector sector =
            picture->part.first + (EkSector)(share * (double)(picture->part.count - 1));
        g_autofree char *number = g_strdup_printf("%" G_GUINT64_FORMAT, sector);
        g_autofree char *size = ek_text_size(sector * picture->info->sector_size);
        double x = LEFT + share * COLUMNS;
        set_ink(cr, 0.2);
        cairo_move_to(cr, x, y);
        cairo_line_to(cr, x, y + 7);
        cairo_stroke(cr);
        double number_wide = width_of(cr, 14, number);
        double size_wide = width_of(cr, 13, size);
        write_at(cr, x - share * number_wide, y + 23, 14, FALSE, number);
        set_ink(cr, 0.4);
        write_at(cr, x - share * size_wide, y + 41, 13, FALSE, size);
    }
    set_ink(cr, 0.4);
    write_at(cr, LEFT - 58, y + 23, 13, FALSE, "sector");
}

/* What a colour means, and how much of the part is so. */
static void draw_legend(cairo_t *cr, const EkPicture *picture)
{
    EkSector tally[EK_STATES];
    double y = TOP + PROFILE + 78;
    ek_read_map_tally(picture->map, picture->part.first, picture->part.count, tally);
    for (gsize i = 0; i < EK_LAYERS; i++, y += 32) {
        const EkLayer *layer = &ek_layers[i];
        EkSector count = tally[layer->state];
        g_autofree char *size = ek_text_size(count * picture->info->sector_size);
        g_autofree char *share = ek_text_share(count, picture->part.count);
        g_autofree char *text = g_strdup_printf("%" G_GUINT64_FORMAT " sectors", count);
        cairo_rectangle(cr, LEFT, y, 34, 20);
        fill_ground(cr, layer);
        stroke_ground(cr, layer, LEFT, y, 34, 20);
        set_ink(cr, 0.2);
        cairo_rectangle(cr, LEFT + 0.5, y + 0.5, 33, 19);
        cairo_stroke(cr);
        write_at(cr, LEFT + 48, y + 15, 16, TRUE, layer->word);
        write_at(cr, LEFT + 160, y + 15, 16, FALSE, share);
        write_at(cr, LEFT + 260, y + 15, 16, FALSE, size);
        write_at(cr, LEFT + 380, y + 15, 16, FALSE, text);
    }
    set_ink(cr, 0.4);
    write_at(cr, LEFT + 620, TOP + PROFILE + 93, 14, FALSE,
             "Each column is a slice of the drive, filled from below by what is good.");
    write_at(cr, LEFT + 620, TOP + PROFILE + 113, 14, FALSE,
             "What is not good shows in its column at least once, however little it is.");
}

static void draw(cairo_t *cr, const EkPicture *picture)
{
    set_ink(cr, 1);
    cairo_paint(cr);
    draw_heading(cr, picture);
    draw_profile(cr, picture);
    draw_scale(cr, picture);
    draw_legend(cr, picture);
}

static gboolean check(cairo_status_t status, const char *path, GError **error)
{
    return status == CAIRO_STATUS_SUCCESS ||
           ek_error_set(error, EK_ERROR_FAILED, "cannot write the picture %s: %s", path,
                        cairo_status_to_string(status));
}

static cairo_status_t draw_on(cairo_surface_t *surface, const EkPicture *picture)
{
    cairo_t *cr = cairo_create(surface);
    draw(cr, picture);
    cairo_status_t status = cairo_status(cr);
    cairo_destroy(cr);
    return status;
}

gboolean ek_picture_png(const EkPicture *picture, const char *path, GError **error)
{
    cairo_surface_t *surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, HEIGHT);
    cairo_status_t status = draw_on(surface, picture);
    if (status == CAIRO_STATUS_SUCCESS)
        status = cairo_surface_write_to_png(surface, path);
    cairo_surface_destroy(surface);
    return check(status, path, error);
}

gboolean ek_picture_svg(const EkPicture *picture, const char *path, GError **error)
{
    cairo_surface_t *surface = cairo_svg_surface_create(path, WIDTH, HEIGHT);
    cairo_status_t status = draw_on(surface, picture);
    cairo_surface_finish(surface);
    if (status == CAIRO_STATUS_SUCCESS)
        status = cairo_surface_status(surface);
    cairo_surface_destroy(surface);
    return check(status, path, error);
}

/* SPDX-License-Identifier: MIT */
/* The read map as a picture. */
#include "picture.h"

#include "base/text.h"
#include "profile.h"

#define LEFT EK_CANVAS_LEFT
#define COLUMNS EK_CANVAS_COLUMNS
#define TOP 142.0
#define CELLS 45u
#define STROKED_LEAST 8.0 /* strokes in what is narrower are no pattern any more */
#define CELL 5.0
#define PROFILE (CELLS * CELL)
#define NUMBERED_MOST 6u /* stretches that get a number */

/* A state's region: its colour, and over it strokes of its own, so that it does without colour. */
static void fill_region(cairo_t *cr, const EkLayer *layer)
{
    cairo_set_source_rgb(cr, layer->rgb[0], layer->rgb[1], layer->rgb[2]);
    cairo_fill_preserve(cr);
}

/* Strokes a box, within the path that is there. */
static void stroke_region(cairo_t *cr, const EkLayer *layer, double x, double y, double width,
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
    ek_canvas_ink(cr, layer->state == EK_STATE_BAD ? 1 : 0.25);
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
    g_autofree char *name = ek_text_escape(picture->name);
    g_autofree char *title = g_strdup_printf("Read map of case %s", name);
    g_autofree char *part = g_strdup_printf(
        "sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT ", %s", picture->part.first,
        picture->part.first + picture->part.count - 1,
        picture->part.count == info->sectors ? "the whole drive" : "a part of the drive");
    ek_canvas_heading(cr, info, title, part);
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

/* --- the largest bad stretches --------------------------------------------------------------- */

typedef struct {
    EkSectorRange stretches[NUMBERED_MOST]; /* in order of place */
    guint count;
} Numbered;

/* Puts a stretch among the largest so far, if it is one of them. */
static void take_stretch(Numbered *numbered, EkSectorRange stretch)
{
    guint least = 0;
    for (guint i = 1; i < numbered->count; i++)
        if (numbered->stretches[i].count < numbered->stretches[least].count)
            least = i;
    if (numbered->count == NUMBERED_MOST) {
        if (stretch.count <= numbered->stretches[least].count)
            return;
        /* They come in order of place: the rest moves up. */
        for (guint i = least; i + 1 < numbered->count; i++)
            numbered->stretches[i] = numbered->stretches[i + 1];
        numbered->count--;
    }
    numbered->stretches[numbered->count++] = stretch;
}

static void find_largest(const EkPicture *picture, Numbered *numbered)
{
    EkSector end = picture->part.first + picture->part.count;
    EkStretch stretch;
    EkSectorRange joined = {0, 0};
    for (EkSector at = picture->part.first;
         at < end && ek_read_map_next(picture->map, at, EK_STATE_BIT(EK_STATE_BAD), &stretch) &&
         stretch.first < end;
         at = stretch.first + stretch.count) {
        EkSector first = MAX(stretch.first, picture->part.first);
        EkSector count = MIN(stretch.first + stretch.count, end) - first;
        if (joined.count > 0 && joined.first + joined.count == first) {
            joined.count += count;
            continue;
        }
        if (joined.count > 0)
            take_stretch(numbered, joined);
        joined = (EkSectorRange){first, count};
    }
    if (joined.count > 0)
        take_stretch(numbered, joined);
}

/* Their numbers above the flags, and what they are below the picture. */
static void draw_numbers(cairo_t *cr, const EkPicture *picture)
{
    Numbered numbered = {.count = 0};
    double last = 0;
    double y = TOP + PROFILE + 146;
    find_largest(picture, &numbered);
    ek_canvas_ink(cr, 0.2);
    if (numbered.count > 0)
        ek_canvas_write(cr, LEFT + 620, y, 14, TRUE,
                        numbered.count == 1 ? "Bad sectors"
                                            : "The largest stretches of bad sectors");
    for (guint i = 0; i < numbered.count; i++) {
        const EkSectorRange *stretch = &numbered.stretches[i];
        double share = (double)(stretch->first - picture->part.first) / (double)picture->part.count;
        double x = MAX(LEFT + share * COLUMNS - 3, last + 14);
        g_autofree char *number = g_strdup_printf("%u", i + 1);
        g_autofree char *size = ek_text_size(stretch->count * picture->info->sector_size);
        g_autofree char *count = ek_text_count(stretch->count, "sector", "sectors");
        g_autofree char *text = g_strdup_printf("from sector %" G_GUINT64_FORMAT ": %s, %s",
                                                stretch->first, count, size);
        last = x;
        ek_canvas_write(cr, x, TOP - 22, 13, TRUE, number);
        y += 21;
        ek_canvas_write(cr, LEFT + 620, y, 14, TRUE, number);
        ek_canvas_write(cr, LEFT + 644, y, 14, FALSE, text);
    }
}

static double column_width(const EkPicture *picture)
{
    return (double)COLUMNS / (double)MIN(COLUMNS, picture->part.count);
}

static void draw_profile(cairo_t *cr, const EkPicture *picture)
{
    guint columns = (guint)MIN(COLUMNS, picture->part.count);
    double wide = column_width(picture);
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
        fill_region(cr, &ek_layers[layer]);
        if (wide >= STROKED_LEAST)
            stroke_region(cr, &ek_layers[layer], LEFT, TOP, COLUMNS, PROFILE);
        else
            cairo_new_path(cr);
    }
    draw_flags(cr, tally, columns, wide);
    g_free(tally);
    ek_canvas_ink(cr, 0.2);
    cairo_set_line_width(cr, 1);
    cairo_rectangle(cr, LEFT - 0.5, TOP - 0.5, COLUMNS + 1, PROFILE + 1);
    cairo_stroke(cr);
    ek_canvas_write_left(cr, TOP + 12, 14, "all");
    ek_canvas_write_left(cr, TOP + PROFILE / 2 + 5, 14, "half");
    ek_canvas_write_left(cr, TOP + PROFILE, 14, "none");
}

/* What a colour means, and how much of the part is so. */
static void draw_legend(cairo_t *cr, const EkPicture *picture)
{
    EkSector tally[EK_STATES];
    double y = TOP + PROFILE + 78;
    ek_read_map_tally(picture->map, picture->part.first, picture->part.count, tally);
    for (gsize i = 0; i < EK_LAYERS; i++) {
        const EkLayer *layer = &ek_layers[i];
        EkSector count = tally[layer->state];
        if (count == 0)
            continue;
        g_autofree char *size = ek_text_size(count * picture->info->sector_size);
        g_autofree char *share = ek_text_share(count, picture->part.count);
        g_autofree char *text = g_strdup_printf("%" G_GUINT64_FORMAT " sectors", count);
        cairo_rectangle(cr, LEFT, y, 34, 20);
        fill_region(cr, layer);
        if (column_width(picture) >= STROKED_LEAST)
            stroke_region(cr, layer, LEFT, y, 34, 20);
        cairo_new_path(cr);
        ek_canvas_ink(cr, 0.2);
        cairo_rectangle(cr, LEFT + 0.5, y + 0.5, 33, 19);
        cairo_stroke(cr);
        ek_canvas_write(cr, LEFT + 48, y + 15, 16, TRUE, layer->word);
        ek_canvas_write(cr, LEFT + 160, y + 15, 16, FALSE, share);
        ek_canvas_write(cr, LEFT + 260, y + 15, 16, FALSE, size);
        ek_canvas_write(cr, LEFT + 380, y + 15, 16, FALSE, text);
        y += 32;
    }
    ek_canvas_ink(cr, 0.4);
    ek_canvas_write(cr, LEFT + 620, TOP + PROFILE + 93, 14, FALSE,
                    "Each column is a slice of the drive. Good sectors fill it from the bottom.");
    ek_canvas_write(cr, LEFT + 620, TOP + PROFILE + 113, 14, FALSE,
                    "Even a single unread sector is shown.");
}

void ek_picture_draw(cairo_t *cr, const void *data)
{
    const EkPicture *picture = data;
    guint32 size = picture->info->sector_size;
    draw_heading(cr, picture);
    draw_profile(cr, picture);
    ek_canvas_scale(cr, TOP + PROFILE,
                    (EkRange){picture->part.first * size, picture->part.count * size}, size);
    draw_legend(cr, picture);
    draw_numbers(cr, picture);
}

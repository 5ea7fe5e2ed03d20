/* SPDX-License-Identifier: MIT */
/* The drive with its volumes as a picture, for a screen or a page. */
#include "layoutpicture.h"

#include "base/text.h"
#include "layout.h"
#include "profile.h"

#define LEFT EK_CANVAS_LEFT
#define COLUMNS EK_CANVAS_COLUMNS
#define TOP 136.0
#define ROW 36.0
#define BOX 30.0
#define BAND 10.0   /* of what was not read */
#define BELOW 132.0 /* of the volumes, before the lines begin */
#define LINE 24.0
#define LINES_MOST 16u
#define STROKED_LEAST 8.0

/* How each standing looks: by its frame and its strokes, since colours say how sectors were read.
 * Strokes lean where the volume is not there any more. */
static const struct {
    double shade;
    double frame; /* px */
    gboolean stroked;
} looks[EK_STANDINGS] = {
    [EK_STANDING_LISTED] = {0.88, 1, FALSE},    [EK_STANDING_LOST] = {1, 3, FALSE},
    [EK_STANDING_DISPLACED] = {0.74, 3, FALSE}, [EK_STANDING_REMAINS] = {0.97, 1, TRUE},
    [EK_STANDING_NESTED] = {0.88, 1, TRUE},     [EK_STANDING_TABLELESS] = {0.88, 1, FALSE},
};

static void draw_region(cairo_t *cr, gsize look, double x, double y, double width, double height)
{
    cairo_rectangle(cr, x, y, width, height);
    ek_canvas_ink(cr, looks[look].shade);
    cairo_fill(cr);
    if (looks[look].stroked && width >= STROKED_LEAST) {
        cairo_save(cr);
        cairo_rectangle(cr, x, y, width, height);
        cairo_clip(cr);
        ek_canvas_ink(cr, 0.68);
        cairo_set_line_width(cr, 1);
        for (double at = x - height; at < x + width; at += 7) {
            cairo_move_to(cr, at, y + height);
            cairo_line_to(cr, at + height, y);
        }
        cairo_stroke(cr);
        cairo_restore(cr);
    }
    double frame = MIN(looks[look].frame, MAX(width / 2, 1));
    ek_canvas_ink(cr, 0.3);
    cairo_set_line_width(cr, frame);
    cairo_rectangle(cr, x + frame / 2, y + frame / 2, MAX(width - frame, 1), height - frame);
    cairo_stroke(cr);
}

/* The number always where it fits; type and label where there is room. */
static void draw_box(cairo_t *cr, const EkLayoutBox *box)
{
    const EkVolume *volume = box->entry->volume;
    double x = LEFT + box->first;
    double y = TOP + box->row * ROW;
    double width = box->end - box->first;
    g_autofree char *label = ek_text_escape(volume->label != NULL ? volume->label : "");
    g_auto(GStrv) texts = g_new0(char *, 4);
    texts[0] = g_strdup_printf("%u  %s  %s", box->entry->number, volume->filesystem, label);
    texts[1] = g_strdup_printf("%u  %s", box->entry->number, volume->filesystem);
    texts[2] = g_strdup_printf("%u", box->entry->number);
    draw_region(cr, (box->entry)->standing, x, y, width, BOX);
    ek_canvas_ink(cr, 0.1);
    for (gsize i = 0; texts[i] != NULL; i++)
        if (ek_canvas_width(cr, 14, texts[i]) + 12 < width) {
            ek_canvas_write(cr, x + 7, y + 20, 14, FALSE, texts[i]);
            break;
        }
}

/* Below the volumes: where something is bad or was not read. */
static void draw_unread(cairo_t *cr, const EkLayoutPicture *picture, double y, double columns)
{
    guint count = (guint)MAX(MIN(columns, (double)picture->info->sectors), 1);
    EkSector(*tally)[EK_STATES] = g_malloc_n(count, sizeof *tally);
    double wide = columns / count;
    ek_profile_measure(picture->map, 0, picture->info->sectors, count, tally);
    for (gsize layer = 0; layer < EK_LAYERS; layer++) {
        EkState state = ek_layers[layer].state;
        for (guint c = 0; c < count && state != EK_STATE_GOOD; c++) {
            double all = (double)tally[c][EK_STATE_GOOD] + (double)tally[c][EK_STATE_UNTOUCHED] +
                         (double)tally[c][EK_STATE_SET_ASIDE] + (double)tally[c][EK_STATE_BAD];
            double high = MAX((double)tally[c][state] / MAX(all, 1) * BAND, BAND * 0.6);
            if (tally[c][state] > 0)
                cairo_rectangle(cr, LEFT + c * wide, y + BAND - high, MAX(wide, 2), high);
        }
        cairo_set_source_rgb(cr, ek_layers[layer].rgb[0], ek_layers[layer].rgb[1],
                             ek_layers[layer].rgb[2]);
        cairo_fill(cr);
    }
    g_free(tally);
    ek_canvas_ink(cr, 0.2);
    cairo_set_line_width(cr, 1);
    cairo_rectangle(cr, LEFT - 0.5, y - 0.5, columns + 1, BAND + 1);
    cairo_stroke(cr);
    ek_canvas_ink(cr, 0.4);
    ek_canvas_write_left(cr, y + 10, 13, "not read");
}

/* What occurs in the picture. */
static void draw_legend(cairo_t *cr, const EkLayoutPicture *picture, double y)
{
    double x = LEFT;
    EkSector tally[EK_STATES];
    gboolean occurs[G_N_ELEMENTS(looks)] = {FALSE};
    ek_read_map_tally(picture->map, 0, picture->info->sectors, tally);
    for (guint i = 0; i < picture->volumes->len; i++)
        occurs[((const EkCaseVolume *)picture->volumes->pdata[i])->standing] = TRUE;
    for (gsize i = 0; i < G_N_ELEMENTS(looks); i++) {
        if (!occurs[i])
            continue;
        draw_region(cr, i, x, y, 34, 20);
        ek_canvas_ink(cr, 0.1);
        ek_canvas_write(cr, x + 44, y + 15, 15, FALSE, ek_standing_name((EkStanding)i));
        x += 70 + ek_canvas_width(cr, 15, ek_standing_name((EkStanding)i));
    }
    x += 40;
    for (gsize i = 0; i < EK_LAYERS; i++) {
        const EkLayer *layer = &ek_layers[i];
        if (layer->state == EK_STATE_GOOD || tally[layer->state] == 0)
            continue;
        cairo_rectangle(cr, x, y + 5, 34, BAND);
        cairo_set_source_rgb(cr, layer->rgb[0], layer->rgb[1], layer->rgb[2]);
        cairo_fill_preserve(cr);
        ek_canvas_ink(cr, 0.3);
        cairo_set_line_width(cr, 1);
        cairo_stroke(cr);
        ek_canvas_ink(cr, 0.1);
        ek_canvas_write(cr, x + 44, y + 15, 15, FALSE, layer->word);
        x += 70 + ek_canvas_width(cr, 15, layer->word);
    }
}

enum { CELLS = 7 };

static void draw_cells(cairo_t *cr, double y, double size, const char *const cells[CELLS])
{
    static const double places[CELLS] = {0, 70, 190, 360, 500, 800, 930};
    for (gsize i = 0; i < CELLS; i++)
        ek_canvas_write(cr, LEFT + places[i], y, size, FALSE, cells[i]);
}

static void draw_line(cairo_t *cr, const EkCaseVolume *entry, double y)
{
    const EkVolume *volume = entry->volume;
    g_autofree char *number = g_strdup_printf("%u", entry->number);
    g_autofree char *first =
        g_strdup_printf("%" G_GUINT64_FORMAT, volume->first_byte / volume->own_sector_size);
    g_autofree char *bytes = ek_text_size(volume->bytes);
    g_autofree char *size = g_strdup_printf("%s%s", volume->length_is_least ? "≥ " : "", bytes);
    g_autofree char *label = ek_text_escape(volume->label != NULL ? volume->label : "");
    g_autofree char *confidence = g_strdup_printf("%d", volume->confidence);
    draw_cells(cr, y, 15,
               (const char *const[CELLS]){number, volume->filesystem, first, size, label,
                                          ek_standing_name(entry->standing), confidence});
}

static guint count_lines(const EkLayoutPicture *picture)
{
    return MIN(picture->volumes->len, LINES_MOST);
}

/* Those that stand first, each part in order of place. */
static void draw_lines(cairo_t *cr, const EkLayoutPicture *picture, double y)
{
    static const char *const heads[CELLS] = {"volume", "type",     "first sector", "size",
                                             "label",  "standing", "confidence"};
    const GPtrArray *volumes = picture->volumes;
    guint most = count_lines(picture);
    guint drawn = 0;
    ek_canvas_ink(cr, 0.4);
    draw_cells(cr, y, 13, heads);
    ek_canvas_ink(cr, 0.1);
    for (int lower = 0; lower < 2; lower++)
        for (guint i = 0; i < volumes->len && drawn < most; i++)
            if (ek_layout_is_lower(volumes->pdata[i]) == (lower == 1))
                draw_line(cr, volumes->pdata[i], y + LINE * ++drawn);
    guint more = volumes->len - drawn + picture->left_out;
    g_autofree char *rest = g_strdup_printf("and %u more", more);
    ek_canvas_ink(cr, 0.4);
    if (more > 0)
        ek_canvas_write(cr, LEFT, y + LINE * (drawn + 1), 13, FALSE, rest);
}

static GArray *place(const EkLayoutPicture *picture, guint *rows)
{
    return ek_layout_place(picture->volumes,
                           ek_layout_bytes(picture->volumes, picture->info->bytes), COLUMNS, rows);
}

int ek_layout_picture_height(const EkLayoutPicture *picture)
{
    guint rows = 0;
    g_array_unref(place(picture, &rows));
    return (int)(TOP + MAX(rows, 1) * ROW + BELOW + LINE * (count_lines(picture) + 2));
}

void ek_layout_picture_draw(cairo_t *cr, const void *data)
{
    const EkLayoutPicture *picture = data;
    const EkCaseInfo *info = picture->info;
    EkByte scale = ek_layout_bytes(picture->volumes, info->bytes);
    guint rows = 0;
    g_autoptr(GArray) boxes = place(picture, &rows);
    g_autofree char *name = ek_text_escape(picture->name);
    g_autofree char *title = g_strdup_printf("Volumes of case %s", name);
    ek_canvas_heading(cr, info, title,
                      scale > info->bytes ? "the image ends before the last volume does"
                                          : "whole drive, volumes to scale");
    for (guint i = 0; i < boxes->len; i++)
        draw_box(cr, &g_array_index(boxes, EkLayoutBox, i));
    double y = TOP + MAX(rows, 1) * ROW + 2;
    draw_unread(cr, picture, y, (double)info->bytes / (double)scale * COLUMNS);
    ek_canvas_scale(cr, y + BAND, (EkRange){0, scale}, info->sector_size);
    draw_legend(cr, picture, y + 72);
    draw_lines(cr, picture, y + BELOW - 2);
}

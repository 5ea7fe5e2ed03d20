/* SPDX-License-Identifier: MIT */
/* The read map as columns of cells, each a slice of the drive. */
#include "profile.h"

const EkLayer ek_layers[EK_LAYERS] = {
    {EK_STATE_GOOD, "█", EK_COLOR_GOOD, "good", {0.16, 0.40, 0.66}},
    {EK_STATE_BAD, "×", EK_COLOR_BAD, "bad", {0.80, 0.30, 0.08}},
    {EK_STATE_SET_ASIDE, "~", EK_COLOR_WARN, "set aside", {0.93, 0.76, 0.25}},
    {EK_STATE_UNTOUCHED, "·", EK_COLOR_FAINT, "untouched", {0.86, 0.87, 0.88}},
};

const EkLayer *ek_layer_of(EkState state)
{
    guint i = 0;
    while (i < EK_LAYERS - 1 && ek_layers[i].state != state)
        i++;
    return &ek_layers[i];
}

void ek_profile_share(const EkSector tally[EK_STATES], guint height, guint cells[EK_LAYERS])
{
    EkSector total = 0;
    guint used = 0;
    for (int state = 0; state < EK_STATES; state++)
        total += tally[state];
    for (gsize i = 1; i < EK_LAYERS; i++) {
        EkSector part = tally[ek_layers[i].state];
        double exact = (double)part / (double)MAX(total, 1) * height;
        cells[i] = part == 0 ? 0 : MAX(1u, (guint)(exact + 0.5));
        used += cells[i];
    }
    /* A column that is crowded gives up cells of its largest layer, then of the least grave. */
    while (used > height) {
        gsize largest = EK_LAYERS - 1;
        for (gsize i = EK_LAYERS - 1; i > 0; i--)
            if (cells[i] > cells[largest])
                largest = i;
        cells[largest]--;
        used--;
    }
    cells[0] = height - used;
}

static gsize layer_at(const guint cells[EK_LAYERS], guint height)
{
    guint below = 0;
    for (gsize i = 0; i < EK_LAYERS; i++) {
        below += cells[i];
        if (height < below)
            return i;
    }
    return EK_LAYERS - 1;
}

void ek_profile_draw(GString *out, EkSector (*tally)[EK_STATES], guint columns, guint height,
                     gboolean color, gboolean scale)
{
    g_autofree guint *cells = g_new(guint, (gsize)columns * EK_LAYERS);
    for (guint c = 0; c < columns; c++)
        ek_profile_share(tally[c], height, &cells[c * EK_LAYERS]);
    for (guint row = height; row > 0; row--) {
        EkColor current = EK_COLOR_PLAIN;
        if (scale)
            g_string_append(out, row == height       ? "all   "
                                 : row == 1          ? "none  "
                                 : row == height / 2 ? "half  "
                                                     : "      ");
        for (guint c = 0; c < columns; c++) {
            const EkLayer *layer = &ek_layers[layer_at(&cells[c * EK_LAYERS], row - 1)];
            if (layer->color != current) {
                current = layer->color;
                g_string_append(out, ek_show_off(color));
                g_string_append(out, ek_show_on(color, current));
            }
            g_string_append(out, layer->glyph);
        }
        g_string_append(out, ek_show_off(color));
        if (row > 1)
            g_string_append_c(out, '\n');
    }
}

void ek_profile_measure(const EkReadMap *map, EkSector first, EkSector count, guint columns,
                        EkSector (*tally)[EK_STATES])
{
    for (guint c = 0; c < columns; c++) {
        EkSector from = first + (EkSector)((double)count / columns * c);
        EkSector end = c + 1 == columns ? first + count
                                        : first + (EkSector)((double)count / columns * (c + 1));
        ek_read_map_tally(map, from, MAX(end - from, 1), tally[c]);
    }
}

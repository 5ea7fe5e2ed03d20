/* SPDX-License-Identifier: MIT */
/* The drive with its volumes as a line of text. */
#include "layout.h"

#include "base/text.h"
#include "case/volumestore.h"
#include "show.h"

#include <string.h>

#define ROWS_MOST 6u
#define LEAST_COLUMNS 20u

typedef EkLayoutBox Box;

gboolean ek_layout_is_lower(const EkCaseVolume *entry)
{
    return !ek_standing_is_on_top(entry->standing);
}

static gboolean is_free(const GArray *boxes, const Box *box)
{
    for (guint i = 0; i < boxes->len; i++) {
        const Box *other = &g_array_index(boxes, Box, i);
        if (other->row == box->row && box->first < other->end && other->first < box->end)
            return FALSE;
    }
    return TRUE;
}

GArray *ek_layout_place(const GPtrArray *volumes, EkByte scale, guint columns, guint *rows_taken)
{
    GArray *boxes = g_array_new(FALSE, FALSE, sizeof(Box));
    guint rows = 0;
    for (int lower = 0; lower < 2; lower++)
        for (guint i = 0; i < volumes->len; i++) {
            const EkCaseVolume *entry = volumes->pdata[i];
            const EkVolume *volume = entry->volume;
            if (ek_layout_is_lower(entry) != (lower == 1))
                continue;
            double first = (double)volume->first_byte / (double)scale * columns;
            double end = (double)(volume->first_byte + volume->bytes) / (double)scale * columns;
            Box box = {.first = MIN((guint)(first + 0.5), columns - 1), .entry = entry};
            box.end = CLAMP((guint)(end + 0.5), box.first + 1, columns);
            box.row = lower == 1 && rows > 0 ? 1 : 0;
            while (box.row < ROWS_MOST && !is_free(boxes, &box))
                box.row++;
            if (box.row < ROWS_MOST)
                g_array_append_val(boxes, box);
            rows = MAX(rows, MIN(box.row + 1, ROWS_MOST));
        }
    *rows_taken = rows;
    return boxes;
}

EkByte ek_layout_bytes(const GPtrArray *volumes, EkByte bytes)
{
    EkByte scale = bytes;
    for (guint i = 0; i < volumes->len; i++) {
        const EkVolume *volume = ((const EkCaseVolume *)volumes->pdata[i])->volume;
        scale = MAX(scale, volume->first_byte + volume->bytes);
    }
    return scale;
}

/* One box: its ends, what it is where that fits, a line between. */
static void draw_box(EkCli *cli, GString *line, const Box *box)
{
    guint width = box->end - box->first;
    const EkVolume *volume = box->entry->volume;
    EkColor color = ek_layout_is_lower(box->entry) ? EK_COLOR_FAINT : EK_COLOR_STRONG;
    g_autofree char *number = g_strdup_printf("%u", box->entry->number);
    g_autofree char *text = g_strdup_printf("%s %s", number, volume->filesystem);
    if (strlen(text) + 2 > width) {
        g_free(text);
        text = g_strdup(strlen(number) + 2 <= width || strlen(number) == width ? number : "");
    }
    g_string_append(line, ek_show_on(cli->color_out, color));
    guint length = (guint)strlen(text);
    if (length == width) {
        g_string_append(line, text);
    } else if (width == 1) {
        g_string_append(line, "┃");
    } else {
        g_string_append(line, "┣");
        g_string_append(line, text);
        for (guint i = length + 2; i < width; i++)
            g_string_append(line, "━");
        g_string_append(line, "┫");
    }
    g_string_append(line, ek_show_off(cli->color_out));
}

static const Box *box_at(const GArray *boxes, guint row, guint column)
{
    for (guint i = 0; i < boxes->len; i++) {
        const Box *box = &g_array_index(boxes, Box, i);
        if (box->row == row && box->first == column)
            return box;
    }
    return NULL;
}

void ek_layout_print(EkCli *cli, const GPtrArray *volumes, EkByte bytes, guint32 sector_size)
{
    guint columns = (guint)MAX(cli->width, (int)LEAST_COLUMNS);
    EkByte scale = ek_layout_bytes(volumes, bytes);
    guint rows = 0;
    g_autoptr(GArray) boxes = ek_layout_place(volumes, scale, columns, &rows);
    for (guint row = 0; row < rows; row++) {
        g_autoptr(GString) line = g_string_new(NULL);
        for (guint column = 0; column < columns;) {
            const Box *box = box_at(boxes, row, column);
            if (box == NULL) {
                /* Nothing that is known: the gaps of the first row are worth a look. */
                g_string_append(line, row == 0 ? "·" : " ");
                column++;
                continue;
            }
            draw_box(cli, line, box);
            column = box->end;
        }
        ek_cli_print("%s\n", g_strchomp(line->str));
    }
    g_autofree char *size = ek_text_size(bytes);
    g_autofree char *end = g_strdup_printf("sector %" G_GUINT64_FORMAT " (%s)",
                                           ek_divide_up(bytes, sector_size) - 1, size);
    guint at = (guint)((double)bytes / (double)scale * columns);
    int gap = (int)MIN(at, columns) - (int)strlen("sector 0") - (int)strlen(end);
    ek_cli_print("sector 0%*s%s%s\n\n", MAX(gap, 1), "", end,
                 scale > bytes ? "  < end of image" : "");
}

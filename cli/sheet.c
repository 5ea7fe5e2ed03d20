/* SPDX-License-Identifier: MIT */
/* A contact sheet: small pictures in rows, each with its name below it. */
#include "sheet.h"

#include "peeking.h"

#include "base/text.h"
#include "kind/kind.h"

#include <stdio.h>
#include <string.h>

#define WIDE 24u /* columns of a picture */
#define HIGH 9u  /* its lines */
#define BETWEEN 2u
#define PICTURES_MOST 60u
#define ROW_MOST 16u

typedef struct {
    char *name;
    char *note;   /* what is wrong with it; "" */
    char **lines; /* of the picture */
} Cell;

typedef struct {
    EkCli *cli;
    EkIndexing *indexing;
    EkPeeker *peeker;
    const gint *cancel;
    Cell row[ROW_MOST];
    guint count;   /* in the row */
    guint columns; /* of cells in a row */
    guint drawn;
    guint64 more; /* that there was no room for */
    GError *error;
} Sheet;

static void put_spaces(guint count)
{
    for (guint i = 0; i < count; i++)
        fputc(' ', stdout);
}

/* A text cut to the width of a picture, in its middle, with what follows it up to the next. */
static void put_caption(const char *text, gboolean is_last)
{
    g_autofree char *safe = ek_text_escape(text);
    glong length = g_utf8_strlen(safe, -1);
    g_autofree char *front = g_utf8_substring(safe, 0, MIN(length, (glong)WIDE / 2));
    g_autofree char *back = g_utf8_substring(safe, MAX(length - (glong)WIDE / 2 + 1, 0), length);
    g_autofree char *cut = g_strdup_printf("%s\xe2\x80\xa6%s", front, back);
    const char *shown = length <= (glong)WIDE ? safe : cut;
    ek_cli_print("%s", shown);
    if (!is_last)
        put_spaces(WIDE + BETWEEN - (guint)MIN(g_utf8_strlen(shown, -1), (glong)WIDE));
}

static void put_line(const Sheet *sheet, guint line)
{
    for (guint i = 0; i < sheet->count; i++) {
        char **lines = sheet->row[i].lines;
        const char *text = line < g_strv_length(lines) ? lines[line] : "";
        ek_peeking_print_line(text);
        if (strchr(text, '\033') != NULL)
            fputs("\033[0m", stdout);
        guint columns = MIN(ek_peeking_line_columns(text), WIDE);
        if (i + 1 < sheet->count)
            put_spaces(WIDE + BETWEEN - columns);
    }
    ek_cli_print("\n");
}

static void end_row(Sheet *sheet)
{
    gboolean has_notes = FALSE;
    if (sheet->count == 0)
        return;
    for (guint line = 0; line < HIGH; line++)
        put_line(sheet, line);
    for (guint i = 0; i < sheet->count; i++) {
        put_caption(sheet->row[i].name, i + 1 == sheet->count);
        has_notes |= *sheet->row[i].note != '\0';
    }
    ek_cli_print("\n");
    for (guint i = 0; has_notes && i < sheet->count; i++)
        put_caption(sheet->row[i].note, i + 1 == sheet->count);
    ek_cli_print(has_notes ? "\n\n" : "\n");
    for (guint i = 0; i < sheet->count; i++) {
        g_free(sheet->row[i].name);
        g_free(sheet->row[i].note);
        g_strfreev(sheet->row[i].lines);
    }
    sheet->count = 0;
    fflush(stdout);
}

/* FALSE with sheet->error where content cannot be looked into at all. */
static gboolean add_picture(Sheet *sheet, const EkItem *item)
{
    EkPeek peek = {0};
    EkFiles *files = ek_indexing_files(sheet->indexing);
    g_autoptr(GArray) extents = ek_inventory_extents(ek_indexing_inventory(sheet->indexing),
                                                     item->file.number, &sheet->error);
    if (extents == NULL || !ek_peeker_look(sheet->peeker, files, &item->file, extents,
                                           sheet->cancel, &peek, &sheet->error)) {
        ek_peek_clear(&peek);
        return FALSE;
    }
    gboolean is_drawn = peek.look == EK_LOOK_PICTURE && peek.shown != NULL;
    gboolean is_whole = item->damage.condition == EK_CONDITION_WHOLE;
    Cell *cell = &sheet->row[sheet->count++];
    cell->name = g_strdup(item->name);
    cell->note = g_strdup(peek.opens == EK_OPENS_NO ? "does not open"
                          : !is_whole               ? ek_condition_name(item->damage.condition)
                          : !is_drawn               ? "cannot be drawn"
                                                    : "");
    cell->lines = g_strsplit(is_drawn ? peek.shown : "", "\n", -1);
    ek_peek_clear(&peek);
    sheet->drawn++;
    if (sheet->count == sheet->columns)
        end_row(sheet);
    return TRUE;
}

static gboolean is_shown(EkKind kind)
{
    return kind == EK_KIND_PICTURE || kind == EK_KIND_VIDEO;
}

static gboolean take_item(void *data, const char *path, const EkItem *item)
{
    Sheet *sheet = data;
    (void)path;
    if (item->file.type != EK_TYPE_FILE || item->file.size == 0 || item->is_again ||
        !is_shown(ek_kind_of(item->name)))
        return g_atomic_int_get(sheet->cancel) == 0;
    if (sheet->drawn >= PICTURES_MOST) {
        sheet->more++;
        return g_atomic_int_get(sheet->cancel) == 0;
    }
    return add_picture(sheet, item) && g_atomic_int_get(sheet->cancel) == 0;
}

static gboolean check_folder(Sheet *sheet, guint64 folder, GError **error)
{
    gboolean is_folder = FALSE;
    return ek_inventory_is_folder(ek_indexing_inventory(sheet->indexing), folder, &is_folder,
                                  error) &&
           (is_folder || ek_error_set(error, EK_ERROR_FAILED,
                                      "--sheet takes a volume or a folder, and this is a file"));
}

int ek_sheet_print(EkCli *cli, EkIndexing *indexing, guint64 folder, gboolean plain)
{
    GError *error = NULL;
    EkPeekCanvas canvas = ek_peeking_canvas(cli, plain);
    if (canvas.columns == 0)
        return ek_cli_misused(cli, "--sheet: run this in a terminal, or use --plain");
    canvas.columns = WIDE;
    canvas.lines = HIGH;
    canvas.look_only = TRUE;
    g_autoptr(EkPeeker) peeker = ek_peeking_new(&canvas);
    guint columns = ((guint)MAX(cli->width, 1) + BETWEEN) / (WIDE + BETWEEN);
    Sheet sheet = {.cli = cli,
                   .indexing = indexing,
                   .peeker = peeker,
                   .cancel = ek_cli_watch_signals(),
                   .columns = CLAMP(columns, 1, ROW_MOST)};
    gboolean fine = check_folder(&sheet, folder, &error) &&
                    ek_inventory_walk(ek_indexing_inventory(indexing), folder, EK_WITH_BELOW,
                                      take_item, &sheet, &error);
    end_row(&sheet);
    if (sheet.error != NULL && error == NULL)
        error = g_steal_pointer(&sheet.error);
    g_clear_error(&sheet.error);
    if (!fine || error != NULL)
        return ek_cli_fail(cli, error);
    if (sheet.drawn == 0)
        ek_cli_print("There are no pictures or films here.\n");
    if (sheet.more > 0)
        ek_cli_advise("%" G_GUINT64_FORMAT
                      " more pictures and films. To see them, name a folder below this "
                      "one",
                      sheet.more);
    return g_atomic_int_get(sheet.cancel) != 0 ? EK_EXIT_INTERRUPTED : EK_EXIT_DONE;
}

/* SPDX-License-Identifier: MIT */
/* peek: previews one file. */
#include "filerow.h"
#include "peeking.h"
#include "sheet.h"
#include "show.h"
#include "terminalpicture.h"

#include "base/text.h"

#include <stdio.h>
#include <string.h>

#define PIECES_SHOWN 8u
#define HEX_BYTES 16u
#define LINK_MOST 4096u

typedef struct {
    EkCli *cli;
    EkIndexing *indexing;
    gboolean json;
    gboolean plain;
    EkTerminalShows shows; /* what pictures are drawn with */
    guint32 sector_size;
    char *path;
    EkItem item;
    char *name;
} Peeking;

static gboolean keep_item(void *data, const char *path, const EkItem *item)
{
    Peeking *peeking = data;
    peeking->path = g_strdup(path);
    peeking->name = g_strdup(item->name);
    peeking->item = *item;
    peeking->item.name = peeking->name;
    peeking->item.name_bytes = NULL;
    return TRUE;
}

static gboolean has_content(const EkFile *file)
{
    return file->type == EK_TYPE_FILE || file->type == EK_TYPE_STREAM;
}

/* --- lines ---------------------------------------------------------------------------------- */

static void print_line(const char *word, const char *text)
{
    g_autofree char *mark = g_strdup_printf("  %-11s", *word != '\0' ? word : "");
    ek_show_sentence(stdout, mark, 13, text);
}

static void print_timestamp(const char *word, const EkTimestamp *timestamp)
{
    g_autofree char *text = ek_timestamp_text(timestamp);
    if (text == NULL)
        return;
    text[10] = ' ';
    gsize length = strlen(text);
    gboolean is_utc = text[length - 1] == 'Z';
    if (is_utc)
        text[length - 1] = '\0';
    g_autofree char *line = g_strconcat(text, is_utc ? " UTC" : " (local time)", NULL);
    print_line(word, line);
}

/* "512 B at sector 120, 4.0 KiB at sector 400 … and 12 more". */
static void print_extents(const Peeking *peeking, const GArray *extents)
{
    g_autoptr(GString) text = g_string_new(NULL);
    guint shown = 0;
    for (guint i = 0; i < extents->len && shown < PIECES_SHOWN; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        g_autofree char *size = ek_text_size(extent->stored);
        g_string_append_printf(text, "%s%s ", shown++ > 0 ? ", " : "", size);
        if (ek_extent_place(extent) == EK_UNPLACED)
            g_string_append(text, "at an unknown location");
        else if (extent->first_byte % peeking->sector_size == 0)
            g_string_append_printf(text, "at sector %" G_GUINT64_FORMAT,
                                   extent->first_byte / peeking->sector_size);
        else
            g_string_append_printf(text, "at byte %" G_GUINT64_FORMAT, extent->first_byte);
    }
    if (extents->len > shown)
        g_string_append_printf(text, " and %u more", extents->len - shown);
    if (extents->len == 0)
        g_string_append(text, "no sectors (empty, or stored in its record)");
    print_line("location", text->str);
}

static void print_holes(const GArray *holes)
{
    g_autoptr(GString) text = g_string_new(NULL);
    for (guint i = 0; i < holes->len && i < PIECES_SHOWN; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        g_autofree char *size = ek_text_size(hole->bytes);
        g_string_append_printf(text, "%s%s at byte %" G_GUINT64_FORMAT, i > 0 ? ", " : "", size,
                               hole->offset);
    }
    if (holes->len > PIECES_SHOWN)
        g_string_append_printf(text, " and %u more", holes->len - PIECES_SHOWN);
    if (holes->len > 0)
        print_line("holes", text->str);
}

/* What it is by its content, beside what its name says. */
static void print_type(const Peeking *peeking, const EkPeek *peek)
{
    g_autofree char *type = ek_text_escape(peek->type);
    g_autoptr(GString) text = g_string_new(type);
    EkKind named = ek_kind_of(peeking->item.name);
    if (peek->is_blank)
        g_string_printf(text, "blank (every byte is %02x)", peek->blank);
    else if (!peek->is_known)
        g_string_assign(text, *type != '\0' ? type : "unknown: the start of the file was not read");
    if (*peek->mime != '\0' && !peek->is_blank && peek->is_known) {
        g_autofree char *mime = ek_text_escape(peek->mime);
        g_string_append_printf(text, " (%s; %s)", mime, ek_kind_name(peek->kind));
    }
    print_line("content", text->str);
    if (peek->is_known && !peek->is_blank && named != EK_KIND_OTHER && named != peek->kind) {
        g_autofree char *differs = g_strdup_printf("name suggests %s, content is %s",
                                                   ek_kind_name(named), ek_kind_name(peek->kind));
        print_line("", differs);
    }
}

static void print_opens(const Peeking *peeking, const EkPeek *peek)
{
    static const char *const words[] = {"not checked", "yes", "no"};
    static const EkColor colors[] = {EK_COLOR_PLAIN, EK_COLOR_GOOD, EK_COLOR_BAD};
    guint opens = MIN(peek->opens, EK_OPENS_NO);
    g_autofree char *why = ek_text_escape(peek->why);
    g_autofree char *word = ek_show_in(peeking->cli->color_out, colors[opens], words[opens]);
    g_autofree char *line = g_strconcat(word, *why != '\0' ? ": " : "", why, NULL);
    print_line("opens", line);
}

static void print_hex(const EkPeek *peek)
{
    for (gsize at = 0; at < peek->start_bytes; at += HEX_BYTES) {
        gsize count = MIN(HEX_BYTES, peek->start_bytes - at);
        g_autofree char *hex = ek_text_hex(peek->start + at, count, ' ');
        ek_cli_print("  %06" G_GSIZE_MODIFIER "x  %-47s  ", at, hex);
        for (gsize i = 0; i < count; i++)
            putchar(g_ascii_isprint(peek->start[at + i]) ? peek->start[at + i] : '.');
        ek_cli_print("\n");
    }
}

static void print_look(const Peeking *peeking, const EkPeek *peek)
{
    ek_cli_print("\n");
    if (peek->look == EK_LOOK_PIXELS) {
        fflush(stdout);
        ek_terminal_draw(peeking->shows, peek->pixels, peek->wide, peek->high);
        return;
    }
    if (peek->look == EK_LOOK_PICTURE) {
        ek_peeking_print_picture(peek->shown);
        return;
    }
    if (peek->look == EK_LOOK_NONE) {
        print_hex(peek);
        return;
    }
    g_auto(GStrv) lines = g_strsplit(peek->shown, "\n", -1);
    glong room = peeking->cli->width - 2;
    for (char **line = lines; *line != NULL && (*line[0] != '\0' || line[1] != NULL); line++) {
        g_auto(GStrv) parts = g_strsplit(*line, "\t", -1);
        g_autofree char *spaced = g_strjoinv("    ", parts);
        g_autofree char *safe = ek_text_escape(spaced);
        gboolean cut = g_utf8_strlen(safe, -1) > room;
        g_autofree char *shown = cut ? g_utf8_substring(safe, 0, MAX(room - 1, 0)) : NULL;
        ek_cli_print("  %s%s\n", cut ? shown : safe, cut ? "…" : "");
    }
}

/* --- JSON ----------------------------------------------------------------------------------- */

static json_t *extents_json(const GArray *extents)
{
    json_t *list = json_array();
    for (guint i = 0; i < extents->len; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        json_array_append_new(list,
                              json_pack("{s:o,s:o,s:o}", "offset", ek_json_u64(extent->offset),
                                        "bytes", ek_json_u64(extent->bytes), "first_byte",
                                        ek_extent_place(extent) == EK_UNPLACED
                                            ? json_null()
                                            : ek_json_u64(extent->first_byte)));
    }
    return list;
}

static json_t *content_json(const EkPeek *peek)
{
    static const char *const looks[] = {"none", "text", "list", "picture"};
    static const char *const opens[] = {"not checked", "yes", "no"};
    gboolean has_lines = peek->look == EK_LOOK_TEXT || peek->look == EK_LOOK_LIST;
    json_t *json = json_object();
    json_object_set_new(json, "type", peek->is_known ? ek_json_text(peek->type) : json_null());
    json_object_set_new(json, "mime", peek->is_known ? ek_json_text(peek->mime) : json_null());
    json_object_set_new(json, "kind",
                        peek->is_known ? ek_json_text(ek_kind_name(peek->kind)) : json_null());
    json_object_set_new(json, "blank", json_boolean(peek->is_blank));
    json_object_set_new(json, "opens", ek_json_text(opens[MIN(peek->opens, EK_OPENS_NO)]));
    json_object_set_new(json, "why", ek_json_text(peek->why));
    json_object_set_new(json, "look", ek_json_text(looks[MIN(peek->look, EK_LOOK_PICTURE)]));
    json_object_set_new(json, "shown", has_lines ? ek_json_text(peek->shown) : json_null());
    return json;
}

/* --- links ---------------------------------------------------------------------------------- */

static gboolean take_target(void *data, const guint8 *bytes, gsize length)
{
    GString *target = data;
    if (bytes != NULL)
        g_string_append_len(target, (const char *)bytes, (gssize)MIN(length, LINK_MOST));
    return target->len < LINK_MOST;
}

/* Where a symbolic link leads, where its content says so. */
static void print_target(const Peeking *peeking, EkFiles *files, const GArray *extents)
{
    const EkFile *file = &peeking->item.file;
    g_autoptr(GString) target = g_string_new(NULL);
    if (file->type != EK_TYPE_LINK || file->size == 0 || file->size > LINK_MOST)
        return;
    ek_files_read(files, file, extents, take_target, target);
    g_autofree char *valid = ek_text_utf8((const guint8 *)target->str, target->len);
    g_autofree char *safe = ek_text_escape(valid);
    if (*safe != '\0')
        print_line("leads to", safe);
}

/* --- the command ---------------------------------------------------------------------------- */

/* How it was found by content. */
static gboolean print_entry(void *data, const EkContentEntry *entry)
{
    g_autofree char *text =
        g_strdup_printf("%s: %s, %s", ek_content_state_name(entry->state), entry->type, entry->why);
    (void)data;
    print_line("found as", text);
    return TRUE;
}

static void print_head(const Peeking *peeking, const GArray *extents, const GArray *holes)
{
    const EkItem *item = &peeking->item;
    const EkFile *file = &item->file;
    g_autofree char *path = ek_text_escape(peeking->path);
    g_autofree char *word = ek_cli_place_word(ek_indexing_volume(peeking->indexing)->number);
    g_autofree char *place = g_strdup_printf("%s:%s", word, *path != '\0' ? path : "/");
    g_autofree char *strong = ek_show_in(peeking->cli->color_out, EK_COLOR_STRONG, place);
    ek_cli_print("%s\n", strong);
    g_autofree char *size = ek_text_size(file->size);
    g_autofree char *sizes =
        has_content(file)
            ? g_strdup_printf(
                  "%s (%" G_GUINT64_FORMAT " bytes)%s%s, number %" G_GUINT64_FORMAT, size,
                  file->size, (file->flags & EK_FILE_DELETED) != 0 ? ", deleted" : "",
                  (file->flags & EK_FILE_ENCRYPTED) != 0 ? ", encrypted" : "", file->number)
            : g_strdup_printf("a %s%s, number %" G_GUINT64_FORMAT,
                              file->type == EK_TYPE_FOLDER ? "folder"
                              : file->type == EK_TYPE_LINK ? "symbolic link (not followed)"
                                                           : "device, pipe or socket",
                              (file->flags & EK_FILE_DELETED) != 0 ? ", deleted" : "",
                              file->number);
    print_line("size", sizes);
    print_timestamp("created", &file->created);
    print_timestamp("modified", &file->modified);
    print_timestamp("accessed", &file->accessed);
    if (has_content(file) || extents->len > 0)
        print_extents(peeking, extents);
    if (ek_indexing_contents(peeking->indexing) != NULL && file->type == EK_TYPE_FILE)
        ek_contentstore_get(ek_indexing_contents(peeking->indexing), file->number, print_entry,
                            NULL, NULL);
    if ((file->flags & EK_FILE_GUESSED) != 0)
        print_line("", "a guess: the cluster chain of this file is lost");
    g_autofree char *condition = ek_filerow_condition(item);
    g_autofree char *shown = ek_show_in(
        peeking->cli->color_out,
        item->damage.condition == EK_CONDITION_WHOLE ? EK_COLOR_GOOD : EK_COLOR_BAD, condition);
    print_line("condition", shown);
    print_holes(holes);
}

/* Pictures, and what may have one in it: films, and documents without words that can be shown. */
static gboolean may_be_picture(const char *name)
{
    EkKind kind = ek_kind_of(name);
    g_autofree char *lower = g_ascii_strdown(name, -1);
    return kind == EK_KIND_PICTURE || kind == EK_KIND_VIDEO || g_str_has_suffix(lower, ".pdf");
}

/* Characters, unless the terminal can do more and it may be a picture. */
static EkPeekCanvas canvas_for(Peeking *peeking)
{
    EkPeekCanvas canvas = ek_peeking_canvas(peeking->cli, peeking->plain);
    if (peeking->plain || peeking->json || canvas.columns == 0 || !peeking->cli->color_out ||
        !may_be_picture(peeking->item.name))
        return canvas;
    peeking->shows = ek_terminal_shows();
    if (peeking->shows == EK_SHOWS_CHARACTERS)
        return canvas;
    canvas.pixels = TRUE;
    ek_terminal_room(canvas.columns, canvas.lines, &canvas.columns, &canvas.lines);
    return canvas;
}

static int peek_at(Peeking *peeking)
{
    EkCli *cli = peeking->cli;
    GError *error = NULL;
    const EkFile *file = &peeking->item.file;
    EkFiles *files = ek_indexing_files(peeking->indexing);
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(peeking->indexing), file->number, &error);
    if (extents == NULL)
        return ek_cli_fail(cli, error);
    g_autoptr(GArray) holes = ek_files_holes(files->reader, extents);
    if (!peeking->json)
        print_head(peeking, extents, holes);
    EkPeek peek = {0};
    gboolean looked = has_content(file) && file->size > 0;
    if (looked) {
        EkPeekCanvas canvas = canvas_for(peeking);
        g_autoptr(EkPeeker) peeker = ek_peeking_new(&canvas);
        fflush(stdout);
        if (!ek_peeker_look(peeker, files, file, extents, ek_cli_watch_signals(), &peek, &error)) {
            ek_peek_clear(&peek);
            return ek_cli_fail(cli, error);
        }
        ek_judging_complete(peeking->indexing, &peeking->item, ek_cli_watch_signals(), &peek);
    }
    if (peeking->json) {
        json_t *json =
            json_pack("{s:o,s:o,s:o}", "file",
                      ek_filerow_json(peeking->indexing, peeking->path, &peeking->item), "extents",
                      extents_json(extents), "content", looked ? content_json(&peek) : json_null());
        ek_peek_clear(&peek);
        return ek_cli_print_json(json);
    }
    print_target(peeking, files, extents);
    if (looked) {
        print_type(peeking, &peek);
        print_opens(peeking, &peek);
        print_look(peeking, &peek);
    }
    if (peek.opens == EK_OPENS_YES && peek.kind == EK_KIND_PICTURE && peek.look == EK_LOOK_NONE)
        ek_cli_advise("To draw the picture, run this in a terminal or use --plain.");
    ek_peek_clear(&peek);
    if (peeking->item.damage.unread_bytes > 0)
        ek_cli_advise("Part of this file has not been read yet. To read it next: ektypon image %s "
                      "--want \"%u:@%" G_GUINT64_FORMAT "\" --only-wanted",
                      cli->operands[0], ek_indexing_volume(peeking->indexing)->number,
                      file->number);
    return EK_EXIT_DONE;
}

int ek_command_peek(EkCli *cli)
{
    Peeking peeking = {.cli = cli};
    gboolean sheet = FALSE;
    const GOptionEntry entries[] = {
        {"plain", 0, 0, G_OPTION_ARG_NONE, &peeking.plain,
         "draw pictures with plain characters, wherever the output goes", NULL},
        {"sheet", 0, 0, G_OPTION_ARG_NONE, &sheet,
         "a contact sheet: the pictures and films of a folder and of those below it, side by side",
         NULL},
        EK_OPTIONS_OF_JOURNAL(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &peeking.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    EkPlace place;
    GError *error = NULL;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (sheet && peeking.json)
        return ek_cli_misused(cli, "--sheet draws pictures: not with --json");
    status = ek_filerow_open_place(cli, &place);
    if (status != EK_EXIT_DONE)
        return status;
    peeking.sector_size = ek_case_info(place.view.opened)->sector_size;
    peeking.indexing = place.indexing;
    if (sheet)
        status = ek_sheet_print(cli, place.indexing, place.number, peeking.plain);
    else
        status = ek_inventory_get(ek_indexing_inventory(place.indexing), place.number, keep_item,
                                  &peeking, &error)
                     ? peek_at(&peeking)
                     : ek_cli_fail(cli, error);
    ek_filerow_close_place(&place);
    g_free(peeking.path);
    g_free(peeking.name);
    return status;
}

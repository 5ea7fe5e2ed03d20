/* SPDX-License-Identifier: MIT */
/* A file as the commands show it. */
#include "filerow.h"

#include "profile.h"
#include "show.h"
#include "work/summary.h"

#include "base/text.h"

#include <stdio.h>
#include <unistd.h>

#define STRIP_CELLS 8
#define SIZE_COLUMNS 10
#define TIME_COLUMNS 19
#define DATE_COLUMNS 10
#define NUMBER_COLUMNS 10
#define MISSING_COLUMNS 9
#define LEAST_NAME 16

static const char *const type_names[] = {[EK_TYPE_FILE] = "file",
                                         [EK_TYPE_FOLDER] = "folder",
                                         [EK_TYPE_LINK] = "link",
                                         [EK_TYPE_SPECIAL] = "special",
                                         [EK_TYPE_STREAM] = "stream"};

json_t *ek_filerow_holes_json(EkIndexing *indexing, const EkItem *item)
{
    json_t *json = json_array();
    const EkDamage *damage = &item->damage;
    if (item->file.type == EK_TYPE_FOLDER ||
        damage->bad_bytes + damage->unread_bytes + damage->unplaced_bytes == 0)
        return json;
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(indexing), item->file.number, NULL);
    if (extents == NULL)
        return json;
    g_autoptr(GArray) holes = ek_files_holes(ek_indexing_files(indexing)->reader, extents);
    for (guint i = 0; i < holes->len; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        json_array_append_new(json, json_pack("{s:o,s:o}", "offset", ek_json_u64(hole->offset),
                                              "length", ek_json_u64(hole->bytes)));
    }
    return json;
}

static void set_timestamp(json_t *row, const char *key, const EkTimestamp *timestamp)
{
    g_autofree char *text = ek_timestamp_text(timestamp);
    json_object_set_new(row, key, ek_json_text(text));
}

/* A further name of a folder is a link to it. */
static const char *type_name(const EkItem *item)
{
    return item->is_again ? "link" : type_names[MIN(item->file.type, EK_TYPE_STREAM)];
}

json_t *ek_filerow_volume_json(EkIndexing *indexing)
{
    guint number = ek_indexing_volume(indexing)->number;
    return number == EK_CONTENTS ? json_string("carved") : ek_json_u64(number);
}

static gboolean add_entry(void *data, const EkContentEntry *entry)
{
    json_t *row = data;
    json_object_set_new(row, "content_type", ek_json_text(entry->type));
    json_object_set_new(row, "state", ek_json_text(ek_content_state_name(entry->state)));
    json_object_set_new(row, "why", ek_json_text(entry->why));
    return TRUE;
}

/* What a search by content knows of a file besides. */
static void add_content(json_t *row, EkIndexing *indexing, guint64 number)
{
    json_t *places = json_array();
    g_autoptr(GArray) extents = ek_inventory_extents(ek_indexing_inventory(indexing), number, NULL);
    ek_contentstore_get(ek_indexing_contents(indexing), number, add_entry, row, NULL);
    for (guint i = 0; extents != NULL && i < extents->len; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        json_array_append_new(places,
                              json_pack("{s:o,s:o,s:o}", "offset", ek_json_u64(extent->offset),
                                        "bytes", ek_json_u64(extent->bytes), "first_byte",
                                        ek_json_u64(extent->first_byte)));
    }
    json_object_set_new(row, "extents", places);
}

json_t *ek_filerow_json(EkIndexing *indexing, const char *path, const EkItem *item)
{
    const EkFile *file = &item->file;
    json_t *row = json_object();
    json_object_set_new(row, "volume", ek_filerow_volume_json(indexing));
    json_object_set_new(row, "number", ek_json_u64(file->number));
    json_object_set_new(row, "path", ek_json_text(path));
    if (item->name_bytes != NULL) {
        g_autofree char *hex = ek_text_hex(item->name_bytes, item->name_length, '\0');
        json_object_set_new(row, "name_bytes", ek_json_text(hex));
    }
    json_object_set_new(row, "type", ek_json_text(type_name(item)));
    if (item->is_again)
        json_object_set_new(row, "same_as", ek_json_u64(file->number));
    json_object_set_new(row, "size", ek_json_u64(file->size));
    set_timestamp(row, "created", &file->created);
    set_timestamp(row, "modified", &file->modified);
    set_timestamp(row, "accessed", &file->accessed);
    json_object_set_new(row, "attributes", ek_json_u64(file->attributes));
    json_object_set_new(row, "deleted", json_boolean((file->flags & EK_FILE_DELETED) != 0));
    json_object_set_new(row, "guessed", json_boolean((file->flags & EK_FILE_GUESSED) != 0));
    json_object_set_new(row, "encrypted", json_boolean((file->flags & EK_FILE_ENCRYPTED) != 0));
    if ((file->flags & EK_FILE_NAMED) != 0)
        json_object_set_new(row, "name_only", json_true());
    json_object_set_new(row, "condition", ek_json_text(ek_condition_name(item->damage.condition)));
    json_object_set_new(row, "bad_bytes", ek_json_u64(item->damage.bad_bytes));
    json_object_set_new(row, "unread_bytes", ek_json_u64(item->damage.unread_bytes));
    json_object_set_new(row, "overwritten_bytes", ek_json_u64(item->damage.overwritten_bytes));
    json_object_set_new(row, "holes", ek_filerow_holes_json(indexing, item));
    if (ek_indexing_contents(indexing) != NULL && file->type == EK_TYPE_FILE)
        add_content(row, indexing, file->number);
    return row;
}

char *ek_filerow_condition(const EkItem *item)
{
    const EkDamage *damage = &item->damage;
    g_autoptr(GString) text = g_string_new(ek_condition_name(damage->condition));
    const struct {
        EkByte bytes;
        const char *word;
    } parts[] = {{damage->bad_bytes, "bad"},
                 {damage->unread_bytes, "unread"},
                 {damage->overwritten_bytes, "overwritten"},
                 {damage->unplaced_bytes, "not placed"}};
    const char *separator = ": ";
    for (gsize i = 0; i < G_N_ELEMENTS(parts); i++) {
        if (parts[i].bytes == 0)
            continue;
        g_autofree char *size = ek_text_size(parts[i].bytes);
        g_string_append_printf(text, "%s%s %s", separator, size, parts[i].word);
        separator = ", ";
    }
    if (damage->condition == EK_CONDITION_DOUBTFUL)
        g_string_append_printf(text, "%s%s", separator,
                               (item->file.flags & EK_FILE_GUESSED) != 0 ? "place guessed"
                               : (item->file.flags & EK_FILE_UNCHECKED) != 0
                                   ? "its content cannot be verified"
                                   : "another file claims the same sectors");
    return g_strdup(text->str);
}

/* What stands in the place of a size. */
static char *size_text(const EkItem *item)
{
    if (item->file.type == EK_TYPE_FILE || item->file.type == EK_TYPE_STREAM)
        return ek_text_size(item->file.size);
    return g_strdup(type_name(item));
}

static gboolean has_content(const EkItem *item)
{
    return (item->file.type == EK_TYPE_FILE || item->file.type == EK_TYPE_STREAM) &&
           item->file.size > 0;
}

char *ek_filerow_strip(EkIndexing *indexing, const EkItem *item, gboolean color)
{
    EkKnown parts[STRIP_CELLS] = {{0}};
    if (!has_content(item))
        return g_strnfill(STRIP_CELLS, ' ');
    if (item->damage.bad_bytes + item->damage.unread_bytes + item->damage.unplaced_bytes > 0) {
        g_autoptr(GArray) extents =
            ek_inventory_extents(ek_indexing_inventory(indexing), item->file.number, NULL);
        if (extents != NULL)
            ek_files_measure(ek_indexing_files(indexing)->reader, extents, item->file.size, parts,
                             STRIP_CELLS);
    }
    GString *strip = g_string_new(NULL);
    EkColor last = EK_COLOR_PLAIN;
    for (guint i = 0; i < STRIP_CELLS; i++) {
        const EkLayer *layer = ek_layer_of(parts[i].bad > 0      ? EK_STATE_BAD
                                           : parts[i].unread > 0 ? EK_STATE_UNTOUCHED
                                                                 : EK_STATE_GOOD);
        if (layer->color != last)
            g_string_append(strip, ek_show_on(color, layer->color));
        last = layer->color;
        g_string_append(strip, layer->glyph);
    }
    g_string_append(strip, ek_show_off(color));
    return g_string_free(strip, FALSE);
}

/* Bytes that are not there, or are another file's; "" for none. The caller frees. */
static char *missing_text(const EkItem *item)
{
    const EkDamage *damage = &item->damage;
    EkByte missing = damage->bad_bytes + damage->unread_bytes + damage->unplaced_bytes +
                     damage->overwritten_bytes;
    return missing > 0 ? ek_text_size(missing) : g_strdup("");
}

/* What stands behind a name. The caller frees. */
static char *marks_text(const EkItem *item, gboolean color, gboolean is_short)
{
    GString *marks = g_string_new(NULL);
    gboolean is_doubtful = item->damage.condition == EK_CONDITION_DOUBTFUL;
    if (item->is_again)
        g_string_append_printf(marks, "  [same folder as @%" G_GUINT64_FORMAT "]",
                               item->file.number);
    if ((item->file.flags & EK_FILE_DELETED) != 0)
        g_string_append_printf(
            marks, "  %s[deleted%s]%s", ek_show_on(color, EK_COLOR_FAINT),
            (item->file.flags & EK_FILE_GUESSED) != 0 && !is_doubtful ? ", place guessed" : "",
            ek_show_off(color));
    if ((item->file.flags & EK_FILE_ENCRYPTED) != 0)
        g_string_append(marks, "  [encrypted]");
    if ((item->file.flags & EK_FILE_NAMED) != 0) {
        g_string_append_printf(marks, "  %s[known by name only]%s", ek_show_on(color, EK_COLOR_BAD),
                               ek_show_off(color));
    } else if (item->damage.condition != EK_CONDITION_WHOLE) {
        g_autofree char *condition = is_short ? g_strdup(ek_condition_name(item->damage.condition))
                                              : ek_filerow_condition(item);
        g_string_append_printf(marks, "  %s[%s]%s", ek_show_on(color, EK_COLOR_BAD), condition,
                               ek_show_off(color));
    }
    return g_string_free(marks, FALSE);
}

static EkFileRowShape row_shape(const EkCli *cli)
{
    EkFileRowShape shape = {TRUE, TRUE, TRUE, 0};
    if (isatty(STDOUT_FILENO) == 0)
        return shape;
    int width = cli->width;
    shape.has_time = width >= 100;
    shape.has_number = width >= 90;
    shape.has_date = width >= 72;
    int taken = SIZE_COLUMNS + 2 + STRIP_CELLS + 2 + MISSING_COLUMNS + 2 +
                (shape.has_date ? 2 + (shape.has_time ? TIME_COLUMNS : DATE_COLUMNS) : 0) +
                (shape.has_number ? 2 + NUMBER_COLUMNS : 0);
    shape.name = (guint)MAX(width - taken, LEAST_NAME);
    return shape;
}

static void print_header(const EkCli *cli, const EkFileRowShape *shape)
{
    g_autoptr(GString) line = g_string_new(NULL);
    g_string_append_printf(line, "%*s", SIZE_COLUMNS, "SIZE");
    if (shape->has_date)
        g_string_append_printf(line, "  %-*s", shape->has_time ? TIME_COLUMNS : DATE_COLUMNS,
                               "MODIFIED");
    if (shape->has_number)
        g_string_append_printf(line, "  %-*s", NUMBER_COLUMNS, "NUMBER");
    g_string_append_printf(line, "  %-*s  %*s  %s", STRIP_CELLS, "CONTENT", MISSING_COLUMNS,
                           "MISSING", "NAME");
    g_autofree char *bold = ek_show_in(cli->color_out, EK_COLOR_STRONG, line->str);
    ek_cli_print("%s\n", bold);
}

void ek_filerow_print(EkFileRows *rows, EkIndexing *indexing, const char *name, const EkItem *item)
{
    gboolean color = rows->cli->color_out;
    if (!rows->is_begun) {
        rows->shape = row_shape(rows->cli);
        print_header(rows->cli, &rows->shape);
        rows->is_begun = TRUE;
    }
    EkFileRowShape shape = rows->shape;
    g_autofree char *size = size_text(item);
    g_autofree char *modified = ek_timestamp_text(&item->file.modified);
    g_autofree char *safe = ek_text_escape(name);
    g_autofree char *full = g_strconcat(safe, item->file.type == EK_TYPE_FOLDER ? "/" : "", NULL);
    gboolean is_made = item->file.number >= (guint64)1 << 62;
    g_autofree char *number =
        is_made ? g_strdup("-") : g_strdup_printf("@%" G_GUINT64_FORMAT, item->file.number);
    g_autofree char *strip = ek_filerow_strip(indexing, item, color);
    g_autofree char *missing = missing_text(item);
    g_autofree char *own_marks = marks_text(item, color, !shape.has_time);
    g_autofree char *remark = ek_text_escape(rows->remark != NULL ? rows->remark : "");
    g_autofree char *marks = g_strdup_printf("%s%s%s%s", own_marks, *remark != '\0' ? "  [" : "",
                                             remark, *remark != '\0' ? "]" : "");
    if (modified != NULL)
        modified[10] = ' ';
    g_autoptr(GString) line = g_string_new(NULL);
    g_string_append_printf(line, "%*s", SIZE_COLUMNS, size);
    if (shape.has_date) {
        int columns = shape.has_time ? TIME_COLUMNS : DATE_COLUMNS;
        g_string_append_printf(line, "  %-*.*s", columns, columns,
                               modified != NULL ? modified : "-");
    }
    if (shape.has_number)
        g_string_append_printf(line, "  %-*s", NUMBER_COLUMNS, number);
    g_string_append_printf(line, "  %s  %*s  ", strip, MISSING_COLUMNS, missing);
    /* The marks give way before the name does. */
    if (shape.name > 0) {
        guint wide = ek_show_columns(full);
        guint least = MIN(wide, MAX(shape.name / 2, (guint)LEAST_NAME));
        guint for_marks = shape.name - MIN(shape.name, least);
        g_autofree char *short_marks = ek_show_clipped(marks, for_marks);
        g_autofree char *short_name = ek_show_clipped_middle(
            full, shape.name - MIN(shape.name, ek_show_columns(short_marks)));
        g_string_append_printf(line, "%s%s", short_name, short_marks);
    } else {
        g_string_append_printf(line, "%s%s", full, marks);
    }
    g_string_append_c(line, '\n');
    ek_show_put(stdout, line->str);
}

void ek_filerow_count(EkFileTotals *totals, const EkItem *item)
{
    const EkFile *file = &item->file;
    totals->local_times |= file->modified.is_set && file->modified.is_local;
    totals->utc_times |= file->modified.is_set && !file->modified.is_local;
    totals->deleted += (file->flags & EK_FILE_DELETED) != 0;
    totals->unread_bytes += item->damage.unread_bytes;
    if (file->type == EK_TYPE_FOLDER) {
        totals->folders++;
        totals->hurt_folders += item->damage.condition != EK_CONDITION_WHOLE;
        return;
    }
    totals->files++;
    totals->bytes += file->size;
    totals->by_condition[MIN(item->damage.condition, EK_CONDITIONS - 1)]++;
}

static gboolean count_start(void *data, const char *path, const EkItem *item)
{
    EkFileTotals *totals = data;
    (void)path;
    if (item->file.type == EK_TYPE_FOLDER && item->damage.condition != EK_CONDITION_WHOLE)
        totals->hurt_folders++;
    return TRUE;
}

void ek_filerow_count_start(EkFileTotals *totals, EkInventory *inventory, guint64 number)
{
    ek_inventory_get(inventory, number, count_start, totals, NULL);
}

json_t *ek_filerow_totals_json(const EkFileTotals *totals)
{
    json_t *json = json_pack("{s:o,s:o,s:o,s:o}", "files", ek_json_u64(totals->files), "folders",
                             ek_json_u64(totals->folders), "bytes", ek_json_u64(totals->bytes),
                             "deleted", ek_json_u64(totals->deleted));
    for (guint i = 0; i < EK_CONDITIONS; i++)
        json_object_set_new(json, ek_condition_name((EkCondition)i),
                            ek_json_u64(totals->by_condition[i]));
    return json;
}

static void print_legend(const EkFileTotals *totals)
{
    static const char *const meanings[EK_CONDITIONS] = {
        [EK_CONDITION_HOLED] = "holed: some bytes are bad or unread",
        [EK_CONDITION_OVERWRITTEN] = "overwritten: part of the space belongs to another file now",
        [EK_CONDITION_UNPLACED] = "unplaced: the location of some data is unknown",
        [EK_CONDITION_DOUBTFUL] = "doubtful: the location is a guess or claimed by another file, "
                                  "or the content cannot be verified",
        [EK_CONDITION_CUT] = "cut: begins right and ends early",
    };
    gboolean occurs[EK_CONDITIONS];
    for (guint i = 0; i < EK_CONDITIONS; i++)
        occurs[i] = totals->by_condition[i] > 0;
    g_autofree char *line = ek_show_legend(meanings, occurs, EK_CONDITIONS);
    ek_cli_print("%s", line);
}

void ek_filerow_print_totals(EkCli *cli, const EkFileTotals *totals, gboolean with_legend)
{
    g_autofree char *files = ek_text_count(totals->files, "file", "files");
    g_autofree char *folders = ek_text_count(totals->folders, "folder", "folders");
    g_autofree char *size = ek_text_size(totals->bytes);
    g_autoptr(GString) line = g_string_new(NULL);
    if (totals->folders > 0 || totals->files == 0)
        g_string_append_printf(line, "%s, ", folders);
    g_string_append_printf(line, "%s, %s", files, size);
    const char *separator = "; ";
    for (guint i = EK_CONDITION_HOLED; i < EK_CONDITIONS; i++) {
        if (totals->by_condition[i] == 0)
            continue;
        g_string_append_printf(line, "%s%" G_GUINT64_FORMAT " %s", separator,
                               totals->by_condition[i], ek_condition_name((EkCondition)i));
        separator = ", ";
    }
    if (totals->deleted > 0)
        g_string_append_printf(line, "%s%" G_GUINT64_FORMAT " deleted", separator, totals->deleted);
    ek_cli_print("%s\n", line->str);
    if (with_legend)
        print_legend(totals);
    if (totals->hurt_folders > 0)
        ek_cli_advise("%s: %" G_GUINT64_FORMAT
                      " folders are damaged; some file names may be missing",
                      cli->command->name, totals->hurt_folders);
    if (totals->local_times)
        ek_cli_advise("Times %sare local times of the computer that wrote the files (FAT stores no "
                      "time zone).",
                      totals->utc_times ? "of FAT volumes " : "");
    if (totals->utc_times)
        ek_cli_advise("%s are in UTC.", totals->local_times ? "The others" : "Times");
}

void ek_filerow_print_inventory(guint volume, const EkInventoryTotals *totals)
{
    g_autofree char *folders = ek_text_count(totals->folders, "folder", "folders");
    g_autofree char *files = ek_text_count(totals->files, "file", "files");
    g_autofree char *named = ek_text_count(totals->named, "more file is", "more files are");
    g_autofree char *size = ek_text_size(totals->bytes);
    g_autofree char *what =
        volume == EK_CONTENTS ? g_strdup("Contents") : g_strdup_printf("Volume %u", volume);
    ek_cli_print("%s: %s, %s, %s: %" G_GUINT64_FORMAT " whole", what, folders, files, size,
                 totals->by_condition[EK_CONDITION_WHOLE]);
    for (guint i = EK_CONDITION_HOLED; i < EK_CONDITIONS; i++)
        if (totals->by_condition[i] > 0)
            ek_cli_print(", %" G_GUINT64_FORMAT " %s", totals->by_condition[i],
                         ek_condition_name((EkCondition)i));
    if (totals->deleted > 0)
        ek_cli_print("; plus %" G_GUINT64_FORMAT " deleted", totals->deleted);
    ek_cli_print("\n");
    if (totals->named > 0)
        ek_cli_print("%s known by name only: to list them, add --lost-content\n", named);
    if (totals->hurt_folders > 0)
        ek_cli_print("%" G_GUINT64_FORMAT " folders have holes: names may be missing\n",
                     totals->hurt_folders);
}

/* --- opening -------------------------------------------------------------------------------- */

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    EkInventoryTotals now = ek_indexing_progress(data);
    g_autofree char *size = ek_text_size(now.bytes);
    guint number = ek_indexing_volume(data)->number;
    g_autofree char *what =
        number == EK_CONTENTS ? g_strdup("contents") : g_strdup_printf("volume %u", number);
    g_string_printf(lines[0],
                    "indexing %s: %" G_GUINT64_FORMAT " folders, %" G_GUINT64_FORMAT " files, %s",
                    what, now.folders, now.files, size);
}

/* Which transaction --as-of led to. */
static void tell_moment(EkView *view, const EkCaseVolume *entry)
{
    g_autoptr(GArray) moments = ek_volume_moments(view, entry->volume);
    const EkMoment *chosen = moments != NULL ? ek_moment_of(moments, &view->as_of) : NULL;
    g_autofree char *time = chosen != NULL ? ek_timestamp_words(chosen->time) : NULL;
    if (chosen != NULL)
        ek_cli_advise("Volume %u as of transaction %" G_GUINT64_FORMAT " (%s). What was deleted or "
                      "changed since then is complete only where nothing was written over it.",
                      entry->number, chosen->transaction, time != NULL ? time : "no time");
}

EkIndexing *ek_filerow_open(EkCli *cli, EkView *view, guint64 volume, GError **error)
{
    const gint *cancel = ek_cli_watch_signals();
    view->without_journal = cli->without_journal;
    view->as_of = cli->as_of;
    view->with_lost = cli->lost_content;
    g_autoptr(EkIndexing) indexing = ek_indexing_new(view, volume, error);
    if (indexing != NULL && view->as_of.kind != EK_AS_IT_IS)
        tell_moment(view, ek_indexing_volume(indexing));
    if (indexing != NULL)
        ek_inventory_watch(ek_indexing_inventory(indexing), cancel);
    if (indexing == NULL || !ek_indexing_is_needed(indexing))
        return g_steal_pointer(&indexing);
    EkProgress *progress = ek_progress_begin(cli->terminal_err, draw, indexing);
    gboolean fine = ek_indexing_run(indexing, cancel, error);
    ek_progress_end(progress);
    return fine ? g_steal_pointer(&indexing) : NULL;
}

int ek_filerow_open_place(EkCli *cli, EkPlace *place)
{
    GError *error = NULL;
    guint64 volume = 0;
    *place = (EkPlace){.indexing = NULL};
    int status = ek_cli_take_place(cli, cli->operands[1], &volume, &place->path);
    if (status != EK_EXIT_DONE)
        return status;
    if (!ek_view_open(&place->view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    place->indexing = ek_filerow_open(cli, &place->view, volume, &error);
    if (place->indexing != NULL && ek_inventory_find(ek_indexing_inventory(place->indexing),
                                                     place->path, &place->number, &error))
        return EK_EXIT_DONE;
    ek_filerow_close_place(place);
    return ek_cli_fail(cli, error);
}

void ek_filerow_close_place(EkPlace *place)
{
    g_clear_pointer(&place->indexing, ek_indexing_free);
    ek_view_close(&place->view);
}

/* --- lists in JSON -------------------------------------------------------------------------- */

void ek_filerow_begin_list(EkFileList *list)
{
    list->first = TRUE;
    fputs("{\"files\": [", stdout);
}

void ek_filerow_add_to_list(EkFileList *list, json_t *row)
{
    fputs(list->first ? "\n" : ",\n", stdout);
    ek_cli_dump_json(row, FALSE);
    list->first = FALSE;
}

void ek_filerow_end_list(json_t *totals)
{
    fputs("\n], \"totals\": ", stdout);
    ek_cli_dump_json(totals, FALSE);
    ek_cli_print("}\n");
}

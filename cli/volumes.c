/* SPDX-License-Identifier: MIT */
/* volumes: lists the volumes found, or the evidence for one. */
#include "volumes.h"

#include "base/text.h"
#include "case/mapstore.h"
#include "case/volumestore.h"
#include "filerow.h"
#include "headers.h"
#include "layout.h"
#include "layoutpicture.h"
#include "show.h"
#include "work/seen.h"
#include "work/summary.h"

/* Of some containers only the least length is known. */
static char *size_of(const EkVolume *volume)
{
    g_autofree char *size = ek_text_size(volume->bytes);
    return volume->length_is_least ? g_strdup_printf("≥ %s", size) : g_strdup(size);
}

static char *day_of(EkTimestamp timestamp)
{
    g_autoptr(GDateTime) time = g_date_time_new_from_unix_utc(timestamp.seconds);
    return timestamp.is_set && time != NULL ? g_date_time_format(time, "%Y-%m-%d") : NULL;
}

static json_t *timestamp_json(EkTimestamp timestamp)
{
    g_autoptr(GDateTime) time = g_date_time_new_from_unix_utc(timestamp.seconds);
    if (!timestamp.is_set || time == NULL)
        return json_null();
    g_autofree char *text =
        g_date_time_format(time, timestamp.is_local ? "%Y-%m-%dT%H:%M:%S" : "%Y-%m-%dT%H:%M:%SZ");
    return json_string(text);
}

/* The volumes (EkCaseVolume*) of summaries, all or those that are shown. The caller unrefs. */
static GPtrArray *volumes_of(const GPtrArray *summaries, gboolean all)
{
    GPtrArray *volumes = g_ptr_array_new();
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *summary = summaries->pdata[i];
        if (all || summary->is_shown)
            g_ptr_array_add(volumes, (gpointer)summary->entry);
    }
    return volumes;
}

/* A view of the case, where any of the volumes has an inventory; else an empty one. */
static EkView view_for_files(EkCli *cli, const GPtrArray *volumes)
{
    EkView view = {0};
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, NULL);
    for (guint i = 0; opened != NULL && i < volumes->len; i++)
        if (ek_inventory_exists(opened, ((const EkCaseVolume *)volumes->pdata[i])->number)) {
            if (!ek_view_open(&view, cli->operands[0], FALSE, NULL))
                view = (EkView){0};
            break;
        }
    return view;
}

/* What the standings that occur mean, in one line. */
static void print_legend(const GPtrArray *volumes)
{
    static const char *const meanings[EK_STANDINGS] = {
        [EK_STANDING_LOST] = "lost: not in the current partition table",
        [EK_STANDING_DISPLACED] = "displaced: the table lists it at a wrong place",
        [EK_STANDING_TABLELESS] = "tableless: it fills the drive, no table is needed",
        [EK_STANDING_REMAINS] = "remains: partly overwritten by a newer volume",
        [EK_STANDING_NESTED] = "nested: stored in a file on another volume",
    };
    gboolean occurs[EK_STANDINGS] = {FALSE};
    for (guint i = 0; i < volumes->len; i++)
        occurs[((const EkCaseVolume *)volumes->pdata[i])->standing] = TRUE;
    g_autofree char *line = ek_show_legend(meanings, occurs, EK_STANDINGS);
    ek_cli_print("%s", line);
}

static void print_table(EkCli *cli, const GPtrArray *summaries, gboolean all)
{
    guint left_out = all ? 0 : ek_volume_summaries_left_out(summaries);
    g_autoptr(GPtrArray) volumes = volumes_of(summaries, all);
    gboolean has_uncounted = FALSE;
    static const EkColumn columns[] = {
        {"VOLUME", TRUE, FALSE, 0},       {"TYPE", FALSE, FALSE, 0},
        {"FIRST SECTOR", TRUE, FALSE, 0}, {"LAST SECTOR", TRUE, FALSE, 1},
        {"SIZE", TRUE, FALSE, 0},         {"LABEL", FALSE, TRUE, 0},
        {"FILES", TRUE, FALSE, 3},        {"STANDING", FALSE, FALSE, 0},
        {"CONFIDENCE", TRUE, FALSE, 2},
    };
    EkShowTable *table = ek_show_table_new(columns, G_N_ELEMENTS(columns));
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *summary = summaries->pdata[i];
        const EkCaseVolume *entry = summary->entry;
        const EkVolume *volume = entry->volume;
        guint32 size = volume->own_sector_size;
        if (!all && !summary->is_shown)
            continue;
        g_autofree char *number = g_strdup_printf("%u", entry->number);
        g_autofree char *first = g_strdup_printf("%" G_GUINT64_FORMAT, volume->first_byte / size);
        g_autofree char *last =
            g_strdup_printf("%" G_GUINT64_FORMAT, (volume->first_byte + volume->bytes) / size - 1);
        g_autofree char *bytes = size_of(volume);
        g_autofree char *label = ek_text_escape(volume->label != NULL ? volume->label : "");
        g_autofree char *confidence = g_strdup_printf("%d", volume->confidence);
        g_autofree char *files = summary->has_files
                                     ? g_strdup_printf("%" G_GUINT64_FORMAT, summary->files.files)
                                     : g_strdup("");
        has_uncounted |= !summary->has_files && volume->format->open != NULL;
        const char *cells[] = {number,    volume->filesystem,
                               first,     last,
                               bytes,     label,
                               files,     ek_standing_name(entry->standing),
                               confidence};
        ek_show_table_row(table, cells);
    }
    ek_show_table_print(table, cli->width);
    print_legend(volumes);
    if (has_uncounted)
        ek_show_sentence(stdout, "", 0,
                         "FILES is counted when the files of a volume are first listed.");
    if (left_out > 0)
        ek_cli_print("%u more not shown (remains of older volumes, or images inside files): "
                     "ektypon volumes %s --all\n",
                     left_out, cli->operands[0]);
}

void ek_volumes_note(EkProgress *progress, const EkCaseVolume *entry)
{
    const EkVolume *volume = entry->volume;
    g_autofree char *size = ek_text_size(volume->bytes);
    g_autofree char *label = ek_text_escape(volume->label != NULL ? volume->label : "");
    g_autofree char *text = g_strdup_printf(
        "volume %u: %s%s%s%s, %s at sector %" G_GUINT64_FORMAT ", %s, confidence %d", entry->number,
        volume->filesystem, *label != '\0' ? " \"" : "", label, *label != '\0' ? "\"" : "", size,
        volume->first_byte / EK_STEP, ek_standing_name(entry->standing), volume->confidence);
    if (progress != NULL)
        ek_progress_note(progress, text);
    else
        fprintf(stderr, "%s\n", text);
}

static json_t *volume_json(const EkVolumeSummary *summary, guint32 sector_size)
{
    const EkCaseVolume *entry = summary->entry;
    const EkVolume *volume = entry->volume;
    json_t *reasons = json_array();
    for (guint i = 0; i < volume->reasons->len; i++) {
        const EkEvidence *reason = volume->reasons->pdata[i];
        json_array_append_new(reasons, json_pack("{s:i,s:o}", "points", reason->points, "text",
                                                 ek_json_text(reason->text)));
    }
    json_t *row = json_object();
    json_object_set_new(row, "number", json_integer(entry->number));
    json_object_set_new(row, "filesystem", ek_json_text(volume->filesystem));
    json_object_set_new(row, "first_byte", ek_json_u64(volume->first_byte));
    json_object_set_new(row, "bytes", ek_json_u64(volume->bytes));
    json_object_set_new(row, "first_sector", ek_json_whole(volume->first_byte, sector_size));
    json_object_set_new(row, "sectors", ek_json_whole(volume->bytes, sector_size));
    json_object_set_new(row, "own_sector_size", json_integer(volume->own_sector_size));
    json_object_set_new(row, "label", ek_json_text(volume->label));
    json_object_set_new(row, "uuid", ek_json_text(volume->uuid));
    json_object_set_new(row, "standing", ek_json_text(ek_standing_name(entry->standing)));
    json_object_set_new(row, "confidence", json_integer(volume->confidence));
    json_object_set_new(row, "reasons", reasons);
    json_object_set_new(row, "length_is_least", json_boolean(volume->length_is_least));
    json_object_set_new(row, "by_backup", json_boolean(volume->by_backup));
    json_object_set_new(row, "earlier",
                        json_boolean(volume->is_earlier && entry->standing == EK_STANDING_REMAINS));
    json_object_set_new(row, "created", timestamp_json(volume->created));
    json_object_set_new(row, "used", timestamp_json(volume->used));
    json_object_set_new(row, "host", entry->host != 0 ? json_integer(entry->host) : json_null());
    json_object_set_new(row, "files",
                        summary->has_files ? ek_json_u64(summary->files.files) : json_null());
    json_object_set_new(row, "overwritten_bytes", ek_json_u64(entry->overwritten));
    json_t *geometry = json_array();
    for (guint i = 0; i < volume->properties->len; i++) {
        const EkProperty *property = volume->properties->pdata[i];
        json_array_append_new(geometry, json_pack("{s:o,s:o}", "name", ek_json_text(property->name),
                                                  "value", ek_json_text(property->value)));
    }
    json_object_set_new(row, "geometry", geometry);
    return row;
}

/* How far its journal leads back. */
static void print_moments(EkCli *cli, EkView *view, const EkCaseVolume *entry)
{
    g_autoptr(GArray) moments = view != NULL ? ek_volume_moments(view, entry->volume) : NULL;
    if (moments == NULL)
        return;
    const EkMoment *first = &g_array_index(moments, EkMoment, 0);
    const EkMoment *last = &g_array_index(moments, EkMoment, moments->len - 1);
    g_autofree char *from = ek_timestamp_words(first->time);
    g_autofree char *to = ek_timestamp_words(last->time);
    ek_cli_print("  journal: %u transactions, %" G_GUINT64_FORMAT " (%s) to %" G_GUINT64_FORMAT
                 " (%s)\n",
                 moments->len, first->transaction, from != NULL ? from : "no time",
                 last->transaction, to != NULL ? to : "no time");
    if (moments->len < 2)
        return;
    g_autofree char *text = g_strdup_printf(
        "To list its files as they were before the last one: ektypon tree %s %u --as-of "
        "%" G_GUINT64_FORMAT,
        cli->operands[0], entry->number,
        g_array_index(moments, EkMoment, moments->len - 2).transaction);
    ek_show_sentence(stdout, "    ", 4, text);
}

static void print_one(EkCli *cli, EkView *view, const EkVolumeSummary *summary)
{
    const EkCaseVolume *entry = summary->entry;
    const EkVolume *volume = entry->volume;
    guint32 size = volume->own_sector_size;
    g_autofree char *bytes = size_of(volume);
    g_autofree char *label = ek_text_escape(volume->label != NULL ? volume->label : "");
    ek_cli_print("Volume %u: %s%s%s%s, %s\n", entry->number, volume->filesystem,
                 *label != '\0' ? " \"" : "", label, *label != '\0' ? "\"" : "", bytes);
    ek_cli_print("  sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT " of %u bytes\n",
                 volume->first_byte / size, (volume->first_byte + volume->bytes) / size - 1, size);
    if (volume->uuid != NULL)
        ek_cli_print("  serial %s\n", volume->uuid);
    g_autofree char *created = ek_timestamp_words(volume->created);
    g_autofree char *used = ek_timestamp_words(volume->used);
    if (created != NULL)
        ek_cli_print("  created %s\n", created);
    if (used != NULL)
        ek_cli_print("  last used %s\n", used);
    ek_cli_print("  standing: %s", ek_standing_name(entry->standing));
    if (entry->host != 0)
        ek_cli_print(entry->standing == EK_STANDING_NESTED ? ", in volume %u" : ", under volume %u",
                     entry->host);
    ek_cli_print("\n");
    for (guint i = 0; i < volume->properties->len; i++) {
        const EkProperty *property = volume->properties->pdata[i];
        g_autofree char *value = ek_text_escape(property->value);
        ek_cli_print("  %s: %s\n", property->name, value);
    }
    g_autofree char *unclean = view != NULL ? ek_volume_unclean(view, volume) : NULL;
    if (unclean != NULL) {
        g_autofree char *text =
            g_strdup_printf("The volume was not cleanly unmounted. %s", unclean);
        ek_show_sentence(stdout, "  ", 4, text);
    }
    print_moments(cli, view, entry);
    ek_cli_print("  confidence %d of 100:\n", volume->confidence);
    for (guint i = 0; i < volume->reasons->len; i++) {
        const EkEvidence *reason = volume->reasons->pdata[i];
        g_autofree char *mark = reason->points != 0 ? g_strdup_printf("  %+4d  ", reason->points)
                                                    : g_strdup("     -  ");
        g_autofree char *text = ek_text_escape(reason->text);
        g_autofree char *faint =
            ek_show_in(cli->color_out && reason->points == 0, EK_COLOR_FAINT, text);
        ek_show_sentence(stdout, mark, 8, faint);
    }
    if (summary->has_files)
        ek_filerow_print_inventory(entry->number, &summary->files);
    if (view != NULL && !volume->is_earlier)
        ek_headers_print(cli, view->reader, volume);
    if (volume->format->open == NULL)
        ek_cli_advise("Its files cannot be listed: this version supports NTFS, FAT, exFAT, "
                      "ext2/3/4 and HFS+.");
    else
        ek_cli_advise("To browse its files: ektypon tree %s %u", cli->operands[0], entry->number);
}

/* The evidence, and the headers as they stand in the image, where that can be read. */
static int show_one(EkCli *cli, const EkCaseVolume *one)
{
    g_autoptr(GPtrArray) alone = g_ptr_array_new();
    EkView view;
    gboolean viewed = ek_view_open(&view, cli->operands[0], FALSE, NULL);
    g_ptr_array_add(alone, (gpointer)one);
    g_autoptr(GPtrArray) summaries = ek_volume_summaries(viewed ? &view : NULL, alone);
    print_one(cli, viewed ? &view : NULL, summaries->pdata[0]);
    if (viewed)
        ek_view_close(&view);
    return EK_EXIT_DONE;
}

/* What is in those whose inventory was taken. */
static void print_inventories(const GPtrArray *summaries, gboolean all)
{
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *summary = summaries->pdata[i];
        if (summary->has_files && (all || summary->is_shown))
            ek_filerow_print_inventory(summary->entry->number, &summary->files);
    }
}

/* A volume with its dates: "ntfs, last used 2026-05-01". */
static char *dated(const EkVolume *volume, gboolean is_over)
{
    g_autofree char *text =
        day_of(is_over && volume->created.is_set ? volume->created : volume->used);
    const char *what = is_over && volume->created.is_set ? "created" : "last used";
    return text != NULL ? g_strdup_printf("%s, %s %s", volume->filesystem, what, text)
                        : g_strdup(volume->filesystem);
}

static const EkVolumeSummary *summary_of(const GPtrArray *summaries, guint number)
{
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *summary = summaries->pdata[i];
        if (summary->entry->number == number)
            return summary;
    }
    return NULL;
}

/* The volume that was made over it: the largest of those that are there now. */
static const EkVolumeSummary *over_of(const GPtrArray *summaries, const EkCaseVolume *entry)
{
    const EkVolumeSummary *best = entry->host != 0 ? summary_of(summaries, entry->host) : NULL;
    EkRange own = ek_volume_range(entry->volume);
    for (guint i = 0; i < summaries->len && entry->host == 0; i++) {
        const EkVolumeSummary *other = summaries->pdata[i];
        if (!other->is_lower && ek_ranges_overlap(own, ek_volume_range(other->entry->volume)) &&
            (best == NULL || other->entry->volume->bytes > best->entry->volume->bytes))
            best = other;
    }
    return best;
}

static gint by_last_use(gconstpointer a, gconstpointer b)
{
    gint64 left = ek_volume_last_use((*(const EkVolumeSummary *const *)a)->entry->volume);
    gint64 right = ek_volume_last_use((*(const EkVolumeSummary *const *)b)->entry->volume);
    return left < right ? -1 : left > right;
}

/* What was made over it one after the other: those that are gone again too, then the one there now
 * (NULL: none). */
static GPtrArray *generations_over(const GPtrArray *summaries, const EkCaseVolume *entry,
                                   const EkVolumeSummary *over)
{
    GPtrArray *later = g_ptr_array_new();
    EkRange own = ek_volume_range(entry->volume);
    for (guint i = 0; i < summaries->len && entry->volume->is_earlier; i++) {
        const EkCaseVolume *other = ((const EkVolumeSummary *)summaries->pdata[i])->entry;
        if (other != entry && other->volume->is_earlier && other->standing == EK_STANDING_REMAINS &&
            ek_ranges_overlap(own, ek_volume_range(other->volume)) &&
            ek_volume_is_later(other->volume, entry->volume))
            g_ptr_array_add(later, summaries->pdata[i]);
    }
    g_ptr_array_sort(later, by_last_use);
    if (over != NULL)
        g_ptr_array_add(later, (gpointer)over);
    return later;
}

void ek_volumes_print_earlier(EkCli *cli, const char *prefix, const GPtrArray *summaries)
{
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *earlier = summaries->pdata[i];
        const EkCaseVolume *entry = earlier->entry;
        const EkVolumeSummary *over = over_of(summaries, entry);
        if (entry->standing != EK_STANDING_REMAINS || (over == NULL && !entry->volume->is_earlier))
            continue;
        g_autofree char *own = dated(entry->volume, FALSE);
        g_autoptr(GString) text = g_string_new(NULL);
        g_string_printf(text, "Volume %u (%s) is an earlier one", entry->number, own);
        g_autoptr(GPtrArray) later = generations_over(summaries, entry, over);
        for (guint k = 0; k < later->len; k++) {
            const EkCaseVolume *next = ((const EkVolumeSummary *)later->pdata[k])->entry;
            g_autofree char *its = dated(next->volume, next->standing != EK_STANDING_REMAINS);
            g_string_append_printf(
                text, k == 0 ? ": volume %u (%s) was made over it" : ", volume %u (%s) over that",
                next->number, its);
        }
        if (earlier->has_files)
            g_string_append_printf(text, ". Volume %u has %" G_GUINT64_FORMAT " files",
                                   entry->number, earlier->files.files);
        if (earlier->has_files && over != NULL && over->has_files)
            g_string_append_printf(text, ", volume %u has %" G_GUINT64_FORMAT "%s",
                                   over->entry->number, over->files.files,
                                   earlier->files.files > over->files.files
                                       ? ": missing files may be on the earlier one"
                                       : "");
        g_string_append_printf(text, ". To list them: ektypon tree %s %u", cli->operands[0],
                               entry->number);
        ek_show_sentence(stdout, prefix, (guint)strlen(prefix), text->str);
    }
}

GPtrArray *ek_volumes_summaries(EkCli *cli, const GPtrArray *volumes)
{
    EkView view = view_for_files(cli, volumes);
    GPtrArray *summaries = ek_volume_summaries(view.reader != NULL ? &view : NULL, volumes);
    if (view.reader != NULL)
        ek_view_close(&view);
    return summaries;
}

static int print_json(const GPtrArray *summaries, const EkCaseVolume *one, guint32 sector_size)
{
    json_t *list = json_array();
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *summary = summaries->pdata[i];
        if (one == NULL || one == summary->entry)
            json_array_append_new(list, volume_json(summary, sector_size));
    }
    return ek_cli_print_json(
        json_pack("{s:i,s:o}", "sector_size", (int)sector_size, "volumes", list));
}

#define STRAY_LEAST 2u /* one alone may be chance */

void ek_volumes_print_seen(EkCli *cli, EkCase *opened, EkReader *reader, const GPtrArray *volumes)
{
    g_auto(EkSeen) seen = {0};
    guint32 size = ek_case_info(opened)->sector_size;
    if (!ek_seen_gather(&seen, opened, reader, volumes, NULL))
        return;
    for (guint i = 0; i < seen.strays->len; i++) {
        const EkStray *stray = &g_array_index(seen.strays, EkStray, i);
        g_autofree char *listed =
            stray->volume != 0
                ? g_strdup_printf(". What is left of them is listed among the deleted files of "
                                  "volume %u: ektypon find %s %u --deleted",
                                  stray->volume, cli->operands[0], stray->volume)
                : g_strdup("");
        g_autofree char *text = g_strdup_printf(
            "%" G_GUINT64_FORMAT " file records or folders of %s between sectors %" G_GUINT64_FORMAT
            " and %" G_GUINT64_FORMAT " belong to no volume found: remains of an earlier one%s",
            stray->count, stray->format, stray->where.first / size,
            (ek_range_end(stray->where) - 1) / size, listed);
        if (stray->count >= STRAY_LEAST)
            ek_show_sentence(stdout, "! ", 2, text);
    }
    if (volumes->len > 0)
        return;
    EkKeptState state;
    gboolean is_whole = ek_mapstore_state(opened, &state, NULL) &&
                        state.totals[EK_STATE_GOOD] == ek_case_info(opened)->sectors;
    ek_cli_print("No volume was found. The hunt saw %" G_GUINT64_FORMAT
                 " boot sectors or superblocks, %" G_GUINT64_FORMAT
                 " partition tables and %" G_GUINT64_FORMAT " file records.\n",
                 seen.headers, seen.tables, seen.records);
    if (!is_whole)
        ek_cli_advise("Some sectors are not read: a volume may begin there. Next: ektypon image %s",
                      cli->operands[0]);
    else
        ek_cli_advise("Every sector was searched. The drive may be encrypted as a whole, wiped, or "
                      "part of an array.");
}

/* Was it searched to the end? */
static gboolean was_hunted(EkCase *opened)
{
    g_autoptr(GPtrArray) events = ek_event_list(opened, NULL);
    for (guint i = 0; events != NULL && i < events->len; i++) {
        const EkEvent *event = events->pdata[i];
        if (g_str_equal(event->command, "hunt") && g_strcmp0(event->outcome, "done") == 0)
            return TRUE;
    }
    return FALSE;
}

int ek_command_volumes(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean all = FALSE;
    g_autofree char *png = NULL;
    g_autofree char *svg = NULL;
    int status = EK_EXIT_DONE;
    guint64 number = 0;
    const GOptionEntry entries[] = {
        {"all", 0, 0, G_OPTION_ARG_NONE, &all, "show all remains and nested volumes", NULL},
        {"png", 0, 0, G_OPTION_ARG_FILENAME, &png, "draw the drive with its volumes as a PNG",
         "FILE"},
        {"svg", 0, 0, G_OPTION_ARG_FILENAME, &svg, "the same as an SVG", "FILE"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (cli->operands[1] != NULL && (!ek_text_parse_u64(cli->operands[1], &number) || number == 0))
        return ek_cli_misused(cli, "\"%s\" is not a volume number", cli->operands[1]);

    GError *error = NULL;
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    g_autoptr(GPtrArray) volumes = opened != NULL ? ek_volumestore_list(opened, &error) : NULL;
    if (volumes == NULL)
        return ek_cli_fail(cli, error);
    const EkCaseVolume *one = number != 0 ? ek_volumestore_find(volumes, number, &error) : NULL;
    if (number != 0 && one == NULL)
        return ek_cli_fail(cli, error);
    const EkCaseInfo *info = ek_case_info(opened);
    if (json) {
        g_autoptr(GPtrArray) told = ek_volumes_summaries(cli, volumes);
        return print_json(told, one, info->sector_size);
    }
    if (one != NULL)
        return show_one(cli, one);
    if (volumes->len == 0 && was_hunted(opened)) {
        ek_volumes_print_seen(cli, opened, NULL, volumes);
        return EK_EXIT_DONE;
    }
    if (volumes->len == 0) {
        ek_cli_print("No volumes are known yet. To search for them: ektypon hunt %s\n",
                     cli->operands[0]);
        return EK_EXIT_DONE;
    }
    g_autoptr(GPtrArray) summaries = ek_volumes_summaries(cli, volumes);
    g_autoptr(GPtrArray) shown = volumes_of(summaries, all);
    guint left_out = volumes->len - shown->len;
    if (png != NULL || svg != NULL) {
        g_autoptr(EkReadMap) map = ek_mapstore_load(opened, &error);
        g_autofree char *name = g_path_get_basename(ek_case_folder(opened));
        EkLayoutPicture picture = {name, info, map, shown, left_out};
        if (map == NULL ||
            !ek_canvas_draw(cli, png, svg, cli->operands[0], ek_layout_picture_height(&picture),
                            ek_layout_picture_draw, &picture, &error))
            return ek_cli_fail(cli, error);
        return EK_EXIT_DONE;
    }
    ek_layout_print(cli, shown, info->bytes, info->sector_size);
    print_table(cli, summaries, all);
    print_inventories(summaries, all);
    ek_volumes_print_earlier(cli, "", summaries);
    ek_cli_advise("To see the evidence for a volume: ektypon volumes %s NUMBER", cli->operands[0]);
    return EK_EXIT_DONE;
}

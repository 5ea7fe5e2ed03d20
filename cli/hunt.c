/* SPDX-License-Identifier: MIT */
/* hunt: searches the image for volumes and partition tables. */
#include "cli.h"
#include "notify.h"

#include "base/text.h"
#include "show.h"
#include "volumes.h"
#include "work/hunting.h"
#include "work/wanting.h"

#define TABLES_SHOWN 5u
#define UNIT_LEAST 512u /* bytes of a cluster or block */
#define UNIT_MOST (32u << 20)

typedef struct {
    EkHunting *hunting;
    gboolean color;
    gint64 started;
    gboolean likely;
} Show;

/* Records of which formats were seen: those of volumes that are found, and of others. */
static void draw_formats(GString *line, const EkHuntProgress *now)
{
    const char *separator = "  file records ";
    for (guint i = 0; i < EK_HUNT_FORMATS && ek_file_systems[i] != NULL; i++) {
        if (now->by_format[i] == 0)
            continue;
        g_string_append_printf(line, "%s%s %" G_GUINT64_FORMAT, separator, ek_file_systems[i]->name,
                               now->by_format[i]);
        separator = ", ";
    }
}

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Show *show = data;
    EkHuntProgress now = ek_hunting_progress(show->hunting);
    if (now.total == 0) {
        g_string_assign(lines[0], show->likely ? "checking likely locations"
                                               : "nothing new has been read since the last hunt");
        return;
    }
    double seconds = (double)(g_get_monotonic_time() - show->started) / 1e6;
    double rate = seconds > 0 ? (double)now.done / seconds : 0;
    g_autofree char *bar = ek_show_bar(now.done, now.total, 24);
    g_autofree char *share = ek_text_share(now.done, now.total);
    g_autofree char *done = ek_text_size(now.done);
    g_autofree char *total = ek_text_size(now.total);
    g_autofree char *speed = ek_text_size((guint64)rate);
    g_autofree char *remaining = ek_show_time_left(now.total - now.done, rate);
    g_string_printf(lines[0], "%s%s%s %s  %s of %s  %s/s  left %s",
                    ek_show_on(show->color, EK_COLOR_GOOD), bar, ek_show_off(show->color), share,
                    done, total, speed, remaining);
    g_string_printf(
        lines[1], "volumes %u  headers %" G_GUINT64_FORMAT "  partition tables %" G_GUINT64_FORMAT,
        ek_hunting_count(show->hunting), now.boot_sectors, now.tables);
    draw_formats(lines[1], &now);
    g_string_append(lines[1], "  (verified at the end)");
}

static void tell(void *data, const EkCaseVolume *entry)
{
    ek_volumes_note(data, entry);
}

/* --- progress as JSON --- */

#define LINE_EVERY (10 * G_USEC_PER_SEC)

typedef struct {
    EkHunting *hunting;
    guint64 percent; /* that the last line told, + 1 */
    gint64 told_at;
} Lines;

static void print_line(const Lines *lines, const EkHuntProgress *now)
{
    fprintf(stderr,
            "{\"done\": %" G_GUINT64_FORMAT ", \"total\": %" G_GUINT64_FORMAT
            ", \"position\": %" G_GUINT64_FORMAT ", \"volumes\": %u, \"headers\": "
            "%" G_GUINT64_FORMAT ", \"tables\": %" G_GUINT64_FORMAT
            ", \"records\": %" G_GUINT64_FORMAT ", \"by_format\": {",
            now->done, now->total, now->position, ek_hunting_count(lines->hunting),
            now->boot_sectors, now->tables, now->records);
    const char *separator = "";
    for (guint i = 0; i < EK_HUNT_FORMATS && ek_file_systems[i] != NULL; i++) {
        if (now->by_format[i] == 0)
            continue;
        fprintf(stderr, "%s\"%s\": %" G_GUINT64_FORMAT, separator, ek_file_systems[i]->name,
                now->by_format[i]);
        separator = ", ";
    }
    fputs("}}\n", stderr);
}

static void step(void *data, const EkHuntProgress *now)
{
    Lines *lines = data;
    guint64 percent = now->total > 0 ? now->done / MAX(now->total / 100, 1) : 0;
    gint64 time = g_get_monotonic_time();
    if (percent + 1 == lines->percent && time - lines->told_at < LINE_EVERY)
        return;
    lines->percent = percent + 1;
    lines->told_at = time;
    print_line(lines, now);
}

static void print_tables(const GPtrArray *tables)
{
    for (guint i = 0; i < MIN(tables->len, TABLES_SHOWN); i++) {
        const EkHuntedTable *found = tables->pdata[i];
        const EkTable *table = &found->table;
        g_autofree char *entries = ek_text_count(table->count, "partition", "partitions");
        ek_cli_print("%s partition table at sector %" G_GUINT64_FORMAT ", with %s%s%s%s%s\n",
                     ek_scheme_name(table->scheme), found->first_byte / EK_STEP, entries,
                     table->is_whole ? "" : ", incomplete", *found->what != '\0' ? " (" : "",
                     found->what, *found->what != '\0' ? ")" : "");
    }
    if (tables->len > TABLES_SHOWN)
        ek_cli_print("and %u more\n", tables->len - TABLES_SHOWN);
    if (tables->len == 0)
        ek_cli_print("No partition table.\n");
}

/* What listing the files of all volumes would read, and was not read yet. */
static void advise_structures(const char *folder)
{
    g_autoptr(GArray) sectors = g_array_new(FALSE, FALSE, sizeof(EkSectorRange));
    guint64 count = 0;
    if (!ek_wanting_add(folder, "structures", ek_cli_watch_signals(), sectors, NULL))
        return;
    for (guint i = 0; i < sectors->len; i++)
        count += g_array_index(sectors, EkSectorRange, i).count;
    g_autofree char *told = ek_text_count(count, "sector", "sectors");
    if (count > 0)
        ek_cli_advise("To list the files of these volumes, at least %s of metadata must be read "
                      "first: ektypon image %s --want structures --only-wanted",
                      told, folder);
}

static void print_seen(EkCli *cli, const GPtrArray *volumes)
{
    EkView view;
    if (!ek_view_open(&view, cli->operands[0], FALSE, NULL))
        return;
    ek_volumes_print_seen(cli, view.opened, view.reader, volumes);
    ek_view_close(&view);
}

/* How many volumes the case knows of each standing. What is new was named when it was found. */
static void print_totals(const GPtrArray *volumes)
{
    guint counts[EK_STANDINGS] = {0};
    for (guint i = 0; i < volumes->len; i++)
        counts[((const EkCaseVolume *)volumes->pdata[i])->standing]++;
    g_autofree char *all = ek_text_count(volumes->len, "volume", "volumes");
    g_autoptr(GString) line = g_string_new(all);
    const char *separator = " known: ";
    for (guint i = 0; i < EK_STANDINGS; i++) {
        if (counts[i] == 0)
            continue;
        g_string_append_printf(line, "%s%u %s", separator, counts[i],
                               ek_standing_name((EkStanding)i));
        separator = ", ";
    }
    ek_cli_print("%s\n", line->str);
}

/* --- what somebody knows -------------------------------------------------------------------- */

/* "ntfs", "ntfs:2048", "ntfs:2048:4096": a file system, where it began (a sector), the size of its
 * clusters or blocks (bytes). */
static gboolean parse_expected(const char *text, guint32 sector_size, EkExpected *expected)
{
    g_auto(GStrv) parts = g_strsplit(text, ":", -1);
    guint count = g_strv_length(parts);
    guint64 sector = 0;
    guint64 unit = 0;
    const EkFileSystem *format = count > 0 ? ek_file_system_for(parts[0]) : NULL;
    if (format == NULL || format->infer_earlier == NULL || count > 3)
        return FALSE;
    *expected = (EkExpected){.filesystem = g_intern_string(parts[0])};
    if (count > 1 && *parts[1] != '\0') {
        if (!ek_text_parse_u64(parts[1], &sector) || sector > G_MAXINT64 / sector_size)
            return FALSE;
        expected->has_first = TRUE;
        expected->first_byte = sector * sector_size;
    }
    if (count > 2) {
        if (!ek_text_parse_u64(parts[2], &unit) || !ek_is_power_of_two(unit) || unit < UNIT_LEAST ||
            unit > UNIT_MOST)
            return FALSE;
        expected->unit = (guint32)unit;
    }
    return TRUE;
}

/* Keeps what was said. FALSE with the status to end with. */
static gboolean keep_expected(EkCli *cli, const char *text, int *status)
{
    GError *error = NULL;
    EkExpected expected;
    gboolean is_none = g_str_equal(text, "none");
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    if (opened == NULL) {
        *status = ek_cli_fail(cli, error);
        return FALSE;
    }
    if (!is_none && !parse_expected(text, ek_case_info(opened)->sector_size, &expected)) {
        *status = ek_cli_misused(
            cli, "--expect takes a file system, and where known its first sector and "
                 "the bytes of a cluster or block: ntfs, ntfs:2048, ntfs:2048:4096 "
                 "(ntfs, fat16, fat32, exfat, ext2, ext3, ext4, hfsplus), or none");
        return FALSE;
    }
    if (!ek_hunting_expect(cli->operands[0], is_none ? NULL : &expected, &error)) {
        *status = ek_cli_fail(cli, error);
        return FALSE;
    }
    return TRUE;
}

/* What was found of a volume that was expected. */
static void print_expected(EkHunting *hunting, const GPtrArray *volumes, guint32 sector_size)
{
    EkExpected expected;
    guint found = 0;
    if (!ek_hunting_expected(hunting, &expected))
        return;
    g_autofree char *where = expected.has_first ? g_strdup_printf(" at sector %" G_GUINT64_FORMAT,
                                                                  expected.first_byte / sector_size)
                                                : g_strdup("");
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        const EkVolume *volume = entry->volume;
        guint64 unit = 0;
        gboolean has_unit = ek_text_parse_u64(ek_volume_unit(volume), &unit);
        if (volume->format != ek_file_system_for(expected.filesystem) ||
            (expected.has_first && volume->first_byte != expected.first_byte) ||
            (expected.unit != 0 && has_unit && unit != expected.unit))
            continue;
        ek_cli_print("Expected %s%s: volume %u (%s, confidence %d)\n", expected.filesystem, where,
                     entry->number, ek_standing_name(entry->standing), volume->confidence);
        found++;
    }
    if (found == 0)
        ek_cli_print("Expected %s%s: not found. Nothing that was seen agrees with it%s\n",
                     expected.filesystem, where,
                     expected.has_first || expected.unit != 0
                         ? ": check the sector and the cluster size, or leave them out"
                         : "");
}

static int print_result(EkCli *cli, EkHunting *hunting)
{
    GError *error = NULL;
    g_autoptr(GPtrArray) volumes = ek_hunting_volumes(hunting, &error);
    if (volumes == NULL)
        return ek_cli_fail(cli, error);
    g_autoptr(GPtrArray) tables = ek_hunting_tables(hunting, &error);
    if (tables == NULL)
        return ek_cli_fail(cli, error);
    EkKnown known = ek_hunting_known(hunting);
    const char *folder = cli->operands[0];
    if (volumes->len > 0)
        print_totals(volumes);
    print_tables(tables);
    print_expected(hunting, volumes, ek_hunting_sector_size(hunting));
    print_seen(cli, volumes);
    if (known.bad + known.unread > 0) {
        ek_cli_print_unsearched(cli, known.bad, known.unread);
        if (known.unread > 0 && volumes->len > 0)
            advise_structures(folder);
    }
    ek_cli_advise("Next: ektypon %s %s", volumes->len > 0 ? "volumes" : "map", folder);
    return EK_EXIT_DONE;
}

int ek_command_hunt(EkCli *cli)
{
    gint threads = 0;
    gboolean likely = FALSE;
    gboolean deep = FALSE;
    g_autofree char *wanted = NULL;
    g_autofree char *expect = NULL;
    const GOptionEntry entries[] = {
        {"expect", 0, 0, G_OPTION_ARG_STRING, &expect,
         "a file system that must have been there, with its first sector and cluster size if "
         "known: less evidence is enough for it (none: forget it, and --deep)",
         "FILESYSTEM[:FIRST[:BYTES]]"},
        {"deep", 0, 0, G_OPTION_ARG_NONE, &deep,
         "also list earlier volumes of which little evidence is left; kept in the case until "
         "--expect none",
         NULL},
        {"likely", 0, 0, G_OPTION_ARG_NONE, &likely, "check likely locations only", NULL},
        EK_OPTION_NOTIFY(cli),
        {"progress", 0, 0, G_OPTION_ARG_STRING, &wanted, "progress as lines of JSON on stderr",
         "json"},
        {"threads", 0, 0, G_OPTION_ARG_INT, &threads,
         "number of threads (default: one per processor)", "N"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (threads < 0 || threads > 1024)
        return ek_cli_misused(cli, "--threads %d: must be between 1 and 1024", threads);

    if (wanted != NULL && !g_str_equal(wanted, "json"))
        return ek_cli_misused(cli, "--progress takes json, not \"%s\"", wanted);

    if (expect != NULL && !keep_expected(cli, expect, &status))
        return status;

    GError *error = NULL;
    if (deep && !ek_hunting_make_deep(cli->operands[0], &error))
        return ek_cli_fail(cli, error);
    const gint *cancel = ek_cli_watch_signals();
    g_autoptr(EkHunting) hunting =
        ek_hunting_new(cli->operands[0], cli->options, (guint)threads, likely, cancel, &error);
    if (hunting == NULL)
        return ek_cli_fail(cli, error);
    Show show = {hunting, cli->color_err, g_get_monotonic_time(), likely};
    Lines lines = {.hunting = hunting};
    EkProgress *progress = NULL;
    if (wanted != NULL) {
        ek_hunting_watch(hunting, step, &lines);
    } else {
        progress = ek_progress_begin(cli->terminal_err, draw, &show);
        ek_hunting_tell(hunting, tell, progress);
    }
    gboolean done = ek_hunting_run(hunting, &error);
    if (progress != NULL)
        ek_progress_end(progress);
    EkHuntProgress now = ek_hunting_progress(hunting);
    if (progress == NULL)
        print_line(&lines, &now);
    if (!done) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        status = ek_cli_fail(cli, error);
        if (interrupted)
            ek_cli_advise("Results so far are saved. To resume: ektypon hunt %s", cli->operands[0]);
        return status;
    }
    status = print_result(cli, hunting);
    if (likely)
        ek_cli_advise("Only likely locations were checked. To search every sector: ektypon hunt %s",
                      cli->operands[0]);
    return status;
}

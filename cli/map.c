/* SPDX-License-Identifier: MIT */
/* The read map: a summary, a profile of the whole drive, the largest bad stretches. */
#include "cli.h"

#include "base/text.h"
#include "capture/scheduler.h"
#include "case/mapstore.h"
#include "maphits.h"
#include "numbers.h"
#include "picture.h"
#include "profile.h"
#include "show.h"
#include "work/guard.h"

#include <string.h>

#define PROFILE_HEIGHT 8u
#define LARGEST 10u

/* What is told of a run of sectors: states and reasons, whatever the attempts and events. */
typedef struct {
    EkSector first;
    EkSector count;
    EkState state;
    EkReason reason;
} Extent;

typedef void (*ExtentSink)(void *data, const Extent *extent);

typedef struct {
    Extent extent;
    EkSector end;
    ExtentSink sink;
    void *data;
} Joining;

/* Joins stretches that differ in nothing that is told. */
static gboolean join_extent(void *data, const EkStretch *stretch)
{
    Joining *joining = data;
    Extent *extent = &joining->extent;
    if (stretch->first >= joining->end)
        return FALSE;
    EkSector count = MIN(stretch->count, joining->end - stretch->first);
    if (extent->count > 0 && extent->state == stretch->mark.state &&
        extent->reason == stretch->mark.reason) {
        extent->count += count;
        return TRUE;
    }
    if (extent->count > 0)
        joining->sink(joining->data, extent);
    *extent = (Extent){stretch->first, count, stretch->mark.state, stretch->mark.reason};
    return TRUE;
}

static void each_extent(const EkReadMap *map, EkSectorRange part, ExtentSink sink, void *data)
{
    Joining joining = {.end = part.first + part.count, .sink = sink, .data = data};
    ek_read_map_each(map, part.first, join_extent, &joining);
    if (joining.extent.count > 0)
        sink(data, &joining.extent);
}

/* --- JSON: streams, since there can be millions ---------------------------------------------- */

static void print_extent(void *data, const Extent *extent)
{
    gboolean *first = data;
    ek_cli_print("%s\n    {\"first\": %" G_GUINT64_FORMAT ", \"count\": %" G_GUINT64_FORMAT
                 ", \"state\": \"%s\", \"reason\": %s%s%s}",
                 *first ? "" : ",", extent->first, extent->count, ek_state_name(extent->state),
                 extent->reason != EK_REASON_NONE ? "\"" : "",
                 extent->reason != EK_REASON_NONE ? ek_reason_name(extent->reason) : "null",
                 extent->reason != EK_REASON_NONE ? "\"" : "");
    *first = FALSE;
}

static int print_json(const EkCaseInfo *info, const EkReadMap *map, EkSectorRange part)
{
    gboolean first = TRUE;
    ek_cli_print("{\n  \"sector_size\": %u,\n  \"sectors\": %" G_GUINT64_FORMAT
                 ",\n  \"totals\": {",
                 info->sector_size, info->sectors);
    for (int state = 0; state < EK_STATES; state++)
        ek_cli_print("%s\"%s\": %" G_GUINT64_FORMAT, state > 0 ? ", " : "",
                     ek_state_name((EkState)state), ek_read_map_total(map, (EkState)state));
    fputs("},\n  \"extents\": [", stdout);
    each_extent(map, part, print_extent, &first);
    ek_cli_print("\n  ]\n}\n");
    return fflush(stdout) == 0 ? EK_EXIT_DONE : EK_EXIT_FAILED;
}

/* --- the profile ------------------------------------------------------------------------------ */

static void print_profile(EkCli *cli, const EkReadMap *map, EkSectorRange part, guint32 sector_size)
{
    guint columns = (guint)MIN((EkSector)cli->width - 7, part.count);
    EkSector(*tally)[EK_STATES] = g_malloc_n(columns, sizeof *tally);
    g_autoptr(GString) out = g_string_new(NULL);
    ek_profile_measure(map, part.first, part.count, columns, tally);
    ek_profile_draw(out, tally, columns, PROFILE_HEIGHT, cli->color_out, TRUE);
    ek_cli_print("%s\n", out->str);
    g_free(tally);
    EkSector end = part.first + part.count;
    g_autofree char *size = ek_text_size(end * sector_size);
    g_autofree char *left = g_strdup_printf("sector %" G_GUINT64_FORMAT, part.first);
    g_autofree char *right = g_strdup_printf("sector %" G_GUINT64_FORMAT " (%s)", end - 1, size);
    int gap = (int)columns - (int)strlen(left) - (int)strlen(right);
    ek_cli_print("      %s%*s%s\n", left, MAX(gap, 2), "", right);
}

static void print_legend(EkCli *cli, const EkReadMap *map)
{
    g_autoptr(GString) line = g_string_new("     ");
    for (gsize i = 0; i < EK_LAYERS; i++) {
        if (ek_read_map_total(map, ek_layers[i].state) == 0)
            continue;
        g_autofree char *glyph = ek_show_in(cli->color_out, ek_layers[i].color, ek_layers[i].glyph);
        g_string_append_printf(line, " %s %s  ", glyph, ek_layers[i].word);
    }
    ek_cli_print("%s\n      Each column is a slice of the drive. Problems always get at least one "
                 "cell.\n\n",
                 line->str);
}

/* --- the summary ------------------------------------------------------------------------------ */

typedef struct {
    EkSector sectors[EK_STATES][EK_REASON_SKIPPED + 1];
    EkSector stretches[EK_STATES][EK_REASON_SKIPPED + 1];
    Extent largest[LARGEST];
    guint largest_count;
} Summary;

static void sum_extent(void *data, const Extent *extent)
{
    Summary *summary = data;
    summary->sectors[extent->state][extent->reason] += extent->count;
    summary->stretches[extent->state][extent->reason]++;
    if (extent->state == EK_STATE_GOOD || extent->state == EK_STATE_UNTOUCHED)
        return;
    guint at = summary->largest_count;
    while (at > 0 && summary->largest[at - 1].count < extent->count)
        at--;
    if (at >= LARGEST)
        return;
    guint move = MIN(summary->largest_count, LARGEST - 1) - at;
    memmove(&summary->largest[at + 1], &summary->largest[at], move * sizeof(Extent));
    summary->largest[at] = *extent;
    summary->largest_count = MIN(summary->largest_count + 1, LARGEST);
}

static void print_totals(EkCli *cli, const Summary *summary, const EkCaseInfo *info, EkSector whole)
{
    static const EkColumn columns[] = {
        {"STATE", FALSE, FALSE, 0}, {"REASON", FALSE, FALSE, 0}, {"SECTORS", TRUE, FALSE, 0},
        {"SIZE", TRUE, FALSE, 0},   {"SHARE", TRUE, FALSE, 0},   {"STRETCHES", TRUE, FALSE, 0},
    };
    EkShowTable *table = ek_show_table_new(columns, G_N_ELEMENTS(columns));
    for (gsize i = 0; i < EK_LAYERS; i++) {
        for (int reason = 0; reason <= EK_REASON_SKIPPED; reason++) {
            EkSector count = summary->sectors[ek_layers[i].state][reason];
            if (count == 0)
                continue;
            g_autofree char *sectors = g_strdup_printf("%" G_GUINT64_FORMAT, count);
            g_autofree char *size = ek_text_size(MIN(count * info->sector_size, info->bytes));
            g_autofree char *share = ek_text_share(count, whole);
            g_autofree char *stretches = g_strdup_printf(
                "%" G_GUINT64_FORMAT, summary->stretches[ek_layers[i].state][reason]);
            const char *cells[] = {
                ek_layers[i].word, ek_reason_name((EkReason)reason), sectors, size, share,
                stretches};
            ek_show_table_row(table, cells);
        }
    }
    ek_show_table_print(table, cli->width);
}

static void print_largest(EkCli *cli, const Summary *summary, guint32 sector_size)
{
    static const EkColumn columns[] = {
        {"FIRST", TRUE, FALSE, 0}, {"LAST", TRUE, FALSE, 0},   {"SECTORS", TRUE, FALSE, 0},
        {"SIZE", TRUE, FALSE, 0},  {"STATE", FALSE, FALSE, 0}, {"REASON", FALSE, FALSE, 0},
    };
    if (summary->largest_count == 0)
        return;
    ek_cli_print("\nLargest bad and unread stretches:\n");
    EkShowTable *table = ek_show_table_new(columns, G_N_ELEMENTS(columns));
    for (guint i = 0; i < summary->largest_count; i++) {
        const Extent *extent = &summary->largest[i];
        g_autofree char *first = g_strdup_printf("%" G_GUINT64_FORMAT, extent->first);
        g_autofree char *last =
            g_strdup_printf("%" G_GUINT64_FORMAT, extent->first + extent->count - 1);
        g_autofree char *count = g_strdup_printf("%" G_GUINT64_FORMAT, extent->count);
        g_autofree char *size = ek_text_size(extent->count * sector_size);
        const char *cells[] = {first,
                               last,
                               count,
                               size,
                               extent->state == EK_STATE_BAD ? "bad" : "set aside",
                               ek_reason_name(extent->reason)};
        ek_show_table_row(table, cells);
    }
    ek_show_table_print(table, cli->width);
}

typedef struct {
    gboolean json;
    gboolean files;
    char *png;
    char *svg;
    char *first;
    char *last;
} Options;

static void options_clear(Options *options)
{
    g_free(options->png);
    g_free(options->svg);
    g_free(options->first);
    g_free(options->last);
}

G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Options, options_clear)

/* The part that was asked for; the whole drive unless said. */
static gboolean parse_part(const Options *options, EkSector sectors, EkSectorRange *part)
{
    EkSector first = 0;
    EkSector last = sectors - 1;
    const char *end = "";
    if ((options->first != NULL && (!ek_numbers_whole(options->first, &first, &end) || *end)) ||
        (options->last != NULL && (!ek_numbers_whole(options->last, &last, &end) || *end)))
        return FALSE;
    last = MIN(last, sectors - 1);
    if (first > last)
        return FALSE;
    *part = (EkSectorRange){first, last - first + 1};
    return TRUE;
}

static void print_map(EkCli *cli, const EkCaseInfo *info, const EkReadMap *map, EkSectorRange part)
{
    Summary summary = {0};
    each_extent(map, part, sum_extent, &summary);
    print_profile(cli, map, part, info->sector_size);
    print_legend(cli, map);
    print_totals(cli, &summary, info, part.count);
    print_largest(cli, &summary, info->sector_size);
}

int ek_command_map(EkCli *cli)
{
    g_auto(Options) options = {0};
    const GOptionEntry entries[] = {
        {"png", 0, 0, G_OPTION_ARG_FILENAME, &options.png, "draw it as a PNG picture", "FILE"},
        {"svg", 0, 0, G_OPTION_ARG_FILENAME, &options.svg, "draw it as an SVG picture", "FILE"},
        {"first", 0, 0, G_OPTION_ARG_STRING, &options.first, "first sector to show", "SECTOR"},
        {"last", 0, 0, G_OPTION_ARG_STRING, &options.last, "last sector to show", "SECTOR"},
        {"files", 0, 0, G_OPTION_ARG_NONE, &options.files,
         "list the files affected by unread sectors", NULL},
        {"json", 0, 0, G_OPTION_ARG_NONE, &options.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (options.files)
        return ek_map_show_hits(cli, options.json);
    GError *error = NULL;
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    g_autoptr(EkReadMap) map = opened != NULL ? ek_mapstore_load(opened, &error) : NULL;
    if (map == NULL)
        return ek_cli_fail(cli, error);
    const EkCaseInfo *info = ek_case_info(opened);
    EkSectorRange part;
    if (!parse_part(&options, info->sectors, &part))
        return ek_cli_misused(
            cli, "--first and --last take sectors of the drive, 0 to %" G_GUINT64_FORMAT,
            info->sectors - 1);
    if (options.json)
        return print_json(info, map, part);
    g_autofree char *name = g_path_get_basename(ek_case_folder(opened));
    EkPicture picture = {name, info, map, part};
    if (!ek_canvas_draw(cli, options.png, options.svg, cli->operands[0], EK_PICTURE_HEIGHT,
                        ek_picture_draw, &picture, &error))
        return ek_cli_fail(cli, error);
    if (options.png == NULL && options.svg == NULL)
        print_map(cli, info, map, part);
    return EK_EXIT_DONE;
}

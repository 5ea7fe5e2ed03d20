/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/text.h"
#include "case/mapstore.h"
#include "numbers.h"
#include "work/opening.h"

#include <stdio.h>

static void warn_of_adapter(EkCli *cli, const EkCaseInfo *info)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(cli->system, info->path);
    if (drive != NULL && drive->buffered)
        ek_cli_advise("new: %s is a loop device that goes through the page cache: one bad sector "
                      "takes its whole page with it. Make it with direct I/O: losetup "
                      "--direct-io=on",
                      info->path);
}

static void advise(const EkCaseInfo *info, const char *folder, gboolean locked)
{
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *binary = ek_text_size(info->bytes);
    g_autofree char *model = ek_text_escape(info->model != NULL ? info->model : "unknown model");
    g_autofree char *serial = ek_text_escape(info->serial != NULL ? info->serial : "unknown");
    ek_cli_print("%s: %s, serial %s, %s (%s), %" G_GUINT64_FORMAT " sectors of %u\n", info->source,
                 model, serial, label, binary, info->sectors, info->sector_size);
    ek_cli_print("Case %s is open; the image will be %s\n", folder, info->image);
    if (locked)
        ek_cli_advise(
            "The kernel now refuses every write to %s, until the drive is unplugged. To lift "
            "that later: blockdev --setrw %s",
            info->path, info->path);
    ek_cli_advise(
        "Until it is imaged: do not format it, do not mount it, not even to look, and let no "
        "repair tool at the original. Keep discard (TRIM) off. Keep the drive cool, and "
        "leave it switched on while it reads.");
    ek_cli_advise("Next: ektypon image %s", folder);
}

static int finish(EkCli *cli, EkCase *made)
{
    GError *error = NULL;
    gint64 event = ek_event_begin(made, "new", cli->options, &error);
    if (event == 0 || !ek_event_end(made, event, "done", NULL, &error))
        return ek_cli_fail(cli, error);
    return EK_EXIT_DONE;
}

/* --- an image that was made elsewhere --- */

typedef struct {
    char *image;
    char *list;
    char *unit;
    char *means;
} Adopting;

static gboolean is_one_of(const char *value, const char *one, const char *other)
{
    return value == NULL || g_str_equal(value, one) || g_str_equal(value, other);
}

static void advise_adopted(const EkCase *made, const char *folder, const EkKeptState *state)
{
    const EkCaseInfo *info = ek_case_info(made);
    g_autofree char *size = ek_text_size(info->bytes);
    ek_cli_print("Case %s is open; its image is %s: %s, %" G_GUINT64_FORMAT " sectors of %u, "
                 "%" G_GUINT64_FORMAT " of them not read\n",
                 folder, info->image, size, info->sectors, info->sector_size,
                 state->totals[EK_STATE_BAD]);
    if (!info->verified)
        ek_cli_advise("new: without --bad-list nothing is known of which sectors were read: all of "
                      "them count as read, but unverified, and so does all that is found in them");
    ek_cli_advise("Next: ektypon hunt %s", folder);
}

static int adopt(EkCli *cli, const Adopting *adopting, gint sector_size)
{
    GError *error = NULL;
    g_autoptr(GArray) list = NULL;
    if (!is_one_of(adopting->unit, "sectors", "bytes"))
        return ek_cli_misused(cli, "--list-unit takes sectors or bytes, not \"%s\"",
                              adopting->unit);
    if (!is_one_of(adopting->means, "bad", "good"))
        return ek_cli_misused(cli, "--list-means takes bad or good, not \"%s\"", adopting->means);
    if (adopting->list != NULL) {
        list = ek_numbers_ranges(adopting->list, &error);
        if (list == NULL)
            return ek_cli_fail(cli, error);
    }
    guint32 size = sector_size != 0 ? (guint32)sector_size : EK_STEP;
    guint64 unit = adopting->unit != NULL && g_str_equal(adopting->unit, "bytes") ? 1 : size;
    g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; list != NULL && i < list->len; i++) {
        EkSectorRange range = g_array_index(list, EkSectorRange, i);
        if (range.first > G_MAXINT64 / 2 / unit || range.count > G_MAXINT64 / 2 / unit)
            return ek_cli_misused(cli, "%s names places past any drive", adopting->list);
        EkRange bytes = {range.first * unit, range.count * unit};
        g_array_append_val(ranges, bytes);
    }
    EkAdoption adoption = {
        .folder = cli->operands[0],
        .image = adopting->image,
        .sector_size = size,
        .has_list = list != NULL,
        .list = (const EkRange *)(gconstpointer)ranges->data,
        .count = ranges->len,
        .means_good = adopting->means != NULL && g_str_equal(adopting->means, "good"),
    };
    if (adoption.means_good && !adoption.has_list)
        return ek_cli_misused(cli, "--list-means good needs --bad-list FILE");
    EkKeptState state;
    g_autoptr(EkCase) made = ek_opening_adopt(cli->system, &adoption, &error);
    if (made == NULL || !ek_mapstore_state(made, &state, &error))
        return ek_cli_fail(cli, error);
    int status = finish(cli, made);
    if (status == EK_EXIT_DONE)
        advise_adopted(made, cli->operands[0], &state);
    return status;
}

/* --- the command --- */

static int open_case(EkCli *cli, EkOpening *opening)
{
    GError *error = NULL;
    gboolean locked = FALSE;
    opening->cancel = ek_cli_watch_signals();
    opening->told = &locked;
    g_autoptr(EkCase) made = ek_opening_make(cli->system, opening, &error);
    if (made == NULL)
        return ek_cli_fail(cli, error);
    int status = finish(cli, made);
    if (status != EK_EXIT_DONE)
        return status;
    warn_of_adapter(cli, ek_case_info(made));
    advise(ek_case_info(made), opening->folder, locked);
    return EK_EXIT_DONE;
}

static void adopting_clear(Adopting *adopting)
{
    g_free(adopting->image);
    g_free(adopting->list);
    g_free(adopting->unit);
    g_free(adopting->means);
}

G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Adopting, adopting_clear)

int ek_command_new(EkCli *cli)
{
    EkOpening opening = {0};
    g_auto(Adopting) adopting = {0};
    gint sector_size = 0;
    g_autofree char *image = NULL;
    g_autofree char *short_space = NULL;
    const GOptionEntry entries[] = {
        {"image", 0, 0, G_OPTION_ARG_FILENAME, &image,
         "put the image there: a file, or a blank block device", "FILE"},
        {"sector-size", 0, 0, G_OPTION_ARG_INT, &sector_size,
         "sectors to count a file or NBD export in (512 unless said)", "BYTES"},
        {"partition", 0, 0, G_OPTION_ARG_NONE, &opening.allow_partition,
         "take a partition alone, without the drive around it", NULL},
        {"short-space", 0, 0, G_OPTION_ARG_STRING, &short_space,
         "what to do when the image may not fit: go-on", "go-on"},
        {"adopt", 0, 0, G_OPTION_ARG_FILENAME, &adopting.image,
         "take a finished image where it lies, instead of a SOURCE", "FILE"},
        {"bad-list", 0, 0, G_OPTION_ARG_FILENAME, &adopting.list,
         "what was not read of an adopted image: lines `first count`", "FILE"},
        {"list-unit", 0, 0, G_OPTION_ARG_STRING, &adopting.unit,
         "what the list counts in (sectors unless said)", "sectors|bytes"},
        {"list-means", 0, 0, G_OPTION_ARG_STRING, &adopting.means,
         "good: the list names what was read (bad unless said)", "bad|good"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (short_space != NULL && !g_str_equal(short_space, "go-on"))
        return ek_cli_misused(cli, "--short-space takes go-on, not \"%s\"", short_space);
    if (sector_size < 0)
        return ek_cli_misused(cli, "--sector-size %d is not a size", sector_size);
    if (adopting.image != NULL && cli->operands[1] != NULL)
        return ek_cli_misused(cli, "--adopt stands in place of a SOURCE");
    if (adopting.image != NULL)
        return adopt(cli, &adopting, sector_size);
    if (cli->operands[1] == NULL)
        return ek_cli_misused(cli, "missing argument: SOURCE");
    if (adopting.list != NULL || adopting.unit != NULL || adopting.means != NULL)
        return ek_cli_misused(cli, "--bad-list, --list-unit and --list-means belong to --adopt");
    opening.folder = cli->operands[0];
    opening.source = cli->operands[1];
    opening.image = image;
    opening.sector_size = (guint32)sector_size;
    opening.allow_short_space = short_space != NULL;
    return open_case(cli, &opening);
}

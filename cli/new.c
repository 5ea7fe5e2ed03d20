/* SPDX-License-Identifier: MIT */
/* new: creates a case for a drive, or from an existing image. */
#include "cli.h"

#include "base/text.h"
#include "case/mapstore.h"
#include "numbers.h"
#include "signs.h"
#include "work/opening.h"

#include <stdio.h>

static void warn_of_adapter(EkCli *cli, const EkCaseInfo *info)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(cli->system, info->path);
    if (drive != NULL && drive->buffered)
        ek_cli_advise("new: %s is a loop device that uses the page cache: one bad sector makes its "
                      "whole page unreadable. Recreate it with direct I/O: losetup "
                      "--direct-io=on",
                      info->path);
}

static void advise_health(const EkHealth *health)
{
    g_autofree char *line = ek_signs_line(health);
    g_autofree char *safe = ek_text_escape(line);
    g_autoptr(GPtrArray) sentences = ek_health_sentences(health);
    EkHealthWord word = ek_health_word(health);
    ek_cli_print("Health %s\n", safe);
    for (guint i = 0; word > EK_HEALTH_STEADY && i < sentences->len; i++)
        ek_cli_advise("new: %s", (const char *)sentences->pdata[i]);
}

static void advise(const EkCaseInfo *info, const char *folder, gboolean locked,
                   const EkHealth *health)
{
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *binary = ek_text_size(info->bytes);
    g_autofree char *model = ek_text_escape(info->model != NULL ? info->model : "unknown model");
    g_autofree char *serial = ek_text_escape(info->serial != NULL ? info->serial : "unknown");
    ek_cli_print("%s: %s, serial %s, %s (%s), %" G_GUINT64_FORMAT " sectors of %u bytes\n",
                 info->source, model, serial, label, binary, info->sectors, info->sector_size);
    if (health != NULL)
        advise_health(health);
    ek_cli_print("Case %s created. The image will be stored at %s\n", folder, info->image);
    if (locked)
        ek_cli_advise(
            "The kernel now refuses every write to %s, until the drive is unplugged. To lift "
            "that later: blockdev --setrw %s",
            info->path, info->path);
    ek_cli_advise("Until imaging is finished: do not mount, format or repair the original drive, "
                  "not even to check it. Keep TRIM (discard) disabled. Keep the drive cool, and do "
                  "not power it off while it is being read.");
    ek_cli_advise("Next: ektypon image %s", folder);
}

/* `health` NULL: there is no drive that could be asked. */
static int finish(EkCli *cli, EkCase *made, const EkHealth *health)
{
    GError *error = NULL;
    gint64 event = ek_event_begin(made, "new", cli->options, &error);
    if (event == 0 || (health != NULL && !ek_healthstore_add(made, event, 0, health, &error)) ||
        !ek_event_end(made, event, "done", NULL, &error))
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
    ek_cli_print("Case %s created with image %s: %s, %" G_GUINT64_FORMAT
                 " sectors of %u bytes, %" G_GUINT64_FORMAT " unread\n",
                 folder, info->image, size, info->sectors, info->sector_size,
                 state->totals[EK_STATE_BAD]);
    if (!info->verified)
        ek_cli_advise("new: no --bad-list given: all sectors are treated as read but unverified, "
                      "and so are all results based on them");
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
            return ek_cli_misused(cli, "%s contains positions larger than any drive",
                                  adopting->list);
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
    int status = finish(cli, made, NULL);
    if (status == EK_EXIT_DONE)
        advise_adopted(made, cli->operands[0], &state);
    return status;
}

/* --- the command --- */

static int open_case(EkCli *cli, EkOpening *opening)
{
    GError *error = NULL;
    gboolean locked = FALSE;
    g_auto(EkHealth) health = {{0}, NULL};
    opening->health = &health;
    opening->cancel = ek_cli_watch_signals();
    opening->told = &locked;
    g_autoptr(EkCase) made = ek_opening_make(cli->system, opening, &error);
    if (made == NULL)
        return ek_cli_fail(cli, error);
    int status = finish(cli, made, opening->is_drive ? &health : NULL);
    if (status != EK_EXIT_DONE)
        return status;
    warn_of_adapter(cli, ek_case_info(made));
    advise(ek_case_info(made), opening->folder, locked, opening->is_drive ? &health : NULL);
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
         "where to store the image: a file or a blank block device", "FILE"},
        {"sector-size", 0, 0, G_OPTION_ARG_INT, &sector_size,
         "sector size for a file or NBD export (default 512)", "BYTES"},
        {"partition", 0, 0, G_OPTION_ARG_NONE, &opening.allow_partition,
         "allow imaging a single partition instead of the whole drive", NULL},
        {"if-short", 0, 0, G_OPTION_ARG_STRING, &short_space,
         "continue: start even if the image may not fit", "continue"},
        {"adopt", 0, 0, G_OPTION_ARG_FILENAME, &adopting.image,
         "use an existing image file in place, instead of a SOURCE", "FILE"},
        {"bad-list", 0, 0, G_OPTION_ARG_FILENAME, &adopting.list,
         "list of unread ranges of the adopted image (`first count` per line)", "FILE"},
        {"list-unit", 0, 0, G_OPTION_ARG_STRING, &adopting.unit,
         "unit used in the list (default sectors)", "sectors|bytes"},
        {"list-means", 0, 0, G_OPTION_ARG_STRING, &adopting.means,
         "good: the list contains the readable ranges (default bad)", "bad|good"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (short_space != NULL && !g_str_equal(short_space, "continue"))
        return ek_cli_misused(cli, "--if-short takes continue, not \"%s\"", short_space);
    if (sector_size < 0)
        return ek_cli_misused(cli, "--sector-size %d is not a valid sector size", sector_size);
    if (adopting.image != NULL && cli->operands[1] != NULL)
        return ek_cli_misused(cli, "--adopt and SOURCE cannot be combined");
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

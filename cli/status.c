/* SPDX-License-Identifier: MIT */
/* status: the state of a case and the next step. */
#include "cli.h"

#include "base/text.h"
#include "capture/capture.h"
#include "case/applications.h"
#include "case/mapstore.h"
#include "case/planstore.h"
#include "case/volumestore.h"
#include "show.h"

#include <stdio.h>
#include <unistd.h>

typedef struct {
    EkCase *opened;
    EkKeptState state;
    GPtrArray *volumes;
    gboolean hunted; /* all that is good by now */
    gboolean has_plan;
    gboolean plan_is_old; /* something was hunted since */
    gboolean applied;     /* to anything, and not undone */
    gboolean cloned;
    gboolean asked;    /* imaging stopped to put a decision */
    gboolean vanished; /* the drive did, when it was last imaged */
    gint64 imaging_pid;
    gboolean has_image;      /* it is where the case has it */
    GPtrArray *applications; /* EkApplication* */
} Standing;

static gboolean gather(EkCase *opened, Standing *standing, GError **error)
{
    *standing = (Standing){.opened = opened};
    g_autoptr(GPtrArray) applications = ek_applications_list(opened, error);
    g_autoptr(GPtrArray) events = applications != NULL ? ek_event_list(opened, error) : NULL;
    if (events == NULL || !ek_mapstore_state(opened, &standing->state, error))
        return FALSE;
    standing->volumes = ek_volumestore_list(opened, error);
    if (standing->volumes == NULL)
        return FALSE;
    for (guint i = 0; i < applications->len; i++)
        standing->applied |=
            ((const EkApplication *)applications->pdata[i])->state == EK_APPLICATION_APPLIED;
    standing->applications = g_steal_pointer(&applications);
    gint64 last_hunt = 0;
    for (guint i = 0; i < events->len; i++) {
        const EkEvent *event = events->pdata[i];
        gboolean done = g_strcmp0(event->outcome, "done") == 0;
        if (g_str_equal(event->command, "image")) {
            standing->asked = g_strcmp0(event->outcome, "stopped to ask") == 0;
            standing->vanished = g_strcmp0(event->outcome, "the drive vanished") == 0;
        }
        if (done && g_str_equal(event->command, "hunt"))
            last_hunt = event->id;
        standing->cloned = standing->cloned || (done && g_str_equal(event->command, "clone"));
    }
    g_autofree char *recognisers = ek_hunt_recognisers();
    g_autoptr(GArray) hunted = ek_volumestore_hunted(opened, recognisers, error);
    if (hunted == NULL)
        return FALSE;
    EkByte searched = 0;
    for (guint i = 0; i < hunted->len; i++)
        searched += g_array_index(hunted, EkRange, i).bytes;
    const EkCaseInfo *info = ek_case_info(opened);
    EkByte good = MIN(standing->state.totals[EK_STATE_GOOD] * info->sector_size, info->bytes);
    standing->hunted = searched > 0 && searched + info->sector_size > good;
    gint64 planned = ek_planstore_event(opened);
    standing->has_plan = planned != 0;
    standing->plan_is_old = standing->has_plan && last_hunt > planned;
    standing->has_image = access(info->image, F_OK) == 0;
    standing->imaging_pid = ek_lock_holder(opened, EK_LOCK_IMAGING);
    return TRUE;
}

static EkSector left(const Standing *standing)
{
    return standing->state.totals[EK_STATE_UNTOUCHED] + standing->state.totals[EK_STATE_SET_ASIDE];
}

/* The system's own checker of a file system, so that it changes nothing; NULL: none is known. */
static const char *checker_of(const char *filesystem)
{
    static const struct {
        const char *filesystem;
        const char *command;
    } checkers[] = {{"ntfs", "ntfsfix -n, or chkdsk without /f"},
                    {"fat", "fsck.fat -n"},
                    {"exfat", "fsck.exfat -n"},
                    {"ext", "e2fsck -fn"},
                    {"hfsplus", "fsck.hfsplus -n"},
                    {"xfs", "xfs_repair -n"},
                    {"btrfs", "btrfs check --readonly"}};
    for (gsize i = 0; i < G_N_ELEMENTS(checkers); i++)
        if (g_str_has_prefix(filesystem, checkers[i].filesystem))
            return checkers[i].command;
    return NULL;
}

/* "partition 1 with fsck.fat -n; …": what to check on a target that holds the plan. */
static char *checks_of(const Standing *standing)
{
    GString *text = g_string_new(NULL);
    g_autoptr(EkPlan) plan = ek_planstore_load(standing->opened, NULL);
    for (guint i = 0; plan != NULL && i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        for (guint k = 0; k < standing->volumes->len; k++) {
            const EkCaseVolume *entry = standing->volumes->pdata[k];
            const char *checker =
                entry->number == partition->volume ? checker_of(entry->volume->filesystem) : NULL;
            if (checker != NULL)
                g_string_append_printf(text, "%spartition %u with %s", text->len > 0 ? "; " : "",
                                       partition->entry.index + 1, checker);
        }
    }
    return g_string_free(text, FALSE);
}

/* The next sensible command, and why. The caller frees both. */
static char *next_command(const Standing *standing, const char *folder, char **why)
{
    const char *command = NULL;
    const char *rest = "";
    if (standing->imaging_pid != 0) {
        command = "map";
        *why = g_strdup_printf("process %" G_GINT64_FORMAT " is imaging: see how far it is",
                               standing->imaging_pid);
    } else if (!standing->has_image) {
        command = "set";
        rest = " --image FILE";
        *why = g_strdup("the image is missing: say where it is now");
    } else if (left(standing) > 0 && standing->asked && standing->hunted) {
        double seconds = (double)left(standing) * standing->state.costs.failure;
        g_autofree char *time = ek_text_duration(seconds);
        command = "image";
        rest = " --all-rounds";
        *why = g_strdup_printf("all easily readable sectors are imaged and searched. If the rest "
                               "is needed: up to %s of sector-by-sector reading",
                               time);
    } else if (left(standing) > 0 && standing->asked) {
        command = "hunt";
        *why = g_strdup("all easily readable sectors are imaged. See what they contain before "
                        "stressing the drive further");
    } else if (left(standing) > 0 && standing->vanished) {
        command = "image";
        *why = g_strdup("the drive disconnected. Power-cycle it first; the area around that sector "
                        "will be read last");
    } else if (left(standing) > 0) {
        command = "image";
        *why = g_strdup("some sectors have not been read yet");
    } else if (!standing->hunted) {
        command = "hunt";
        *why = g_strdup("part of the image has not been searched yet");
    } else if (standing->volumes->len == 0) {
        command = "map";
        *why = g_strdup("no volume was found: see what could not be read");
    } else if (!standing->has_plan) {
        command = "plan";
        *why = g_strdup(
            "volumes were found. You can browse and extract files at any time (ls, extract)");
    } else if (standing->plan_is_old) {
        command = "plan";
        *why = g_strdup("the plan was created before the last hunt");
    } else if (!standing->cloned && !standing->applied) {
        command = "clone";
        rest = " TARGET";
        *why = g_strdup("the plan is ready. Cloning applies it to a copy; the original and the "
                        "image stay unchanged");
    } else {
        command = "log";
        g_autofree char *checks = checks_of(standing);
        *why = g_strdup_printf("the plan is written to a target. Check the target, never the "
                               "original, with the file-system checkers%s%s",
                               *checks != '\0' ? ": " : "", checks);
    }
    return g_strdup_printf("ektypon %s %s%s", command, folder, rest);
}

/* Did something, we for instance, make the kernel refuse writes to the source? */
static gboolean is_locked(const EkCli *cli, const EkCaseInfo *info)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(cli->system, info->path);
    return drive != NULL && drive->read_only;
}

static int print_json(const EkCli *cli, const Standing *standing, const char *next)
{
    const EkCaseInfo *info = ek_case_info(standing->opened);
    json_t *source = json_pack("{s:o,s:o,s:o,s:o}", "kind", ek_json_text(info->kind), "path",
                               ek_json_text(info->path), "model", ek_json_text(info->model),
                               "serial", ek_json_text(info->serial));
    json_t *image =
        json_pack("{s:o,s:b}", "path", ek_json_text(info->image), "verified", info->verified);
    json_t *root = json_object();
    json_object_set_new(source, "kernel_read_only", json_boolean(is_locked(cli, info)));
    json_object_set_new(root, "source", source);
    json_object_set_new(root, "image", image);
    json_object_set_new(root, "sector_size", ek_json_u64(info->sector_size));
    json_object_set_new(root, "sectors", ek_json_u64(info->sectors));
    json_object_set_new(root, "device_seconds",
                        json_real((double)standing->state.device_clock / 1e9));
    json_object_set_new(root, "failed_commands", ek_json_u64(standing->state.failed_commands));
    json_object_set_new(root, "round",
                        standing->state.round == 0
                            ? json_null()
                            : ek_json_text(ek_round_name((EkRound)standing->state.round)));
    json_object_set_new(root, "finished", json_boolean(left(standing) == 0));
    json_object_set_new(root, "next", ek_json_text(next));
    return ek_cli_print_json(root);
}

/* What each target holds now: the last word on it counts. */
static void print_targets(const Standing *standing)
{
    static const char *const words[] = {[EK_APPLICATION_WRITING] =
                                            "half written: name it again, then it is put right",
                                        [EK_APPLICATION_APPLIED] = "has the plan's edits",
                                        [EK_APPLICATION_UNDOING] = "half undone: run undo again",
                                        [EK_APPLICATION_UNDONE] = "is as it was before",
                                        [EK_APPLICATION_ROLLED_BACK] = "is as it was before"};
    const GPtrArray *all = standing->applications;
    for (guint i = 0; i < all->len; i++) {
        const EkApplication *one = all->pdata[i];
        gboolean is_last = TRUE;
        for (guint k = i + 1; k < all->len; k++)
            is_last &= !g_str_equal(((const EkApplication *)all->pdata[k])->target, one->target);
        g_autofree char *safe = ek_text_escape(one->target);
        if (is_last)
            ek_cli_print("Target   %s %s\n", safe,
                         words[MIN(one->state, EK_APPLICATION_ROLLED_BACK)]);
    }
}

static void print_text(EkCli *cli, const Standing *standing, const char *next, const char *why)
{
    const EkCaseInfo *info = ek_case_info(standing->opened);
    const EkKeptState *state = &standing->state;
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *binary = ek_text_size(info->bytes);
    g_autofree char *share = ek_text_share(state->totals[EK_STATE_GOOD], info->sectors);
    g_autofree char *good =
        ek_text_size(MIN(state->totals[EK_STATE_GOOD] * info->sector_size, info->bytes));
    g_autofree char *time = ek_text_duration((double)state->device_clock / 1e9);
    g_autofree char *model = ek_text_escape(info->model != NULL ? info->model : "unknown model");
    g_autofree char *serial = ek_text_escape(info->serial != NULL ? info->serial : "unknown");
    ek_cli_print("Source   %s\n", info->source);
    ek_cli_print("         %s, serial %s, %s (%s), %" G_GUINT64_FORMAT " sectors of %u bytes\n",
                 model, serial, label, binary, info->sectors, info->sector_size);
    if (is_locked(cli, info))
        ek_cli_print(
            "         the kernel refuses writes to it; to lift that: blockdev --setrw %s\n",
            info->path);
    ek_cli_print("Image    %s%s\n", info->image, standing->has_image ? "" : " (missing)");
    ek_cli_print("Read     %s (%s); %" G_GUINT64_FORMAT " bad sectors; %" G_GUINT64_FORMAT
                 " sectors not yet read, in %" G_GUINT64_FORMAT " stretches\n",
                 share, good, state->totals[EK_STATE_BAD], left(standing),
                 state->stretches[EK_STATE_UNTOUCHED] + state->stretches[EK_STATE_SET_ASIDE]);
    ek_cli_print("         drive time %s, %" G_GUINT64_FORMAT " failed reads%s%s\n", time,
                 state->failed_commands, state->round != 0 ? ", last round " : "",
                 ek_round_name((EkRound)state->round));
    if (state->gone_at != 0)
        ek_cli_print("         last disconnected at sector %" G_GUINT64_FORMAT "\n",
                     state->gone_at - 1);
    if (state->repeats_every != 0)
        ek_cli_print("         data repeats every %" G_GUINT64_FORMAT
                     " sectors: real capacity is smaller than reported\n",
                     state->repeats_every);
    if (!info->verified)
        ek_cli_print("         unverified: adopted without a list of the readable sectors\n");
    if (standing->imaging_pid != 0)
        ek_cli_print("         process %" G_GINT64_FORMAT " is imaging now\n",
                     standing->imaging_pid);
    ek_cli_print("Volumes  %u known%s\n", standing->volumes->len,
                 standing->hunted ? "" : " (part of the image has not been searched)");
    ek_cli_print("Plan     %s%s%s\n",
                 standing->plan_is_old ? "created before the last hunt"
                 : standing->has_plan  ? "created"
                                       : "none yet",
                 standing->cloned ? ", cloned" : "", standing->applied ? ", applied" : "");
    print_targets(standing);
    g_autofree char *strong = ek_show_in(cli->color_out, EK_COLOR_STRONG, next);
    g_autofree char *reason = g_strdup_printf("%s)", why);
    ek_cli_print("\nNext: %s\n", strong);
    ek_show_sentence(stdout, "      (", 7, reason);
}

int ek_command_status(EkCli *cli)
{
    gboolean json = FALSE;
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse_json(cli, &json, &status))
        return status;
    GError *error = NULL;
    Standing standing;
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    if (opened == NULL || !gather(opened, &standing, &error))
        return ek_cli_fail(cli, error);
    g_autofree char *why = NULL;
    g_autofree char *next = next_command(&standing, cli->operands[0], &why);
    if (json)
        status = print_json(cli, &standing, next);
    else
        print_text(cli, &standing, next, why);
    g_ptr_array_unref(standing.volumes);
    g_ptr_array_unref(standing.applications);
    return status;
}

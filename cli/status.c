/* SPDX-License-Identifier: MIT */
/* status: the state of a case and the next step. */
#include "cli.h"

#include "base/text.h"
#include "capture/capture.h"
#include "show.h"
#include "signs.h"
#include "volumes.h"
#include "work/summary.h"

/* Did something, we for instance, make the kernel refuse writes to the source? */
static gboolean is_locked(const EkCli *cli, const EkCaseInfo *info)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(cli->system, info->path);
    return drive != NULL && drive->read_only;
}

static int print_json(const EkCli *cli, const EkCaseSummary *summary)
{
    const EkCaseInfo *info = ek_case_info(summary->opened);
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
                        json_real((double)summary->state.device_clock / 1e9));
    json_object_set_new(root, "failed_commands", ek_json_u64(summary->state.failed_commands));
    json_object_set_new(root, "round",
                        summary->state.round == 0
                            ? json_null()
                            : ek_json_text(ek_round_name((EkRound)summary->state.round)));
    json_object_set_new(root, "health", ek_signs_list_json(summary->health));
    json_object_set_new(root, "finished", json_boolean(summary->left == 0));
    json_object_set_new(root, "next", ek_json_text(summary->next));
    return ek_cli_print_json(root);
}

/* What each target holds now: the last word on it counts. */
static void print_targets(const EkCaseSummary *summary)
{
    static const char *const words[] = {[EK_APPLICATION_WRITING] =
                                            "half written: name it again, then it is put right",
                                        [EK_APPLICATION_APPLIED] = "has the plan's edits",
                                        [EK_APPLICATION_UNDOING] = "half undone: run undo again",
                                        [EK_APPLICATION_UNDONE] = "is as it was before",
                                        [EK_APPLICATION_ROLLED_BACK] = "is as it was before"};
    const GPtrArray *all = summary->applications;
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

/* The image is looked at only where there is something to tell. */
static void print_earlier(EkCli *cli, const GPtrArray *volumes)
{
    gboolean has_remains = FALSE;
    for (guint i = 0; i < volumes->len; i++)
        has_remains |= ((const EkCaseVolume *)volumes->pdata[i])->standing == EK_STANDING_REMAINS;
    if (!has_remains)
        return;
    g_autoptr(GPtrArray) summaries = ek_volumes_summaries(cli, volumes);
    ek_volumes_print_earlier(cli, "         ", summaries);
}

static void print_text(EkCli *cli, const EkCaseSummary *summary)
{
    const EkCaseInfo *info = ek_case_info(summary->opened);
    const EkKeptState *state = &summary->state;
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *binary = ek_text_size(info->bytes);
    g_autofree char *share = ek_text_share(state->totals[EK_STATE_GOOD], info->sectors);
    g_autofree char *good = ek_text_size(summary->good_bytes);
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
    const EkKeptHealth *health = ek_kept_health_last(summary->health);
    if (health != NULL) {
        g_autofree char *line = ek_signs_line(&health->health);
        g_autofree char *taken = ek_text_time(health->taken);
        ek_cli_print("         health %s (%s)\n", line, taken);
    }
    ek_cli_print("Image    %s%s\n", info->image, summary->has_image ? "" : " (missing)");
    ek_cli_print("Read     %s (%s); %" G_GUINT64_FORMAT " bad sectors; %" G_GUINT64_FORMAT
                 " sectors not yet read, in %" G_GUINT64_FORMAT " stretches\n",
                 share, good, state->totals[EK_STATE_BAD], summary->left, summary->left_stretches);
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
    if (summary->imaging_pid != 0)
        ek_cli_print("         process %" G_GINT64_FORMAT " is imaging now\n",
                     summary->imaging_pid);
    ek_cli_print("Volumes  %u known%s\n", summary->volumes->len,
                 summary->hunted ? "" : " (part of the image has not been searched)");
    print_earlier(cli, summary->volumes);
    ek_cli_print("Plan     %s%s%s\n",
                 summary->plan_is_old ? "created before the last hunt"
                 : summary->has_plan  ? "created"
                                      : "none yet",
                 summary->cloned ? ", cloned" : "", summary->applied ? ", applied" : "");
    print_targets(summary);
    g_autofree char *strong = ek_show_in(cli->color_out, EK_COLOR_STRONG, summary->next);
    g_autofree char *reason = g_strdup_printf("%s)", summary->why);
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
    g_auto(EkCaseSummary) summary = {0};
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    if (opened == NULL || !ek_case_summary(opened, cli->operands[0], &summary, &error))
        return ek_cli_fail(cli, error);
    if (json)
        return print_json(cli, &summary);
    print_text(cli, &summary);
    return EK_EXIT_DONE;
}

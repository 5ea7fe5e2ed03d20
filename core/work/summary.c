/* SPDX-License-Identifier: MIT */
/* What is said of a case and of its volumes. */
#include "work/summary.h"

#include "base/text.h"
#include "case/planstore.h"
#include "hunt/hunt.h"
#include "work/indexing.h"

#include <unistd.h>

#define LOWER_SHOWN 10u

/* --- a case ----------------------------------------------------------------------------------- */

static gint64 take_events(EkCaseSummary *summary, const GPtrArray *events)
{
    gint64 last_hunt = 0;
    for (guint i = 0; i < events->len; i++) {
        const EkEvent *event = events->pdata[i];
        gboolean done = g_strcmp0(event->outcome, "done") == 0;
        if (g_str_equal(event->command, "image")) {
            summary->asked = g_strcmp0(event->outcome, "stopped to ask") == 0;
            summary->vanished = g_strcmp0(event->outcome, "the drive vanished") == 0;
        }
        if (done && g_str_equal(event->command, "hunt"))
            last_hunt = event->id;
        summary->cloned |= done && g_str_equal(event->command, "clone");
    }
    return last_hunt;
}

static gboolean take_hunted(EkCaseSummary *summary, GError **error)
{
    const EkCaseInfo *info = ek_case_info(summary->opened);
    g_autofree char *recognisers = ek_hunt_recognisers();
    g_autoptr(GArray) hunted = ek_volumestore_hunted(summary->opened, recognisers, error);
    if (hunted == NULL)
        return FALSE;
    EkByte searched = 0;
    for (guint i = 0; i < hunted->len; i++)
        searched += g_array_index(hunted, EkRange, i).bytes;
    summary->hunted = searched > 0 && searched + info->sector_size > summary->good_bytes;
    return TRUE;
}

static gboolean gather(EkCaseSummary *summary, GError **error)
{
    EkCase *opened = summary->opened;
    const EkCaseInfo *info = ek_case_info(opened);
    const EkKeptState *state = &summary->state;
    g_autoptr(GPtrArray) events = ek_event_list(opened, error);
    if (events == NULL || !ek_mapstore_state(opened, &summary->state, error) ||
        (summary->applications = ek_applications_list(opened, error)) == NULL ||
        (summary->health = ek_healthstore_list(opened, error)) == NULL ||
        (summary->volumes = ek_volumestore_list(opened, error)) == NULL)
        return FALSE;
    summary->left = state->totals[EK_STATE_UNTOUCHED] + state->totals[EK_STATE_SET_ASIDE];
    summary->left_stretches =
        state->stretches[EK_STATE_UNTOUCHED] + state->stretches[EK_STATE_SET_ASIDE];
    summary->good_bytes = MIN(state->totals[EK_STATE_GOOD] * info->sector_size, info->bytes);
    for (guint i = 0; i < summary->applications->len; i++)
        summary->applied |= ((const EkApplication *)summary->applications->pdata[i])->state ==
                            EK_APPLICATION_APPLIED;
    gint64 last_hunt = take_events(summary, events);
    gint64 planned = ek_planstore_event(opened);
    summary->has_plan = planned != 0;
    summary->plan_is_old = summary->has_plan && last_hunt > planned;
    summary->has_image = access(info->image, F_OK) == 0;
    summary->imaging_pid = ek_lock_holder(opened, EK_LOCK_IMAGING);
    return take_hunted(summary, error);
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
static char *checks_of(const EkCaseSummary *summary)
{
    GString *text = g_string_new(NULL);
    g_autoptr(EkPlan) plan = ek_planstore_load(summary->opened, NULL);
    for (guint i = 0; plan != NULL && i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        for (guint k = 0; k < summary->volumes->len; k++) {
            const EkCaseVolume *entry = summary->volumes->pdata[k];
            const char *checker =
                entry->number == partition->volume ? checker_of(entry->volume->filesystem) : NULL;
            if (checker != NULL)
                g_string_append_printf(text, "%spartition %u with %s", text->len > 0 ? "; " : "",
                                       partition->entry.index + 1, checker);
        }
    }
    return g_string_free(text, FALSE);
}

/* While something is left to read. */
static const char *next_to_image(EkCaseSummary *summary, const char **rest)
{
    if (summary->asked && summary->hunted) {
        double seconds = (double)summary->left * summary->state.costs.failure;
        g_autofree char *time = ek_text_duration(seconds);
        *rest = " --all-rounds";
        summary->why =
            g_strdup_printf("all easily readable sectors are imaged and searched. If the "
                            "rest is needed: up to %s of sector-by-sector reading",
                            time);
        return "image";
    }
    if (summary->asked) {
        summary->why = g_strdup("all easily readable sectors are imaged. See what they contain "
                                "before stressing the drive further");
        return "hunt";
    }
    summary->why =
        g_strdup(summary->vanished
                     ? "the drive disconnected. Power-cycle it first; the area around that sector "
                       "will be read last"
                     : "some sectors have not been read yet");
    return "image";
}

/* When everything was read that can be. */
static const char *next_when_read(EkCaseSummary *summary, const char **rest)
{
    if (!summary->hunted) {
        summary->why = g_strdup("part of the image has not been searched yet");
        return "hunt";
    }
    if (summary->volumes->len == 0) {
        summary->why = g_strdup("no volume was found: see what could not be read");
        return "map";
    }
    if (!summary->has_plan) {
        summary->why = g_strdup(
            "volumes were found. You can browse and extract files at any time (ls, extract)");
        return "plan";
    }
    if (summary->plan_is_old) {
        summary->why = g_strdup("the plan was created before the last hunt");
        return "plan";
    }
    if (!summary->cloned && !summary->applied) {
        *rest = " TARGET";
        summary->why = g_strdup("the plan is ready. Cloning applies it to a copy; the original and "
                                "the image stay unchanged");
        return "clone";
    }
    g_autofree char *checks = checks_of(summary);
    summary->why = g_strdup_printf("the plan is written to a target. Check the target, never the "
                                   "original, with the file-system checkers%s%s",
                                   *checks != '\0' ? ": " : "", checks);
    return "log";
}

static void find_next(EkCaseSummary *summary, const char *folder)
{
    const char *rest = "";
    const char *command = "map";
    if (summary->imaging_pid != 0) {
        summary->why = g_strdup_printf("process %" G_GINT64_FORMAT " is imaging: see how far it is",
                                       summary->imaging_pid);
    } else if (!summary->has_image) {
        command = "set";
        rest = " --image FILE";
        summary->why = g_strdup("the image is missing: say where it is now");
    } else {
        command =
            summary->left > 0 ? next_to_image(summary, &rest) : next_when_read(summary, &rest);
    }
    summary->next = g_strdup_printf("ektypon %s %s%s", command, folder, rest);
}

gboolean ek_case_summary(EkCase *opened, const char *folder, EkCaseSummary *summary, GError **error)
{
    *summary = (EkCaseSummary){.opened = opened};
    if (!gather(summary, error)) {
        ek_case_summary_clear(summary);
        return FALSE;
    }
    find_next(summary, folder);
    return TRUE;
}

void ek_case_summary_clear(EkCaseSummary *summary)
{
    g_clear_pointer(&summary->volumes, g_ptr_array_unref);
    g_clear_pointer(&summary->applications, g_ptr_array_unref);
    g_clear_pointer(&summary->health, g_ptr_array_unref);
    g_clear_pointer(&summary->next, g_free);
    g_clear_pointer(&summary->why, g_free);
}

/* --- volumes ---------------------------------------------------------------------------------- */

static gint by_bytes(gconstpointer a, gconstpointer b)
{
    const EkVolume *left = (*(const EkVolumeSummary *const *)a)->entry->volume;
    const EkVolume *right = (*(const EkVolumeSummary *const *)b)->entry->volume;
    return left->bytes != right->bytes ? (left->bytes < right->bytes) - (left->bytes > right->bytes)
           : left->first_byte < right->first_byte ? -1
                                                  : left->first_byte > right->first_byte;
}

/* Those that stand, and the largest of the lower ones. */
static void choose_shown(const GPtrArray *summaries)
{
    g_autoptr(GPtrArray) lower = g_ptr_array_new();
    for (guint i = 0; i < summaries->len; i++) {
        EkVolumeSummary *summary = summaries->pdata[i];
        summary->is_shown = !summary->is_lower;
        if (summary->is_lower)
            g_ptr_array_add(lower, summary);
    }
    g_ptr_array_sort(lower, by_bytes);
    for (guint i = 0; i < MIN(lower->len, LOWER_SHOWN); i++)
        ((EkVolumeSummary *)lower->pdata[i])->is_shown = TRUE;
}

GPtrArray *ek_volume_summaries(EkView *view, const GPtrArray *volumes)
{
    GPtrArray *summaries = g_ptr_array_new_with_free_func(g_free);
    for (guint i = 0; i < volumes->len; i++) {
        EkVolumeSummary *summary = g_new0(EkVolumeSummary, 1);
        const EkCaseVolume *entry = volumes->pdata[i];
        summary->entry = entry;
        summary->is_lower = !ek_standing_is_on_top(entry->standing);
        summary->has_files = view != NULL && ek_indexing_known(view, entry, &summary->files);
        g_ptr_array_add(summaries, summary);
    }
    choose_shown(summaries);
    return summaries;
}

guint ek_volume_summaries_left_out(const GPtrArray *summaries)
{
    guint left_out = 0;
    for (guint i = 0; i < summaries->len; i++)
        left_out += !((const EkVolumeSummary *)summaries->pdata[i])->is_shown;
    return left_out;
}

char *ek_volume_unclean(EkView *view, const EkVolume *volume)
{
    return volume->format->unclean != NULL && !volume->is_earlier
               ? volume->format->unclean(view->reader, volume)
               : NULL;
}

GArray *ek_volume_moments(EkView *view, const EkVolume *volume)
{
    return volume->format->moments != NULL ? volume->format->moments(view->reader, volume) : NULL;
}

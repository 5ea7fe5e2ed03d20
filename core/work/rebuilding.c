/* SPDX-License-Identifier: MIT */
/* Planning, applying and taking back as jobs on a case. */
#include "work/rebuilding.h"

#include "case/planstore.h"
#include "rebuild/stack.h"
#include "work/guard.h"

#include <string.h>
#include <sys/stat.h>

/* How the image is named among targets, wherever the case is moved to. */
#define IMAGE_IDENTITY "image"

EkPlan *ek_rebuilding_plan(const char *folder, const char *options, const EkPlanWishes *wishes,
                           GError **error)
{
    EkView view;
    g_autoptr(EkLock) lock = NULL;
    if (!ek_view_open_locked(&view, folder, EK_LOCK_EDITS, &lock, error))
        return NULL;
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view.opened, error);
    g_autoptr(GPtrArray) traces =
        volumes != NULL ? ek_volumestore_traces(view.opened, error) : NULL;
    gint64 event = traces != NULL ? ek_event_begin(view.opened, "plan", options, error) : 0;
    EkPlan *plan = NULL;
    if (event != 0) {
        g_autofree EkPlanVolume *list = g_new0(EkPlanVolume, volumes->len + 1);
        for (guint i = 0; i < volumes->len; i++) {
            const EkCaseVolume *entry = volumes->pdata[i];
            list[i] = (EkPlanVolume){entry->number, entry->volume, entry->standing};
        }
        g_autoptr(GPtrArray) tables =
            ek_hunt_tables(view.reader, ek_case_info(view.opened)->sector_size, traces);
        EkPlanInput input = {ek_view_parts(&view),
                             ek_case_info(view.opened)->id,
                             list,
                             volumes->len,
                             tables,
                             wishes};
        GError *failure = NULL;
        plan = ek_plan_make(&input, &failure);
        if (plan != NULL && !ek_planstore_put(view.opened, event, plan, &failure))
            g_clear_pointer(&plan, ek_plan_free);
        g_autofree char *detail = plan != NULL
                                      ? g_strdup_printf("%u partitions, %u edits",
                                                        plan->partitions->len, plan->edits->len)
                                      : g_strdup(failure->message);
        if (!ek_event_end(view.opened, event, plan != NULL ? "done" : "failed", detail,
                          failure == NULL ? &failure : NULL))
            g_clear_pointer(&plan, ek_plan_free);
        if (failure != NULL)
            g_propagate_error(error, failure);
    }
    ek_view_close(&view);
    return plan;
}

/* --- targets -------------------------------------------------------------------------------- */

typedef struct {
    EkView view;
    EkLock *edits;
    EkLock *imaging; /* held while the image itself is the target */
    EkTarget *target;
    gboolean is_image;
    const char *identity;
    gint64 event;
} Job;

static void job_clear(Job *job)
{
    g_clear_pointer(&job->target, ek_target_close);
    g_clear_pointer(&job->imaging, ek_lock_release);
    g_clear_pointer(&job->edits, ek_lock_release);
    ek_view_close(&job->view);
}

static gboolean is_same_place(const char *a, const char *b)
{
    struct stat left;
    struct stat right;
    return stat(a, &left) == 0 && stat(b, &right) == 0 && left.st_dev == right.st_dev &&
           left.st_ino == right.st_ino;
}

static gboolean job_open(Job *job, EkSystem *system, const EkRebuildOrder *order,
                         const char *command, GError **error)
{
    *job = (Job){0};
    if (!ek_view_open_locked(&job->view, order->folder, EK_LOCK_EDITS, &job->edits, error))
        return FALSE;
    job->is_image = is_same_place(order->target, ek_case_info(job->view.opened)->image);
    if (job->is_image) {
        job->imaging = ek_lock_take(job->view.opened, EK_LOCK_IMAGING, error);
        if (job->imaging == NULL)
            return FALSE;
    }
    EkGuard guard = {system, &job->view, NULL, NULL};
    if (!ek_guard_edits(&guard, order->target, order->confirmed, error))
        return FALSE;
    job->target = ek_target_open(order->target, error);
    if (job->target == NULL)
        return FALSE;
    job->identity = job->is_image ? IMAGE_IDENTITY : ek_target_identity(job->target);
    job->event = ek_event_begin(job->view.opened, command, order->options, error);
    return job->event != 0;
}

/* Rolls back what was cut off on this target. */
static gboolean recover(Job *job, const EkJournal *journal, guint *recovered, GError **error)
{
    g_autoptr(GPtrArray) list = ek_applications_list(job->view.opened, error);
    if (list == NULL)
        return FALSE;
    for (guint i = list->len; i > 0; i--) {
        const EkApplication *application = list->pdata[i - 1];
        gboolean cut_off = application->state == EK_APPLICATION_WRITING ||
                           application->state == EK_APPLICATION_UNDOING;
        if (!cut_off || !g_str_equal(application->identity, job->identity))
            continue;
        g_autoptr(GPtrArray) edits =
            ek_applications_edits(job->view.opened, application->id, error);
        if (edits == NULL || !ek_apply_recover(job->target, application->id, edits,
                                               application->state, journal, error))
            return FALSE;
        (*recovered)++;
    }
    return TRUE;
}

/* TRUE when every edit's `after` bytes stand in the target already. */
static gboolean holds_all(EkTarget *target, const GPtrArray *edits)
{
    for (guint i = 0; i < edits->len; i++) {
        const EkEdit *edit = edits->pdata[i];
        g_autofree guint8 *found = g_malloc(edit->length);
        if (!ek_target_read(target, edit->first_byte, found, edit->length, NULL) ||
            memcmp(found, edit->after, edit->length) != 0)
            return FALSE;
    }
    return TRUE;
}

/* What this case applied to the target and did not take back: a list of edits for each, the oldest
 * first. */
static GPtrArray *applied_before(Job *job, GError **error)
{
    g_autoptr(GPtrArray) list = ek_applications_list(job->view.opened, error);
    g_autoptr(GPtrArray) applied =
        g_ptr_array_new_with_free_func((GDestroyNotify)g_ptr_array_unref);
    for (guint i = 0; list != NULL && i < list->len; i++) {
        const EkApplication *application = list->pdata[i];
        if (application->state != EK_APPLICATION_APPLIED ||
            !g_str_equal(application->identity, job->identity))
            continue;
        GPtrArray *edits = ek_applications_edits(job->view.opened, application->id, error);
        if (edits == NULL)
            return NULL;
        /* What a clone added at the end of a larger target is no plan's. */
        const EkEdit *last = edits->len > 0 ? edits->pdata[edits->len - 1] : NULL;
        if (last != NULL &&
            last->first_byte + last->length <= ek_case_info(job->view.opened)->bytes)
            g_ptr_array_add(applied, edits);
        else
            g_ptr_array_unref(edits);
    }
    return list != NULL ? g_steal_pointer(&applied) : NULL;
}

static gboolean apply_plan(Job *job, const EkRebuildOrder *order, const EkJournal *journal,
                           EkRebuildResult *result, GError **error)
{
    g_autoptr(EkPlan) plan = ek_planstore_load(job->view.opened, error);
    if (plan == NULL || !ek_target_has_sectors(job->target, plan->table_sectors, error))
        return FALSE;
    g_autoptr(GPtrArray) applied = applied_before(job, error);
    if (applied == NULL)
        return FALSE;
    g_autoptr(GPtrArray) stacked =
        applied->len > 0 ? ek_stack_edits(plan->edits, applied) : g_ptr_array_ref(plan->edits);
    result->nothing_to_do = stacked->len == 0 || holds_all(job->target, stacked);
    if (result->nothing_to_do)
        return TRUE;
    if (!plan->opens && !order->allow_unopened)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "a planned volume cannot be opened with this plan (see: ektypon plan "
                            "%s --show). To apply it anyway: --allow-unopened",
                            order->folder);
    result->edits = stacked->len;
    return ek_apply(job->target, stacked, journal, error);
}

static gboolean undo_last(Job *job, const EkRebuildOrder *order, const EkJournal *journal,
                          EkRebuildResult *result, GError **error)
{
    g_autoptr(GPtrArray) list = ek_applications_list(job->view.opened, error);
    if (list == NULL)
        return FALSE;
    for (guint i = list->len; i > 0; i--) {
        const EkApplication *application = list->pdata[i - 1];
        if (application->state != EK_APPLICATION_APPLIED ||
            !g_str_equal(application->identity, job->identity))
            continue;
        g_autoptr(GPtrArray) edits =
            ek_applications_edits(job->view.opened, application->id, error);
        result->edits = edits != NULL ? edits->len : 0;
        return edits != NULL && ek_apply_undo(job->target, application->id, edits, journal, error);
    }
    result->nothing_to_do = TRUE;
    if (result->recovered > 0)
        return TRUE;
    return ek_error_set(error, EK_ERROR_ABSENT,
                        "nothing to undo: this case has no applied edits on %s", order->target);
}

typedef gboolean (*Deed)(Job *job, const EkRebuildOrder *order, const EkJournal *journal,
                         EkRebuildResult *result, GError **error);

static gboolean run_job(EkSystem *system, const EkRebuildOrder *order, const char *command,
                        Deed deed, EkRebuildResult *result, GError **error)
{
    Job job;
    GError *failure = NULL;
    *result = (EkRebuildResult){0};
    gboolean fine = job_open(&job, system, order, command, &failure);
    result->is_image = job.is_image;
    if (fine) {
        EkJournalTarget named = {job.view.opened, job.event, order->target, job.identity,
                                 job.is_image};
        EkJournal journal = ek_applications_journal(&named);
        fine = recover(&job, &journal, &result->recovered, &failure) &&
               deed(&job, order, &journal, result, &failure);
        ek_target_reread(job.target);
        g_autofree char *detail =
            fine ? g_strdup_printf("%u edits on %s", result->edits, order->target)
                 : g_strdup(failure->message);
        if (!ek_event_end(job.view.opened, job.event, fine ? "done" : "refused", detail,
                          failure == NULL ? &failure : NULL))
            fine = FALSE;
    }
    if (failure != NULL)
        g_propagate_error(error, failure);
    job_clear(&job);
    return fine;
}

gboolean ek_rebuilding_apply(EkSystem *system, const EkRebuildOrder *order, EkRebuildResult *result,
                             GError **error)
{
    return run_job(system, order, "apply", apply_plan, result, error);
}

gboolean ek_rebuilding_undo(EkSystem *system, const EkRebuildOrder *order, EkRebuildResult *result,
                            GError **error)
{
    return run_job(system, order, "undo", undo_last, result, error);
}

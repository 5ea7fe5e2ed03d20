/* SPDX-License-Identifier: MIT */
/* The plan as a whole: what is chosen, its table, the repairs of its volumes, and what opens. */
#include "rebuild/planner.h"

#include "hunt/hunt.h"

#include <string.h>

const char *ek_plan_opens_name(EkPlanOpens opens)
{
    switch (opens) {
    case EK_PLAN_OPENS: return "opens";
    case EK_PLAN_NOT_OPENED: return "not opened";
    case EK_PLAN_FAILS: break;
    }
    return "does not open";
}

static void partition_free(gpointer data)
{
    EkPlanPartition *partition = data;
    g_free(partition->label);
    g_free(partition->note);
    g_free(partition->now);
    g_free(partition->check);
    g_free(partition);
}

static void repair_free(gpointer data)
{
    EkPlanRepair *repair = data;
    g_free(repair->what);
    g_free(repair->from);
    g_free(repair);
}

static void alternative_free(gpointer data)
{
    EkPlanAlternative *alternative = data;
    g_free(alternative->text);
    g_free(alternative);
}

static void added_free(gpointer data)
{
    EkPlanAdded *added = data;
    g_free(added->filesystem);
    g_free(added);
}

EkPlan *ek_plan_new(void)
{
    EkPlan *plan = g_new0(EkPlan, 1);
    plan->current_scheme = EK_SCHEME_NONE;
    plan->current = g_array_new(FALSE, FALSE, sizeof(EkTableEntry));
    plan->partitions = g_ptr_array_new_with_free_func(partition_free);
    plan->repairs = g_ptr_array_new_with_free_func(repair_free);
    plan->edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    plan->alternatives = g_ptr_array_new_with_free_func(alternative_free);
    plan->warnings = g_ptr_array_new_with_free_func(g_free);
    plan->layers = 1;
    return plan;
}

void ek_plan_free(EkPlan *plan)
{
    g_array_unref(plan->current);
    g_ptr_array_unref(plan->partitions);
    g_ptr_array_unref(plan->repairs);
    g_ptr_array_unref(plan->edits);
    g_ptr_array_unref(plan->alternatives);
    g_ptr_array_unref(plan->warnings);
    g_free(plan);
}

EkPlanWishes *ek_plan_wishes_new(void)
{
    EkPlanWishes *wishes = g_new0(EkPlanWishes, 1);
    wishes->keep = g_array_new(FALSE, FALSE, sizeof(guint));
    wishes->drop = g_array_new(FALSE, FALSE, sizeof(guint));
    wishes->added = g_ptr_array_new_with_free_func(added_free);
    wishes->resized = g_array_new(FALSE, FALSE, sizeof(EkPlanResized));
    return wishes;
}

void ek_plan_wishes_free(EkPlanWishes *wishes)
{
    g_array_unref(wishes->keep);
    g_array_unref(wishes->drop);
    g_ptr_array_unref(wishes->added);
    g_array_unref(wishes->resized);
    g_free(wishes);
}

/* --- repairs -------------------------------------------------------------------------------- */

typedef struct {
    EkPlanner *planner;
    const EkChosen *chosen;
    GError *error;
} RepairTaker;

static void take_repair(void *data, EkRepair *repair)
{
    RepairTaker *taker = data;
    EkPlanner *planner = taker->planner;
    g_autofree guint8 *before = NULL;
    if (taker->error == NULL)
        before = ek_reader_read_new(planner->reader, repair->first_byte, repair->length, NULL,
                                    &taker->error);
    if (before != NULL) {
        EkByte read = ek_reader_known(planner->reader, repair->first_byte, repair->length).good;
        g_autofree char *why = g_strdup_printf(
            "%s of volume %u, from %s%s", repair->what, taker->chosen->number, repair->from,
            read < repair->length ? " (old contents unreadable; shown as zeros)" : "");
        g_ptr_array_add(planner->plan->edits,
                        ek_edit_new(repair->structure, repair->first_byte, before, repair->after,
                                    repair->length, why));
        EkPlanRepair *planned = g_new0(EkPlanRepair, 1);
        planned->volume = taker->chosen->number;
        planned->what = g_strdup(repair->what);
        planned->from = g_strdup(repair->from);
        g_ptr_array_add(planner->plan->repairs, planned);
    }
    ek_repair_free(repair);
}

static gboolean plan_repairs(EkPlanner *planner, GError **error)
{
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkChosen *chosen = &g_array_index(planner->chosen, EkChosen, i);
        RepairTaker taker = {planner, chosen, NULL};
        if (chosen->volume == NULL || chosen->volume->format->repair == NULL)
            continue; /* whether it opens without is told by the check */
        /* Where nothing told its length, the user did. */
        EkVolume volume = *chosen->volume;
        if (volume.length_is_least && chosen->is_exact) {
            volume.bytes = chosen->range.bytes;
            volume.length_is_least = FALSE;
        }
        if (!volume.format->repair(planner->reader, &volume, take_repair, &taker, error))
            return FALSE;
        if (taker.error != NULL) {
            g_propagate_error(error, taker.error);
            return FALSE;
        }
    }
    return TRUE;
}

/* --- all of it ------------------------------------------------------------------------------ */

/* The partitions of a table and the headers of volumes never share region; hostile ones might. */
static gboolean edits_are_apart(const EkPlan *plan, GError **error)
{
    for (guint i = 1; i < plan->edits->len; i++) {
        const EkEdit *before = plan->edits->pdata[i - 1];
        const EkEdit *edit = plan->edits->pdata[i];
        if (before->first_byte + before->length > edit->first_byte)
            return ek_error_set(
                error, EK_ERROR_DAMAGED,
                "the %s and the %s would overwrite each other. Remove one from the plan: --drop",
                before->why, edit->why);
    }
    return TRUE;
}

static void note_current(EkPlanner *planner)
{
    EkPlan *plan = planner->plan;
    if (!planner->has_current)
        return;
    plan->current_scheme = planner->current.scheme;
    g_array_append_vals(plan->current, planner->current.entries, planner->current.count);
}

static gboolean fill_plan(EkPlanner *planner, GError **error)
{
    EkReader *reader = planner->reader;
    gboolean unread = FALSE;
    planner->has_current =
        ek_hunt_current_table(reader, planner->sector_size, &planner->current, &unread);
    planner->has_map = ek_apm_gather(reader, &planner->map);
    note_current(planner);
    planner->table_unread = ek_reader_known(reader, 0, EK_STEP).good < EK_STEP;
    if (!ek_planner_choose(planner, error) || !ek_planner_lay_out(planner, error) ||
        !plan_repairs(planner, error))
        return FALSE;
    ek_edits_sort(planner->plan->edits);
    if (!edits_are_apart(planner->plan, error))
        return FALSE;
    ek_planner_look_at_gaps(planner);
    ek_planner_check(planner);
    return TRUE;
}

EkPlan *ek_plan_make(const EkPlanInput *input, GError **error)
{
    g_autoptr(EkPlan) plan = ek_plan_new();
    g_autoptr(EkReader) reader = ek_image_reader_new(&input->parts, EK_FACE_AS_READ);
    g_autoptr(EkPlanWishes) none = ek_plan_wishes_new();
    const EkPlanWishes *wishes = input->wishes != NULL ? input->wishes : none;
    g_autofree EkPlanner *planner = g_new0(EkPlanner, 1);
    g_autoptr(GArray) chosen = g_array_new(FALSE, FALSE, sizeof(EkChosen));
    *planner = (EkPlanner){.input = input,
                           .wishes = wishes,
                           .reader = reader,
                           .bytes = ek_reader_bytes(reader),
                           .sector_size = input->parts.sector_size,
                           .table_size = wishes->table_sectors != 0 ? wishes->table_sectors
                                                                    : input->parts.sector_size,
                           .plan = plan,
                           .chosen = chosen};
    plan->table_sectors = planner->table_size;
    return fill_plan(planner, error) ? g_steal_pointer(&plan) : NULL;
}

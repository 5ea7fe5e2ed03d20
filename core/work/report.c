/* SPDX-License-Identifier: MIT */
/* Gathering what a report tells. */
#include "work/report.h"

#include "base/error.h"
#include "base/text.h"

#include <string.h>

static void volume_free(void *data)
{
    EkReportVolume *volume = data;
    g_free(volume->why_not);
    ek_tally_free(volume->present);
    g_free(volume);
}

static void file_free(void *data)
{
    EkReportFile *file = data;
    g_free(file->path);
    g_free(file);
}

/* --- one volume ------------------------------------------------------------------------------ */

typedef struct {
    EkReport *report;
    EkReportVolume *volume;
    EkIndexing *indexing;
    const EkReportOrder *order;
} Gathering;

static void keep_incomplete(Gathering *gathering, const char *path, const EkItem *item)
{
    EkReport *report = gathering->report;
    report->incomplete_count++;
    if (report->incomplete->len >= EK_REPORT_FILES_MOST)
        return;
    EkReportFile *file = g_new0(EkReportFile, 1);
    file->volume = ek_indexing_volume(gathering->indexing)->number;
    file->path = g_strdup(path);
    file->size = item->file.size;
    file->damage = item->damage;
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(gathering->indexing), item->file.number, NULL);
    if (extents != NULL)
        ek_files_measure(ek_indexing_files(gathering->indexing)->reader, extents, item->file.size,
                         file->parts, G_N_ELEMENTS(file->parts));
    g_ptr_array_add(report->incomplete, file);
}

static gboolean take_item(void *data, const char *path, const EkItem *item)
{
    Gathering *gathering = data;
    EkReportVolume *volume = gathering->volume;
    if (item->file.type == EK_TYPE_FOLDER || item->is_again)
        return g_atomic_int_get(gathering->order->cancel) == 0;
    if ((item->file.flags & EK_FILE_DELETED) != 0) {
        ek_count_add(&volume->deleted, item);
    } else {
        ek_tally_add(volume->present, "", path, item);
        volume->by_condition[item->damage.condition]++;
        if (volume->is_counted)
            ek_count_add(&gathering->report->all, item);
        if (volume->is_counted && item->damage.condition != EK_CONDITION_WHOLE)
            keep_incomplete(gathering, path, item);
    }
    return g_atomic_int_get(gathering->order->cancel) == 0 &&
           (gathering->order->file == NULL ||
            gathering->order->file(gathering->order->data, gathering->indexing, path, item));
}

static gboolean add_volume(EkReport *report, const EkReportOrder *order, const EkCaseVolume *entry,
                           GError **error)
{
    GError *failure = NULL;
    EkReportVolume *volume = g_new0(EkReportVolume, 1);
    volume->entry = entry;
    volume->present = ek_tally_new(EK_REPORT_FOLDERS_MOST);
    volume->is_counted = entry != NULL && entry->standing != EK_STANDING_REMAINS;
    g_ptr_array_add(report->volumes, volume);
    if (entry != NULL && entry->volume->format->open == NULL) {
        volume->why_not =
            g_strdup(entry->volume->is_container ? "it holds other volumes, or is locked"
                                                 : "this version cannot list its files");
        return TRUE;
    }
    guint64 number = entry != NULL ? entry->number : EK_CONTENTS;
    g_autoptr(EkIndexing) indexing = order->open(order->data, number, &failure);
    if (indexing == NULL && (g_error_matches(failure, EK_ERROR, EK_ERROR_DAMAGED) ||
                             g_error_matches(failure, EK_ERROR, EK_ERROR_ABSENT))) {
        volume->why_not = g_strdup(failure->message);
        g_error_free(failure);
        if (entry == NULL)
            g_ptr_array_set_size(report->volumes, (gint)report->volumes->len - 1);
        return TRUE;
    }
    if (indexing == NULL) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    guint64 root = 0;
    Gathering gathering = {report, volume, indexing, order};
    EkInventory *inventory = ek_indexing_inventory(indexing);
    volume->is_listed = TRUE;
    return ek_inventory_find(inventory, "", &root, error) &&
           ek_inventory_walk(inventory, root, EK_WITH_BELOW | EK_WITH_DELETED, take_item,
                             &gathering, error);
}

/* --- all of it ------------------------------------------------------------------------------- */

gboolean ek_report_gather(EkView *view, const char *folder, const EkReportOrder *order,
                          EkReport *report, GError **error)
{
    GError *failure = NULL;
    *report = (EkReport){.view = view, .made = g_get_real_time() / G_USEC_PER_SEC};
    report->volumes = g_ptr_array_new_with_free_func(volume_free);
    report->incomplete = g_ptr_array_new_with_free_func(file_free);
    for (guint i = 0; i < EK_NOTES; i++)
        report->notes[i] = ek_case_note(view->opened, (EkNote)i);
    if (!ek_case_summary(view->opened, folder, &report->summary, error) ||
        (report->events = ek_event_list(view->opened, error)) == NULL)
        return FALSE;
    report->plan = ek_planstore_load(view->opened, &failure);
    if (report->plan == NULL && !g_error_matches(failure, EK_ERROR, EK_ERROR_ABSENT)) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    g_clear_error(&failure);
    for (guint i = 0; i < report->summary.volumes->len; i++) {
        const EkCaseVolume *entry = report->summary.volumes->pdata[i];
        if (entry->standing != EK_STANDING_NESTED && !add_volume(report, order, entry, error))
            return FALSE;
    }
    if (!add_volume(report, order, NULL, error))
        return FALSE;
    return g_atomic_int_get(order->cancel) == 0 ||
           ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
}

void ek_report_clear(EkReport *report)
{
    for (guint i = 0; i < EK_NOTES; i++)
        g_clear_pointer(&report->notes[i], g_free);
    g_clear_pointer(&report->volumes, g_ptr_array_unref);
    g_clear_pointer(&report->incomplete, g_ptr_array_unref);
    g_clear_pointer(&report->events, g_ptr_array_unref);
    g_clear_pointer(&report->plan, ek_plan_free);
    ek_case_summary_clear(&report->summary);
}

char *ek_report_answer(const EkReport *report)
{
    guint64 missing = report->all.files - report->all.whole;
    if (report->all.files == 0)
        return g_strdup(report->summary.volumes->len == 0 ? "No volume with files is known yet."
                                                          : "No file of a volume is known.");
    g_autofree char *files = ek_text_count(report->all.files, "file", "files");
    if (missing == 0)
        return g_strdup_printf("All %s are complete.", files);
    return g_strdup_printf("%" G_GUINT64_FORMAT " of %s are complete; %" G_GUINT64_FORMAT
                           " %s incomplete.",
                           report->all.whole, files, missing, missing == 1 ? "is" : "are");
}

char *ek_report_gap(const EkReportFile *file)
{
    const EkDamage *damage = &file->damage;
    g_autofree char *bad = ek_text_size(damage->bad_bytes);
    g_autofree char *unread = ek_text_size(damage->unread_bytes);
    g_autofree char *size = ek_text_size(file->size);
    switch (damage->condition) {
    case EK_CONDITION_WHOLE: return g_strdup("complete");
    case EK_CONDITION_HOLED:
        if (damage->unread_bytes == 0)
            return g_strdup_printf("%s of %s could not be read: the drive is damaged there", bad,
                                   size);
        if (damage->bad_bytes == 0)
            return g_strdup_printf("%s of %s has not been read yet", unread, size);
        return g_strdup_printf("%s of %s could not be read, %s has not been read yet", bad, size,
                               unread);
    case EK_CONDITION_OVERWRITTEN: return g_strdup("part of it was overwritten by newer data");
    case EK_CONDITION_UNPLACED: return g_strdup("the location of some of its data is unknown");
    case EK_CONDITION_DOUBTFUL:
        return g_strdup("complete in length, but its location is a guess or its content cannot be "
                        "verified");
    case EK_CONDITION_CUT: return g_strdup("the beginning was found, the end is missing");
    case EK_CONDITIONS: break;
    }
    return g_strdup("");
}

/* SPDX-License-Identifier: MIT */
/* Exports of a case: the drive, and each volume by itself. */
#include "work/serving.h"

#include "base/error.h"
#include "case/planstore.h"

struct EkServing {
    EkView view;
    gboolean is_open;
    EkOverlay *repairs;
    EkReader *reader;
    GArray *exports; /* EkExport */
    guint edits;
};

static void export_clear(void *data)
{
    EkExport *one = data;
    g_free(one->name);
    g_free(one->text);
}

void ek_serving_free(EkServing *serving)
{
    g_clear_pointer(&serving->reader, ek_reader_free);
    g_clear_pointer(&serving->repairs, ek_overlay_free);
    if (serving->is_open)
        ek_view_close(&serving->view);
    g_array_unref(serving->exports);
    g_free(serving);
}

static gboolean lay_plan(EkServing *serving, GError **error)
{
    g_autoptr(EkPlan) plan = ek_planstore_load(serving->view.opened, error);
    if (plan == NULL)
        return FALSE;
    serving->repairs = ek_plan_overlay(plan->edits);
    serving->edits = plan->edits->len;
    return TRUE;
}

static void add_volume(EkServing *serving, const EkCaseVolume *entry)
{
    const EkVolume *volume = entry->volume;
    EkByte there = ek_reader_bytes(serving->reader);
    EkRange range = ek_volume_range(volume);
    if (entry->standing == EK_STANDING_NESTED || range.first >= there || range.bytes == 0)
        return;
    EkExport one = {g_strdup_printf("volume-%u", entry->number),
                    g_strdup_printf("%s%s%s", volume->filesystem, volume->label != NULL ? " " : "",
                                    volume->label != NULL ? volume->label : ""),
                    range.first, MIN(range.bytes, there - range.first)};
    g_array_append_val(serving->exports, one);
}

static gboolean open_all(EkServing *serving, const char *folder, EkFace face, GError **error)
{
    if (!ek_view_open(&serving->view, folder, FALSE, error))
        return FALSE;
    serving->is_open = TRUE;
    if (face == EK_FACE_AS_REPAIRED && !lay_plan(serving, error))
        return FALSE;
    EkImageReaderParts parts = ek_view_parts(&serving->view);
    parts.repairs = serving->repairs;
    serving->reader = ek_image_reader_new(&parts, face);
    EkExport drive = {g_strdup("drive"), g_strdup("the drive"), 0,
                      ek_reader_bytes(serving->reader)};
    g_array_append_val(serving->exports, drive);
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(serving->view.opened, error);
    for (guint i = 0; volumes != NULL && i < volumes->len; i++)
        add_volume(serving, volumes->pdata[i]);
    return volumes != NULL;
}

EkServing *ek_serving_new(const char *folder, EkFace face, GError **error)
{
    g_autoptr(EkServing) serving = g_new0(EkServing, 1);
    serving->exports = g_array_new(FALSE, FALSE, sizeof(EkExport));
    g_array_set_clear_func(serving->exports, export_clear);
    return open_all(serving, folder, face, error) ? g_steal_pointer(&serving) : NULL;
}

guint ek_serving_count(const EkServing *serving)
{
    return serving->exports->len;
}

const EkExport *ek_serving_export(const EkServing *serving, guint index)
{
    return &g_array_index(serving->exports, EkExport, index);
}

const EkExport *ek_serving_named(const EkServing *serving, const char *name)
{
    if (*name == '\0')
        return ek_serving_export(serving, 0);
    for (guint i = 0; i < serving->exports->len; i++)
        if (g_str_equal(ek_serving_export(serving, i)->name, name))
            return ek_serving_export(serving, i);
    return NULL;
}

guint ek_serving_edits(const EkServing *serving)
{
    return serving->edits;
}

gboolean ek_serving_read(const EkServing *serving, const EkExport *from, EkByte first,
                         guint8 *buffer, gsize length, gboolean zeros, GError **error)
{
    EkRange range;
    EkRange hole;
    gboolean is_bad = FALSE;
    if (!ek_range_checked(first, length, from->bytes, &range))
        return ek_error_set(error, EK_ERROR_ABSENT, "behind the end of %s", from->name);
    EkByte at = from->first + first;
    if (!zeros && ek_reader_next_hole(serving->reader, at, at + length, &hole, &is_bad))
        return ek_error_set(error, EK_ERROR_UNREADABLE,
                            "byte %" G_GUINT64_FORMAT " of the drive %s", hole.first,
                            is_bad ? "is bad" : "was not read");
    return ek_reader_read(serving->reader, at, buffer, length, NULL, error);
}

/* SPDX-License-Identifier: MIT */
/* Edits and the structures they belong to. */
#include "rebuild/plan.h"

#include <string.h>

EkEdit *ek_edit_new(const char *structure, EkByte first_byte, const guint8 *before,
                    const guint8 *after, gsize length, const char *why)
{
    EkEdit *edit = g_new0(EkEdit, 1);
    edit->structure = g_strdup(structure);
    edit->first_byte = first_byte;
    edit->length = length;
    edit->before = g_memdup2(before, length);
    edit->after = g_memdup2(after, length);
    edit->why = g_strdup(why);
    return edit;
}

void ek_edit_free(EkEdit *edit)
{
    g_free(edit->structure);
    g_free(edit->before);
    g_free(edit->after);
    g_free(edit->why);
    g_free(edit);
}

static gint by_position(gconstpointer a, gconstpointer b)
{
    const EkEdit *left = *(const EkEdit *const *)a;
    const EkEdit *right = *(const EkEdit *const *)b;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

void ek_edits_sort(GPtrArray *edits)
{
    g_ptr_array_sort(edits, by_position);
}

EkOverlay *ek_plan_overlay(const GPtrArray *edits)
{
    EkOverlay *overlay = ek_overlay_new();
    for (guint i = 0; i < edits->len; i++) {
        const EkEdit *edit = edits->pdata[i];
        ek_overlay_add(overlay, edit->first_byte, edit->after, edit->length);
    }
    return overlay;
}

#define EXPLAINED_MOST 4096u /* bytes of an edit */

GPtrArray *ek_structure_fields(const char *structure, EkSpan span, guint32 sector_size)
{
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        if (g_str_equal(ek_scheme_name(ek_table_formats[i]->scheme), structure) &&
            ek_table_formats[i]->explain != NULL)
            return ek_table_formats[i]->explain(span, sector_size);
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        if (g_strcmp0(ek_file_systems[i]->structure, structure) == 0 &&
            ek_file_systems[i]->explain != NULL)
            return ek_file_systems[i]->explain(span);
    return ek_fields_new();
}

/* An edit of part of a sector is explained as that part of the whole structure. */
GPtrArray *ek_edit_fields(const EkEdit *edit, guint32 sector_size, gboolean after)
{
    guint8 sector[EXPLAINED_MOST] = {0};
    gsize inside = (gsize)(edit->first_byte % EK_STEP);
    gsize length = MIN(edit->length, sizeof sector - inside);
    gsize all_of_it = (gsize)MAX(ek_divide_up(inside + length, EK_STEP) * EK_STEP, EK_STEP);
    memcpy(sector + inside, after ? edit->after : edit->before, length);
    g_autoptr(GPtrArray) all =
        ek_structure_fields(edit->structure, (EkSpan){sector, all_of_it}, sector_size);
    GPtrArray *fields = ek_fields_new();
    for (guint i = 0; i < all->len; i++) {
        const EkField *field = all->pdata[i];
        if (field->offset >= inside && field->offset + field->length <= inside + length)
            ek_fields_add(fields, field->offset - inside, field->length, field->name,
                          g_strdup(field->meaning));
    }
    /* Of some structures only the bytes are shown. */
    if (fields->len == 0)
        ek_fields_add(fields, 0, edit->length, "bytes", NULL);
    return fields;
}

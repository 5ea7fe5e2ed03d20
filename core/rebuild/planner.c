/* SPDX-License-Identifier: MIT */
/* What the pieces of planning share: warnings, identifiers, edits of a table. */
#include "rebuild/planner.h"

#include "base/digest.h"

#include <string.h>

void ek_planner_warn(EkPlanner *planner, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_ptr_array_add(planner->plan->warnings, g_strdup_vprintf(format, arguments));
    va_end(arguments);
}

void ek_planner_make_id(const EkPlanner *planner, const char *what, guint8 *id, gsize length)
{
    guint8 sum[EK_SHA256_BYTES];
    g_autofree char *text = g_strconcat(what, " of ", planner->input->case_id, NULL);
    ek_sha256_of(text, strlen(text), sum);
    memcpy(id, sum, MIN(length, sizeof sum));
}

/* --- edits of a table ----------------------------------------------------------------------- */

/* One edit for what differs from `first` on, in `length` bytes. */
static void add_edit(EkPlanner *planner, const char *structure, EkByte first_byte,
                     const guint8 *before, const guint8 *after, gsize length, const char *why)
{
    g_ptr_array_add(planner->plan->edits,
                    ek_edit_new(structure, first_byte, before, after, length, why));
}

/* The fields of a header hang together by its sum: they are one edit. Entries are one each. */
gboolean ek_planner_take_part(void *data, const char *structure, EkByte first_byte,
                              const guint8 *after, gsize length, const char *what, GError **error)
{
    EkPlanner *planner = data;
    g_autofree guint8 *before =
        ek_reader_read_new(planner->reader, first_byte, length, NULL, error);
    if (before == NULL)
        return FALSE;
    if (memcmp(before, after, length) == 0)
        return TRUE;
    gsize first = length;
    gsize end = 0;
    gboolean is_one = g_str_equal(structure, "gpt");
    g_autoptr(GPtrArray) fields =
        ek_structure_fields(structure, (EkSpan){after, length}, planner->table_size);
    for (guint i = 0; i < fields->len; i++) {
        const EkField *field = fields->pdata[i];
        gsize at = field->offset;
        if (memcmp(before + at, after + at, field->length) == 0)
            continue;
        first = MIN(first, at);
        end = MAX(end, at + field->length);
        if (is_one)
            continue;
        g_autofree char *why = g_str_equal(structure, "gpt-entries")
                                   ? g_strdup_printf("entry %" G_GSIZE_FORMAT " of the %s",
                                                     at / field->length + 1, what)
                                   : g_strdup_printf("%s of the %s", field->name, what);
        add_edit(planner, structure, first_byte + at, before + at, after + at, field->length, why);
    }
    if (is_one && end > first)
        add_edit(planner, structure, first_byte + first, before + first, after + first, end - first,
                 what);
    return TRUE;
}

/* SPDX-License-Identifier: MIT */
/* One plan on top of another. */
#include "rebuild/stack.h"

#include <string.h>

/* A step of the target, as far as any edit touches it. */
typedef struct {
    EkByte first_byte;
    gboolean is_known[EK_STEP];
    guint8 now[EK_STEP];
    guint8 wanted[EK_STEP];
    const char *why;
    const char *structure;
} Step;

/* The bytes that an edit has in the step. */
static gboolean part_of(const EkEdit *edit, const Step *step, gsize *from, gsize *to, gsize *into)
{
    EkByte first = MAX(edit->first_byte, step->first_byte);
    EkByte end = MIN(edit->first_byte + edit->length, step->first_byte + EK_STEP);
    if (first >= end)
        return FALSE;
    *from = (gsize)(first - step->first_byte);
    *to = (gsize)(end - step->first_byte);
    *into = (gsize)(first - edit->first_byte);
    return TRUE;
}

static void take_planned(Step *step, const EkEdit *edit)
{
    gsize from = 0;
    gsize to = 0;
    gsize into = 0;
    if (!part_of(edit, step, &from, &to, &into))
        return;
    for (gsize i = from; i < to; i++, into++) {
        step->is_known[i] = TRUE;
        step->now[i] = edit->before[into];
        step->wanted[i] = edit->after[into];
    }
    step->why = edit->why;
    step->structure = edit->structure;
}

static void take_applied(Step *step, const EkEdit *edit)
{
    gsize from = 0;
    gsize to = 0;
    gsize into = 0;
    if (!part_of(edit, step, &from, &to, &into))
        return;
    for (gsize i = from; i < to; i++, into++) {
        if (!step->is_known[i])
            step->wanted[i] = edit->before[into];
        step->is_known[i] = TRUE;
        step->now[i] = edit->after[into];
    }
}

/* One edit for each run of bytes in which something changes. */
static void put_edits(const Step *step, GPtrArray *edits)
{
    for (gsize at = 0; at < EK_STEP;) {
        gsize end = at;
        while (end < EK_STEP && step->is_known[end])
            end++;
        if (end > at && memcmp(step->now + at, step->wanted + at, end - at) != 0)
            g_ptr_array_add(edits, ek_edit_new(step->structure != NULL ? step->structure : "",
                                               step->first_byte + at, step->now + at,
                                               step->wanted + at, end - at,
                                               step->why != NULL
                                                   ? step->why
                                                   : "what an earlier plan changed, as it was"));
        at = MAX(end, at + 1);
    }
}

static gint by_value(gconstpointer a, gconstpointer b)
{
    const EkByte *left = a;
    const EkByte *right = b;
    return *left < *right ? -1 : *left > *right;
}

static void note_steps(const GPtrArray *edits, GArray *steps)
{
    for (guint i = 0; i < edits->len; i++) {
        const EkEdit *edit = edits->pdata[i];
        EkByte at = edit->first_byte / EK_STEP * EK_STEP;
        for (; at < edit->first_byte + edit->length; at += EK_STEP)
            g_array_append_val(steps, at);
    }
}

GPtrArray *ek_stack_edits(const GPtrArray *plan, const GPtrArray *applied)
{
    GPtrArray *edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    g_autoptr(GArray) steps = g_array_new(FALSE, FALSE, sizeof(EkByte));
    note_steps(plan, steps);
    for (guint i = 0; i < applied->len; i++)
        note_steps(applied->pdata[i], steps);
    g_array_sort(steps, by_value);
    for (guint s = 0; s < steps->len; s++) {
        Step step = {.first_byte = g_array_index(steps, EkByte, s)};
        if (s > 0 && step.first_byte == g_array_index(steps, EkByte, s - 1))
            continue;
        for (guint i = 0; i < plan->len; i++)
            take_planned(&step, plan->pdata[i]);
        for (guint i = 0; i < applied->len; i++) {
            const GPtrArray *older = applied->pdata[i];
            for (guint k = 0; k < older->len; k++)
                take_applied(&step, older->pdata[k]);
        }
        put_edits(&step, edits);
    }
    return edits;
}

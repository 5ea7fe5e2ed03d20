/* SPDX-License-Identifier: MIT */
/* Writing edits to a target. */
#include "rebuild/apply.h"

#include "base/text.h"

#include <string.h>

#define SHOWN_BYTES 8u

typedef enum { SIDE_BEFORE, SIDE_AFTER } Side;

static const guint8 *bytes_of(const EkEdit *edit, Side side)
{
    return side == SIDE_BEFORE ? edit->before : edit->after;
}

static gboolean refuse_difference(EkTarget *target, const EkEdit *edit, const guint8 *found,
                                  const guint8 *expected, GError **error)
{
    gsize at = 0;
    while (found[at] == expected[at])
        at++;
    gsize shown = MIN(SHOWN_BYTES, edit->length - at);
    g_autofree char *is = ek_text_hex(found + at, shown, ' ');
    g_autofree char *should = ek_text_hex(expected + at, shown, ' ');
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s contains %s at byte %" G_GUINT64_FORMAT " (sector %" G_GUINT64_FORMAT
                        ") instead of the expected %s (%s). Nothing was written. Wrong target, or "
                        "was it changed since the plan was made?",
                        ek_target_path(target), is, edit->first_byte + at,
                        (edit->first_byte + at) / EK_STEP, should, edit->why);
}

/* Does the target hold this side of every edit? */
static gboolean check_side(EkTarget *target, const GPtrArray *edits, Side side, GError **error)
{
    for (guint i = 0; i < edits->len; i++) {
        const EkEdit *edit = edits->pdata[i];
        EkRange inside;
        if (!ek_range_checked(edit->first_byte, edit->length, ek_target_bytes(target), &inside))
            return ek_error_set(
                error, EK_ERROR_REFUSED,
                "%s is too small: the %s belongs at byte %" G_GUINT64_FORMAT
                ", but the target has only %" G_GUINT64_FORMAT " bytes. Nothing was written",
                ek_target_path(target), edit->why, edit->first_byte, ek_target_bytes(target));
        g_autofree guint8 *found = g_malloc(edit->length);
        if (!ek_target_read(target, edit->first_byte, found, edit->length, error))
            return FALSE;
        if (memcmp(found, bytes_of(edit, side), edit->length) != 0)
            return refuse_difference(target, edit, found, bytes_of(edit, side), error);
    }
    return TRUE;
}

gboolean ek_apply_check(EkTarget *target, const GPtrArray *edits, GError **error)
{
    return check_side(target, edits, SIDE_BEFORE, error);
}

/* Writes one side of every edit, flushes, reads back. */
static gboolean write_side(EkTarget *target, const GPtrArray *edits, Side side, GError **error)
{
    for (guint i = 0; i < edits->len; i++) {
        const EkEdit *edit = edits->pdata[i];
        if (!ek_target_write(target, edit->first_byte, bytes_of(edit, side), edit->length, error))
            return FALSE;
    }
    if (!ek_target_sync(target, error))
        return FALSE;
    g_autoptr(GError) differs = NULL;
    if (check_side(target, edits, side, &differs))
        return TRUE;
    if (!g_error_matches(differs, EK_ERROR, EK_ERROR_REFUSED)) {
        g_propagate_error(error, g_steal_pointer(&differs));
        return FALSE;
    }
    return ek_error_set(error, EK_ERROR_FAILED,
                        "%s reads back otherwise than it was written: the drive or its adapter "
                        "loses data. Do not use this target",
                        ek_target_path(target));
}

gboolean ek_apply(EkTarget *target, const GPtrArray *edits, const EkJournal *journal,
                  GError **error)
{
    gint64 id = 0;
    if (!ek_apply_check(target, edits, error) || !journal->begin(journal->data, edits, &id, error))
        return FALSE;
    if (write_side(target, edits, SIDE_AFTER, error) &&
        journal->set_state(journal->data, id, EK_APPLICATION_APPLIED, error))
        return TRUE;
    /* The first failure is the one to tell; a rollback that fails too is made good when the target
     * is next named, since the record still says `writing`. */
    if (write_side(target, edits, SIDE_BEFORE, NULL))
        (void)journal->set_state(journal->data, id, EK_APPLICATION_ROLLED_BACK, NULL);
    return FALSE;
}

gboolean ek_apply_undo(EkTarget *target, gint64 id, const GPtrArray *edits,
                       const EkJournal *journal, GError **error)
{
    return check_side(target, edits, SIDE_AFTER, error) &&
           journal->set_state(journal->data, id, EK_APPLICATION_UNDOING, error) &&
           write_side(target, edits, SIDE_BEFORE, error) &&
           journal->set_state(journal->data, id, EK_APPLICATION_UNDONE, error);
}

/* A write that was cut off leaves each byte as it was before or as it should be after. */
static gboolean check_torn(EkTarget *target, const EkEdit *edit, GError **error)
{
    g_autofree guint8 *found = g_malloc(edit->length);
    if (!ek_target_read(target, edit->first_byte, found, edit->length, error))
        return FALSE;
    for (gsize i = 0; i < edit->length; i++)
        if (found[i] != edit->before[i] && found[i] != edit->after[i])
            return refuse_difference(target, edit, found, edit->before, error);
    return TRUE;
}

gboolean ek_apply_recover(EkTarget *target, gint64 id, const GPtrArray *edits,
                          EkApplicationState state, const EkJournal *journal, GError **error)
{
    EkApplicationState then =
        state == EK_APPLICATION_UNDOING ? EK_APPLICATION_UNDONE : EK_APPLICATION_ROLLED_BACK;
    for (guint i = 0; i < edits->len; i++)
        if (!check_torn(target, edits->pdata[i], error))
            return FALSE;
    return write_side(target, edits, SIDE_BEFORE, error) &&
           journal->set_state(journal->data, id, then, error);
}

/* SPDX-License-Identifier: MIT */
/* The read map in the case. */
#include "case/mapstore.h"

#include "case/applications.h"

static gboolean load_rows(EkCase *self, sqlite3 *store, EkReadMap *map, GError **error)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store, error, "SELECT first,mark FROM boundary ORDER BY first", "");
    if (rows == NULL)
        return FALSE;
    EkSector sectors = ek_case_info(self)->sectors;
    gint64 last = -1;
    int got;
    while ((got = ek_sql_step(store, rows, error)) == 1) {
        gint64 first = sqlite3_column_int64(rows, 0);
        guint64 packed = (guint64)sqlite3_column_int64(rows, 1);
        EkMark mark;
        if (!ek_mark_unpack(packed, &mark) || first <= last || (EkSector)first >= sectors)
            return ek_error_set(error, EK_ERROR_DAMAGED,
                                "%s/map.db speaks of sector %" G_GINT64_FORMAT
                                " of %" G_GUINT64_FORMAT ", mark %" G_GINT64_MODIFIER "x",
                                ek_case_folder(self), first, sectors, packed);
        ek_read_map_append(map, (EkSector)first, mark);
        last = first;
    }
    return got == 0;
}

EkReadMap *ek_mapstore_load(EkCase *self, GError **error)
{
    g_autoptr(EkReadMap) map = ek_read_map_new(ek_case_info(self)->sectors);
    g_autoptr(sqlite3) store = ek_sql_open_alone(ek_case_folder(self), "map.db", error);
    if (store == NULL || !load_rows(self, store, map, error))
        return NULL;
    g_ptr_array_unref(ek_read_map_take_changes(map));
    return g_steal_pointer(&map);
}

gboolean ek_mapstore_state(EkCase *self, EkKeptState *state, GError **error)
{
    sqlite3 *store = ek_case_map(self);
    g_autoptr(EkStatement) row = ek_sql_prepare(
        store, error,
        "SELECT untouched,good,set_aside,bad,stretches_untouched,stretches_good,"
        "stretches_set_aside,stretches_bad,device_clock,failed_commands,round,device_used,"
        "gone_at,fill_zeros,fill_ones,fill_pattern,repeats_every,cost_command,cost_sector,cost_"
        "seek,"
        "cost_failure FROM totals",
        "");
    if (row == NULL)
        return FALSE;
    int got = ek_sql_step(store, row, error);
    if (got != 1)
        return got == 0 ? ek_error_set(error, EK_ERROR_DAMAGED, "%s/map.db has no totals",
                                       ek_case_folder(self))
                        : FALSE;
    for (int i = 0; i < EK_STATES; i++) {
        state->totals[i] = (EkSector)sqlite3_column_int64(row, i);
        state->stretches[i] = (EkSector)sqlite3_column_int64(row, EK_STATES + i);
    }
    state->device_clock = sqlite3_column_int64(row, 8);
    state->failed_commands = (guint64)sqlite3_column_int64(row, 9);
    state->round = (guint)sqlite3_column_int(row, 10);
    state->device_used = sqlite3_column_int64(row, 11);
    state->gone_at = (EkSector)sqlite3_column_int64(row, 12);
    for (int kind = EK_FILL_ZEROS; kind < EK_FILLS; kind++)
        state->fill[kind] = (EkSector)sqlite3_column_int64(row, 12 + kind);
    state->repeats_every = (EkSector)sqlite3_column_int64(row, 16);
    state->costs = (EkCostsKept){sqlite3_column_double(row, 17), sqlite3_column_double(row, 18),
                                 sqlite3_column_double(row, 19), sqlite3_column_double(row, 20)};
    return TRUE;
}

typedef struct {
    const GPtrArray *changes;
    const EkBlockSum *sums;
    gsize count;
    const EkKeptState *state;
} Commit;

static gboolean put_boundary(sqlite3 *store, sqlite3_stmt *insert, const EkStretch *stretch,
                             GError **error)
{
    sqlite3_reset(insert);
    sqlite3_bind_int64(insert, 1, (gint64)stretch->first);
    sqlite3_bind_int64(insert, 2, (gint64)ek_mark_pack(stretch->mark));
    return ek_sql_step(store, insert, error) == 0;
}

static gboolean put_changes(sqlite3 *store, const GPtrArray *changes, GError **error)
{
    g_autoptr(EkStatement) remove =
        ek_sql_prepare(store, error, "DELETE FROM boundary WHERE first BETWEEN ? AND ?", "");
    g_autoptr(EkStatement) insert =
        ek_sql_prepare(store, error, "INSERT INTO boundary VALUES (?,?)", "");
    if (remove == NULL || insert == NULL)
        return FALSE;
    for (guint i = 0; i < changes->len; i++) {
        const EkMapChange *change = changes->pdata[i];
        sqlite3_reset(remove);
        sqlite3_bind_int64(remove, 1, (gint64)change->from);
        sqlite3_bind_int64(remove, 2, (gint64)change->to);
        if (ek_sql_step(store, remove, error) != 0)
            return FALSE;
        for (gsize k = 0; k < change->count; k++)
            if (!put_boundary(store, insert, &change->stretches[k], error))
                return FALSE;
    }
    return TRUE;
}

static gboolean put_commit(sqlite3 *store, void *data, GError **error)
{
    const Commit *commit = data;
    const EkKeptState *state = commit->state;
    if (!put_changes(store, commit->changes, error))
        return FALSE;
    for (gsize i = 0; i < commit->count; i++)
        if (!ek_sql_do(store, error, "INSERT OR REPLACE INTO block_sum VALUES (?,?)", "uu",
                       commit->sums[i].number, commit->sums[i].sum))
            return FALSE;
    return ek_sql_do(store, error,
                     "UPDATE totals SET untouched=?, good=?, set_aside=?, bad=?,"
                     " stretches_untouched=?, stretches_good=?, stretches_set_aside=?,"
                     " stretches_bad=?, device_clock=?, failed_commands=?, round=?,"
                     " device_used=?, gone_at=?, fill_zeros=?, fill_ones=?, fill_pattern=?,"
                     " repeats_every=?, cost_command=?, cost_sector=?, cost_seek=?,"
                     " cost_failure=?",
                     "uuuuuuuuiuiiuuuuudddd", state->totals[0], state->totals[1], state->totals[2],
                     state->totals[3], state->stretches[0], state->stretches[1],
                     state->stretches[2], state->stretches[3], state->device_clock,
                     state->failed_commands, (gint64)state->round, state->device_used,
                     state->gone_at, state->fill[EK_FILL_ZEROS], state->fill[EK_FILL_ONES],
                     state->fill[EK_FILL_PATTERN], state->repeats_every, state->costs.command,
                     state->costs.sector, state->costs.seek, state->costs.failure);
}

static gboolean sink_commit(void *data, const GPtrArray *changes, const EkBlockSum *sums,
                            gsize count, const EkKeptState *state, GError **error)
{
    Commit commit = {changes, sums, count, state};
    return ek_sql_transaction(ek_case_map(data), put_commit, &commit, error);
}

static gboolean sink_block_sum(void *data, guint64 number, guint64 *sum, GError **error)
{
    GError *failure = NULL;
    *sum = 0;
    if (!ek_mapstore_block_sum(data, number, sum, &failure) && failure != NULL) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    return TRUE;
}

static gboolean sink_correct(void *data, EkByte first, const guint8 *bytes, gsize length,
                             GError **error)
{
    return ek_applications_correct(data, first, bytes, length, error);
}

EkImageWriterSink ek_mapstore_sink(EkCase *self)
{
    return (EkImageWriterSink){self, sink_commit, sink_block_sum, sink_correct};
}

gboolean ek_mapstore_block_sum(EkCase *self, guint64 number, guint64 *sum, GError **error)
{
    sqlite3 *store = ek_case_map(self);
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store, error, "SELECT sum FROM block_sum WHERE block=?", "u", number);
    if (row == NULL || ek_sql_step(store, row, error) != 1)
        return FALSE;
    *sum = (guint64)sqlite3_column_int64(row, 0);
    return TRUE;
}

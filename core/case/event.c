/* SPDX-License-Identifier: MIT */
/* The event log of a case. */
#include "case/case.h"

#include <unistd.h>

gint64 ek_event_begin(EkCase *self, const char *command, const char *options, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    gint64 now = g_get_real_time() / G_USEC_PER_SEC;
    if (!ek_sql_do(store, error, "INSERT INTO event (command,options,pid,began) VALUES (?,?,?,?)",
                   "ssii", command, options, (gint64)getpid(), now))
        return 0;
    return sqlite3_last_insert_rowid(store);
}

gboolean ek_event_end(EkCase *self, gint64 id, const char *outcome, const char *detail,
                      GError **error)
{
    gint64 now = g_get_real_time() / G_USEC_PER_SEC;
    return ek_sql_do(ek_case_store(self), error,
                     "UPDATE event SET ended=?, outcome=?, detail=? WHERE id=?", "issi", now,
                     outcome, detail, id);
}

static void event_free(gpointer data)
{
    EkEvent *event = data;
    g_free(event->command);
    g_free(event->options);
    g_free(event->outcome);
    g_free(event->detail);
    g_free(event);
}

GPtrArray *ek_event_list(EkCase *self, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) events = g_ptr_array_new_with_free_func(event_free);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error,
        "SELECT id,command,options,pid,began,ended,outcome,detail FROM event ORDER BY id", "");
    if (rows == NULL)
        return NULL;
    int got;
    while ((got = ek_sql_step(store, rows, error)) == 1) {
        EkEvent *event = g_new0(EkEvent, 1);
        event->id = sqlite3_column_int64(rows, 0);
        event->command = ek_sql_text(rows, 1);
        event->options = ek_sql_text(rows, 2);
        event->pid = sqlite3_column_int64(rows, 3);
        event->began = sqlite3_column_int64(rows, 4);
        event->ended = sqlite3_column_int64(rows, 5);
        event->outcome = ek_sql_text(rows, 6);
        event->detail = ek_sql_text(rows, 7);
        g_ptr_array_add(events, event);
    }
    return got == 0 ? g_steal_pointer(&events) : NULL;
}

/* SPDX-License-Identifier: MIT */
/* The kept signs of a drive's health. */
#include "case/healthstore.h"

typedef struct {
    gint64 event;
    gint64 device_clock;
    const EkHealth *health;
} Adding;

static gboolean add(sqlite3 *store, void *data, GError **error)
{
    const Adding *adding = data;
    const EkHealth *health = adding->health;
    if (!ek_sql_do(store, error,
                   "INSERT INTO health (event,taken,device_clock,why_silent) VALUES (?,?,?,?)",
                   "iiis", adding->event, g_get_real_time() / G_USEC_PER_SEC, adding->device_clock,
                   health->why_silent))
        return FALSE;
    gint64 id = sqlite3_last_insert_rowid(store);
    for (int i = 0; i < EK_SIGN_COUNT; i++)
        if (health->value[i] != EK_SIGN_UNKNOWN &&
            !ek_sql_do(store, error, "INSERT INTO health_sign (health,name,value) VALUES (?,?,?)",
                       "isi", id, ek_sign_name((EkSign)i), health->value[i]))
            return FALSE;
    return TRUE;
}

gboolean ek_healthstore_add(EkCase *self, gint64 event, gint64 device_clock, const EkHealth *health,
                            GError **error)
{
    Adding adding = {event, device_clock, health};
    return ek_sql_transaction(ek_case_store(self), add, &adding, error);
}

static void kept_free(gpointer data)
{
    EkKeptHealth *kept = data;
    ek_health_clear(&kept->health);
    g_free(kept);
}

/* A name that this version does not know is another version's: left out. */
static gboolean read_signs(sqlite3 *store, gint64 id, EkHealth *health, GError **error)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store, error, "SELECT name,value FROM health_sign WHERE health=?", "i", id);
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1) {
        g_autofree char *name = ek_sql_text(rows, 0);
        gint64 value = sqlite3_column_int64(rows, 1);
        for (int i = 0; i < EK_SIGN_COUNT; i++)
            if (g_strcmp0(name, ek_sign_name((EkSign)i)) == 0 && value >= 0)
                health->value[i] = value;
    }
    return got == 0;
}

GPtrArray *ek_healthstore_list(EkCase *self, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) list = g_ptr_array_new_with_free_func(kept_free);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error, "SELECT id,event,taken,device_clock,why_silent FROM health ORDER BY id", "");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1) {
        g_autofree char *why = ek_sql_text(rows, 4);
        EkKeptHealth *kept = g_new0(EkKeptHealth, 1);
        ek_health_init(&kept->health, why);
        kept->event = sqlite3_column_int64(rows, 1);
        kept->taken = sqlite3_column_int64(rows, 2);
        kept->device_clock = sqlite3_column_int64(rows, 3);
        g_ptr_array_add(list, kept);
        if (!read_signs(store, sqlite3_column_int64(rows, 0), &kept->health, error))
            return NULL;
    }
    return got == 0 ? g_steal_pointer(&list) : NULL;
}

const EkKeptHealth *ek_kept_health_first(const GPtrArray *list)
{
    for (guint i = 0; i < list->len; i++) {
        const EkKeptHealth *kept = list->pdata[i];
        if (ek_health_word(&kept->health) != EK_HEALTH_SILENT)
            return kept;
    }
    return NULL;
}

const EkKeptHealth *ek_kept_health_last(const GPtrArray *list)
{
    for (guint i = list->len; i > 0; i--) {
        const EkKeptHealth *kept = list->pdata[i - 1];
        if (ek_health_word(&kept->health) != EK_HEALTH_SILENT)
            return kept;
    }
    return NULL;
}

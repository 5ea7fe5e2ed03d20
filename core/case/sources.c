/* SPDX-License-Identifier: MIT */
/* Every source that a case ever read from. */
#include "case/case.h"

void ek_case_source_free(EkCaseSource *source)
{
    g_free(source->source);
    g_free(source->kind);
    g_free(source->path);
    g_free(source->backing);
    g_free(source->identity);
    g_free(source);
}

GPtrArray *ek_case_sources(EkCase *self, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) list = g_ptr_array_new_with_free_func((GDestroyNotify)ek_case_source_free);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error,
        "SELECT source,kind,path,backing,identity,firm,first_byte,bytes FROM source ORDER BY id",
        "");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1) {
        EkCaseSource *source = g_new0(EkCaseSource, 1);
        source->source = ek_sql_text(rows, 0);
        source->kind = ek_sql_text(rows, 1);
        source->path = ek_sql_text(rows, 2);
        source->backing = ek_sql_text(rows, 3);
        source->identity = ek_sql_text(rows, 4);
        source->is_firm = sqlite3_column_int(rows, 5) != 0;
        source->first_byte = (EkByte)sqlite3_column_int64(rows, 6);
        source->bytes = (EkByte)sqlite3_column_int64(rows, 7);
        g_ptr_array_add(list, source);
    }
    return got == 0 ? g_steal_pointer(&list) : NULL;
}

gboolean ek_case_add_source(EkCase *self, const EkCaseSource *source, GError **error)
{
    return ek_sql_do(ek_case_store(self), error,
                     "INSERT INTO source (source,kind,path,backing,identity,firm,first_byte,bytes)"
                     " SELECT ?1,?2,?3,?4,?5,?6,?7,?8 WHERE NOT EXISTS (SELECT 1 FROM source"
                     " WHERE path=?3 AND identity=?5)",
                     "sssssiuu", source->source, source->kind, source->path, source->backing,
                     source->identity, (gint64)source->is_firm, source->first_byte, source->bytes);
}

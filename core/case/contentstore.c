/* SPDX-License-Identifier: MIT */
/* The catalogue of contents. */
#include "case/contentstore.h"

#include "carve/types.h"
#include "case/folder.h"
#include "case/sql.h"

#include <string.h>

#define NAME "contents.db"
#define FLUSH_EVERY (2 * G_USEC_PER_SEC)
#define LISTED " listed" /* tried on a basis only as blocks of numbers lay it */

static const char *const made_by[] = {
    "CREATE TABLE meta (key TEXT PRIMARY KEY, value INTEGER NOT NULL) WITHOUT ROWID;"
    "INSERT INTO meta VALUES ('revision',0);"
    "CREATE TABLE searched ("
    " types TEXT NOT NULL, first INTEGER NOT NULL, bytes INTEGER NOT NULL,"
    " PRIMARY KEY (types, first)) WITHOUT ROWID;"
    /* held: bytes of its beginning in which nobody else begins */
    "CREATE TABLE content ("
    " number INTEGER PRIMARY KEY, first INTEGER NOT NULL, bytes INTEGER NOT NULL,"
    " held INTEGER NOT NULL, type TEXT NOT NULL, state INTEGER NOT NULL, why TEXT NOT NULL,"
    " place TEXT NOT NULL, ending TEXT NOT NULL, words TEXT NOT NULL, date INTEGER,"
    " is_local INTEGER NOT NULL, hides INTEGER NOT NULL, tried TEXT NOT NULL, UNIQUE (first, "
    "type));"
    "CREATE TABLE piece ("
    " content INTEGER NOT NULL REFERENCES content (number), position INTEGER NOT NULL,"
    " first INTEGER NOT NULL, bytes INTEGER NOT NULL,"
    " PRIMARY KEY (content, position)) WITHOUT ROWID;",
    "ALTER TABLE content ADD COLUMN copy INTEGER NOT NULL DEFAULT 0;",
    /* Blocks of numbers of ext2 and ext3: their place, and the first number */
    "CREATE TABLE list (place INTEGER PRIMARY KEY, number INTEGER NOT NULL);",
    /* Of many that may be anything, each asks what was proved in its ground. */
    "CREATE INDEX proved ON content (first, state) WHERE held=bytes;",
    /* Beginnings in it that are not listed, as they lie in a crowd of others */
    "ALTER TABLE searched ADD COLUMN crowded INTEGER NOT NULL DEFAULT 0;",
};

#define VERSIONS ((int)G_N_ELEMENTS(made_by))
#define READABLE 2 /* the oldest one that can be read as it is */

struct EkContentStore {
    sqlite3 *store;
    gboolean is_open; /* a transaction */
    gint64 flushed;
};

static gboolean exists(EkCase *self)
{
    g_autofree char *path = g_build_filename(ek_case_folder(self), NAME, NULL);
    return g_file_test(path, G_FILE_TEST_EXISTS);
}

EkContentStore *ek_contentstore_open(EkCase *self, gboolean writable, GError **error)
{
    if (!exists(self) && !writable) {
        ek_error_set(error, EK_ERROR_ABSENT,
                     "nothing was searched for by content yet. To search: ektypon carve %s",
                     ek_case_folder(self));
        return NULL;
    }
    g_autoptr(EkContentStore) store = g_new0(EkContentStore, 1);
    store->store = ek_sql_open(ek_case_folder(self), NAME, writable, writable, error);
    if (store->store == NULL ||
        (writable && !ek_sql_migrate(store->store, made_by, VERSIONS, error)))
        return NULL;
    int version = ek_sql_known_version(store->store, VERSIONS, error);
    if (version < 0)
        return NULL;
    /* What came since only the search itself needs. */
    if (version < READABLE) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "the search by content is from an earlier Ektypon. To search again: "
                     "ektypon carve %s",
                     ek_case_folder(self));
        return NULL;
    }
    if (!ek_sql_check_schema(store->store, made_by, version, NULL, error))
        return NULL;
    return g_steal_pointer(&store);
}

void ek_contentstore_close(EkContentStore *store)
{
    if (store->is_open)
        ek_sql_run(store->store, "ROLLBACK", NULL);
    sqlite3_close(store->store);
    g_free(store);
}

/* --- writing --------------------------------------------------------------------------------- */

static gboolean begin(EkContentStore *store, GError **error)
{
    if (store->is_open)
        return TRUE;
    store->is_open = ek_sql_run(store->store,
                                "BEGIN IMMEDIATE;"
                                "UPDATE meta SET value=value+1 WHERE key='revision'",
                                error);
    return store->is_open;
}

gboolean ek_contentstore_flush(EkContentStore *store, GError **error)
{
    if (!store->is_open)
        return TRUE;
    store->is_open = !ek_sql_run(store->store, "COMMIT", error);
    store->flushed = g_get_monotonic_time();
    return !store->is_open;
}

static gboolean put_pieces(EkContentStore *store, gint64 number, const GArray *places,
                           GError **error)
{
    for (guint i = 0; i < places->len; i++) {
        EkRange place = g_array_index(places, EkRange, i);
        if (!ek_sql_do(store->store, error, "INSERT INTO piece VALUES (?,?,?,?)", "iiuu", number,
                       (gint64)i, place.first, place.bytes))
            return FALSE;
    }
    return TRUE;
}

gboolean ek_contentstore_add(EkContentStore *store, const EkFound *found, const char *place,
                             GError **error)
{
    const EkFollowed *followed = &found->followed;
    EkByte first = ek_found_first(found);
    if (!begin(store, error) ||
        !ek_sql_do(store->store, error,
                   "INSERT OR IGNORE INTO content"
                   " (first,bytes,held,type,state,why,place,ending,words,date,is_local,hides,"
                   "  tried) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,'')",
                   "uuusissssiii", first, found->bytes, ek_found_held(found), found->type->name,
                   (gint64)found->state, found->why, place,
                   *followed->ending != '\0' ? followed->ending : found->type->ending,
                   followed->words, followed->date.is_set ? followed->date.seconds : G_MININT64,
                   (gint64)followed->date.is_local, (gint64)ek_found_hides(found)))
        return FALSE;
    return sqlite3_changes(store->store) == 0 ||
           put_pieces(store, sqlite3_last_insert_rowid(store->store), found->places, error);
}

gboolean ek_contentstore_add_list(EkContentStore *store, EkListed listed, GError **error)
{
    return begin(store, error) &&
           ek_sql_do(store->store, error, "INSERT OR REPLACE INTO list VALUES (?,?)", "ui",
                     listed.place, (gint64)listed.number);
}

gboolean ek_contentstore_put_searched(EkContentStore *store, const char *types, EkRange range,
                                      guint64 crowded, GError **error)
{
    /* A range that goes on with the last one becomes part of it. */
    if (!begin(store, error) || !ek_sql_do(store->store, error,
                                           "UPDATE searched SET bytes=bytes+?,crowded=crowded+?"
                                           " WHERE types=? AND first+bytes=?",
                                           "uusu", range.bytes, crowded, types, range.first))
        return FALSE;
    if (sqlite3_changes(store->store) == 0 &&
        !ek_sql_do(store->store, error, "INSERT OR REPLACE INTO searched VALUES (?,?,?,?)", "suuu",
                   types, range.first, range.bytes, crowded))
        return FALSE;
    return g_get_monotonic_time() - store->flushed < FLUSH_EVERY ||
           ek_contentstore_flush(store, error);
}

gboolean ek_contentstore_put_joined(EkContentStore *store, const EkContentCut *cut,
                                    const char *basis, const EkFound *joined, GError **error)
{
    g_autofree char *tried = g_strconcat(basis, cut->only_listed ? LISTED : "", NULL);
    if (!begin(store, error) ||
        !ek_sql_do(store->store, error, "UPDATE content SET tried=? WHERE number=?", "su", tried,
                   cut->number))
        return FALSE;
    if (joined != NULL) {
        if (!ek_sql_do(store->store, error,
                       "UPDATE content SET bytes=?,held=?,state=?,why=? WHERE number=?", "uuisu",
                       joined->bytes, ek_found_held(joined), (gint64)joined->state, joined->why,
                       cut->number) ||
            !ek_sql_do(store->store, error, "DELETE FROM piece WHERE content=?", "u",
                       cut->number) ||
            !put_pieces(store, (gint64)cut->number, joined->places, error))
            return FALSE;
        for (guint i = 0; i < joined->places->len; i++) {
            EkRange place = g_array_index(joined->places, EkRange, i);
            if (!ek_sql_do(store->store, error,
                           "DELETE FROM piece WHERE content IN (SELECT number FROM content WHERE"
                           " first>=? AND first<? AND number<>? AND (held<bytes OR hides=?))",
                           "uuui", place.first, ek_range_end(place), cut->number,
                           (gint64)EK_HIDES_SAME) ||
                !ek_sql_do(store->store, error,
                           "DELETE FROM content WHERE first>=? AND first<? AND number<>?"
                           " AND (held<bytes OR hides=?)",
                           "uuui", place.first, ek_range_end(place), cut->number,
                           (gint64)EK_HIDES_SAME))
                return FALSE;
        }
    }
    return g_get_monotonic_time() - store->flushed < FLUSH_EVERY ||
           ek_contentstore_flush(store, error);
}

gboolean ek_contentstore_trim(EkContentStore *store, GError **error)
{
    /* Bytes up to the first file that was proved and begins in what may be its own. */
    return begin(store, error) &&
           ek_sql_run(
               store->store,
               "CREATE TEMP TABLE trim AS SELECT c.number AS number,"
               " (SELECT min(o.first) FROM content o INDEXED BY proved WHERE o.first>c.first+c.held"
               "  AND o.first<c.first+c.bytes AND o.held=o.bytes)-c.first AS bytes"
               " FROM content c WHERE c.state=1 AND (SELECT count(*) FROM piece p"
               "  WHERE p.content=c.number)=1;"
               "DELETE FROM trim WHERE bytes IS NULL;"
               "UPDATE content SET bytes=(SELECT bytes FROM trim t WHERE"
               " t.number=content.number) WHERE number IN (SELECT number FROM trim);"
               "UPDATE piece SET bytes=(SELECT bytes FROM trim t WHERE t.number=piece.content)"
               " WHERE content IN (SELECT number FROM trim);"
               "DROP TABLE trim;",
               error) &&
           ek_contentstore_flush(store, error);
}

gboolean ek_contentstore_set_words(EkContentStore *store, guint64 number, const char *words,
                                   GError **error)
{
    return begin(store, error) &&
           ek_sql_do(store->store, error, "UPDATE content SET words=? WHERE number=?", "su", words,
                     number);
}

gboolean ek_contentstore_set_copy(EkContentStore *store, guint64 number, GError **error)
{
    return begin(store, error) &&
           ek_sql_do(store->store, error, "UPDATE content SET copy=1 WHERE number=?", "u", number);
}

gboolean ek_contentstore_clear_copies(EkContentStore *store, GError **error)
{
    return ek_contentstore_count_copies(store) == 0 ||
           (begin(store, error) &&
            ek_sql_run(store->store, "UPDATE content SET copy=0 WHERE copy<>0", error) &&
            ek_contentstore_flush(store, error));
}

/* --- reading --------------------------------------------------------------------------------- */

static EkByte byte_in(sqlite3_stmt *row, int column)
{
    return (EkByte)sqlite3_column_int64(row, column);
}

GArray *ek_contentstore_searched(EkContentStore *store, const char *types, GError **error)
{
    g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store->store, error,
                       "SELECT first,bytes FROM searched WHERE types=? ORDER BY first", "s", types);
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1) {
        EkRange range = {byte_in(rows, 0), byte_in(rows, 1)};
        EkRange *last = ranges->len > 0 ? &g_array_index(ranges, EkRange, ranges->len - 1) : NULL;
        if (last != NULL && range.first <= ek_range_end(*last))
            last->bytes = MAX(ek_range_end(*last), ek_range_end(range)) - last->first;
        else
            g_array_append_val(ranges, range);
    }
    return got == 0 ? g_steal_pointer(&ranges) : NULL;
}

gboolean ek_contentstore_each_held(EkContentStore *store, EkContentHold hold, void *data,
                                   GError **error)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store->store, error,
                       "SELECT p.first,p.bytes,c.held,c.number FROM content c JOIN piece p"
                       " ON p.content=c.number WHERE c.held>0 ORDER BY c.number,p.position",
                       "");
    int got = rows != NULL ? 0 : -1;
    gint64 number = -1;
    EkByte rest = 0;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1) {
        if (sqlite3_column_int64(rows, 3) != number)
            rest = byte_in(rows, 2);
        number = sqlite3_column_int64(rows, 3);
        EkRange range = {byte_in(rows, 0), MIN(byte_in(rows, 1), rest)};
        rest -= range.bytes;
        hold(data, range);
    }
    return got == 0;
}

gboolean ek_contentstore_each_loose(EkContentStore *store, EkContentLoose take, void *data,
                                    GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store->store, error,
        "SELECT first,bytes,type,hides FROM content WHERE hides<>0 ORDER BY first", "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1)
        take(data, (EkRange){byte_in(rows, 0), byte_in(rows, 1)},
             (const char *)sqlite3_column_text(rows, 2),
             (EkHides)CLAMP(sqlite3_column_int(rows, 3), 0, EK_HIDES_PLAIN));
    return got == 0;
}

/* The names of the types with plain samples, each with blanks around it. The caller frees. */
static char *sampled_types(void)
{
    GString *names = g_string_new(" ");
    for (gsize i = 0; ek_carve_types[i] != NULL; i++)
        if (ek_carve_types[i]->samples != NULL)
            g_string_append_printf(names, "%s ", ek_carve_types[i]->name);
    return g_string_free(names, FALSE);
}

gboolean ek_contentstore_next_cut(EkContentStore *store, const char *basis, gboolean only_listed,
                                  EkContentCut *cut, GError **error)
{
    g_autofree char *sampled = sampled_types();
    g_autoptr(EkStatement) row =
        only_listed
            ? ek_sql_prepare(store->store, error,
                             "SELECT number,type,first,bytes FROM content WHERE number>?"
                             " AND state<>? AND tried NOT IN (?,?||'" LISTED "')"
                             " ORDER BY number LIMIT 1",
                             "uiss", cut->number, (gint64)EK_CONTENT_WHOLE, basis, basis)
            : ek_sql_prepare(
                  store->store, error,
                  "SELECT number,type,first,bytes FROM content c WHERE number>? AND tried<>?"
                  " AND (state=? OR (state=? AND (held>0 AND held<bytes AND (SELECT count(*)"
                  "   FROM piece p WHERE p.content=c.number)=1"
                  "  OR held=0 AND EXISTS (SELECT 1 FROM content o INDEXED BY proved"
                  "   WHERE o.first>c.first AND o.first<c.first+c.bytes AND o.state=?"
                  "   AND o.held=o.bytes) OR held=0 AND instr(?,' '||type||' ')>0)))"
                  " ORDER BY number LIMIT 1",
                  "usiiis", cut->number, basis, (gint64)EK_CONTENT_CUT, (gint64)EK_CONTENT_DOUBTFUL,
                  (gint64)EK_CONTENT_WHOLE, sampled);
    if (row == NULL || ek_sql_step(store->store, row, error) != 1)
        return FALSE;
    const char *type = (const char *)sqlite3_column_text(row, 1);
    *cut = (EkContentCut){.number = (guint64)sqlite3_column_int64(row, 0),
                          .type = type != NULL ? ek_carve_type_named(type) : NULL,
                          .first = byte_in(row, 2),
                          .bytes = byte_in(row, 3),
                          .only_listed = only_listed};
    return TRUE;
}

gboolean ek_contentstore_each_list(EkContentStore *store, EkContentList take, void *data,
                                   GError **error)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store->store, error, "SELECT place,number FROM list ORDER BY place", "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1)
        take(data, (EkListed){byte_in(rows, 0), (guint32)sqlite3_column_int64(rows, 1)});
    return got == 0;
}

GArray *ek_contentstore_firsts(EkContentStore *store, GError **error)
{
    g_autoptr(GArray) firsts = g_array_new(FALSE, FALSE, sizeof(EkByte));
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store->store, error, "SELECT DISTINCT first FROM content ORDER BY first", "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1) {
        EkByte first = byte_in(rows, 0);
        g_array_append_val(firsts, first);
    }
    return got == 0 ? g_steal_pointer(&firsts) : NULL;
}

guint64 ek_contentstore_count_cut(EkContentStore *store, const char *basis)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store->store, NULL, "SELECT count(*) FROM content WHERE state=? OR tried=?",
                       "is", (gint64)EK_CONTENT_CUT, basis);
    return row != NULL && ek_sql_step(store->store, row, NULL) == 1
               ? (guint64)sqlite3_column_int64(row, 0)
               : 0;
}

/* The number in the only row; 0 where there is none. */
static guint64 number_of(EkContentStore *store, EkStatement *row)
{
    return row != NULL && ek_sql_step(store->store, row, NULL) == 1 ? byte_in(row, 0) : 0;
}

guint64 ek_contentstore_count_copies(EkContentStore *store)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store->store, NULL, "SELECT count(*) FROM content WHERE copy<>0", "");
    return number_of(store, row);
}

guint64 ek_contentstore_count_crowded(EkContentStore *store, const char *types)
{
    g_autoptr(EkStatement) row = ek_sql_prepare(
        store->store, NULL, "SELECT sum(crowded) FROM searched WHERE types=?", "s", types);
    return number_of(store, row);
}

GArray *ek_contentstore_pieces(EkContentStore *store, guint64 number, GError **error)
{
    g_autoptr(GArray) pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store->store, error, "SELECT first,bytes FROM piece WHERE content=? ORDER BY position", "u",
        number);
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1) {
        EkRange piece = {byte_in(rows, 0), byte_in(rows, 1)};
        g_array_append_val(pieces, piece);
    }
    return got == 0 ? g_steal_pointer(&pieces) : NULL;
}

char *ek_contentstore_basis(EkContentStore *store, GError **error)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store->store, error, "SELECT value FROM meta WHERE key='revision'", "");
    if (row == NULL || ek_sql_step(store->store, row, error) != 1)
        return NULL;
    return g_strdup_printf("contents %" G_GINT64_FORMAT, (gint64)sqlite3_column_int64(row, 0));
}

#define COLUMNS                                                                                    \
    "SELECT number,type,state,why,place,ending,words,date,is_local,first,bytes FROM content "

static const char *text_in(sqlite3_stmt *row, int column)
{
    const char *text = (const char *)sqlite3_column_text(row, column);
    return text != NULL ? text : "";
}

static EkContentEntry entry_of(sqlite3_stmt *row)
{
    gint64 date = sqlite3_column_int64(row, 7);
    return (EkContentEntry){
        .number = (guint64)sqlite3_column_int64(row, 0),
        .type = text_in(row, 1),
        .state = (EkContentState)MIN((guint64)sqlite3_column_int64(row, 2), EK_CONTENT_DOUBTFUL),
        .why = text_in(row, 3),
        .place = text_in(row, 4),
        .ending = text_in(row, 5),
        .words = text_in(row, 6),
        .date = {date, 0, sqlite3_column_int(row, 8) != 0, date != G_MININT64},
        .first = byte_in(row, 9),
        .bytes = byte_in(row, 10),
    };
}

gboolean ek_contentstore_each(EkContentStore *store, EkContentEntrySink sink, void *data,
                              GError **error)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store->store, error, COLUMNS "WHERE copy=0 ORDER BY number", "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store->store, rows, error)) == 1) {
        EkContentEntry entry = entry_of(rows);
        if (!sink(data, &entry))
            return TRUE;
    }
    return got == 0;
}

gboolean ek_contentstore_get(EkContentStore *store, guint64 number, EkContentEntrySink sink,
                             void *data, GError **error)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store->store, error, COLUMNS "WHERE number=?", "u", number);
    int got = row != NULL ? ek_sql_step(store->store, row, error) : -1;
    if (got == 0)
        return ek_error_set(error, EK_ERROR_ABSENT, "no content has this number");
    if (got != 1)
        return FALSE;
    EkContentEntry entry = entry_of(row);
    sink(data, &entry);
    return TRUE;
}

/* --- as files in folders --------------------------------------------------------------------- */

typedef struct {
    EkContentStore *store;
    guint32 sector_size;
    const EkFileSink *sink;
    GHashTable *folders; /* path to number */
    GError *error;
} Walking;

static gboolean tell_folder(Walking *walking, guint64 number, guint64 parent, const char *name)
{
    EkFile folder = {.number = number, .type = EK_TYPE_FOLDER};
    EkFileName named = {.file = number, .parent = parent, .text = name, .length = strlen(name)};
    return walking->sink->file(walking->sink->data, &folder) &&
           (parent == number || walking->sink->name(walking->sink->data, &named));
}

/* The folder of this name in another, told when it is new; 0 when the walk was stopped. */
static guint64 folder_in(Walking *walking, guint64 parent, const char *name)
{
    g_autofree char *key = g_strdup_printf("%" G_GUINT64_FORMAT "/%s", parent, name);
    guint64 *known = g_hash_table_lookup(walking->folders, key);
    if (known != NULL)
        return *known;
    guint64 number = EK_CONTENTS_ROOT + 1 + g_hash_table_size(walking->folders);
    g_hash_table_insert(walking->folders, g_steal_pointer(&key), g_memdup2(&number, sizeof number));
    return tell_folder(walking, number, parent, name) ? number : 0;
}

/* "2025-06-14 10.32 Corvane X1, sector 167466.jpg". */
static char *name_of(const EkContentEntry *entry, guint32 sector_size)
{
    g_autoptr(GString) name = g_string_new(NULL);
    g_autoptr(GDateTime) date =
        entry->date.is_set ? g_date_time_new_from_unix_utc(entry->date.seconds) : NULL;
    if (date != NULL) {
        g_autofree char *text = g_date_time_format(date, "%Y-%m-%d %H.%M");
        g_string_append(name, text);
    }
    if (*entry->words != '\0')
        g_string_append_printf(name, "%s%s", name->len > 0 ? " " : "", entry->words);
    g_string_append_printf(name, "%ssector %" G_GUINT64_FORMAT, name->len > 0 ? ", " : "",
                           entry->first / sector_size);
    if (entry->first % sector_size != 0)
        g_string_append_printf(name, "+%" G_GUINT64_FORMAT, entry->first % sector_size);
    g_string_append_printf(name, ".%s", entry->ending);
    return g_string_free(g_steal_pointer(&name), FALSE);
}

static gboolean tell_pieces(Walking *walking, guint64 number)
{
    g_autoptr(GArray) pieces = ek_contentstore_pieces(walking->store, number, &walking->error);
    EkByte offset = 0;
    for (guint i = 0; pieces != NULL && i < pieces->len; i++) {
        EkRange piece = g_array_index(pieces, EkRange, i);
        EkExtent extent = {.offset = offset,
                           .bytes = piece.bytes,
                           .first_byte = piece.first,
                           .stored = piece.bytes};
        if (!walking->sink->extent(walking->sink->data, number, &extent))
            return FALSE;
        offset += extent.bytes;
    }
    return pieces != NULL;
}

static gboolean tell_entry(void *data, const EkContentEntry *entry)
{
    Walking *walking = data;
    static const guint flags[] = {0, EK_FILE_CUT, EK_FILE_UNCHECKED};
    g_autofree char *name = name_of(entry, walking->sector_size);
    guint64 folder = EK_CONTENTS_ROOT;
    EkKind kind = ek_kind_of(name);
    const EkCarveType *type = ek_carve_type_named(entry->type);
    if (kind == EK_KIND_OTHER && type != NULL)
        kind = type->kind;
    const char *const parts[] = {entry->place, ek_content_state_name(entry->state),
                                 ek_kind_name(kind)};
    for (gsize i = 0; i < G_N_ELEMENTS(parts) && folder != 0; i++)
        folder = folder_in(walking, folder, parts[i]);
    EkFile file = {.number = entry->number,
                   .type = EK_TYPE_FILE,
                   .flags = flags[entry->state],
                   .size = entry->bytes,
                   .modified = entry->date};
    EkFileName named = {
        .file = entry->number, .parent = folder, .text = name, .length = strlen(name)};
    return folder != 0 && walking->sink->file(walking->sink->data, &file) &&
           tell_pieces(walking, entry->number) && walking->sink->name(walking->sink->data, &named);
}

gboolean ek_contentstore_walk(EkContentStore *store, guint32 sector_size, const EkFileSink *sink,
                              GError **error)
{
    g_autoptr(GHashTable) folders = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    Walking walking = {store, sector_size, sink, folders, NULL};
    gboolean fine = tell_folder(&walking, EK_CONTENTS_ROOT, EK_CONTENTS_ROOT, "") &&
                    ek_contentstore_each(store, tell_entry, &walking, error);
    if (walking.error != NULL) {
        g_propagate_error(error, walking.error);
        return FALSE;
    }
    return fine;
}

/* SPDX-License-Identifier: MIT */
/* Judging files by their content, and keeping what came of it. */
#include "work/judging.h"

#include "base/text.h"
#include "carve/verify.h"
#include "case/sql.h"
#include "work/filereader.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define RULES "1"         /* changes when files are judged otherwise */
#define COMMIT_EVERY 256u /* answers; and what is lost of a program that is killed */

struct EkJudging {
    EkIndexing *indexing;
    EkPeeker *peeker;
    sqlite3 *store; /* NULL: nothing can be kept */
    guint pending;  /* answers that are not committed yet */
};

const char *ek_opens_name(EkOpens opens)
{
    static const char *const names[] = {
        [EK_OPENS_UNCHECKED] = "unknown", [EK_OPENS_YES] = "yes", [EK_OPENS_NO] = "no"};
    return names[opens];
}

void ek_judgement_clear(EkJudgement *judgement)
{
    g_clear_pointer(&judgement->why, g_free);
}

/* --- what is kept ---------------------------------------------------------------------------- */

static gboolean stands_on(sqlite3 *store, const char *basis, GError **error)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store, error, "SELECT 1 FROM basis WHERE text=?", "s", basis);
    return row != NULL && ek_sql_step(store, row, error) == 1;
}

/* Another basis: the files may have other content now. */
static gboolean begin_anew(sqlite3 *store, const char *basis)
{
    return ek_sql_run(store,
                      "DROP TABLE IF EXISTS basis; DROP TABLE IF EXISTS judgement;"
                      "CREATE TABLE basis (text TEXT NOT NULL);"
                      "CREATE TABLE judgement ("
                      " file INTEGER PRIMARY KEY, size INTEGER NOT NULL, opens INTEGER NOT NULL,"
                      " kind INTEGER NOT NULL, known INTEGER NOT NULL, why TEXT NOT NULL)",
                      NULL) &&
           ek_sql_do(store, NULL, "INSERT INTO basis VALUES (?)", "s", basis);
}

/* *is_broken: it is a file that is no store (any more), and nobody can be using it. */
static sqlite3 *try_store(const char *folder, const char *name, const char *basis,
                          gboolean *is_broken)
{
    g_autoptr(GError) error = NULL;
    g_autoptr(sqlite3) store = ek_sql_open_plain(folder, name, TRUE, &error);
    gboolean fine = store != NULL && stands_on(store, basis, &error);
    *is_broken = g_error_matches(error, EK_ERROR, EK_ERROR_DAMAGED);
    if (store == NULL || *is_broken)
        return NULL;
    if (!fine)
        fine = ek_sql_run(store, "BEGIN IMMEDIATE", NULL) &&
               (stands_on(store, basis, NULL) || begin_anew(store, basis)) &&
               ek_sql_run(store, "COMMIT", NULL);
    return fine ? g_steal_pointer(&store) : NULL;
}

/* NULL: nothing can be kept here. One that is broken is made again; what is no regular file is left
 * alone. */
static sqlite3 *open_store(EkIndexing *indexing)
{
    const char *folder = ek_case_folder(ek_indexing_view(indexing)->opened);
    g_autofree char *basis = g_strdup_printf(RULES " %s", ek_indexing_basis(indexing));
    g_autofree char *name = g_strdup_printf("opens-%u.db", ek_indexing_volume(indexing)->number);
    g_autofree char *path = g_build_filename(folder, name, NULL);
    gboolean is_broken = FALSE;
    struct stat st;
    if (access(folder, W_OK) != 0)
        return NULL;
    sqlite3 *store = try_store(folder, name, basis, &is_broken);
    if (!is_broken || lstat(path, &st) != 0 || !S_ISREG(st.st_mode) || unlink(path) != 0)
        return store;
    return try_store(folder, name, basis, &is_broken);
}

static gboolean is_kept(EkJudging *judging, const EkFile *file, EkJudgement *judgement)
{
    if (judging->store == NULL)
        return FALSE;
    g_autoptr(EkStatement) row = ek_sql_prepare(
        judging->store, NULL, "SELECT opens,kind,known,why FROM judgement WHERE file=? AND size=?",
        "uu", file->number, file->size);
    if (row == NULL || ek_sql_step(judging->store, row, NULL) != 1)
        return FALSE;
    gint64 opens = sqlite3_column_int64(row, 0);
    gint64 kind = sqlite3_column_int64(row, 1);
    if (opens < EK_OPENS_UNCHECKED || opens > EK_OPENS_NO || kind < 0 || kind >= EK_KINDS)
        return FALSE;
    judgement->opens = (EkOpens)opens;
    judgement->kind = (EkKind)kind;
    judgement->is_known = sqlite3_column_int(row, 2) != 0;
    judgement->why = ek_sql_text(row, 3);
    return judgement->why != NULL;
}

static void commit(EkJudging *judging)
{
    if (judging->pending > 0)
        (void)ek_sql_run(judging->store, "COMMIT", NULL);
    judging->pending = 0;
}

/* Keeping is a convenience: what cannot be kept is asked again. */
static void keep(EkJudging *judging, const EkFile *file, const EkJudgement *judgement)
{
    if (judging->store == NULL)
        return;
    if (judging->pending == 0 && !ek_sql_run(judging->store, "BEGIN IMMEDIATE", NULL)) {
        g_clear_pointer(&judging->store, sqlite3_close);
        return;
    }
    (void)ek_sql_do(judging->store, NULL, "INSERT OR REPLACE INTO judgement VALUES (?,?,?,?,?,?)",
                    "uuiiis", file->number, file->size, (gint64)judgement->opens,
                    (gint64)judgement->kind, (gint64)judgement->is_known, judgement->why);
    if (++judging->pending >= COMMIT_EVERY)
        commit(judging);
}

/* --- judging --------------------------------------------------------------------------------- */

static void answer(EkPeek *peek, EkOpens opens, char *why)
{
    g_free(peek->why);
    peek->opens = opens;
    peek->why = why;
}

void ek_judging_complete(EkIndexing *indexing, const EkItem *item, const gint *cancel, EkPeek *peek)
{
    gboolean is_missing = item->damage.condition != EK_CONDITION_WHOLE &&
                          item->damage.condition != EK_CONDITION_DOUBTFUL;
    /* Decoders of GIF draw whatever foreign codes say, and players go on behind what is not of
     * theirs: those are followed here too. */
    gboolean is_doubted =
        peek->opens == EK_OPENS_YES && (g_str_equal(peek->mime, "image/gif") ||
                                        peek->kind == EK_KIND_VIDEO || peek->kind == EK_KIND_AUDIO);
    if ((peek->opens != EK_OPENS_UNCHECKED && !is_doubted) || item->file.size == 0)
        return;
    if (is_missing && !is_doubted) {
        answer(peek, EK_OPENS_UNCHECKED,
               g_strdup("it is incomplete, and whether it opens all the same is not known"));
        return;
    }
    g_autoptr(EkReader) reader = ek_filereader_new(indexing, &item->file);
    EkVerification found = {0};
    if (reader != NULL)
        found = ek_verify(reader, cancel);
    if (found.verified == EK_VERIFIED_RIGHT && !is_doubted)
        answer(peek, EK_OPENS_YES,
               g_strdup_printf("%s, checked: %s", found.type->name, found.followed.why));
    else if (found.verified == EK_VERIFIED_WRONG)
        answer(peek, EK_OPENS_NO,
               g_strdup_printf("%s, at byte %" G_GUINT64_FORMAT ": %s", found.type->name, found.at,
                               found.followed.why));
}

static gboolean ask(EkJudging *judging, const EkItem *item, const gint *cancel,
                    EkJudgement *judgement, GError **error)
{
    EkPeek peek = {0};
    EkFiles *files = ek_indexing_files(judging->indexing);
    EkInventory *inventory = ek_indexing_inventory(judging->indexing);
    g_autoptr(GArray) extents = ek_inventory_extents(inventory, item->file.number, error);
    gboolean fine = extents != NULL && ek_peeker_look(judging->peeker, files, &item->file, extents,
                                                      cancel, &peek, error);
    if (fine)
        ek_judging_complete(judging->indexing, item, cancel, &peek);
    judgement->opens = peek.opens;
    judgement->kind = peek.kind;
    judgement->is_known = peek.is_known;
    judgement->why = g_strdup(peek.why != NULL ? peek.why : "");
    ek_peek_clear(&peek);
    return fine;
}

EkJudging *ek_judging_new(EkIndexing *indexing, EkPeeker *peeker)
{
    EkJudging *judging = g_new0(EkJudging, 1);
    judging->indexing = indexing;
    judging->peeker = peeker;
    judging->store = open_store(indexing);
    return judging;
}

void ek_judging_free(EkJudging *judging)
{
    if (judging->store != NULL) {
        commit(judging);
        sqlite3_close(judging->store);
    }
    g_free(judging);
}

gboolean ek_judging_ask(EkJudging *judging, const EkItem *item, const gint *cancel,
                        EkJudgement *judgement, GError **error)
{
    *judgement = (EkJudgement){.kind = EK_KIND_OTHER};
    if (item->file.type != EK_TYPE_FILE && item->file.type != EK_TYPE_STREAM) {
        judgement->why = g_strdup("it is no file");
        return TRUE;
    }
    if (is_kept(judging, &item->file, judgement))
        return TRUE;
    if (!ask(judging, item, cancel, judgement, error))
        return FALSE;
    if (g_atomic_int_get(cancel) != 0)
        return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    keep(judging, &item->file, judgement);
    return TRUE;
}

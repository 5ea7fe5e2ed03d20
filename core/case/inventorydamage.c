/* SPDX-License-Identifier: MIT */
/* What is wrong with each file: one sweep over all extents in order of place, against the read map
 * and against each other. */
#include "case/inventoryrows.h"

#define LIVE_MOST 64u /* extents that lie across each other: beyond, each one is doubtful */

/* An extent of a file that is there, up to `end`. */
typedef struct {
    guint64 file;
    EkByte end;
    guint flags;
    gboolean is_doubted;
} Live;

/* An extent of a deleted file that reaches up to `end`. */
typedef struct {
    guint64 file;
    EkByte end;
    gint64 time;        /* when it was made, or else changed; ns since 1970 */
    gboolean is_judged; /* the volume itself said what of it is in use */
} Open;

typedef struct {
    EkInventory *inventory;
    const EkGround *ground;
    sqlite3_stmt *put;
    sqlite3_stmt *doubt;
    GArray *open;      /* Open: deleted ones that others may still lie on */
    GArray *live;      /* Live: those that others may lie across */
    EkByte live_end;   /* of what files that are there lie in, so far */
    guint claim;       /* the first of ground->claims that may reach what is at hand */
    gboolean is_whole; /* the read map has no holes, nothing is deleted or lain over */
} Sweep;

static gboolean add_damage(Sweep *sweep, guint64 file, EkDamage damage, GError **error)
{
    sqlite3_bind_int64(sweep->put, 1, (gint64)file);
    sqlite3_bind_int64(sweep->put, 2, (gint64)damage.bad_bytes);
    sqlite3_bind_int64(sweep->put, 3, (gint64)damage.unread_bytes);
    sqlite3_bind_int64(sweep->put, 4, (gint64)damage.unplaced_bytes);
    sqlite3_bind_int64(sweep->put, 5, (gint64)damage.overwritten_bytes);
    gboolean fine = ek_sql_step(sweep->inventory->store, sweep->put, error) == 0;
    sqlite3_reset(sweep->put);
    return fine;
}

static gboolean add_overwritten(Sweep *sweep, guint64 file, EkByte bytes, GError **error)
{
    return add_damage(sweep, file, (EkDamage){.overwritten_bytes = bytes}, error);
}

/* A region that a file lies in now belongs to none of the deleted ones. */
static gboolean lay_over(Sweep *sweep, EkRange live, GError **error)
{
    EkByte from = MAX(live.first, sweep->live_end);
    EkByte end = ek_range_end(live);
    sweep->live_end = MAX(sweep->live_end, end);
    for (guint i = sweep->open->len; i > 0; i--) {
        Open *open = &g_array_index(sweep->open, Open, i - 1);
        if (open->end <= from) {
            if (open->end <= live.first)
                g_array_remove_index_fast(sweep->open, i - 1);
            continue;
        }
        if (end > from && !open->is_judged &&
            !add_overwritten(sweep, open->file, MIN(open->end, end) - from, error))
            return FALSE;
    }
    return TRUE;
}

/* Two that are deleted lay there: what is left is the later one's. */
static gboolean lay_side_by_side(Sweep *sweep, const Open *deleted, EkByte first, GError **error)
{
    for (guint i = sweep->open->len; i > 0; i--) {
        const Open *other = &g_array_index(sweep->open, Open, i - 1);
        if (other->end <= first) {
            g_array_remove_index_fast(sweep->open, i - 1);
            continue;
        }
        guint64 older = other->time < deleted->time ? other->file : deleted->file;
        EkByte bytes = MIN(other->end, deleted->end) - first;
        if (other->file == deleted->file)
            continue;
        if (!add_overwritten(sweep, older, bytes, error) ||
            /* Where nothing tells which is later, neither is believed. */
            (other->time == deleted->time && !add_overwritten(sweep, other->file, bytes, error)))
            return FALSE;
    }
    return TRUE;
}

static gboolean lay_under(Sweep *sweep, Open deleted, EkByte first, GError **error)
{
    if (!deleted.is_judged && sweep->live_end > first &&
        !add_overwritten(sweep, deleted.file, MIN(sweep->live_end, deleted.end) - first, error))
        return FALSE;
    if (!lay_side_by_side(sweep, &deleted, first, error))
        return FALSE;
    g_array_append_val(sweep->open, deleted);
    return TRUE;
}

/* What of a range a newer volume lies on, and does not call free. */
static EkByte count_taken_by(const Sweep *sweep, const EkVolume *volume, EkRange range)
{
    EkByte taken = 0;
    EkByte same = 0;
    for (; range.bytes > 0; range.first += same, range.bytes -= same)
        if (ek_volume_use(volume, sweep->ground->reader, range, &same) != EK_USAGE_FREE)
            taken += same;
    return taken;
}

/* What of it files lay in that came later. Extents come in order of place. */
static EkByte count_claimed(Sweep *sweep, EkRange extent)
{
    const GArray *claims = sweep->ground->claims;
    EkByte taken = 0;
    while (claims != NULL && sweep->claim < claims->len &&
           ek_range_end(g_array_index(claims, EkRange, sweep->claim)) <= extent.first)
        sweep->claim++;
    for (guint i = sweep->claim; claims != NULL && i < claims->len; i++) {
        EkRange claim = g_array_index(claims, EkRange, i);
        EkByte first = MAX(extent.first, claim.first);
        EkByte end = MIN(ek_range_end(extent), ek_range_end(claim));
        if (claim.first >= ek_range_end(extent))
            break;
        taken += end > first ? end - first : 0;
    }
    return taken;
}

static EkByte count_taken(Sweep *sweep, EkRange extent)
{
    EkByte taken = 0;
    for (guint i = 0; i < sweep->ground->newer->len; i++) {
        const EkVolume *volume = sweep->ground->newer->pdata[i];
        EkRange range = ek_volume_range(volume);
        EkByte first = MAX(extent.first, range.first);
        EkByte end = MIN(ek_range_end(extent), ek_range_end(range));
        if (end > first)
            taken += count_taken_by(sweep, volume, (EkRange){first, end - first});
    }
    taken += count_claimed(sweep, extent);
    return MIN(taken, extent.bytes);
}

/* What of a deleted file's region the volume calls used: it is another's, whoever that is. FALSE
 * when that is not known of all of it. */
static gboolean count_used(const Sweep *sweep, EkRange extent, EkByte *used)
{
    const EkVolume *volume = sweep->ground->volume;
    *used = 0;
    if (volume == NULL)
        return FALSE;
    EkByte same = 0;
    for (; extent.bytes > 0; extent.first += same, extent.bytes -= same) {
        EkUsage usage = ek_volume_use(volume, sweep->ground->reader, extent, &same);
        if (usage == EK_USAGE_UNKNOWN)
            return FALSE;
        *used += usage == EK_USAGE_USED ? same : 0;
    }
    return TRUE;
}

/* Region of a deleted file: by what the volume says of it, else by who else lies there. */
static gboolean take_deleted(Sweep *sweep, guint64 file, gint64 time, EkRange extent,
                             GError **error)
{
    EkByte used = 0;
    gboolean is_judged = count_used(sweep, extent, &used);
    if (is_judged && used > 0 && !add_overwritten(sweep, file, used, error))
        return FALSE;
    return lay_under(sweep, (Open){file, ek_range_end(extent), time, is_judged}, extent.first,
                     error);
}

static gboolean doubt(Sweep *sweep, Live *live, GError **error)
{
    if (live->is_doubted)
        return TRUE;
    live->is_doubted = TRUE;
    return ek_inventory_doubt(sweep->inventory, sweep->doubt, (gint64)live->file, error);
}

/* Two files that are there lie on one region, which is one file's only. A guess proves nothing
 * against the other. */
static gboolean doubt_one(Sweep *sweep, Live *a, Live *b, GError **error)
{
    const guint weak = EK_FILE_GUESSED;
    gboolean a_is_right = (a->flags & weak) == 0 && (b->flags & weak) != 0;
    gboolean b_is_right = (b->flags & weak) == 0 && (a->flags & weak) != 0;
    a_is_right |= (a->flags & EK_FILE_OWN) != 0;
    b_is_right |= (b->flags & EK_FILE_OWN) != 0;
    return (a_is_right || doubt(sweep, a, error)) && (b_is_right || doubt(sweep, b, error));
}

/* Files that are there lie across each other only where a structure is wrong. */
static gboolean lay_across(Sweep *sweep, Live live, EkByte first, GError **error)
{
    for (guint i = sweep->live->len; i > 0; i--) {
        Live *other = &g_array_index(sweep->live, Live, i - 1);
        if (other->end <= first)
            g_array_remove_index_fast(sweep->live, i - 1);
        else if (other->file != live.file && !doubt_one(sweep, other, &live, error))
            return FALSE;
    }
    if (sweep->live->len >= LIVE_MOST)
        return doubt(sweep, &live, error);
    g_array_append_val(sweep->live, live);
    return TRUE;
}

static gboolean take_extent(Sweep *sweep, sqlite3_stmt *row, GError **error)
{
    guint64 file = (guint64)sqlite3_column_int64(row, 0);
    EkByte first = (guint64)sqlite3_column_int64(row, 1);
    EkByte bytes = (guint64)sqlite3_column_int64(row, 2);
    EkByte stored = (guint64)sqlite3_column_int64(row, 3);
    guint flags = (guint)sqlite3_column_int(row, 4);
    gboolean in_record = (sqlite3_column_int(row, 6) & EK_EXTENT_IN_RECORD) != 0;
    gboolean is_elsewhere = sqlite3_column_int64(row, 6) >> EK_EXTENT_LAYER_SHIFT != 0;
    EkRange inside;
    if (first == EK_UNPLACED || is_elsewhere ||
        !ek_range_checked(first, stored, ek_reader_bytes(sweep->ground->reader), &inside))
        return add_damage(sweep, file, (EkDamage){.unplaced_bytes = bytes}, error);
    EkKnown known = {.good = stored};
    if (!sweep->is_whole)
        known = ek_reader_known(sweep->ground->reader, first, stored);
    if (known.good < stored &&
        !add_damage(sweep, file, (EkDamage){.bad_bytes = known.bad, .unread_bytes = known.unread},
                    error))
        return FALSE;
    EkByte taken = count_taken(sweep, inside);
    if (taken > 0 && !add_overwritten(sweep, file, taken, error))
        return FALSE;
    /* A record is its file's own, whoever owns the table that it is in. */
    if (in_record || stored == 0)
        return TRUE;
    if ((flags & EK_FILE_DELETED) != 0)
        return take_deleted(sweep, file, sqlite3_column_int64(row, 5), inside, error);
    Live live = {file, ek_range_end(inside), flags, FALSE};
    return lay_across(sweep, live, first, error) && lay_over(sweep, inside, error);
}

static gboolean sweep_extents(Sweep *sweep, GError **error)
{
    /* Where no file is deleted and nothing is missing, only what has no place is of interest. */
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        sweep->inventory->store, error,
        "SELECT e.file,e.first,e.bytes,e.stored,f.flags,"
        " coalesce(f.created,f.modified,0),e.packed FROM extent e"
        " JOIN file f ON f.number=e.file WHERE ?=0 OR e.first<0 OR e.packed>=256 ORDER BY e.first",
        "i", (gint64)sweep->is_whole);
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(sweep->inventory->store, rows, error)) == 1)
        if (!take_extent(sweep, rows, error))
            return FALSE;
    return got == 0;
}

static gboolean has_deleted(EkInventory *inventory)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(inventory->store, NULL, "SELECT 1 FROM file WHERE flags&1 LIMIT 1", "");
    return row == NULL || ek_sql_step(inventory->store, row, NULL) == 1;
}

/* Does any file lie across another's region? */
static gboolean is_crossed(EkInventory *inventory)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(inventory->store, NULL,
                       "SELECT first,stored,file FROM extent WHERE first>=0 AND packed&2=0"
                       " AND stored>0 ORDER BY first",
                       "");
    EkByte end = 0;
    guint64 file = 0;
    while (rows != NULL && ek_sql_step(inventory->store, rows, NULL) == 1) {
        EkByte first = (guint64)sqlite3_column_int64(rows, 0);
        guint64 own = (guint64)sqlite3_column_int64(rows, 2);
        if (first < end && own != file)
            return TRUE;
        end = MAX(end, first + (guint64)sqlite3_column_int64(rows, 1));
        file = own;
    }
    return FALSE;
}

/* Contents say themselves what they are; what was not read of them is counted. */
static gboolean judge_contents(Sweep *sweep, GError **error)
{
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(sweep->inventory->store, error, "SELECT file,first,stored FROM extent", "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(sweep->inventory->store, rows, error)) == 1) {
        EkKnown known =
            ek_reader_known(sweep->ground->reader, (guint64)sqlite3_column_int64(rows, 1),
                            (guint64)sqlite3_column_int64(rows, 2));
        if (known.bad + known.unread > 0 &&
            !add_damage(sweep, (guint64)sqlite3_column_int64(rows, 0),
                        (EkDamage){.bad_bytes = known.bad, .unread_bytes = known.unread}, error))
            return FALSE;
    }
    return got == 0 &&
           ek_sql_run(sweep->inventory->store,
                      "UPDATE damage SET condition=1 WHERE bad+unread>0;"
                      "INSERT INTO damage SELECT number,iif(flags&128,5,4),0,0,0,0 FROM file"
                      " WHERE flags&384 ON CONFLICT (file) DO UPDATE SET"
                      " condition=iif(bad+unread>0,condition,excluded.condition)",
                      error);
}

gboolean ek_inventory_judge(EkInventory *inventory, const EkGround *ground, GError **error)
{
    EkReader *reader = ground->reader;
    g_autoptr(GArray) open = g_array_new(FALSE, FALSE, sizeof(Open));
    g_autoptr(GArray) live = g_array_new(FALSE, FALSE, sizeof(Live));
    EkRange hole;
    gboolean bad = FALSE;
    g_autoptr(EkStatement) put = ek_sql_prepare(
        inventory->store, error,
        "INSERT INTO damage VALUES (?1,0,?2,?3,?4,?5) ON CONFLICT (file) DO UPDATE SET"
        " bad=bad+?2,unread=unread+?3,unplaced=unplaced+?4,overwritten=overwritten+?5",
        "");
    g_autoptr(EkStatement) doubt = ek_sql_prepare(inventory->store, error,
                                                  "INSERT INTO damage VALUES (?1,4,0,0,0,0)"
                                                  " ON CONFLICT (file) DO UPDATE SET condition=4",
                                                  "");
    Sweep sweep = {inventory, ground, put, doubt, open, live, 0, 0, FALSE};
    gboolean is_earlier = ground->volume != NULL && ground->volume->is_earlier;
    if (ground->newer == NULL)
        return put != NULL && judge_contents(&sweep, error);
    sweep.is_whole = ground->newer->len == 0 &&
                     (ground->claims == NULL || ground->claims->len == 0) &&
                     !ek_reader_next_hole(reader, 0, ek_reader_bytes(reader), &hole, &bad) &&
                     !has_deleted(inventory) && !is_crossed(inventory);
    return put != NULL && doubt != NULL && sweep_extents(&sweep, error) &&
           ek_inventory_judge_kinds(inventory, is_earlier, reader, doubt, error) &&
           ((!is_earlier && ground->newer->len == 0) ||
            ek_inventory_judge_ends(inventory, reader, doubt, error)) &&
           ek_sql_run(
               inventory->store,
               "UPDATE damage SET overwritten=min(overwritten,coalesce((SELECT size FROM file"
               " WHERE number=damage.file),overwritten));"
               "INSERT INTO damage SELECT number,4,0,0,0,0 FROM file WHERE flags&8 AND size>0"
               " AND type IN (0,4) ON CONFLICT (file) DO UPDATE SET condition=4;"
               /* What is certainly wrong comes before a doubt, a doubt before what is missing. */
               "UPDATE damage SET condition=CASE WHEN overwritten>0 THEN 2 WHEN condition=4 THEN 4"
               " WHEN unplaced>0 THEN 3 WHEN bad+unread>0 THEN max(condition,1)"
               " ELSE condition END",
               error);
}

/* Appends the extents of a query in order of place, those that touch as one. */
static gboolean take_ranges(EkInventory *inventory, sqlite3_stmt *rows, GArray *ranges,
                            GError **error)
{
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(inventory->store, rows, error)) == 1) {
        EkRange range = {(guint64)sqlite3_column_int64(rows, 0),
                         (guint64)sqlite3_column_int64(rows, 1)};
        EkRange *last = ranges->len > 0 ? &g_array_index(ranges, EkRange, ranges->len - 1) : NULL;
        if (last != NULL && range.first >= last->first && range.first <= ek_range_end(*last))
            last->bytes = MAX(last->bytes, ek_range_end(range) - last->first);
        else if (ranges->len < EK_CLAIMS_MOST)
            g_array_append_val(ranges, range);
    }
    return got == 0;
}

gboolean ek_inventory_claims(EkInventory *inventory, GArray *ranges, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT e.first,e.stored FROM extent e JOIN file f ON f.number=e.file WHERE e.first>=0"
        " AND e.stored>0 AND e.packed<256 AND e.packed&?=0 AND f.flags&?=0 ORDER BY e.first",
        "ii", (gint64)EK_EXTENT_IN_RECORD, (gint64)(EK_FILE_GUESSED | EK_FILE_NAMED));
    return take_ranges(inventory, rows, ranges, error);
}

/* Of a file f with its damage d: it is there and whole. Takes NOT_HEALTHY. */
#define IS_HEALTHY "f.flags&?=0 AND coalesce(d.condition,0)=0"
#define NOT_HEALTHY ((gint64)(EK_FILE_GUESSED | EK_FILE_NAMED | EK_FILE_DELETED))

gboolean ek_inventory_healthy(EkInventory *inventory, GArray *ranges, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT e.first,e.stored FROM extent e JOIN file f ON f.number=e.file"
        " LEFT JOIN damage d ON d.file=f.number WHERE e.first>=0 AND e.stored>0 AND e.packed<256"
        " AND " IS_HEALTHY " ORDER BY e.first",
        "i", NOT_HEALTHY);
    return take_ranges(inventory, rows, ranges, error);
}

gboolean ek_inventory_each_of_lengths(EkInventory *inventory, const GArray *lengths,
                                      gboolean (*take)(void *data, guint64 number, guint64 bytes),
                                      void *data, GError **error)
{
    sqlite3 *store = inventory->store;
    if (!ek_sql_run(store,
                    "CREATE TEMP TABLE IF NOT EXISTS wanted (bytes INTEGER PRIMARY KEY);"
                    "DELETE FROM wanted",
                    error))
        return FALSE;
    for (guint i = 0; i < lengths->len; i++)
        if (!ek_sql_do(store, error, "INSERT OR IGNORE INTO wanted VALUES (?)", "u",
                       g_array_index(lengths, guint64, i)))
            return FALSE;
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store, error,
                       "SELECT f.number,f.size FROM file f LEFT JOIN damage d ON d.file=f.number"
                       " WHERE f.size IN (SELECT bytes FROM wanted) AND f.type=? AND " IS_HEALTHY
                       " ORDER BY f.number",
                       "ii", (gint64)EK_TYPE_FILE, NOT_HEALTHY);
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(store, rows, error)) == 1)
        if (!take(data, (guint64)sqlite3_column_int64(rows, 0),
                  (guint64)sqlite3_column_int64(rows, 1)))
            return TRUE;
    return got == 0;
}

/* SPDX-License-Identifier: MIT */
#include "files/files.h"

#include "base/text.h"

#include <string.h>

#define MAX_DEPTH 512u

gboolean ek_files_open(EkFiles *files, EkGate *gate, const EkVolume *volume, GError **error)
{
    if (volume->format->open == NULL)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "the files of %s volumes are not listed by this version",
                            volume->filesystem);
    *files = (EkFiles){gate, volume->format, volume->format->open(gate, volume, error)};
    return files->opened != NULL;
}

void ek_files_close(EkFiles *files)
{
    if (files->opened != NULL)
        files->format->close(files->opened);
    files->opened = NULL;
}

const char *ek_condition_name(EkCondition condition)
{
    switch (condition) {
    case EK_CONDITION_HOLED: return "holed";
    case EK_CONDITION_UNPLACED: return "unplaced";
    case EK_CONDITION_WHOLE: break;
    }
    return "whole";
}

gint64 ek_moment_to_unix(const EkMoment *moment)
{
    if (!moment->is_local)
        return moment->seconds;
    g_autoptr(GDateTime) at = g_date_time_new_from_unix_utc(moment->seconds);
    if (at == NULL)
        return moment->seconds;
    g_autoptr(GDateTime) local = g_date_time_new_local(
        g_date_time_get_year(at), g_date_time_get_month(at), g_date_time_get_day_of_month(at),
        g_date_time_get_hour(at), g_date_time_get_minute(at), g_date_time_get_seconds(at));
    return local != NULL ? g_date_time_to_unix(local) : moment->seconds;
}

char *ek_moment_text(const EkMoment *moment)
{
    if (!moment->is_set)
        return NULL;
    g_autoptr(GDateTime) at = g_date_time_new_from_unix_utc(moment->seconds);
    if (at == NULL)
        return NULL;
    return g_date_time_format(at, moment->is_local ? "%Y-%m-%dT%H:%M:%S" : "%Y-%m-%dT%H:%M:%SZ");
}

/* --- damage --------------------------------------------------------------------------------- */

typedef struct {
    EkGate *gate;
    EkDamage *damage;
} Assessment;

static void add_hole(EkDamage *damage, EkByte offset, EkByte bytes)
{
    GArray *holes = damage->holes;
    EkHole *last = holes->len > 0 ? &g_array_index(holes, EkHole, holes->len - 1) : NULL;
    EkHole hole = {offset, bytes};
    if (last != NULL && last->offset + last->bytes == offset)
        last->bytes += bytes;
    else
        g_array_append_val(holes, hole);
}

static gboolean assess_extent(void *data, const EkExtent *extent)
{
    Assessment *assessment = data;
    EkDamage *damage = assessment->damage;
    EkRange inside;
    EkByte limit = ek_gate_bytes(assessment->gate);
    if (extent->first_byte == EK_UNPLACED ||
        !ek_range_checked(extent->first_byte, extent->bytes, limit, &inside)) {
        damage->unplaced_bytes += extent->bytes;
        add_hole(damage, extent->offset, extent->bytes);
        return TRUE;
    }
    EkByte at = inside.first;
    EkRange hole;
    gboolean bad = FALSE;
    while (ek_gate_next_hole(assessment->gate, at, ek_range_end(inside), &hole, &bad)) {
        if (bad)
            damage->bad_bytes += hole.bytes;
        else
            damage->unread_bytes += hole.bytes;
        add_hole(damage, extent->offset + (hole.first - inside.first), hole.bytes);
        at = ek_range_end(hole);
    }
    return TRUE;
}

static gboolean ignore_entry(void *data, const EkEntry *entry)
{
    (void)data;
    (void)entry;
    return TRUE;
}

gboolean ek_files_assess(EkFiles *files, const EkEntry *entry, EkDamage *damage, GError **error)
{
    *damage = (EkDamage){.holes = g_array_new(FALSE, FALSE, sizeof(EkHole))};
    if (entry->is_folder) {
        EkFolderDamage folder;
        if (!files->format->list(files->opened, entry, ignore_entry, NULL, &folder, error))
            return FALSE;
        damage->bad_bytes = folder.bad_bytes;
        damage->unread_bytes = folder.unread_bytes;
        if (folder.cut_short)
            damage->condition = EK_CONDITION_UNPLACED;
        else if (folder.bad_bytes + folder.unread_bytes > 0)
            damage->condition = EK_CONDITION_HOLED;
        return TRUE;
    }
    Assessment assessment = {files->gate, damage};
    if (!files->format->extents(files->opened, entry, assess_extent, &assessment, error))
        return FALSE;
    if (damage->unplaced_bytes > 0)
        damage->condition = EK_CONDITION_UNPLACED;
    else if (damage->bad_bytes + damage->unread_bytes > 0)
        damage->condition = EK_CONDITION_HOLED;
    return TRUE;
}

void ek_damage_clear(EkDamage *damage)
{
    g_clear_pointer(&damage->holes, g_array_unref);
}

/* --- walking -------------------------------------------------------------------------------- */

typedef struct {
    char *path;
    EkEntry *entry;
    guint depth;
} Level;

typedef struct {
    EkFiles *files;
    EkWalkSink sink;
    void *data;
    gboolean deep;
    gboolean stopped;
    const Level *level;  /* whose entries are coming in */
    GPtrArray *found;    /* Level*: folders found in it */
    GHashTable *visited; /* places of folders */
    guint cut;
} Walk;

static Level *level_new(const char *path, const EkEntry *entry, guint depth)
{
    Level *level = g_new0(Level, 1);
    level->path = g_strdup(path);
    level->entry = ek_entry_copy(entry);
    level->depth = depth;
    return level;
}

static void level_free(gpointer data)
{
    Level *level = data;
    g_free(level->path);
    ek_entry_free(level->entry);
    g_free(level);
}

static char *join(const char *folder, const char *name)
{
    return *folder == '\0' ? g_strdup(name) : g_strdup_printf("%s/%s", folder, name);
}

static gboolean walk_entry(void *data, const EkEntry *entry)
{
    Walk *walk = data;
    g_autofree char *path = join(walk->level->path, entry->name);
    if (!walk->sink(walk->data, path, entry)) {
        walk->stopped = TRUE;
        return FALSE;
    }
    if (!entry->is_folder || !walk->deep)
        return TRUE;
    if (walk->level->depth + 1 >= MAX_DEPTH ||
        !g_hash_table_add(walk->visited, g_memdup2(&entry->place, sizeof entry->place)))
        walk->cut++;
    else
        g_ptr_array_add(walk->found, level_new(path, entry, walk->level->depth + 1));
    return TRUE;
}

gboolean ek_files_walk(EkFiles *files, const char *path, const EkEntry *folder, gboolean deep,
                       EkWalkSink sink, void *data, EkFolderDamage *damage, guint *cut,
                       GError **error)
{
    g_autoptr(GPtrArray) waiting = g_ptr_array_new_with_free_func(level_free);
    g_autoptr(GHashTable) visited =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    Walk walk = {.files = files, .sink = sink, .data = data, .deep = deep, .visited = visited};
    *damage = (EkFolderDamage){0};
    g_hash_table_add(visited, g_memdup2(&folder->place, sizeof folder->place));
    g_ptr_array_add(waiting, level_new(path, folder, 0));
    gboolean fine = TRUE;
    while (fine && waiting->len > 0 && !walk.stopped) {
        Level *level = g_ptr_array_steal_index(waiting, waiting->len - 1);
        EkFolderDamage own = {0};
        walk.level = level;
        walk.found = g_ptr_array_new();
        fine = files->format->list(files->opened, level->entry, walk_entry, &walk, &own, error);
        damage->bad_bytes += own.bad_bytes;
        damage->unread_bytes += own.unread_bytes;
        damage->cut_short = damage->cut_short || own.cut_short;
        /* The last on the stack comes next: put them so that the first found does. */
        for (guint i = walk.found->len; i > 0; i--)
            g_ptr_array_add(waiting, walk.found->pdata[i - 1]);
        g_ptr_array_unref(walk.found);
        level_free(level);
    }
    *cut = walk.cut;
    return fine;
}

/* --- finding -------------------------------------------------------------------------------- */

typedef struct {
    const char *name; /* a component, or NULL when looking for a number */
    guint64 number;
    EkEntry *exact;
    EkEntry *folded;
    char *path;
} Search;

static gboolean same_folded(const char *a, const char *b)
{
    g_autofree char *left = g_utf8_casefold(a, -1);
    g_autofree char *right = g_utf8_casefold(b, -1);
    return g_str_equal(left, right);
}

static gboolean match_name(void *data, const EkEntry *entry)
{
    Search *search = data;
    if (g_str_equal(entry->name, search->name)) {
        search->exact = ek_entry_copy(entry);
        return FALSE;
    }
    if (search->folded == NULL && same_folded(entry->name, search->name))
        search->folded = ek_entry_copy(entry);
    return TRUE;
}

static gboolean match_number(void *data, const char *path, const EkEntry *entry)
{
    Search *search = data;
    if (entry->number != search->number)
        return TRUE;
    search->exact = ek_entry_copy(entry);
    search->path = g_strdup(path);
    return FALSE;
}

static EkEntry *find_number(EkFiles *files, const char *text, char **full, GError **error)
{
    Search search = {0};
    EkFolderDamage damage;
    guint cut = 0;
    if (!ek_text_parse_u64(text, &search.number)) {
        ek_error_set(error, EK_ERROR_ABSENT, "@%s is not a file number", text);
        return NULL;
    }
    g_autoptr(EkEntry) root = files->format->root(files->opened);
    if (!ek_files_walk(files, "", root, TRUE, match_number, &search, &damage, &cut, error))
        return NULL;
    if (search.exact == NULL)
        ek_error_set(error, EK_ERROR_ABSENT, "there is no file @%s in this volume", text);
    *full = search.path;
    return search.exact;
}

EkEntry *ek_files_find(EkFiles *files, const char *path, char **full, GError **error)
{
    *full = NULL;
    if (*path == '@')
        return find_number(files, path + 1, full, error);
    g_autoptr(EkEntry) at = files->format->root(files->opened);
    g_autofree char *walked = g_strdup("");
    g_auto(GStrv) parts = g_strsplit(path, "/", -1);
    for (char **part = parts; *part != NULL; part++) {
        EkFolderDamage damage;
        Search search = {.name = *part};
        if (**part == '\0')
            continue;
        if (at->is_folder &&
            !files->format->list(files->opened, at, match_name, &search, &damage, error))
            return NULL;
        EkEntry *found = search.exact != NULL ? search.exact : search.folded;
        if (search.exact != NULL && search.folded != NULL)
            ek_entry_free(search.folded);
        if (found == NULL) {
            g_autofree char *where = ek_text_escape(walked);
            g_autofree char *what = ek_text_escape(*part);
            ek_error_set(error, EK_ERROR_ABSENT, "there is no \"%s\" in \"/%s\"", what, where);
            return NULL;
        }
        ek_entry_free(at);
        at = found;
        char *longer = join(walked, at->name);
        g_free(walked);
        walked = longer;
    }
    *full = g_steal_pointer(&walked);
    return g_steal_pointer(&at);
}

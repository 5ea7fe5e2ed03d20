/* SPDX-License-Identifier: MIT */
/* What is requested of a drive, as ranges to be read first. */
#include "work/wanting.h"

#include "base/text.h"

#include <string.h>

#define EDGE_BYTES                                                                                 \
    (64u << 10) /* of a drive, and of each volume: tables, boot sectors, their copies */

typedef struct {
    EkView view;
    const gint *cancel;
    EkIndexing *indexing;
    GArray *ranges; /* EkRange */
    GError *error;
} Wanting;

/* --- words ---------------------------------------------------------------------------------- */

typedef enum { WORD_NONE, WORD_STRUCTURES, WORD_USED, WORD_FREE, WORD_PATH } Word;

static Word word_of(const char *text, guint64 *volume, const char **path)
{
    static const struct {
        const char *prefix;
        Word word;
    } prefixes[] = {{"used:", WORD_USED}, {"free:", WORD_FREE}, {"", WORD_PATH}};
    *path = "";
    if (g_str_equal(text, "structures"))
        return WORD_STRUCTURES;
    for (gsize i = 0; i < G_N_ELEMENTS(prefixes); i++) {
        if (!g_str_has_prefix(text, prefixes[i].prefix))
            continue;
        const char *rest = text + strlen(prefixes[i].prefix);
        const char *colon = strchr(rest, ':');
        g_autofree char *number =
            colon != NULL ? g_strndup(rest, (gsize)(colon - rest)) : g_strdup(rest);
        gboolean is_path = prefixes[i].word == WORD_PATH;
        if (!ek_text_parse_u64(number, volume) || (colon != NULL) != is_path)
            continue;
        if (is_path)
            *path = colon + 1;
        return prefixes[i].word;
    }
    return WORD_NONE;
}

gboolean ek_wanting_is_word(const char *word)
{
    guint64 volume = 0;
    const char *path = NULL;
    return word_of(word, &volume, &path) != WORD_NONE;
}

/* --- region --------------------------------------------------------------------------------- */

/* What of a range was not read yet. */
static void add_unread(Wanting *wanting, EkByte first, EkByte bytes)
{
    EkReader *reader = wanting->view.reader;
    EkByte limit = ek_reader_bytes(reader);
    EkByte end = first < limit ? first + MIN(bytes, limit - first) : first;
    EkRange hole;
    gboolean bad = FALSE;
    for (EkByte at = first; ek_reader_next_hole(reader, at, end, &hole, &bad);
         at = ek_range_end(hole))
        if (!bad)
            g_array_append_val(wanting->ranges, hole);
}

static void add_edges(Wanting *wanting, EkRange range)
{
    EkByte edge = MIN(range.bytes, EDGE_BYTES);
    add_unread(wanting, range.first, edge);
    add_unread(wanting, ek_range_end(range) - edge, edge);
}

/* In order, as whole sectors, each once. */
static void give(Wanting *wanting, GArray *sectors)
{
    guint32 size = ek_case_info(wanting->view.opened)->sector_size;
    gboolean is_first = TRUE;
    g_array_sort(wanting->ranges, ek_range_by_first);
    for (guint i = 0; i < wanting->ranges->len; i++) {
        EkRange range = g_array_index(wanting->ranges, EkRange, i);
        EkSector first = range.first / size;
        EkSector end = ek_divide_up(ek_range_end(range), size);
        EkSectorRange *last =
            !is_first ? &g_array_index(sectors, EkSectorRange, sectors->len - 1) : NULL;
        if (last != NULL && first <= last->first + last->count) {
            last->count = MAX(last->count, end - last->first);
            continue;
        }
        EkSectorRange wanted = {first, end - first};
        g_array_append_val(sectors, wanted);
        is_first = FALSE;
    }
}

/* --- structures ----------------------------------------------------------------------------- */

static gboolean pass_file(void *data, const EkFile *file)
{
    (void)data;
    (void)file;
    return TRUE;
}

static gboolean pass_extent(void *data, guint64 file, const EkExtent *extent)
{
    (void)data;
    (void)file;
    (void)extent;
    return TRUE;
}

static gboolean pass_name(void *data, const EkFileName *name)
{
    (void)data;
    (void)name;
    return TRUE;
}

static gboolean pass_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    (void)data;
    (void)folder;
    (void)damage;
    return TRUE;
}

static gboolean pass_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    const Wanting *wanting = data;
    (void)from;
    (void)done;
    (void)total;
    return g_atomic_int_get(wanting->cancel) == 0;
}

/* What a walk over a volume's files reads and does not find. */
static void add_missed(Wanting *wanting, const EkVolume *volume)
{
    EkFileSink sink = {wanting, pass_file, pass_extent, pass_name, pass_damage, pass_mark};
    ek_reader_watch(wanting->view.reader, wanting->ranges);
    EkOpened *opened = volume->format->open(wanting->view.reader, volume, NULL);
    if (opened != NULL) {
        volume->format->walk(opened, 0, &sink);
        volume->format->close(opened);
    }
    ek_reader_watch(wanting->view.reader, NULL);
}

static gboolean add_structures(Wanting *wanting, GError **error)
{
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(wanting->view.opened, error);
    if (volumes == NULL)
        return FALSE;
    add_edges(wanting, (EkRange){0, ek_reader_bytes(wanting->view.reader)});
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (entry->standing == EK_STANDING_NESTED)
            continue;
        add_edges(wanting, ek_volume_range(entry->volume));
        if (entry->volume->format->open != NULL)
            add_missed(wanting, entry->volume);
    }
    return TRUE;
}

/* --- files ---------------------------------------------------------------------------------- */

static gboolean take_file(void *data, const char *path, const EkItem *item)
{
    Wanting *wanting = data;
    (void)path;
    if (item->file.type == EK_TYPE_FOLDER)
        return TRUE;
    g_autoptr(GArray) extents = ek_inventory_extents(ek_indexing_inventory(wanting->indexing),
                                                     item->file.number, &wanting->error);
    for (guint i = 0; extents != NULL && i < extents->len; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        if (ek_extent_place(extent) != EK_UNPLACED)
            add_unread(wanting, extent->first_byte, extent->stored);
    }
    return extents != NULL;
}

/* The region of a volume without what was gathered: the rest of what was not read. */
static void turn_round(Wanting *wanting, EkRange volume)
{
    g_autoptr(GArray) used = g_steal_pointer(&wanting->ranges);
    wanting->ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_array_sort(used, ek_range_by_first);
    EkByte at = volume.first;
    for (guint i = 0; i < used->len; i++) {
        EkRange range = g_array_index(used, EkRange, i);
        if (range.first > at)
            add_unread(wanting, at, MIN(range.first, ek_range_end(volume)) - at);
        at = MAX(at, MIN(ek_range_end(range), ek_range_end(volume)));
    }
    if (at < ek_range_end(volume))
        add_unread(wanting, at, ek_range_end(volume) - at);
}

static gboolean add_files(Wanting *wanting, Word word, guint64 volume, const char *path,
                          GError **error)
{
    g_autoptr(EkIndexing) indexing = ek_indexing_new(&wanting->view, volume, error);
    guint64 number = 0;
    if (indexing == NULL || !ek_indexing_run(indexing, wanting->cancel, error))
        return FALSE;
    EkInventory *inventory = ek_indexing_inventory(indexing);
    guint with = EK_WITH_BELOW | EK_WITH_STREAMS | (word != WORD_PATH ? EK_WITH_OWN : 0);
    wanting->indexing = indexing;
    if (word != WORD_PATH)
        add_missed(wanting, ek_indexing_volume(indexing)->volume);
    if (!ek_inventory_find(inventory, path, &number, error) ||
        !ek_inventory_walk(inventory, number, with, take_file, wanting, error))
        return FALSE;
    if (word == WORD_FREE)
        turn_round(wanting, ek_volume_range(ek_indexing_volume(indexing)->volume));
    if (wanting->error == NULL)
        return TRUE;
    g_propagate_error(error, g_steal_pointer(&wanting->error));
    return FALSE;
}

gboolean ek_wanting_add(const char *folder, const char *word, const gint *cancel, GArray *sectors,
                        GError **error)
{
    Wanting wanting = {.cancel = cancel};
    guint64 volume = 0;
    const char *path = NULL;
    Word kind = word_of(word, &volume, &path);
    if (!ek_view_open(&wanting.view, folder, FALSE, error))
        return FALSE;
    wanting.ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    gboolean fine = kind == WORD_STRUCTURES ? add_structures(&wanting, error)
                                            : add_files(&wanting, kind, volume, path, error);
    if (fine)
        give(&wanting, sectors);
    g_array_unref(wanting.ranges);
    ek_view_close(&wanting.view);
    return fine;
}

/* SPDX-License-Identifier: MIT */
/* Folders and files of a FAT volume: entries of 32 bytes, long names in front of the short one they
 * belong to, content in chains of clusters. Times are in the clock of whoever wrote them. What it
 * distrusts: chains (which may lead in circles, out of the volume or through sectors that were not
 * read), sizes, names. */
#include "base/text.h"
#include "volume/fat/fat.h"

#define ENTRY_BYTES 32u
#define MAX_FOLDER_BYTES (2u << 20) /* by the specification: 65 536 entries */
#define LONG_UNITS 13u
#define MAX_LONG_ENTRIES 20u

enum {
    ATTRIBUTE_LABEL = 0x08,
    ATTRIBUTE_FOLDER = 0x10,
    ATTRIBUTE_LONG_NAME = 0x0f,
};

struct EkOpened {
    EkGate *gate;
    EkFatBoot boot;
    EkByte first_byte;
    EkFatTable table;
};

EkOpened *ek_fat_open(EkGate *gate, const EkVolume *volume, GError **error)
{
    EkFatBoot boot;
    if (!ek_fat_boot_read((EkSpan){volume->header, EK_HEADER_MOST}, &boot)) {
        ek_error_set(error, EK_ERROR_DAMAGED, "the kept boot sector is none");
        return NULL;
    }
    EkOpened *opened = g_new0(EkOpened, 1);
    opened->gate = gate;
    opened->boot = boot;
    opened->first_byte = volume->first_byte;
    ek_fat_table_init(&opened->table, gate, &boot, volume->first_byte, EK_FAT_WINDOW);
    return opened;
}

void ek_fat_close(EkOpened *opened)
{
    ek_fat_table_clear(&opened->table);
    g_free(opened);
}

EkEntry *ek_fat_root(EkOpened *opened)
{
    EkEntry *root = g_new0(EkEntry, 1);
    root->name = g_strdup("");
    root->is_folder = TRUE;
    root->place = opened->boot.bits == EK_FAT32 ? opened->boot.root_cluster : 0;
    return root;
}

/* --- chains --------------------------------------------------------------------------------- */

/* Walks a chain cluster by cluster and hands over runs. `bytes` is how much the walker wants; the
 * walk ends there, or where the chain does. Returns how many bytes were placed. Bounded by `bytes`,
 * so that a chain in a circle ends too. */
static EkByte walk_chain(EkOpened *opened, guint32 cluster, EkByte bytes, EkExtentSink sink,
                         void *data, gboolean *stopped)
{
    guint32 size = opened->boot.cluster_bytes;
    EkByte done = 0;
    *stopped = FALSE;
    while (done < bytes && ek_fat_cluster_exists(&opened->boot, cluster)) {
        EkExtent run = {done, 0, ek_fat_cluster_byte(&opened->boot, opened->first_byte, cluster)};
        guint32 next = 0;
        EkFatLink link;
        do {
            run.bytes += size;
            link = ek_fat_table_link(&opened->table, cluster, &next);
            gboolean in_order = link == EK_LINK_NEXT && next == cluster + 1;
            cluster = link == EK_LINK_NEXT ? next : 0;
            if (!in_order)
                break;
        } while (done + run.bytes < bytes);
        run.bytes = MIN(run.bytes, bytes - done);
        done += run.bytes;
        if (!sink(data, &run)) {
            *stopped = TRUE;
            break;
        }
    }
    return done;
}

gboolean ek_fat_extents(EkOpened *opened, const EkEntry *file, EkExtentSink sink, void *data,
                        GError **error)
{
    (void)error;
    gboolean stopped = FALSE;
    EkByte placed = walk_chain(opened, (guint32)file->place, file->size, sink, data, &stopped);
    if (placed < file->size && !stopped) {
        EkExtent rest = {placed, file->size - placed, EK_UNPLACED};
        sink(data, &rest);
    }
    return TRUE;
}

/* --- folders -------------------------------------------------------------------------------- */

typedef struct {
    EkOpened *opened;
    EkEntrySink sink;
    void *data;
    EkFolderDamage *damage;
    GHashTable *visited; /* clusters of this folder, so that a circle ends */
    gunichar2 units[MAX_LONG_ENTRIES * LONG_UNITS];
    guint expected; /* the long entry that must come next; 0: none is open */
    guint total;    /* long entries of the open name */
    guint8 sum;     /* of the short name they belong to */
    gboolean ended;
    EkByte bytes;
} FolderWalk;

static void take_long_entry(FolderWalk *walk, EkSpan entry)
{
    static const guint8 places[LONG_UNITS] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    guint order = ek_span_u8(entry, 0) & 0x3f;
    if ((ek_span_u8(entry, 0) & 0x40) != 0) {
        walk->expected = order;
        walk->total = order;
        walk->sum = ek_span_u8(entry, 13);
    }
    if (order == 0 || order > MAX_LONG_ENTRIES || order != walk->expected ||
        ek_span_u8(entry, 13) != walk->sum) {
        walk->expected = 0;
        walk->total = 0;
        return;
    }
    for (guint i = 0; i < LONG_UNITS; i++)
        walk->units[(order - 1) * LONG_UNITS + i] = ek_span_le16(entry, places[i]);
    walk->expected--;
}

/* The long name gathered before this short entry; NULL when it has none of its own. */
static char *gathered_name(FolderWalk *walk, const guint8 *short_name, gboolean *escaped,
                           gsize *units)
{
    gboolean complete =
        walk->total > 0 && walk->expected == 0 && walk->sum == ek_fat_name_sum(short_name);
    gsize count = 0;
    while (complete && count < walk->total * LONG_UNITS && walk->units[count] != 0)
        count++;
    walk->total = 0;
    walk->expected = 0;
    *units = count;
    return count > 0 ? ek_fat_long_name(walk->units, count, escaped) : NULL;
}

static gboolean is_dot(const guint8 *name)
{
    return memcmp(name, ".          ", 11) == 0 || memcmp(name, "..         ", 11) == 0;
}

static gboolean take_short_entry(FolderWalk *walk, EkSpan span, EkByte place)
{
    const guint8 *short_name = span.data;
    guint8 attributes = ek_span_u8(span, 11);
    gboolean escaped = FALSE;
    gsize units = 0;
    g_autofree char *name = gathered_name(walk, short_name, &escaped, &units);
    if ((attributes & ATTRIBUTE_LABEL) != 0 || is_dot(short_name))
        return TRUE;

    EkEntry entry = {
        .number = (place - walk->opened->first_byte) / ENTRY_BYTES,
        .is_folder = (attributes & ATTRIBUTE_FOLDER) != 0,
        .attributes = attributes,
        .created = ek_moment_dos(ek_span_le16(span, 16), ek_span_le16(span, 14)),
        .modified = ek_moment_dos(ek_span_le16(span, 24), ek_span_le16(span, 22)),
        .accessed = ek_moment_dos(ek_span_le16(span, 18), 0),
        .place = ek_span_le16(span, 26),
    };
    g_autofree guint8 *raw = NULL;
    if (walk->opened->boot.bits == EK_FAT32)
        entry.place |= (guint64)ek_span_le16(span, 20) << 16;
    if (!entry.is_folder)
        entry.size = ek_span_le32(span, 28);
    if (name != NULL) {
        entry.name_length = units * 2;
        raw = g_malloc(entry.name_length);
        for (gsize i = 0; i < units; i++)
            ek_put_le16(raw + i * 2, walk->units[i]);
    } else {
        name = ek_fat_short_name(short_name, ek_span_u8(span, 12), &escaped);
        entry.name_length = 11;
        raw = g_memdup2(short_name, 11);
    }
    entry.name = name;
    entry.name_is_escaped = escaped;
    entry.name_bytes = raw;
    return walk->sink(walk->data, &entry);
}

/* The entries in one run of bytes. FALSE when the receiver wants no more. */
static gboolean take_entries(FolderWalk *walk, EkSpan span, EkByte place)
{
    for (gsize at = 0; at + ENTRY_BYTES <= span.length && !walk->ended; at += ENTRY_BYTES) {
        EkSpan entry = ek_span_part(span, at, ENTRY_BYTES);
        guint8 first = ek_span_u8(entry, 0);
        guint8 attributes = ek_span_u8(entry, 11);
        if (first == 0x00) {
            walk->ended = TRUE;
        } else if (first == 0xe5) {
            walk->total = 0;
        } else if ((attributes & 0x3f) == ATTRIBUTE_LONG_NAME) {
            take_long_entry(walk, entry);
        } else if (!take_short_entry(walk, entry, place + at)) {
            return FALSE;
        }
    }
    return TRUE;
}

/* One run of a folder, sector by sector: one that was not read costs its own names only. */
static gboolean take_run(void *data, const EkExtent *extent)
{
    FolderWalk *walk = data;
    guint32 size = walk->opened->boot.sector_size;
    guint32 cluster = walk->opened->boot.cluster_bytes;
    guint8 sector[4096];
    for (EkByte at = 0; at < extent->bytes && !walk->ended; at += size) {
        EkByte place = extent->first_byte + at;
        gsize length = (gsize)MIN(size, extent->bytes - at);
        EkKnown known;
        if (walk->visited != NULL && at % cluster == 0 &&
            !g_hash_table_add(walk->visited, g_memdup2(&place, sizeof place))) {
            walk->damage->cut_short = TRUE;
            walk->ended = TRUE;
            return TRUE;
        }
        if (!ek_gate_read(walk->opened->gate, place, sector, length, &known, NULL)) {
            walk->damage->cut_short = TRUE;
            continue;
        }
        walk->bytes += length;
        if (known.good < length) {
            walk->damage->bad_bytes += known.bad;
            walk->damage->unread_bytes += known.unread;
            walk->total = 0;
        } else if (!take_entries(walk, (EkSpan){sector, length}, place)) {
            return FALSE;
        }
    }
    return TRUE;
}

gboolean ek_fat_list(EkOpened *opened, const EkEntry *folder, EkEntrySink sink, void *data,
                     EkFolderDamage *damage, GError **error)
{
    (void)error;
    *damage = (EkFolderDamage){0};
    FolderWalk walk = {.opened = opened, .sink = sink, .data = data, .damage = damage};
    guint32 cluster = (guint32)folder->place;
    if (cluster == 0 && opened->boot.bits != EK_FAT32) {
        EkExtent root = {0, opened->boot.root_bytes, opened->first_byte + opened->boot.root_start};
        take_run(&walk, &root);
        return TRUE;
    }
    gboolean stopped = FALSE;
    walk.visited = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    EkByte seen = walk_chain(opened, cluster == 0 ? opened->boot.root_cluster : cluster,
                             MAX_FOLDER_BYTES, take_run, &walk, &stopped);
    g_hash_table_unref(walk.visited);
    /* A chain that ends without an end mark in the entries is whole only when the FAT says so. */
    if (seen == 0 || (!walk.ended && !stopped && seen < MAX_FOLDER_BYTES && walk.bytes < seen))
        damage->cut_short = TRUE;
    return TRUE;
}

/* --- looking -------------------------------------------------------------------------------- */

static gboolean is_plausible_entry(EkSpan entry)
{
    guint8 first = ek_span_u8(entry, 0);
    guint8 attributes = ek_span_u8(entry, 11);
    if (first == 0xe5)
        return TRUE;
    if ((attributes & 0xc0) != 0)
        return FALSE;
    if (attributes == ATTRIBUTE_LONG_NAME)
        return (first & 0x3f) >= 1 && (first & 0x3f) <= MAX_LONG_ENTRIES &&
               ek_span_u8(entry, 12) == 0 && ek_span_le16(entry, 26) == 0;
    if (first == ' ')
        return FALSE;
    for (gsize i = 0; i < 11; i++) {
        guint8 c = ek_span_u8(entry, i);
        if (c < 0x20 && !(i == 0 && c == 0x05))
            return FALSE;
        if (c < 0x80 && strchr("\"*+,/:;<=>?[\\]|", c) != NULL)
            return FALSE;
    }
    return TRUE;
}

gboolean ek_fat_is_folder(EkSpan span)
{
    guint used = 0;
    guint plausible = 0;
    for (gsize at = 0; at + ENTRY_BYTES <= span.length; at += ENTRY_BYTES) {
        EkSpan entry = ek_span_part(span, at, ENTRY_BYTES);
        if (ek_span_u8(entry, 0) == 0)
            break;
        used++;
        if (is_plausible_entry(entry))
            plausible++;
    }
    return plausible >= used - used / 4;
}

char *ek_fat_label_of(EkSpan span)
{
    for (gsize at = 0; at + ENTRY_BYTES <= span.length; at += ENTRY_BYTES) {
        EkSpan entry = ek_span_part(span, at, ENTRY_BYTES);
        guint8 attributes = ek_span_u8(entry, 11);
        if (ek_span_u8(entry, 0) == 0)
            break;
        if (ek_span_u8(entry, 0) == 0xe5 || attributes == ATTRIBUTE_LONG_NAME ||
            (attributes & ATTRIBUTE_LABEL) == 0)
            continue;
        /* A label has no dot: its eleven bytes are one name. */
        gboolean escaped = FALSE;
        guint8 base[11];
        memset(base, ' ', sizeof base);
        memcpy(base, entry.data, 8);
        g_autofree char *left = ek_fat_short_name(base, 0, &escaped);
        memset(base, ' ', sizeof base);
        memcpy(base, entry.data + 8, 3);
        g_autofree char *right = ek_fat_short_name(base, 0, &escaped);
        gboolean full = entry.data[7] != ' ';
        char *label = *right == '\0' ? g_strdup(left)
                                     : g_strdup_printf("%s%s%s", left, full ? "" : " ", right);
        return g_strchomp(label);
    }
    return NULL;
}

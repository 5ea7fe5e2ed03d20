/* SPDX-License-Identifier: MIT */
/* A FAT16 or FAT32 volume without any boot sector. Every folder says in its first entry which
 * cluster it is: two of them tell the size of a cluster and where cluster 2 would be, and each
 * further one must agree. The FATs begin with entries that no other content begins with; where they
 * are gives their length. How many sectors were reserved before them stands nowhere: an information
 * sector, or where partitions usually begin, decides, and it is said. */
#include "volume/fat/entry.h"
#include "volume/formats.h"
#include "volume/headers.h"

#define FOLDERS_MOST 96u
#define GROUPS_MOST 512u
#define VOLUMES_MOST 32u
#define LEAST_AGREEING 2u
#define CLUSTER_MOST (256u << 10)
#define USUAL_ROOT_BYTES 16384u
#define RESERVED_MOST 64u
#define USUAL_RESERVED 32u
#define COPY_OF_INFO 7u
#define FILES_TRIED 64u
#define FILES_LEAST 4u
#define NEIGHBOURS 4u
#define FAT_MOST (128u << 10) /* bytes, of 16 bits */
#define TRIES_MOST 8192u      /* places of a FAT */
#define COST_OF_CHAINS 256u   /* such tries */

gboolean ek_fat_record_seen(EkSpan span, EkRecord *record)
{
    EkFatEntry self;
    EkFatEntry parent;
    if (ek_fat_begins_folder(span, &self, &parent)) {
        *record = (EkRecord){self.cluster, EK_FAT_SEEN_FOLDER};
        return self.cluster >= 2 && self.cluster < 0x0ffffff7;
    }
    /* Media and end-of-chain, in the first two entries; the third is the root folder's, or a
     * file's. */
    if (ek_span_le32(span, 0) == 0x0ffffff8 && (ek_span_le32(span, 4) & 0x03ffffff) == 0x03ffffff &&
        ek_span_le32(span, 8) >> 28 == 0 && ek_span_le32(span, 8) != 0) {
        *record = (EkRecord){0, EK_FAT_SEEN_32};
        return TRUE;
    }
    if (ek_span_le16(span, 0) == 0xfff8 && (ek_span_le16(span, 2) | 0xc000) == 0xffff) {
        *record = (EkRecord){0, EK_FAT_SEEN_16};
        return TRUE;
    }
    /* Twelve bits each; no other content of note begins so. */
    if (ek_span_u8(span, 0) == 0xf8 && ek_span_le16(span, 1) == 0xffff &&
        ek_span_le16(span, 3) != 0xffff && ek_span_le16(span, 3) != 0) {
        *record = (EkRecord){0, EK_FAT_SEEN_12};
        return TRUE;
    }
    return FALSE;
}

typedef struct {
    EkByte at;
    guint32 cluster;
    gboolean taken;
} Folder;

typedef struct {
    guint32 cluster_bytes;
    EkByte data;    /* of cluster 2 */
    guint agreeing; /* folders */
    guint files;    /* as long as their chains, where no folder tells */
} Grid;

static gboolean is_on(const Grid *grid, const Folder *folder)
{
    return folder->at == grid->data + (EkByte)(folder->cluster - 2) * grid->cluster_bytes;
}

static guint count_on(const Grid *grid, const GArray *folders)
{
    guint count = 0;
    for (guint i = 0; i < folders->len; i++) {
        const Folder *folder = &g_array_index(folders, Folder, i);
        count += !folder->taken && is_on(grid, folder) ? 1 : 0;
    }
    return count;
}

/* The size and the beginning of clusters on which most folders agree. */
static Grid find_grid(const GArray *folders)
{
    Grid best = {0};
    for (guint i = 0; i < folders->len; i++)
        for (guint k = i + 1; k < folders->len; k++) {
            const Folder *a = &g_array_index(folders, Folder, i);
            const Folder *b = &g_array_index(folders, Folder, k);
            if (a->taken || b->taken || b->cluster <= a->cluster || b->at <= a->at)
                continue;
            EkByte size = (b->at - a->at) / (b->cluster - a->cluster);
            EkByte before = (EkByte)(a->cluster - 2) * size;
            if ((b->at - a->at) % (b->cluster - a->cluster) != 0 || !ek_is_power_of_two(size) ||
                size < EK_STEP || size > CLUSTER_MOST || before > a->at)
                continue;
            Grid grid = {(guint32)size, a->at - before, 0, 0};
            grid.agreeing = count_on(&grid, folders);
            if (grid.agreeing > best.agreeing)
                best = grid;
        }
    return best;
}

typedef struct {
    EkFatBits bits;
    EkByte first; /* FAT 1 */
    EkByte bytes; /* of one FAT */
    EkByte root_bytes;
} Tables;

static gboolean is_table(const GArray *runs, EkByte at, guint64 kind)
{
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        if (run->stride == kind && run->first_byte == at)
            return TRUE;
    }
    return FALSE;
}

/* By the information sector, which is sector 1 of the volume, or by its copy, which is mostly
 * sector 7; 0: neither is there. */
static guint reserved_by_info(EkReader *reader, const Tables *tables, guint most)
{
    guint8 sector[EK_STEP];
    guint found = 0;
    for (guint i = 1; i <= most; i++)
        if (ek_presence_read(reader, tables->first - i * EK_STEP, sector, sizeof sector) ==
                EK_PRESENT &&
            ek_fat_is_info((EkSpan){sector, sizeof sector}))
            found = i;
    if (found == 0)
        return 0;
    guint as_copy = found + COPY_OF_INFO;
    gboolean is_copy =
        as_copy <= most && found + 1 != USUAL_RESERVED &&
        !ek_is_usual_start(tables->first - (found + 1) * EK_STEP) &&
        (as_copy == USUAL_RESERVED || ek_is_usual_start(tables->first - as_copy * EK_STEP));
    return is_copy ? as_copy : found + 1;
}

/* One FAT alone is taken for the second, and half as long for the first: by what stands where each
 * would have its information sector, or by where the volume would begin. */
static void choose_alone(EkReader *reader, EkByte seen, Tables *tables)
{
    EkByte before = (tables->bits == EK_FAT32 ? USUAL_RESERVED : 1) * (EkByte)EK_STEP;
    Tables first = {tables->bits, seen, tables->bytes / 2, tables->root_bytes};
    gboolean wide = tables->bits == EK_FAT32;
    guint most = (guint)MIN(RESERVED_MOST, seen / EK_STEP);
    guint other = (guint)MIN(RESERVED_MOST, tables->first / EK_STEP);
    if (wide && reserved_by_info(reader, &first, most) != 0)
        *tables = first;
    else if ((!wide || reserved_by_info(reader, tables, other) == 0) && seen >= before &&
             ek_is_usual_start(seen - before))
        *tables = first;
}

/* With one FAT seen, or both: they are as long as the distance to each other, or to the data. */
static gboolean find_tables(EkReader *reader, const GArray *runs, const Grid *grid, Tables *tables)
{
    for (guint i = runs->len; i > 0; i--) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i - 1);
        if (run->first_byte >= grid->data || run->stride == EK_FAT_SEEN_FOLDER ||
            run->stride == EK_FAT_SEEN_12)
            continue;
        EkFatBits bits = run->stride == EK_FAT_SEEN_32 ? EK_FAT32 : EK_FAT16;
        EkByte root = bits == EK_FAT32 ? 0 : USUAL_ROOT_BYTES;
        EkByte rest = grid->data - run->first_byte;
        if (rest <= root || (rest - root) % EK_STEP != 0)
            continue;
        EkByte length = rest - root;
        /* The second one: another stands as far before it as it is long. */
        if (length <= run->first_byte && is_table(runs, run->first_byte - length, run->stride))
            *tables = (Tables){bits, run->first_byte - length, length, root};
        else if (length % (2 * EK_STEP) == 0 &&
                 is_table(runs, run->first_byte + length / 2, run->stride))
            *tables = (Tables){bits, run->first_byte, length / 2, root};
        else if (i > 1 && g_array_index(runs, EkRecordRun, i - 2).stride == run->stride &&
                 bits == EK_FAT16) {
            /* Both are there, and what lies between them and the data is the root folder. */
            EkByte before = g_array_index(runs, EkRecordRun, i - 2).first_byte;
            EkByte apart = run->first_byte - before;
            if (apart >= rest)
                continue;
            *tables = (Tables){bits, before, apart, rest - apart};
        } else if (length <= run->first_byte) {
            *tables = (Tables){bits, run->first_byte - length, length, root};
            if (length % (2 * EK_STEP) == 0)
                choose_alone(reader, run->first_byte, tables);
        } else {
            continue;
        }
        EkByte least = bits == EK_FAT32 ? EK_STEP : 4085 * 2;
        if (tables->bytes >= least && tables->root_bytes % EK_STEP == 0)
            return TRUE;
    }
    return FALSE;
}

/* How much a place has room for is what the FATs are made for, or a little less. */
static gboolean holds(EkRange place, const Grid *grid, const Tables *tables)
{
    guint64 most = tables->bytes * 8 / (guint)tables->bits - 2;
    guint64 room = (ek_range_end(place) - grid->data) / grid->cluster_bytes;
    return room <= most && room >= most - most / 8;
}

/* The partition of some table in which the FATs and the clusters lie as they should. NULL when none
 * is named. `told`: sectors before the FAT, where that is known; 0: it is not. */
static const EkRange *find_place(const GArray *places, const Grid *grid, const Tables *tables,
                                 guint told)
{
    for (guint i = 0; i < places->len; i++) {
        const EkRange *place = &g_array_index(places, EkRange, i);
        EkByte before = tables->first - place->first;
        if (place->first < tables->first && ek_range_end(*place) > grid->data &&
            before % EK_STEP == 0 && before / EK_STEP <= G_MAXUINT16 &&
            (told == 0 || before / EK_STEP == told) && holds(*place, grid, tables))
            return place;
    }
    return NULL;
}

/* Sectors before FAT 1 where neither a table nor an information sector tells. Whoever makes a FAT
 * whole clusters long makes what is before it so. */
static guint guess_reserved(const Grid *grid, const Tables *tables, guint most, const char **why)
{
    guint usual = tables->bits == EK_FAT32 ? USUAL_RESERVED : 1;
    gboolean is_aligned =
        tables->bytes % grid->cluster_bytes == 0 && tables->root_bytes % grid->cluster_bytes == 0;
    *why = "assumed: partitions usually start there";
    if (usual <= most && ek_is_usual_start(tables->first - usual * EK_STEP))
        return usual;
    for (guint i = 1; i <= most; i++)
        if (ek_is_usual_start(tables->first - i * EK_STEP))
            return i;
    if (is_aligned && tables->bits != EK_FAT32 && grid->cluster_bytes / EK_STEP <= most) {
        *why = "assumed: one cluster, as FAT and root folder are whole clusters";
        return grid->cluster_bytes / EK_STEP;
    }
    *why = "assumed to be the usual number";
    return MIN(usual, most);
}

/* A FAT has room for more clusters than there are: it is whole sectors long, and some formatting
 * makes it whole clusters long. So there are as many as it cannot do without, and up to the last
 * one in use. */
static guint64 count_clusters(EkReader *reader, const Grid *grid, const Tables *tables,
                              guint64 most)
{
    gsize entry = (gsize)tables->bits / 8;
    gsize slack = (gsize)MIN(
        tables->bytes % grid->cluster_bytes == 0 ? grid->cluster_bytes : EK_STEP, tables->bytes);
    guint64 entries = slack / entry;
    guint64 first = tables->bytes / entry - entries; /* the entry that the slack begins with */
    guint64 count = most > entries ? most - entries + 1 : most;
    g_autofree guint8 *end = g_malloc(slack);
    for (guint copy = 0; copy < 2; copy++) {
        EkByte at = tables->first + (copy + 1) * tables->bytes - slack;
        if (ek_presence_read(reader, at, end, slack) != EK_PRESENT)
            continue;
        for (guint64 i = entries; i > 0 && first + i - 2 > count; i--)
            if (!ek_bytes_are_zero(end + (i - 1) * entry, entry) && first + i - 2 <= most)
                count = first + i - 2;
    }
    return count;
}

static EkVolume *compose(EkReader *reader, const GArray *places, const Grid *grid,
                         const Tables *tables)
{
    const char *why = "known from the FSInfo sector";
    guint before = (guint)MIN(RESERVED_MOST, tables->first / EK_STEP);
    guint reserved = tables->bits == EK_FAT32 ? reserved_by_info(reader, tables, before) : 0;
    const EkRange *place = find_place(places, grid, tables, reserved);
    if (reserved == 0 && place != NULL) {
        reserved = (guint)((tables->first - place->first) / EK_STEP);
        why = "known from a partition table";
    }
    if (reserved == 0)
        reserved = guess_reserved(grid, tables, before, &why);
    EkByte start = tables->first - (EkByte)reserved * EK_STEP;
    guint64 most = MIN(tables->bytes * 8 / (guint)tables->bits - 2,
                       tables->bits == EK_FAT32 ? 0x0ffffff5 : 65524);
    EkByte limit = place != NULL ? ek_range_end(*place) : ek_reader_bytes(reader);
    guint64 clusters = place != NULL ? most : count_clusters(reader, grid, tables, most);
    clusters = MIN(clusters, (limit - MIN(grid->data, limit)) / grid->cluster_bytes);
    guint64 sectors = (grid->data - start + clusters * grid->cluster_bytes) / EK_STEP;
    /* What is left behind the last whole cluster belongs to it too. */
    if (place != NULL && limit - start - sectors * EK_STEP < grid->cluster_bytes)
        sectors = (limit - start) / EK_STEP;
    EkVolume *volume = ek_volume_new(NULL, ek_fat_name(tables->bits));
    EkFatBoot boot;
    if (sectors > G_MAXUINT32 || grid->cluster_bytes / EK_STEP > 128 ||
        (tables->bits == EK_FAT16 && tables->bytes / EK_STEP > G_MAXUINT16))
        return volume;
    EkFatBoot wanted = {.bits = tables->bits,
                        .cluster_bytes = grid->cluster_bytes,
                        .reserved_sectors = reserved,
                        .fats = 2,
                        .fat_bytes = tables->bytes,
                        .root_bytes = tables->root_bytes};
    ek_fat_boot_compose(&wanted, sectors, start, volume->header);
    if (!ek_fat_boot_read(ek_volume_header(volume), &boot) || boot.bits != tables->bits)
        return volume;
    volume->composed = volume->by_backup = TRUE;
    volume->first_byte = start;
    volume->header_byte = tables->first;
    volume->own_sector_size = EK_STEP;
    volume->bytes = boot.bytes;
    if (grid->agreeing > 0)
        ek_volume_reason(volume, grid->agreeing > 3 ? 20 : 10,
                         "no boot sector found; %u folders agree on the cluster layout",
                         grid->agreeing);
    else
        ek_volume_reason(volume, grid->files >= FILES_LEAST ? 25 : 10,
                         "no boot sector found: the FATs and the root folder follow each other, "
                         "and its files are as long as their chains");
    ek_volume_reason(volume, 0, "%u reserved sectors before the FAT, %s", reserved, why);
    ek_fat_weigh(reader, volume, &boot);
    if (place != NULL)
        return volume;
    volume->length_is_least = TRUE;
    ek_volume_reason(volume, 0,
                     "end unknown; the FATs have room for %" G_GUINT64_FORMAT
                     " to %" G_GUINT64_FORMAT " clusters",
                     clusters, most);
    return volume;
}

/* --- without folders that name their cluster ------------------------------------------------- */

/* How many bytes the root folder of a FAT12 or FAT16 takes: as many entries as makers give it, of
 * which those behind the last one are blank. */
static EkByte root_bytes_at(EkReader *reader, EkByte at)
{
    static const guint entries[] = {512, 224, 112, 240, 64};
    for (gsize i = 0; i < G_N_ELEMENTS(entries); i++) {
        gsize length = entries[i] * (gsize)EK_FAT_ENTRY_BYTES;
        g_autofree guint8 *root = g_malloc(length);
        if (ek_presence_read(reader, at, root, length) != EK_PRESENT)
            continue;
        gsize used = 0;
        while (used < length && root[used] != 0)
            used += EK_FAT_ENTRY_BYTES;
        if (ek_bytes_are_zero(root + used, length - used))
            return length;
    }
    return 0;
}

/* The one size of clusters with which every file of a root folder is as long as its chain. 0: none,
 * or several. */
static guint32 cluster_by_chains(EkReader *reader, const Tables *tables, guint *files)
{
    gsize root_bytes = (gsize)tables->root_bytes;
    g_autofree guint8 *root = g_malloc(root_bytes);
    EkSpan span = {root, root_bytes};
    guint32 clusters = (guint32)MIN(tables->bytes * 8 / (guint)tables->bits - 2, 65524);
    EkLinkPlaces places = {.bits = (guint)tables->bits,
                           .clusters = clusters,
                           .sector_size = EK_STEP,
                           .copies = 2,
                           .first = {tables->first, tables->first + tables->bytes},
                           .bytes = tables->bytes};
    EkLinkTable links;
    guint fits = 0;
    guint32 found = 0;
    guint count = 0;
    if (ek_presence_read(reader, tables->first + 2 * tables->bytes, root, root_bytes) != EK_PRESENT)
        return 0;
    ek_links_init(&links, reader, &places, EK_FAT_GLANCE);
    for (guint32 size = EK_STEP; size <= 65536; size *= 2) {
        EkFatBoot boot = {.bits = tables->bits, .clusters = clusters, .cluster_bytes = size};
        gboolean all = ek_fat_count_sound(span, &boot) > 0;
        count = 0;
        for (gsize at = 0; at < span.length && root[at] != 0 && all && count < FILES_TRIED;
             at += EK_FAT_ENTRY_BYTES) {
            EkFatEntry entry = ek_fat_entry_read(span, at);
            guint32 first = ek_fat_entry_cluster(&entry, tables->bits);
            if (entry.is_deleted || entry.is_long || entry.is_label || entry.is_folder ||
                entry.size <= EK_STEP || !ek_fat_cluster_exists(&boot, first))
                continue;
            guint64 wanted = ek_divide_up(entry.size, size);
            EkChain chain = ek_links_follow(&links, first, MIN(wanted, clusters));
            all = ek_chain_fits(&chain, wanted);
            count++;
        }
        fits += all && count > 0;
        if (all && count > 0) {
            found = size;
            *files = count;
        }
    }
    ek_links_clear(&links);
    return fits == 1 ? found : 0;
}

/* A FAT is as long as its clusters need, or that in whole clusters: one that is a sector longer has
 * taken the root folder's first sector for its own, and all of its content would be shifted. */
static gboolean is_just_long_enough(const EkRange *place, const Grid *grid, const Tables *tables)
{
    if (grid->data >= ek_range_end(*place))
        return FALSE;
    guint64 clusters = (ek_range_end(*place) - grid->data) / grid->cluster_bytes;
    EkByte needed =
        ek_divide_up(ek_divide_up((clusters + 2) * (guint)tables->bits, 8), EK_STEP) * EK_STEP;
    return tables->bytes == needed ||
           tables->bytes == ek_divide_up(needed, grid->cluster_bytes) * grid->cluster_bytes;
}

/* FATs of this place and length with a root folder behind them, whose files are as long as their
 * chains: that is enough in a place that a table names, or with several files. `alone_in`: the
 * place in which only one of them was seen; NULL: both were. */
static gboolean try_tables(EkReader *reader, const EkSightings *sightings, Tables tables,
                           const EkRange *alone_in, EkVolumeSink sink, void *data)
{
    EkByte root = tables.first + 2 * tables.bytes;
    tables.root_bytes = root_bytes_at(reader, root);
    Grid grid = {.data = root + tables.root_bytes};
    if (tables.root_bytes == 0 ||
        (grid.cluster_bytes = cluster_by_chains(reader, &tables, &grid.files)) == 0 ||
        (alone_in != NULL && !is_just_long_enough(alone_in, &grid, &tables)))
        return FALSE;
    if ((alone_in != NULL || grid.files < FILES_LEAST) &&
        find_place(sightings->places, &grid, &tables, 0) == NULL)
        return FALSE;
    sink(data, compose(reader, sightings->places, &grid, &tables));
    return TRUE;
}

static gboolean try_pair(EkReader *reader, const EkSightings *sightings, guint i, EkVolumeSink sink,
                         void *data)
{
    const EkRecordRun *one = &g_array_index(sightings->runs, EkRecordRun, i);
    for (guint k = i + 1; k < sightings->runs->len && k < i + NEIGHBOURS; k++) {
        const EkRecordRun *two = &g_array_index(sightings->runs, EkRecordRun, k);
        EkByte apart = two->first_byte - one->first_byte;
        if (two->stride == one->stride && apart % EK_STEP == 0 && apart <= FAT_MOST &&
            try_tables(reader, sightings,
                       (Tables){(EkFatBits)one->stride, one->first_byte, apart, 0}, NULL, sink,
                       data))
            return TRUE;
    }
    return FALSE;
}

/* Does a file's entry begin here? */
static gboolean is_entry(EkReader *reader, EkByte at)
{
    guint8 entry[EK_FAT_ENTRY_BYTES];
    EkFatBoot boot = {.bits = EK_FAT16, .clusters = 65524, .cluster_bytes = EK_STEP};
    return ek_presence_read(reader, at, entry, sizeof entry) == EK_PRESENT &&
           ek_fat_count_sound((EkSpan){entry, sizeof entry}, &boot) > 0;
}

/* Tries one place of the FATs; what is tried is taken from *tries. */
static gboolean try_place(EkReader *reader, const EkSightings *sightings, const EkRange *place,
                          const Tables *tables, guint *tries, EkVolumeSink sink, void *data)
{
    *tries -= MIN(*tries, 1);
    if (!is_entry(reader, tables->first + 2 * tables->bytes))
        return FALSE;
    *tries -= MIN(*tries, COST_OF_CHAINS);
    return try_tables(reader, sightings, *tables, place, sink, data);
}

/* One FAT of two: the other one's place is tried, each sector in which it can begin. */
static gboolean try_alone(EkReader *reader, const EkSightings *sightings, guint i, guint *tries,
                          EkVolumeSink sink, void *data)
{
    const EkRecordRun *run = &g_array_index(sightings->runs, EkRecordRun, i);
    EkFatBits bits = (EkFatBits)run->stride;
    const EkByte reserved = RESERVED_MOST * EK_STEP;
    for (guint k = 0; k < sightings->places->len; k++) {
        const EkRange *place = &g_array_index(sightings->places, EkRange, k);
        EkByte before = run->first_byte - place->first;
        if (run->first_byte <= place->first || run->first_byte >= ek_range_end(*place) ||
            before % EK_STEP != 0 || before > FAT_MOST + reserved)
            continue;
        for (EkByte apart = EK_STEP; apart <= FAT_MOST && *tries > 0; apart += EK_STEP) {
            Tables as_first = {bits, run->first_byte, apart, 0};
            Tables as_second = {bits, run->first_byte - apart, apart, 0};
            if (before <= reserved &&
                try_place(reader, sightings, place, &as_first, tries, sink, data))
                return TRUE;
            if (apart < before && before - apart <= reserved &&
                try_place(reader, sightings, place, &as_second, tries, sink, data))
                return TRUE;
        }
    }
    return FALSE;
}

/* A FAT12 or FAT16 without folders that name their cluster. */
static void infer_by_fats(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                          void *data)
{
    guint volumes = 0;
    guint tries = TRIES_MOST;
    for (guint i = 0; i < sightings->runs->len && volumes < VOLUMES_MOST; i++) {
        const EkRecordRun *run = &g_array_index(sightings->runs, EkRecordRun, i);
        if ((run->stride == EK_FAT_SEEN_12 || run->stride == EK_FAT_SEEN_16) &&
            (try_pair(reader, sightings, i, sink, data) ||
             try_alone(reader, sightings, i, &tries, sink, data)))
            volumes++;
    }
}

/* The next folders that no volume has taken yet, from `*from` on. */
static GArray *next_folders(const GArray *all, guint *from)
{
    GArray *some = g_array_new(FALSE, FALSE, sizeof(Folder));
    while (*from < all->len && some->len < FOLDERS_MOST) {
        const Folder *folder = &g_array_index(all, Folder, (*from)++);
        if (!folder->taken)
            g_array_append_vals(some, folder, 1);
    }
    return some;
}

static void take_folders(GArray *folders, const Grid *grid)
{
    for (guint i = 0; i < folders->len; i++) {
        Folder *folder = &g_array_index(folders, Folder, i);
        folder->taken = folder->taken || is_on(grid, folder);
    }
}

gboolean ek_fat_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error)
{
    const GArray *runs = sightings->runs;
    (void)error;
    g_autoptr(GArray) folders = g_array_new(FALSE, FALSE, sizeof(Folder));
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        Folder folder = {run->first_byte, (guint32)run->first_record, FALSE};
        if (run->stride == EK_FAT_SEEN_FOLDER)
            g_array_append_val(folders, folder);
    }
    /* In groups, each beginning in the middle of the one before: a volume's lie together. */
    guint volumes = 0;
    for (guint from = 0, groups = 0; from < folders->len && groups < GROUPS_MOST; groups++) {
        guint end = from;
        g_autoptr(GArray) some = next_folders(folders, &end);
        Grid grid = find_grid(some);
        Tables tables;
        if (grid.agreeing < LEAST_AGREEING) {
            from = end < folders->len ? from + (end - from) / 2 + 1 : end;
            continue;
        }
        take_folders(folders, &grid);
        if (volumes < VOLUMES_MOST && find_tables(reader, runs, &grid, &tables)) {
            sink(data, compose(reader, sightings->places, &grid, &tables));
            volumes++;
        }
    }
    infer_by_fats(reader, sightings, sink, data);
    return TRUE;
}

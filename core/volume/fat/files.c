/* SPDX-License-Identifier: MIT */
/* Folders and files of a FAT volume: entries of 32 bytes, long names in front of the short one they
 * belong to, content in chains of clusters. Times are in the clock of whoever wrote them. A deleted
 * entry keeps all but its first letter; its chain is gone, so that its content is taken to lie in
 * one piece. What it distrusts: chains (which may lead in circles, out of the volume or through
 * sectors that were not read), sizes, names. */
#include "base/text.h"
#include "volume/fat/longname.h"
#include "volume/fat/lost.h"
#include "volume/headers.h"

#define MAX_FOLDER_BYTES (2u << 20) /* by the specification: 65 536 entries */
#define ROOT_BYTES (32u * EK_STEP)  /* of the root folder of a FAT12 or FAT16, as makers give it */
#define STEPS_MORE 65536u           /* along chains, than eight for each cluster */
#define WINDOW_MOST (16u << 20)     /* of each FAT, while all files are walked */

struct EkOpened {
    EkReader *reader;
    EkFatBoot boot;
    EkByte first_byte;
    EkLinkTable links;
    gboolean is_earlier; /* its FATs and its root are gone: others stand there */
};

EkOpened *ek_fat_open(EkReader *reader, const EkVolume *volume, GError **error)
{
    EkFatBoot boot;
    if (!ek_fat_boot_read(ek_volume_header(volume), &boot)) {
        ek_error_set(error, EK_ERROR_DAMAGED, "the saved boot sector is invalid");
        return NULL;
    }
    EkOpened *opened = g_new0(EkOpened, 1);
    opened->reader = reader;
    opened->boot = boot;
    opened->first_byte = volume->first_byte;
    opened->is_earlier = volume->is_earlier;
    EkLinkPlaces places = ek_fat_links(&boot, volume->first_byte);
    gsize window = (gsize)ek_divide_up(boot.fat_bytes, EK_FAT_WINDOW) * EK_FAT_WINDOW;
    ek_links_init(&opened->links, reader, &places, MIN(window, WINDOW_MOST));
    return opened;
}

void ek_fat_close(EkOpened *opened)
{
    ek_links_clear(&opened->links);
    g_free(opened);
}

EkLinkTable *ek_fat_links_of(EkOpened *opened)
{
    return &opened->links;
}

guint64 ek_fat_root(EkOpened *opened)
{
    (void)opened;
    return 0; /* of the boot sector, where no entry is */
}

/* --- the walk ------------------------------------------------------------------------------- */

/* A folder whose entries are still to come. */
typedef struct {
    guint32 cluster; /* 0: the root of FAT12 and FAT16 */
    guint64 number;
    gboolean is_deleted;
    gboolean is_part; /* a cluster of entries that does not begin a folder */
    guint32 follows;  /* of a part: the cluster that a name goes on from; 0: none */
} Folder;

typedef struct {
    EkOpened *opened;
    const EkFileSink *sink; /* for what is at hand: one of the next two */
    const EkFileSink *real;
    EkFileSink muted;
    guint64 from;          /* folders that were walked before */
    GArray *folders;       /* Folder: a stack */
    EkClusterBitmap taken; /* of folders */
    EkClusterBitmap files; /* clusters of files */
    guint64 done;          /* folders */
    guint64 seen;
    EkFatSearch search;
    GArray *lost;        /* EkFatLost: folders that nothing leads to; NULL: not sought yet */
    GHashTable *numbers; /* of folders that were free, by their first cluster */
    guint64 steps;       /* along chains that are left: a hostile volume has no end of them */
    gboolean stopped;
    GString *name;
    /* Of the folder that is being read: */
    Folder folder;
    EkFolderDamage damage;
    EkFatLongName long_name;
    EkLink link;  /* the last one of the chain that was walked last */
    guint32 last; /* the cluster that it is of */
    gboolean ended;
} Walk;

static void enter_later(Walk *walk, guint32 cluster, guint64 number, gboolean is_deleted)
{
    Folder folder = {cluster, number, is_deleted, FALSE, 0};
    if (!ek_fat_cluster_exists(&walk->opened->boot, cluster))
        return;
    if (!ek_cluster_bitmap_add(&walk->taken, cluster)) {
        EkFolderDamage circle = {.cut_short = TRUE};
        if (!is_deleted)
            walk->stopped |= !walk->sink->damage(walk->sink->data, number, &circle);
        return;
    }
    walk->seen++;
    g_array_append_val(walk->folders, folder);
}

/* --- content -------------------------------------------------------------------------------- */

typedef gboolean (*RunSink)(Walk *walk, guint64 file, const EkExtent *run);

static gboolean pass_run(Walk *walk, guint64 file, const EkExtent *run)
{
    walk->stopped |= !walk->sink->extent(walk->sink->data, file, run);
    return !walk->stopped;
}

/* Walks a chain cluster by cluster and hands over runs. `bytes` is how much the walker wants; the
 * walk ends there, or where the chain does. Returns how many bytes were placed. */
static EkByte walk_chain(Walk *walk, guint32 cluster, const EkLinkWay *way, EkByte bytes,
                         RunSink sink, guint64 file)
{
    EkOpened *opened = walk->opened;
    guint32 size = opened->boot.cluster_bytes;
    guint64 left = MIN(way->most, walk->steps);
    EkLink link = EK_LINK_UNKNOWN;
    guint32 last = cluster;
    EkByte done = 0;
    while (done < bytes && ek_fat_cluster_exists(&opened->boot, cluster) && left > 0) {
        EkExtent run = {.offset = done,
                        .first_byte =
                            ek_fat_cluster_byte(&opened->boot, opened->first_byte, cluster)};
        for (gboolean goes_on = TRUE; goes_on && done + run.bytes < bytes && left > 0;) {
            run.bytes += size;
            walk->steps--;
            left--;
            if (sink == pass_run)
                ek_cluster_bitmap_add(&walk->files, cluster);
            guint32 next =
                ek_links_step(&opened->links, way, &walk->files, &walk->taken, cluster, &link);
            last = cluster;
            goes_on = next == cluster + 1 && ek_fat_cluster_exists(&opened->boot, next);
            cluster = next;
        }
        run.bytes = run.stored = MIN(run.bytes, bytes - done);
        done += run.bytes;
        if (!sink(walk, file, &run))
            break;
    }
    /* The sink may have walked other chains. */
    walk->link = link;
    walk->last = last;
    return done;
}

/* How a file's chain is walked; where the FAT does not prove it, the file is a guess. */
static EkLinkWay find_way(Walk *walk, EkFile *file)
{
    EkOpened *opened = walk->opened;
    guint64 wanted = ek_divide_up(file->size, opened->boot.cluster_bytes);
    EkLinkWay way = {EK_LINK_JUDGED, 0, FALSE};
    gboolean is_proved = FALSE;
    if (wanted > 0 && ek_fat_cluster_exists(&opened->boot, (guint32)file->place) &&
        ek_links_find_way(&opened->links, (guint32)file->place, wanted, wanted, &walk->steps, &way,
                          &is_proved) &&
        !is_proved)
        file->flags |= EK_FILE_GUESSED;
    return way;
}

/* Of an earlier volume a FAT may be left in part: a chain that is as long as its file is one. */
static gboolean find_old_chain(Walk *walk, const EkFile *file, EkLinkWay *way)
{
    EkOpened *opened = walk->opened;
    guint64 wanted = ek_divide_up(file->size, opened->boot.cluster_bytes);
    gboolean is_proved = FALSE;
    return wanted > 1 && ek_fat_cluster_exists(&opened->boot, (guint32)file->place) &&
           ek_links_find_way(&opened->links, (guint32)file->place, wanted, wanted, &walk->steps,
                             way, &is_proved) &&
           is_proved;
}

/* `way` NULL: its chain is gone. */
static void pass_content(Walk *walk, const EkFile *file, const EkLinkWay *way)
{
    const EkFatBoot *boot = &walk->opened->boot;
    guint32 cluster = (guint32)file->place;
    EkByte placed = 0;
    if (way != NULL) {
        placed = walk_chain(walk, cluster, way, file->size, pass_run, file->number);
    } else if (ek_fat_cluster_exists(boot, cluster)) {
        EkByte room = (EkByte)(boot->clusters - (cluster - 2)) * boot->cluster_bytes;
        placed = MIN(file->size, room);
        EkExtent run = {.bytes = placed,
                        .first_byte = ek_fat_cluster_byte(boot, walk->opened->first_byte, cluster),
                        .stored = placed};
        pass_run(walk, file->number, &run);
    }
    if (placed < file->size && !walk->stopped) {
        EkExtent rest = {placed, file->size - placed, EK_UNPLACED, 0, FALSE, FALSE, 0};
        pass_run(walk, file->number, &rest);
    }
}

/* --- entries -------------------------------------------------------------------------------- */

static gboolean leads_somewhere(const EkFatBoot *boot, guint32 cluster, guint32 bytes)
{
    return ek_fat_cluster_exists(boot, cluster) &&
           bytes <= (guint64)boot->clusters * boot->cluster_bytes;
}

/* A day that there is not: no entry that anyone wrote. Where it leads nowhere it is none at all. */
static gboolean is_odd(const EkFatEntry *entry)
{
    return !ek_fat_entry_written(entry).is_set &&
           (entry->written_date != 0 || entry->attributes == 0);
}

/* What is a folder's own, its label and the like, is none of its files. */
static EkFile file_of(const Walk *walk, const EkFatEntry *entry, EkByte place)
{
    gboolean is_earlier = walk->opened->is_earlier;
    gboolean is_deleted = entry->is_deleted || (walk->folder.is_deleted && !is_earlier);
    gboolean is_guessed = is_deleted || is_earlier || is_odd(entry);
    return (EkFile){
        .number = (place - walk->opened->first_byte) / EK_FAT_ENTRY_BYTES,
        .type = entry->is_folder ? EK_TYPE_FOLDER : EK_TYPE_FILE,
        .flags = (is_deleted ? EK_FILE_DELETED : 0) | (is_guessed ? EK_FILE_GUESSED : 0),
        .size = entry->is_folder ? 0 : entry->size,
        .attributes = entry->attributes,
        .created = ek_timestamp_dos(entry->created_date, entry->created_time),
        .modified = ek_fat_entry_written(entry),
        .accessed = ek_timestamp_dos(entry->read_date, 0),
        .place = ek_fat_entry_cluster(entry, walk->opened->boot.bits),
    };
}

static void take_short_entry(Walk *walk, const EkFatEntry *entry, EkByte place)
{
    guint8 short_name[EK_FAT_NAME_BYTES];
    memcpy(short_name, entry->name, sizeof short_name);
    if (entry->is_deleted)
        short_name[0] = EK_FAT_LOST_LETTER;
    EkFile file = file_of(walk, entry, place);
    EkFileName name = {
        .file = file.number, .parent = walk->folder.number, .is_deleted = entry->is_deleted};
    gboolean escaped = FALSE;
    g_string_truncate(walk->name, 0);
    EkSpan raw = {NULL, 0};
    gboolean has_long =
        ek_fat_long_gather(&walk->long_name, short_name, entry->is_deleted, walk->name, &raw);
    name.bytes = raw.data;
    name.length = raw.length;
    if (entry->is_label || ek_fat_entry_is_dot(entry) || ek_fat_entry_is_dot_dot(entry) ||
        (is_odd(entry) && !leads_somewhere(&walk->opened->boot, (guint32)file.place, entry->size)))
        return;
    if (!has_long) {
        if (entry->is_deleted)
            short_name[0] = EK_FAT_LOST_LETTER;
        g_autofree char *text = ek_fat_short_name(short_name, entry->case_flags, &escaped);
        g_string_assign(walk->name, text);
        if (escaped) {
            name.bytes = short_name;
            name.length = sizeof short_name;
        }
    }
    name.text = walk->name->str;
    EkLinkWay way = {EK_LINK_JUDGED, 0, FALSE};
    gboolean is_there = (file.flags & EK_FILE_DELETED) == 0;
    gboolean is_chained = is_there && !walk->opened->is_earlier;
    if (file.type == EK_TYPE_FILE && is_chained)
        way = find_way(walk, &file);
    gboolean has_way =
        is_chained || (is_there && file.type == EK_TYPE_FILE && find_old_chain(walk, &file, &way));
    walk->stopped |=
        !walk->sink->file(walk->sink->data, &file) || !walk->sink->name(walk->sink->data, &name);
    if (walk->stopped)
        return;
    if (file.type == EK_TYPE_FILE)
        pass_content(walk, &file, has_way ? &way : NULL);
    else
        enter_later(walk, (guint32)file.place, file.number, !is_chained);
}

/* --- folders -------------------------------------------------------------------------------- */

/* Is this what a deleted entry looks like, rather than noise? */
static gboolean is_plausible_deleted(EkSpan entry)
{
    guint8 with_letter[EK_FAT_ENTRY_BYTES];
    memcpy(with_letter, entry.data, sizeof with_letter);
    with_letter[0] = EK_FAT_LOST_LETTER;
    return ek_fat_is_plausible((EkSpan){with_letter, sizeof with_letter});
}

/* The clusters of a run become this folder's. Returns how many bytes do: up to the first that is a
 * folder's already. */
static EkByte claim_run(Walk *walk, const EkExtent *run)
{
    const EkFatBoot *boot = &walk->opened->boot;
    EkByte data = walk->opened->first_byte + boot->data_start;
    guint32 size = boot->cluster_bytes;
    if (run->first_byte < data)
        return run->bytes; /* the root of FAT12 and FAT16 */
    return size * ek_cluster_bitmap_add_run(&walk->taken, (run->first_byte - data) / size + 2,
                                            run->bytes / size, run->offset == 0);
}

static void take_entries(Walk *walk, EkSpan span, EkByte place)
{
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length && !walk->ended && !walk->stopped;
         at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(span, at);
        if (entry.is_end)
            walk->ended = TRUE;
        else if (entry.is_long)
            ek_fat_long_take(&walk->long_name, span, at, &entry);
        else if (!entry.is_deleted ||
                 is_plausible_deleted(ek_span_part(span, at, EK_FAT_ENTRY_BYTES)))
            take_short_entry(walk, &entry, place + at);
        else
            ek_fat_long_forget(&walk->long_name);
    }
}

/* One run of a folder, sector by sector: one that was not read costs its own names only. */
static gboolean take_run(Walk *walk, guint64 folder, const EkExtent *run)
{
    guint32 size = walk->opened->boot.sector_size;
    guint8 sector[4096];
    (void)folder;
    EkByte claimed = claim_run(walk, run);
    for (EkByte at = 0; at < claimed && !walk->ended && !walk->stopped; at += size) {
        gsize length = (gsize)MIN(size, claimed - at);
        EkKnown known;
        if (!ek_reader_read(walk->opened->reader, run->first_byte + at, sector, length, &known,
                            NULL)) {
            walk->damage.cut_short = TRUE;
            continue;
        }
        if (known.good < length) {
            walk->damage.bad_bytes += known.bad;
            walk->damage.unread_bytes += known.unread;
            ek_fat_long_forget(&walk->long_name);
        } else {
            take_entries(walk, (EkSpan){sector, length}, run->first_byte + at);
        }
    }
    if (claimed < run->bytes && !walk->ended)
        walk->damage.cut_short = walk->ended = TRUE;
    return !walk->ended && !walk->stopped;
}

/* A long name may have begun in another cluster. */
static void begin_name(Walk *walk, guint32 cluster)
{
    const EkFatBoot *boot = &walk->opened->boot;
    g_autofree guint8 *data = g_malloc(boot->cluster_bytes);
    EkSpan span = {data, boot->cluster_bytes};
    EkByte place = ek_fat_cluster_byte(boot, walk->opened->first_byte, cluster);
    ek_fat_long_forget(&walk->long_name);
    if (cluster == 0 ||
        ek_presence_read(walk->opened->reader, place, data, span.length) != EK_PRESENT)
        return;
    ek_fat_long_take_all(&walk->long_name, span);
}

/* Entries of a folder whose chain is gone, from a cluster on that is its own: what follows is as
 * long as it is free and looks like more of it. */
static void take_free_clusters(Walk *walk, guint32 first, guint32 owned_by)
{
    const EkFatBoot *boot = &walk->opened->boot;
    g_autofree guint8 *data = g_malloc(boot->cluster_bytes);
    EkSpan span = {data, boot->cluster_bytes};
    guint32 next = 0;
    for (guint32 cluster = first;
         ek_fat_cluster_exists(boot, cluster) && !walk->ended && !walk->stopped; cluster++) {
        EkByte place = ek_fat_cluster_byte(boot, walk->opened->first_byte, cluster);
        if (ek_fat_link_of(&walk->search, cluster, &next) != EK_LINK_FREE ||
            ek_presence_read(walk->opened->reader, place, data, span.length) != EK_PRESENT)
            return;
        if (cluster != first) {
            guint32 owner = ek_fat_owner_of(&walk->search, span);
            if (ek_span_u8(span, 0) == 0 || !ek_fat_is_folder(span) ||
                (owner != EK_FAT_OWNER_UNKNOWN && owner != owned_by) ||
                !ek_cluster_bitmap_add(&walk->taken, cluster))
                return;
        }
        take_entries(walk, span, place);
    }
}

/* The parts of a folder that lie elsewhere, as far as they are known to be its own. */
static void take_parts(Walk *walk, guint32 folder)
{
    const EkFatLost *part = walk->lost != NULL ? ek_fat_lost_at(walk->lost, folder) : NULL;
    guint32 next = part != NULL && !part->is_part ? part->next : 0;
    for (; next != 0 && !walk->stopped; next = part->next) {
        part = ek_fat_lost_at(walk->lost, next);
        if (!ek_cluster_bitmap_add(&walk->taken, next))
            continue;
        begin_name(walk, part->follows);
        walk->ended = FALSE;
        take_free_clusters(walk, next, folder);
    }
}

/* A deleted folder's chain is gone: its first cluster is its own when that says so itself. */
static void take_deleted_folder(Walk *walk)
{
    const EkFatBoot *boot = &walk->opened->boot;
    guint8 start[EK_STEP];
    EkSpan span = {start, sizeof start};
    EkFatEntry self;
    EkFatEntry parent;
    guint32 cluster = walk->folder.cluster;
    EkByte place = ek_fat_cluster_byte(boot, walk->opened->first_byte, cluster);
    if (walk->folder.is_part) {
        begin_name(walk, walk->folder.follows);
        take_free_clusters(walk, cluster, EK_FAT_OWNER_UNKNOWN);
        return;
    }
    if (ek_presence_read(walk->opened->reader, place, start, sizeof start) != EK_PRESENT ||
        !ek_fat_begins_folder(span, &self, &parent) ||
        ek_fat_entry_cluster(&self, boot->bits) != cluster)
        return;
    g_hash_table_insert(walk->numbers, GUINT_TO_POINTER(cluster),
                        g_memdup2(&walk->folder.number, sizeof walk->folder.number));
    take_free_clusters(walk, cluster, cluster);
    take_parts(walk, cluster);
}

/* Does what stands in a cluster go on with entries? */
static gboolean goes_on_with_entries(Walk *walk, guint32 cluster)
{
    const EkFatBoot *boot = &walk->opened->boot;
    guint8 start[EK_STEP];
    EkSpan span = {start, sizeof start};
    guint plausible = 0;
    EkByte at = ek_fat_cluster_byte(boot, walk->opened->first_byte, cluster);
    return ek_fat_cluster_exists(boot, cluster) && !ek_cluster_bitmap_has(&walk->files, cluster) &&
           ek_presence_read(walk->opened->reader, at, start, sizeof start) == EK_PRESENT &&
           start[0] != '.' && ek_fat_count_entries(span, &plausible) > 0 && ek_fat_is_folder(span);
}

/* Where a folder goes on behind a cluster in which its entries do not end, and the FAT does not
 * lead on: where the other copy leads, or in the next cluster, if entries go on there. 0: nowhere.
 */
static guint32 find_more(Walk *walk, guint32 cluster)
{
    EkLinkTable *links = &walk->opened->links;
    for (int copy = 0; copy < (int)links->places.copies && links->differs; copy++) {
        guint32 next = 0;
        if (ek_links_of(links, copy, cluster, &next) == EK_LINK_NEXT &&
            goes_on_with_entries(walk, next))
            return next;
    }
    return walk->link != EK_LINK_END && goes_on_with_entries(walk, cluster + 1) ? cluster + 1 : 0;
}

static void take_chain(Walk *walk)
{
    EkLinkWay way = {EK_LINK_JUDGED, MAX_FOLDER_BYTES / walk->opened->boot.cluster_bytes, FALSE};
    guint32 cluster = walk->folder.cluster;
    EkByte seen = 0;
    while (cluster != 0) {
        EkByte more =
            walk_chain(walk, cluster, &way, MAX_FOLDER_BYTES - seen, take_run, walk->folder.number);
        seen += more;
        if (walk->ended || walk->stopped || seen >= MAX_FOLDER_BYTES || more == 0)
            break;
        cluster = find_more(walk, walk->last);
        if (cluster != 0 && !ek_cluster_bitmap_add(&walk->taken, cluster))
            cluster = 0;
    }
    /* A chain that ends without an end mark in the entries is whole when the FAT says so. */
    walk->damage.cut_short |= seen == 0 || (!walk->ended && !walk->stopped &&
                                            seen < MAX_FOLDER_BYTES && walk->link != EK_LINK_END);
}

static void take_folder(Walk *walk)
{
    const EkFatBoot *boot = &walk->opened->boot;
    walk->damage = (EkFolderDamage){0};
    ek_fat_long_forget(&walk->long_name);
    walk->ended = FALSE;
    if (walk->folder.is_deleted) {
        take_deleted_folder(walk);
        return;
    }
    if (walk->folder.cluster == 0) {
        EkExtent root = {.bytes = boot->root_bytes,
                         .first_byte = walk->opened->first_byte + boot->root_start};
        take_run(walk, walk->folder.number, &root);
    } else {
        if (walk->folder.is_part)
            begin_name(walk, walk->folder.follows);
        take_chain(walk);
    }
    if (walk->damage.bad_bytes + walk->damage.unread_bytes > 0 || walk->damage.cut_short)
        walk->stopped |= !walk->sink->damage(walk->sink->data, walk->folder.number, &walk->damage);
}

/* Which folders there are is found again each time; what is in them was handed on before. */
static void choose_sink(Walk *walk)
{
    walk->sink = walk->done < walk->from ? &walk->muted : walk->real;
}

static void take_folders(Walk *walk)
{
    while (walk->folders->len > 0 && !walk->stopped) {
        choose_sink(walk);
        walk->folder = g_array_index(walk->folders, Folder, walk->folders->len - 1);
        g_array_set_size(walk->folders, walk->folders->len - 1);
        take_folder(walk);
        walk->done++;
        if (!walk->stopped)
            walk->stopped = !walk->sink->mark(walk->sink->data, walk->done, walk->done, walk->seen);
    }
}

/* --- folders that nothing leads to ---------------------------------------------------------- */

/* Nothing of the walk is further on while it is searched. */
static gboolean mark_search(void *data)
{
    Walk *walk = data;
    walk->stopped = walk->stopped || !walk->sink->mark(walk->sink->data, 0, walk->done, walk->seen);
    return !walk->stopped;
}

/* The number of a folder by its first cluster, where it is known; 0 is the root. */
static gboolean number_of(Walk *walk, guint32 cluster, guint64 *number)
{
    const EkFatBoot *boot = &walk->opened->boot;
    const EkFatLost *lost = ek_fat_lost_at(walk->lost, cluster);
    const guint64 *known = g_hash_table_lookup(walk->numbers, GUINT_TO_POINTER(cluster));
    gboolean is_root = cluster == 0 || (boot->bits == EK_FAT32 && cluster == boot->root_cluster &&
                                        !walk->opened->is_earlier);
    *number = 0;
    if (!is_root && known != NULL)
        *number = *known;
    else if (!is_root && lost != NULL)
        *number = (lost->place - walk->opened->first_byte) / EK_FAT_ENTRY_BYTES;
    return is_root || known != NULL || lost != NULL;
}

/* It says itself which folder it was in. */
static gboolean pass_made_name(Walk *walk, const EkFatLost *lost, guint64 number)
{
    EkFileName name = {.file = number, .is_made = TRUE};
    if (!number_of(walk, lost->parent, &name.parent) || lost->parent == lost->cluster)
        return TRUE;
    ek_name_made(walk->name, number);
    name.text = walk->name->str;
    return walk->sink->name(walk->sink->data, &name);
}

static void take_lost(Walk *walk, const EkFatLost *lost)
{
    Folder part = {lost->cluster, 0, lost->is_free, TRUE, lost->follows};
    EkFile file = {
        .number = (lost->place - walk->opened->first_byte) / EK_FAT_ENTRY_BYTES,
        .type = EK_TYPE_FOLDER,
        .modified = lost->modified,
        .flags = lost->is_free && !walk->opened->is_earlier ? EK_FILE_DELETED : 0,
        .attributes = EK_FAT_IS_FOLDER,
        .place = lost->cluster,
    };
    if (walk->stopped || ek_cluster_bitmap_has(&walk->taken, lost->cluster))
        return;
    choose_sink(walk);
    /* What is the root's is known to be; or whose else. */
    if (!lost->is_part || !number_of(walk, lost->parent, &part.number))
        part.number = file.number;
    if (!lost->is_part || part.number == file.number)
        walk->stopped = !walk->sink->file(walk->sink->data, &file);
    if (!lost->is_part && !walk->stopped)
        walk->stopped = !pass_made_name(walk, lost, file.number);
    if (!lost->is_part) {
        enter_later(walk, lost->cluster, file.number, lost->is_free);
    } else if (ek_cluster_bitmap_add(&walk->taken, lost->cluster)) {
        walk->seen++;
        g_array_append_val(walk->folders, part);
    }
    take_folders(walk);
}

/* Those first that are in use; of the others what has names for folders comes before these, and
 * a folder that is there takes its own parts. */
static guint turn_of(const GArray *all, const EkFatLost *lost)
{
    const EkFatLost *above = ek_fat_lost_at(all, lost->parent);
    gboolean is_led = above != NULL && lost->parent != lost->cluster;
    if (!lost->is_free && !lost->is_part)
        return is_led ? 1 : 0;
    if (lost->is_part)
        return is_led && !above->is_part ? 5 : 2;
    return is_led ? 4 : 3;
}

/* First those that no other lost one leads to: the rest comes in its place below them. */
static void take_all_lost(Walk *walk)
{
    g_autoptr(GArray) all = ek_fat_find_lost(&walk->search);
    walk->lost = all;
    for (guint pass = 0; pass < 6; pass++)
        for (guint i = 0; i < all->len; i++) {
            const EkFatLost *lost = &g_array_index(all, EkFatLost, i);
            if (turn_of(all, lost) == pass)
                take_lost(walk, lost);
        }
    walk->lost = NULL;
}

#define ROOT_STEPS (ROOT_BYTES / EK_STEP)

/* Which steps of it hold entries of the root folder: those that say so, and what entries stand
 * right before and behind them, as a long name may go over several. */
static void find_root_steps(const Walk *walk, EkSpan root, gboolean is_its[ROOT_STEPS])
{
    gboolean is_part[ROOT_STEPS];
    for (guint i = 0; i < ROOT_STEPS; i++) {
        EkSpan step = ek_span_part(root, (gsize)i * EK_STEP, EK_STEP);
        guint32 owner = EK_FAT_OWNER_UNKNOWN;
        is_part[i] = ek_fat_is_part_of_folder(&walk->search, step);
        if (is_part[i])
            owner = ek_fat_owner_of(&walk->search, step);
        is_its[i] = is_part[i] && owner == 0;
        is_part[i] = is_part[i] && owner == EK_FAT_OWNER_UNKNOWN;
    }
    for (guint i = 1; i < ROOT_STEPS; i++)
        is_its[i] = is_its[i] || (is_part[i] && is_its[i - 1]);
    for (guint i = ROOT_STEPS - 1; i > 0; i--)
        is_its[i - 1] = is_its[i - 1] || (is_part[i - 1] && is_its[i]);
}

/* The root folder of a FAT12 or FAT16 stood right before the first cluster: it is taken where
 * entries still do. */
static void take_old_root(Walk *walk)
{
    guint8 root[ROOT_BYTES];
    gboolean is_its[ROOT_STEPS];
    EkByte end = walk->opened->first_byte + walk->opened->boot.data_start;
    EkByte first = end - MIN(end, sizeof root);
    EkSpan span = {root, sizeof root};
    if (end < sizeof root ||
        ek_presence_read(walk->opened->reader, first, root, sizeof root) != EK_PRESENT)
        return;
    walk->folder = (Folder){0, 0, TRUE, TRUE, 0};
    find_root_steps(walk, span, is_its);
    for (guint i = 0; i < ROOT_STEPS && !walk->stopped; i++) {
        walk->ended = FALSE;
        if (is_its[i])
            take_entries(walk, ek_span_part(span, (gsize)i * EK_STEP, EK_STEP),
                         first + (EkByte)i * EK_STEP);
        else
            ek_fat_long_forget(&walk->long_name);
    }
    take_folders(walk);
}

gboolean ek_fat_walk(EkOpened *opened, guint64 from, const EkFileSink *sink)
{
    const EkFatBoot *boot = &opened->boot;
    /* A volume may claim more clusters than there are bytes. */
    guint64 there = MIN(boot->clusters, ek_reader_bytes(opened->reader) / boot->cluster_bytes) + 2;
    g_autoptr(GArray) folders = g_array_new(FALSE, FALSE, sizeof(Folder));
    g_autoptr(GString) name = g_string_new(NULL);
    g_autoptr(GHashTable) numbers =
        g_hash_table_new_full(g_direct_hash, g_direct_equal, NULL, g_free);
    Walk walk = {.opened = opened,
                 .numbers = numbers,
                 .sink = sink,
                 .real = sink,
                 .muted = ek_file_sink_muted(sink),
                 .from = from,
                 .folders = folders,
                 .taken = ek_cluster_bitmap_new(there),
                 .files = ek_cluster_bitmap_new(there),
                 .steps = there * 8 + STEPS_MORE,
                 .name = name};
    walk.search = (EkFatSearch){.reader = opened->reader,
                                .boot = boot,
                                .first_byte = opened->first_byte,
                                .links = &opened->links,
                                .is_earlier = opened->is_earlier,
                                .taken = &walk.taken,
                                .files = &walk.files,
                                .mark = mark_search,
                                .data = &walk};
    Folder root = {boot->bits == EK_FAT32 ? boot->root_cluster : 0, 0, FALSE, FALSE, 0};
    choose_sink(&walk);
    if (opened->is_earlier) {
        EkFolderDamage gone = {.cut_short = TRUE};
        walk.stopped = from == 0 && !sink->damage(sink->data, 0, &gone);
        take_old_root(&walk);
    } else if (root.cluster != 0) {
        enter_later(&walk, root.cluster, 0, FALSE);
    } else {
        g_array_append_val(folders, root);
        walk.seen++;
    }
    take_folders(&walk);
    if (!walk.stopped)
        take_all_lost(&walk);
    ek_cluster_bitmap_clear(&walk.taken);
    ek_cluster_bitmap_clear(&walk.files);
    return !walk.stopped;
}

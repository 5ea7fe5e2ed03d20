/* SPDX-License-Identifier: MIT */
/* Folders and files of an exFAT volume: sets of entries of 32 bytes, each with a sum over all of
 * it; content in one piece, or in a chain of clusters. A deleted set has lost one bit of each
 * entry, and its chain is mostly left. Structures as in the published exFAT specification. What it
 * distrusts: chains, lengths, counts, names. */
#include "volume/exfat/lost.h"

#include <string.h>

#define NAME_UNITS 15u
#define ATTRIBUTE_FOLDER 0x10u
#define WINDOW_BYTES (1u << 20)
#define FOLDER_BYTES_MOST ((EkByte)256 << 20) /* by the specification */
#define QUARTER_HOUR 900
#define STEPS_MORE 65536u /* along chains, than eight for each cluster */

struct EkOpened {
    EkReader *reader;
    EkExfatBoot boot;
    EkByte first_byte;
    EkLinkTable links;
    gboolean has_earlier; /* what lies free is that one's */
    gboolean is_earlier;  /* what newer volumes left of it: only what its sums prove is taken */
    gboolean has_root;    /* FALSE: another's data is where its root folder was */
};

static gboolean root_stands(EkReader *reader, const EkExfatBoot *boot, EkByte first_byte)
{
    guint8 start[EK_STEP];
    EkExfatRoot root;
    EkByte at = ek_exfat_cluster_byte(boot, first_byte, boot->root_cluster);
    return ek_presence_read(reader, at, start, sizeof start) == EK_PRESENT &&
           ek_exfat_root_read((EkSpan){start, sizeof start}, at, &root);
}

EkOpened *ek_exfat_open(EkReader *reader, const EkVolume *volume, GError **error)
{
    EkExfatBoot boot;
    if (!ek_exfat_boot_read(ek_volume_header(volume), &boot)) {
        ek_error_set(error, EK_ERROR_DAMAGED, "the saved boot sector is invalid");
        return NULL;
    }
    EkOpened *opened = g_new0(EkOpened, 1);
    opened->reader = reader;
    opened->boot = boot;
    opened->first_byte = volume->first_byte;
    EkLinkPlaces places = ek_exfat_links(&boot, volume->first_byte);
    opened->is_earlier = volume->is_earlier;
    opened->has_earlier = volume->has_earlier;
    opened->has_root = !volume->is_earlier || root_stands(reader, &boot, volume->first_byte);
    if (opened->is_earlier && boot.fats == 0)
        places.copies = 0;
    ek_links_init(&opened->links, reader, &places, WINDOW_BYTES);
    return opened;
}

void ek_exfat_close(EkOpened *opened)
{
    ek_links_clear(&opened->links);
    g_free(opened);
}

guint64 ek_exfat_root_number(EkOpened *opened)
{
    (void)opened;
    return 0; /* of the boot sector, where no entry is */
}

static gboolean cluster_exists(const EkOpened *opened, guint32 cluster)
{
    return ek_exfat_cluster_exists(&opened->boot, cluster);
}

static EkByte place_of(const EkOpened *opened, guint32 cluster)
{
    return ek_exfat_cluster_byte(&opened->boot, opened->first_byte, cluster);
}

/* --- the walk ------------------------------------------------------------------------------- */

/* Content: where it begins, and whether the FAT tells how it goes on. */
typedef struct {
    guint32 cluster;
    gboolean one_piece;
    EkByte bytes;
    EkLinkWay way;
} Content;

typedef struct {
    Content content;
    guint64 number;
    gboolean is_deleted;
    gboolean is_guessed; /* nothing proves that it is one of this volume */
    gboolean is_open;    /* it is not told how long it is */
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
    GArray *bitmap;        /* EkExtent: where the bitmap of clusters in use lies */
    EkExfatSearch search;  /* for folders that nothing leads to */
    guint64 done;          /* folders */
    guint64 seen;
    guint64 steps; /* along chains that are left */
    gboolean stopped;
    GString *name;
    /* Of the folder that is being read: */
    Folder folder;
    EkFolderDamage damage;
    guint8 set[EK_EXFAT_SET_MOST * EK_EXFAT_ENTRY_BYTES];
    guint entries; /* of the set so far; 0: none is open */
    guint wanted;
    EkByte place; /* of its first entry */
    gboolean ended;
} Walk;

typedef gboolean (*RunSink)(Walk *walk, guint64 file, const EkExtent *run);

static gboolean pass_run(Walk *walk, guint64 file, const EkExtent *run)
{
    walk->stopped |= !walk->sink->extent(walk->sink->data, file, run);
    return !walk->stopped;
}

/* The same of a deleted file, which owns no region. */
static gboolean pass_gone_run(Walk *walk, guint64 file, const EkExtent *run)
{
    return pass_run(walk, file, run);
}

static void claim_files(Walk *walk, const EkExtent *run)
{
    guint32 size = walk->opened->boot.cluster_bytes;
    guint64 first = (run->first_byte - place_of(walk->opened, 2)) / size + 2;
    for (guint64 i = 0; i < ek_divide_up(run->bytes, size); i++)
        ek_cluster_bitmap_add(&walk->files, first + i);
}

/* How a file's chain is walked; where the FAT does not prove it, the file is a guess. `written`:
 * what of the file lies in clusters. */
static void find_way(Walk *walk, EkFile *file, Content *written)
{
    guint32 size = walk->opened->boot.cluster_bytes;
    guint64 wanted = ek_divide_up(written->bytes, size);
    gboolean is_proved = FALSE;
    if (written->one_piece || wanted == 0 || !cluster_exists(walk->opened, written->cluster))
        return;
    if (!ek_links_find_way(&walk->opened->links, written->cluster, wanted,
                           ek_divide_up(file->size, size), &walk->steps, &written->way, &is_proved))
        written->cluster = 0; /* more steps than any volume needs: nothing is placed */
    else if (!is_proved)
        file->flags |= EK_FILE_GUESSED;
}

/* Hands over runs until `content` is covered or the chain ends; returns how many bytes were placed.
 */
static EkByte walk_content(Walk *walk, const Content *content, RunSink sink, guint64 file)
{
    EkOpened *opened = walk->opened;
    guint32 size = opened->boot.cluster_bytes;
    guint32 cluster = content->cluster;
    guint64 left = content->way.most;
    EkLink link = EK_LINK_UNKNOWN;
    EkByte done = 0;
    while (done < content->bytes && cluster_exists(opened, cluster) && walk->steps > 0) {
        EkExtent run = {.offset = done, .first_byte = place_of(opened, cluster)};
        guint64 room = opened->boot.clusters - (cluster - 2);
        if (content->one_piece) {
            run.bytes = MIN(content->bytes - done, room * size);
            cluster = 0;
        } else {
            for (gboolean goes_on = TRUE; goes_on && done + run.bytes < content->bytes;) {
                run.bytes += size;
                walk->steps -= MIN(walk->steps, 1);
                guint32 next = ek_links_step(&opened->links, &content->way, &walk->files,
                                             &walk->taken, cluster, &link);
                left -= MIN(left, 1);
                goes_on = next == cluster + 1 && walk->steps > 0 && left > 0 &&
                          cluster_exists(opened, next);
                cluster = left > 0 ? next : 0;
            }
            run.bytes = MIN(run.bytes, content->bytes - done);
        }
        run.stored = run.bytes;
        done += run.bytes;
        if (sink == pass_run)
            claim_files(walk, &run);
        if (!sink(walk, file, &run))
            break;
    }
    return done;
}

/* `flags` are the file's: EK_FILE_DELETED, EK_FILE_GUESSED. */
static void enter_later(Walk *walk, const Content *content, guint64 number, guint flags)
{
    gboolean is_deleted = (flags & EK_FILE_DELETED) != 0;
    Folder folder = {*content, number, is_deleted, (flags & EK_FILE_GUESSED) != 0,
                     content->bytes >= FOLDER_BYTES_MOST};
    guint32 cluster = content->cluster;
    folder.content.bytes = MIN(content->bytes, FOLDER_BYTES_MOST);
    if (!cluster_exists(walk->opened, cluster))
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

/* --- sets ----------------------------------------------------------------------------------- */

static EkSpan entry_of(const Walk *walk, guint index)
{
    return (EkSpan){walk->set + (gsize)index * EK_EXFAT_ENTRY_BYTES, EK_EXFAT_ENTRY_BYTES};
}

/* With the offset from UTC where the entry tells it, in quarters of an hour. */
static EkTimestamp timestamp_at(EkSpan entry, gsize at, gsize hundredths, gsize offset)
{
    EkTimestamp timestamp = ek_timestamp_dos(ek_span_le16(entry, at + 2), ek_span_le16(entry, at));
    guint8 fraction = hundredths != 0 ? ek_span_u8(entry, hundredths) : 0;
    guint8 zone = ek_span_u8(entry, offset);
    if (!timestamp.is_set)
        return timestamp;
    if (fraction < 200) {
        timestamp.seconds += fraction / 100;
        timestamp.nanoseconds = fraction % 100 * 10000000u;
    }
    if ((zone & 0x80) != 0) {
        int quarters = (zone & 0x40) != 0 ? (int)(zone & 0x7f) - 128 : zone & 0x7f;
        timestamp.seconds -= (gint64)quarters * QUARTER_HOUR;
        timestamp.is_local = FALSE;
    }
    return timestamp;
}

static gboolean gather_name(Walk *walk, guint units, EkFileName *name)
{
    guint8 text[256 * 2];
    gsize bytes = MIN((gsize)units, (walk->entries - 2ul) * NAME_UNITS) * 2;
    bytes = MIN(bytes, sizeof text);
    for (gsize done = 0; done < bytes; done += NAME_UNITS * 2) {
        EkSpan entry = entry_of(walk, 2 + (guint)(done / (NAME_UNITS * 2)));
        memcpy(text + done, entry.data + 2, MIN(NAME_UNITS * 2, bytes - done));
    }
    g_string_truncate(walk->name, 0);
    if (ek_name_utf16(walk->name, (EkSpan){text, bytes}, FALSE)) {
        /* The sink is called before this is left: what it needs is kept in the set. */
        memcpy(walk->set, text, bytes);
        name->bytes = walk->set;
        name->length = bytes;
    }
    name->text = walk->name->str;
    return bytes > 0;
}

static void pass_set(Walk *walk, EkFile *file, EkFileName *name, guint units,
                     const Content *content, EkByte valid)
{
    /* Behind what was ever written are zeros. */
    Content written = *content;
    written.bytes = MIN(content->bytes, valid);
    if (!gather_name(walk, units, name))
        return;
    if (file->type == EK_TYPE_FILE && (file->flags & EK_FILE_DELETED) == 0)
        find_way(walk, file, &written);
    walk->stopped |=
        !walk->sink->file(walk->sink->data, file) || !walk->sink->name(walk->sink->data, name);
    if (walk->stopped)
        return;
    if (file->type == EK_TYPE_FOLDER) {
        enter_later(walk, content, file->number, file->flags);
        return;
    }
    RunSink sink = (file->flags & EK_FILE_DELETED) != 0 ? pass_gone_run : pass_run;
    EkByte placed = walk_content(walk, &written, sink, file->number);
    if (placed < written.bytes && !walk->stopped) {
        EkExtent rest = {placed, written.bytes - placed, EK_UNPLACED, 0, FALSE, FALSE, 0};
        pass_run(walk, file->number, &rest);
    }
}

static void take_set(Walk *walk)
{
    EkSpan head = entry_of(walk, 0);
    EkSpan span = {walk->set, (gsize)walk->entries * EK_EXFAT_ENTRY_BYTES};
    EkExfatSet set;
    gboolean needs_sum = walk->opened->is_earlier || walk->folder.is_deleted;
    if (!ek_exfat_set_read(span, &set) || (!set.is_sound && (set.is_deleted || needs_sum)))
        return;
    gboolean is_deleted = set.is_deleted || walk->folder.is_deleted;
    gboolean is_guessed = walk->folder.is_guessed || (is_deleted && !set.one_piece);
    Content content = {
        .way = EK_LINK_WAY_SAID,
        .cluster = set.cluster,
        .one_piece = set.one_piece,
        .bytes = set.bytes,
    };
    EkFile file = {
        .number = (walk->place - walk->opened->first_byte) / EK_EXFAT_ENTRY_BYTES,
        .type = set.is_folder ? EK_TYPE_FOLDER : EK_TYPE_FILE,
        .flags = (is_deleted ? EK_FILE_DELETED : 0) | (is_guessed ? EK_FILE_GUESSED : 0),
        .attributes = set.attributes,
        .created = timestamp_at(head, 8, 20, 22),
        .modified = timestamp_at(head, 12, 21, 23),
        .accessed = timestamp_at(head, 16, 0, 24),
        .place = content.cluster,
    };
    EkFileName name = {
        .file = file.number, .parent = walk->folder.number, .is_deleted = is_deleted};
    if (file.type == EK_TYPE_FILE)
        file.size = content.bytes;
    pass_set(walk, &file, &name, set.name_units, &content, set.valid);
}

static gboolean claim_system(Walk *walk, guint64 type, const EkExtent *run)
{
    claim_files(walk, run);
    if (type == EK_EXFAT_BITMAP)
        g_array_append_val(walk->bitmap, *run);
    return TRUE;
}

/* The bitmap and the up-case table: no files, but nobody else's region. */
static void take_system(Walk *walk, EkSpan entry)
{
    guint64 type = ek_span_u8(entry, 0);
    Content content = {.cluster = ek_span_le32(entry, 20),
                       .bytes = MIN(ek_span_le64(entry, 24), walk->opened->boot.clusters),
                       .way = EK_LINK_WAY_SAID};
    if (type != EK_EXFAT_BITMAP || walk->bitmap->len == 0)
        walk_content(walk, &content, claim_system, type);
}

static void take_entry(Walk *walk, EkSpan entry, EkByte place)
{
    guint8 type = ek_span_u8(entry, 0);
    if (type == 0) {
        walk->ended = TRUE;
        walk->entries = 0;
        return;
    }
    if (walk->folder.number == 0 && (type == EK_EXFAT_BITMAP || type == EK_EXFAT_UPCASE))
        take_system(walk, entry);
    if ((type | EK_EXFAT_IN_USE) == EK_EXFAT_FILE) {
        walk->entries = 0;
        walk->wanted = (guint)(ek_exfat_set_bytes(entry) / EK_EXFAT_ENTRY_BYTES);
        walk->place = place;
        if (walk->wanted == 0)
            return;
    } else if (walk->entries == 0 || (type & EK_EXFAT_IN_USE) != (walk->set[0] & EK_EXFAT_IN_USE)) {
        walk->entries = 0;
        return;
    }
    memcpy(walk->set + (gsize)walk->entries * EK_EXFAT_ENTRY_BYTES, entry.data,
           EK_EXFAT_ENTRY_BYTES);
    walk->entries++;
    if (walk->entries == walk->wanted) {
        take_set(walk);
        walk->entries = 0;
    }
}

/* --- folders -------------------------------------------------------------------------------- */

/* The clusters of a run become this folder's. Returns how many bytes do: up to the first that is a
 * folder's already. */
static EkByte claim_run(Walk *walk, const EkExtent *run)
{
    guint32 size = walk->opened->boot.cluster_bytes;
    guint64 count = ek_divide_up(run->bytes, size);
    guint64 own = ek_cluster_bitmap_add_run(
        &walk->taken, (run->first_byte - place_of(walk->opened, 2)) / size + 2, count,
        run->offset == 0);
    return own == count ? run->bytes : own * size;
}

/* One run of a folder, sector by sector: one that was not read costs its own names only. */
static gboolean take_run(Walk *walk, guint64 folder, const EkExtent *run)
{
    guint32 size = walk->opened->boot.sector_size;
    guint8 sector[4096];
    EkByte claimed = claim_run(walk, run);
    (void)folder;
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
            walk->entries = 0;
            continue;
        }
        for (gsize i = 0; i + EK_EXFAT_ENTRY_BYTES <= length && !walk->ended && !walk->stopped;
             i += EK_EXFAT_ENTRY_BYTES)
            take_entry(walk, (EkSpan){sector + i, EK_EXFAT_ENTRY_BYTES}, run->first_byte + at + i);
    }
    return !walk->ended && !walk->stopped;
}

/* Of a deleted folder only what looks like one is taken: its first entry is that of a file. */
static gboolean is_folder_still(Walk *walk)
{
    guint8 type = 0;
    EkByte at = place_of(walk->opened, walk->folder.content.cluster);
    return ek_reader_read(walk->opened->reader, at, &type, 1, NULL, NULL) &&
           (type | EK_EXFAT_IN_USE) == EK_EXFAT_FILE;
}

static void take_folder(Walk *walk)
{
    walk->damage = (EkFolderDamage){0};
    walk->entries = 0;
    walk->ended = FALSE;
    if (walk->folder.is_deleted && !is_folder_still(walk))
        return;
    EkByte seen = walk_content(walk, &walk->folder.content, take_run, walk->folder.number);
    if (walk->folder.is_deleted)
        return;
    walk->damage.cut_short |=
        seen == 0 || (!walk->ended && !walk->stopped && !walk->folder.is_open &&
                      seen < walk->folder.content.bytes);
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

/* As long as the FAT says, or, where it says nothing, as entries go on. */
static Content lost_content(Walk *walk, guint32 cluster)
{
    guint32 size = walk->opened->boot.cluster_bytes;
    guint32 next = 0;
    Content content = {.cluster = cluster, .bytes = FOLDER_BYTES_MOST, .way = EK_LINK_WAY_SAID};
    EkLink link = ek_links_of(&walk->opened->links, EK_LINK_JUDGED, cluster, &next);
    if (link != EK_LINK_FREE && link != EK_LINK_UNKNOWN)
        return content;
    content.one_piece = TRUE;
    for (content.bytes = size;
         content.bytes < FOLDER_BYTES_MOST && ek_exfat_goes_on(&walk->search, cluster) != 0;
         content.bytes += size)
        cluster++;
    return content;
}

static void take_lost(Walk *walk, const EkExfatLost *lost)
{
    gboolean is_free = walk->search.seeks_free;
    gboolean is_known = lost->is_told;
    gboolean is_guessed = !is_known && lost->proof == EK_EXFAT_OPEN;
    EkFile file = {
        .number = ek_number_in_tree(
            1, (place_of(walk->opened, lost->cluster) - walk->opened->first_byte) /
                   EK_EXFAT_ENTRY_BYTES),
        .type = EK_TYPE_FOLDER,
        .flags = (is_free ? EK_FILE_DELETED : 0) | (is_guessed ? EK_FILE_GUESSED : 0),
        .attributes = ATTRIBUTE_FOLDER,
        .place = lost->cluster,
    };
    /* One in a free cluster may be of a volume that was there before, with clusters of its own. */
    if (walk->stopped || ek_cluster_bitmap_has(&walk->taken, lost->cluster) ||
        (!is_known && lost->proof == EK_EXFAT_ANOTHERS))
        return;
    Content content = lost_content(walk, lost->cluster);
    choose_sink(walk);
    walk->stopped = !walk->sink->file(walk->sink->data, &file);
    enter_later(walk, &content, file.number, file.flags);
    take_folders(walk);
}

/* First those that no other lost one leads to: the rest comes in its place below them. */
static void take_all_lost(Walk *walk)
{
    g_autoptr(GHashTable) led = g_hash_table_new(g_direct_hash, g_direct_equal);
    g_autoptr(GArray) all = ek_exfat_find_lost(&walk->search, led);
    for (guint i = 0; i < all->len; i++) {
        const EkExfatLost *lost = &g_array_index(all, EkExfatLost, i);
        if (!g_hash_table_contains(led, GUINT_TO_POINTER(lost->cluster)))
            take_lost(walk, lost);
    }
    for (guint i = 0; i < all->len; i++)
        take_lost(walk, &g_array_index(all, EkExfatLost, i));
}

gboolean ek_exfat_walk(EkOpened *opened, guint64 from, const EkFileSink *sink)
{
    const EkExfatBoot *boot = &opened->boot;
    /* A volume may claim more clusters than there are bytes. */
    guint64 there = MIN(boot->clusters, ek_reader_bytes(opened->reader) / boot->cluster_bytes) + 2;
    g_autoptr(GArray) folders = g_array_new(FALSE, FALSE, sizeof(Folder));
    g_autoptr(GString) name = g_string_new(NULL);
    g_autoptr(GArray) bitmap = g_array_new(FALSE, FALSE, sizeof(EkExtent));
    guint8 page[EK_STEP];
    Walk walk = {.opened = opened,
                 .bitmap = bitmap,
                 .sink = sink,
                 .real = sink,
                 .muted = ek_file_sink_muted(sink),
                 .from = from,
                 .folders = folders,
                 .taken = ek_cluster_bitmap_new(there),
                 .files = ek_cluster_bitmap_new(there),
                 .steps = there * 8 + STEPS_MORE,
                 .name = name};
    walk.search = (EkExfatSearch){.reader = opened->reader,
                                  .boot = boot,
                                  .first_byte = opened->first_byte,
                                  .links = &opened->links,
                                  .bitmap = bitmap,
                                  .taken = &walk.taken,
                                  .files = &walk.files,
                                  .is_earlier = opened->is_earlier,
                                  .mark = mark_search,
                                  .data = &walk,
                                  .page = page,
                                  .page_at = EK_UNPLACED};
    Content root = {
        .cluster = boot->root_cluster, .bytes = FOLDER_BYTES_MOST, .way = EK_LINK_WAY_SAID};
    choose_sink(&walk);
    if (opened->has_root) {
        enter_later(&walk, &root, 0, 0);
    } else {
        EkFolderDamage gone = {.cut_short = TRUE};
        walk.stopped = from == 0 && !sink->damage(sink->data, 0, &gone);
    }
    take_folders(&walk);
    if (!walk.stopped)
        take_all_lost(&walk);
    /* What is free may hold deleted ones, or those of before the volume was formatted anew as it
     * had been. */
    walk.search.seeks_free = TRUE;
    if (!walk.stopped && !opened->is_earlier && !opened->has_earlier)
        take_all_lost(&walk);
    ek_cluster_bitmap_clear(&walk.taken);
    ek_cluster_bitmap_clear(&walk.files);
    return !walk.stopped;
}

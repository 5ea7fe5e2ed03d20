/* SPDX-License-Identifier: MIT */
/* Folders and files of an exFAT volume: sets of entries of 32 bytes, each with a sum over all of
 * it; content in one piece, or in a chain of clusters. A deleted set has lost one bit of each
 * entry, and its chain is mostly left. Structures as in the published exFAT specification. What it
 * distrusts: chains, lengths, counts, names. */
#include "volume/exfat/exfat.h"
#include "volume/headers.h"

#include "volume/clusterbitmap.h"

#include <string.h>

#define SET_MOST 19u /* entries: a file, its stream, seventeen of a name */
#define IN_USE 0x80u
#define TYPE_FILE 0x85u
#define TYPE_STREAM 0xc0u
#define TYPE_NAME 0xc1u
#define NAME_UNITS 15u
#define ONE_PIECE 2u /* of a stream's flags: the FAT says nothing of it */
#define ATTRIBUTE_FOLDER 0x10u
#define WINDOW_BYTES (1u << 20)
#define FOLDER_BYTES_MOST ((EkByte)256 << 20) /* by the specification */
#define QUARTER_HOUR 900
#define STEPS_MORE 65536u /* along chains, than eight for each cluster */
#define LOST_MOST (1u << 20)
#define LOST_BIT ((guint64)1 << 60) /* in the number of a folder that no entry is left of */
#define MARK_EVERY 65536u           /* clusters */
#define FOLDER_LOOK 4096u           /* bytes of a cluster that are looked at */

struct EkOpened {
    EkReader *reader;
    EkExfatBoot boot;
    EkByte first_byte;
    EkLinkTable links;
};

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
    return cluster >= 2 && cluster - 2 < opened->boot.clusters;
}

static EkByte place_of(const EkOpened *opened, guint32 cluster)
{
    return opened->first_byte + (EkByte)opened->boot.heap_sector * opened->boot.sector_size +
           (EkByte)(cluster - 2) * opened->boot.cluster_bytes;
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
    gboolean is_open; /* it is not told how long it is */
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
    guint8 *page;          /* of the bitmap: a sector's worth of it */
    EkByte page_at;        /* in the bitmap; EK_UNPLACED: none is loaded */
    gboolean page_is_known;
    guint64 done; /* folders */
    guint64 seen;
    guint64 steps;       /* along chains that are left */
    gboolean seeks_free; /* of folders that nothing leads to: those in free clusters */
    gboolean stopped;
    GString *name;
    /* Of the folder that is being read: */
    Folder folder;
    EkFolderDamage damage;
    guint8 set[SET_MOST * EK_EXFAT_ENTRY_BYTES];
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

static void enter_later(Walk *walk, const Content *content, guint64 number, gboolean is_deleted)
{
    Folder folder = {*content, number, is_deleted, content->bytes >= FOLDER_BYTES_MOST};
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

/* Over all of a set but for its own two bytes; `in_use` is set in the type of each entry, as it was
 * before it was deleted (0: as it is). */
static guint16 sum_of(EkSpan set, guint8 in_use)
{
    guint16 sum = 0;
    for (gsize i = 0; i < set.length; i++) {
        guint8 byte = ek_span_u8(set, i);
        if (i == 2 || i == 3)
            continue;
        if (i % EK_EXFAT_ENTRY_BYTES == 0)
            byte |= in_use;
        sum = (guint16)((guint)(sum >> 1 | (guint)sum << 15) + byte);
    }
    return sum;
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
        enter_later(walk, content, file->number, (file->flags & EK_FILE_DELETED) != 0);
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
    EkSpan stream = entry_of(walk, 1);
    gboolean is_deleted = (ek_span_u8(head, 0) & IN_USE) == 0;
    guint16 attributes = ek_span_le16(head, 4);
    guint8 flags = ek_span_u8(stream, 1);
    if ((ek_span_u8(stream, 0) | IN_USE) != TYPE_STREAM ||
        (is_deleted && sum_of((EkSpan){walk->set, (gsize)walk->entries * EK_EXFAT_ENTRY_BYTES},
                              IN_USE) != ek_span_le16(head, 2)))
        return;
    is_deleted |= walk->folder.is_deleted;
    Content content = {
        .way = EK_LINK_WAY_SAID,
        .cluster = ek_span_le32(stream, 20),
        .one_piece = (flags & ONE_PIECE) != 0,
        .bytes = MIN(ek_span_le64(stream, 24), G_MAXINT64),
    };
    EkFile file = {
        .number = (walk->place - walk->opened->first_byte) / EK_EXFAT_ENTRY_BYTES,
        .type = (attributes & ATTRIBUTE_FOLDER) != 0 ? EK_TYPE_FOLDER : EK_TYPE_FILE,
        .flags = (is_deleted ? EK_FILE_DELETED : 0) |
                 (is_deleted && !content.one_piece ? EK_FILE_GUESSED : 0),
        .attributes = attributes,
        .created = timestamp_at(head, 8, 20, 22),
        .modified = timestamp_at(head, 12, 21, 23),
        .accessed = timestamp_at(head, 16, 0, 24),
        .place = content.cluster,
    };
    EkFileName name = {
        .file = file.number, .parent = walk->folder.number, .is_deleted = is_deleted};
    if (file.type == EK_TYPE_FILE)
        file.size = content.bytes;
    pass_set(walk, &file, &name, ek_span_u8(stream, 3), &content, ek_span_le64(stream, 8));
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
    if ((type | IN_USE) == TYPE_FILE) {
        guint further = ek_span_u8(entry, 1);
        walk->entries = 0;
        walk->wanted = further + 1;
        walk->place = place;
        if (further < 2 || walk->wanted > SET_MOST)
            return;
    } else if (walk->entries == 0 || (type & IN_USE) != (walk->set[0] & IN_USE)) {
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
           (type | IN_USE) == TYPE_FILE;
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

static void load_page(Walk *walk, EkByte at)
{
    walk->page_at = at - at % EK_STEP;
    walk->page_is_known = FALSE;
    for (guint i = 0; i < walk->bitmap->len; i++) {
        const EkExtent *run = &g_array_index(walk->bitmap, EkExtent, i);
        EkByte into = walk->page_at - run->offset;
        EkKnown known;
        if (walk->page_at < run->offset || into >= run->bytes)
            continue;
        gsize length = (gsize)MIN(EK_STEP, run->bytes - into);
        memset(walk->page, 0xff, EK_STEP);
        walk->page_is_known = ek_reader_read(walk->opened->reader, run->first_byte + into,
                                             walk->page, length, &known, NULL) &&
                              known.good == length;
        return;
    }
}

/* May this cluster be in use, as far as the bitmap was read? */
static gboolean may_be_used(Walk *walk, guint32 cluster)
{
    EkByte at = (cluster - 2) / 8;
    if (walk->page_at == EK_UNPLACED || at < walk->page_at || at - walk->page_at >= EK_STEP)
        load_page(walk, at);
    return !walk->page_is_known || (walk->page[at - walk->page_at] >> (cluster - 2) % 8 & 1) != 0;
}

static gboolean is_entry_type(guint8 type)
{
    type |= IN_USE;
    return type == TYPE_FILE || type == TYPE_STREAM || type == TYPE_NAME;
}

/* Is the set at the beginning of `span` whole, and in use? */
static gboolean begins_with_set(EkSpan span)
{
    gsize bytes = (ek_span_u8(span, 1) + 1ul) * EK_EXFAT_ENTRY_BYTES;
    if (ek_span_u8(span, 0) != TYPE_FILE || bytes > span.length ||
        bytes < 3 * EK_EXFAT_ENTRY_BYTES || ek_span_u8(span, EK_EXFAT_ENTRY_BYTES) != TYPE_STREAM)
        return FALSE;
    return sum_of(ek_span_part(span, 0, bytes), 0) == ek_span_le16(span, 2);
}

/* Does a folder begin in this cluster? Nothing says so but the sets in it. What folders these lead
 * to is added to `led`. */
static gboolean begins_folder(Walk *walk, guint32 cluster, GHashTable *led)
{
    guint8 data[FOLDER_LOOK];
    EkSpan span = {data, sizeof data};
    EkKnown known;
    gboolean found = FALSE;
    if (walk->opened->boot.cluster_bytes < sizeof data)
        span.length = walk->opened->boot.cluster_bytes;
    /* What was not read is not asked for: it may be anything. */
    if (ek_reader_known(walk->opened->reader, place_of(walk->opened, cluster), span.length).good <
            span.length ||
        !ek_reader_read(walk->opened->reader, place_of(walk->opened, cluster), data, span.length,
                        &known, NULL) ||
        known.good < span.length || !is_entry_type(data[0]))
        return FALSE;
    for (gsize at = 0; at < span.length; at += EK_EXFAT_ENTRY_BYTES) {
        EkSpan set = ek_span_part(span, at, span.length - at);
        if (!begins_with_set(set))
            continue;
        found = TRUE;
        if ((ek_span_le16(set, 4) & ATTRIBUTE_FOLDER) != 0)
            g_hash_table_add(led, GUINT_TO_POINTER(ek_span_le32(set, EK_EXFAT_ENTRY_BYTES + 20)));
    }
    return found;
}

static gboolean is_unclaimed(Walk *walk, guint32 cluster)
{
    return cluster_exists(walk->opened, cluster) && !ek_cluster_bitmap_has(&walk->taken, cluster) &&
           !ek_cluster_bitmap_has(&walk->files, cluster) &&
           may_be_used(walk, cluster) != walk->seeks_free;
}

/* The type of an entry in a cluster; 0 when it was not read. */
static guint8 type_at(Walk *walk, guint32 cluster, gsize index)
{
    guint8 type = 0;
    EkByte at = place_of(walk->opened, cluster) + index * EK_EXFAT_ENTRY_BYTES;
    return ek_reader_read(walk->opened->reader, at, &type, 1, NULL, NULL) ? type : 0;
}

/* The cluster in which a folder goes on behind this one: where the FAT says so, or, where it says
 * nothing, the next one, when entries go on. 0: it ends. */
static guint32 goes_on(Walk *walk, guint32 cluster)
{
    guint32 next = 0;
    gsize last = walk->opened->boot.cluster_bytes / EK_EXFAT_ENTRY_BYTES - 1;
    EkLink link = ek_links_of(&walk->opened->links, EK_LINK_JUDGED, cluster, &next);
    if (link != EK_LINK_FREE && link != EK_LINK_UNKNOWN)
        return link == EK_LINK_NEXT ? next : 0;
    return is_entry_type(type_at(walk, cluster, last)) && is_unclaimed(walk, cluster + 1) &&
                   is_entry_type(type_at(walk, cluster + 1, 0))
               ? cluster + 1
               : 0;
}

static GArray *find_lost(Walk *walk, GHashTable *led)
{
    GArray *all = g_array_new(FALSE, FALSE, sizeof(guint32));
    EkByte bytes = ek_reader_bytes(walk->opened->reader);
    EkByte heap = place_of(walk->opened, 2);
    /* A volume may claim more than there is. */
    guint64 clusters = MIN(walk->opened->boot.clusters,
                           (bytes - MIN(heap, bytes)) / walk->opened->boot.cluster_bytes);
    EkRange run = {0, 0};
    for (guint32 i = 0; i < clusters && all->len < LOST_MOST && !walk->stopped; i++) {
        guint32 cluster = i + 2;
        if (!ek_may_hold_data(walk->opened->reader, place_of(walk->opened, cluster), EK_STEP,
                              &run)) {
            /* On to the cluster in which something stands again. */
            guint64 next = MIN((run.first - heap) / walk->opened->boot.cluster_bytes, clusters);
            i = (guint32)MAX(next, (guint64)i + 1) - 1;
            continue;
        }
        if (is_unclaimed(walk, cluster) && begins_folder(walk, cluster, led)) {
            g_array_append_val(all, cluster);
            g_hash_table_add(led, GUINT_TO_POINTER(goes_on(walk, cluster)));
        }
        if (i % MARK_EVERY == 0)
            walk->stopped = !walk->sink->mark(walk->sink->data, 0, walk->done, walk->seen);
    }
    return all;
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
    for (content.bytes = size; content.bytes < FOLDER_BYTES_MOST && goes_on(walk, cluster) != 0;
         content.bytes += size)
        cluster++;
    return content;
}

static void take_lost(Walk *walk, guint32 cluster)
{
    EkFile file = {
        .number = LOST_BIT | (place_of(walk->opened, cluster) - walk->opened->first_byte) /
                                 EK_EXFAT_ENTRY_BYTES,
        .type = EK_TYPE_FOLDER,
        .flags = walk->seeks_free ? EK_FILE_DELETED : 0,
        .attributes = ATTRIBUTE_FOLDER,
        .place = cluster,
    };
    if (walk->stopped || ek_cluster_bitmap_has(&walk->taken, cluster))
        return;
    Content content = lost_content(walk, cluster);
    choose_sink(walk);
    walk->stopped = !walk->sink->file(walk->sink->data, &file);
    enter_later(walk, &content, file.number, walk->seeks_free);
    take_folders(walk);
}

/* First those that no other lost one leads to: the rest comes in its place below them. */
static void take_all_lost(Walk *walk)
{
    g_autoptr(GHashTable) led = g_hash_table_new(g_direct_hash, g_direct_equal);
    g_autoptr(GArray) all = find_lost(walk, led);
    for (guint i = 0; i < all->len; i++) {
        guint32 cluster = g_array_index(all, guint32, i);
        if (!g_hash_table_contains(led, GUINT_TO_POINTER(cluster)))
            take_lost(walk, cluster);
    }
    for (guint i = 0; i < all->len; i++)
        take_lost(walk, g_array_index(all, guint32, i));
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
                 .page = page,
                 .page_at = EK_UNPLACED,
                 .sink = sink,
                 .real = sink,
                 .muted = ek_file_sink_muted(sink),
                 .from = from,
                 .folders = folders,
                 .taken = ek_cluster_bitmap_new(there),
                 .files = ek_cluster_bitmap_new(there),
                 .steps = there * 8 + STEPS_MORE,
                 .name = name};
    Content root = {
        .cluster = boot->root_cluster, .bytes = FOLDER_BYTES_MOST, .way = EK_LINK_WAY_SAID};
    choose_sink(&walk);
    enter_later(&walk, &root, 0, FALSE);
    take_folders(&walk);
    if (!walk.stopped)
        take_all_lost(&walk);
    /* What is free may hold deleted ones, or those of before the volume was formatted anew as it
     * had been. */
    walk.seeks_free = TRUE;
    if (!walk.stopped)
        take_all_lost(&walk);
    ek_cluster_bitmap_clear(&walk.taken);
    ek_cluster_bitmap_clear(&walk.files);
    return !walk.stopped;
}

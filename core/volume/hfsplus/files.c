/* SPDX-License-Identifier: MIT */
/* Files of HFS+ and HFSX: one pass over the leaves of the catalog, as in Technical Note TN1150. A
 * file keeps eight extents of a fork in the catalog, the tree of extents has the rest. Leaves that
 * are in use no more tell of deleted files. What it distrusts: node numbers and lengths, which
 * records are bounded by, extents, counts, names. */
#include "volume/hfsplus/catalog.h"
#include "volume/hfsplus/journal.h"
#include "volume/hfsplus/packed.h"

#include "base/text.h"

#include <string.h>

#define MODE_TYPE 0xf000u
#define MODE_LINK 0xa000u
#define FLAG_PACKED 0x20u
#define RESOURCE_FORKS 1u    /* the tree of files that they are numbered in */
#define SEEN_MOST (1u << 29) /* numbers of which it is known whether they are there */
#define ATTRIBUTES_FILE 8u
#define MARK_EVERY 16u /* nodes */

struct EkOpened {
    EkHfsCatalog catalog;
    guint8 header[EK_HEADER_BYTES]; /* of the volume */
    gboolean is_earlier; /* it is what another one left, whose catalog lies in the same place */
    EkHfsFork attributes;
    GArray *packed; /* EkHfsPacked; NULL: not loaded yet */
};

/* --- opening -------------------------------------------------------------------------------- */

EkOpened *ek_hfs_open(EkReader *reader, const EkVolume *volume, GError **error)
{
    EkSpan attributes =
        ek_span_part(ek_volume_header(volume), EK_HFS_ATTRIBUTES_FORK, EK_HFS_FORK_RECORD);
    EkOpened *opened = g_new0(EkOpened, 1);
    if (!ek_hfs_catalog_open(&opened->catalog, reader, volume)) {
        ek_hfs_close(opened);
        ek_error_set(error, EK_ERROR_DAMAGED,
                     "the catalog does not begin where its header says, or "
                     "was not read there");
        return NULL;
    }
    opened->is_earlier = volume->is_earlier;
    memcpy(opened->header, volume->header, sizeof opened->header);
    if (opened->is_earlier)
        ek_hfs_catalog_find_older(&opened->catalog);
    opened->attributes = ek_hfs_fork_of(&opened->catalog.region, attributes, ATTRIBUTES_FILE, 0);
    return opened;
}

void ek_hfs_close(EkOpened *opened)
{
    ek_hfs_catalog_clear(&opened->catalog);
    ek_hfs_fork_clear(&opened->attributes);
    g_clear_pointer(&opened->packed, g_array_unref);
    g_free(opened);
}

/* NULL when there is no such file, or none that this version unpacks. */
static const EkHfsPacked *packed_file(EkOpened *opened, guint32 file)
{
    /* The tree of attributes is the newer one's. */
    if (opened->is_earlier)
        return NULL;
    if (opened->packed == NULL)
        opened->packed = ek_hfs_packed_load(&opened->catalog.region, &opened->attributes);
    return ek_hfs_packed_find(opened->packed, file);
}

guint64 ek_hfs_root(EkOpened *opened)
{
    (void)opened;
    return EK_HFS_ROOT_FOLDER;
}

/* --- the walk ------------------------------------------------------------------------------- */

/* A name that leads to the file which link number `inode` stands for. */
typedef struct {
    guint32 inode;
    guint32 parent;
    char *name;
} Link;

typedef struct {
    EkOpened *opened;
    const EkFileSink *sink; /* for what is at hand: one of the next two */
    const EkFileSink *real;
    EkFileSink muted;
    guint64 from; /* steps that were gone before: all leaves, links, all leaves once more */
    GString *text;
    GByteArray *units;
    guint8 *seen; /* a bit a number: what is there */
    guint64 numbers;
    guint32 private;    /* the folder that hard links lead into */
    GHashTable *inodes; /* number of a link to number of a file */
    GArray *links;      /* Link */
    gboolean is_deleted;
    EkByte node_at; /* of the node at hand, in the catalog */
    const guint8 *node;
} Walk;

/* A separator of paths stands in a name as the other system's, and the other way round. */
static gboolean set_name(Walk *walk, EkSpan units)
{
    g_byte_array_set_size(walk->units, 0);
    g_byte_array_append(walk->units, units.data, (guint)units.length);
    for (guint i = 0; i + 1 < walk->units->len; i += 2) {
        guint8 *unit = walk->units->data + i;
        if (unit[0] == 0 && unit[1] == '/')
            unit[1] = ':';
    }
    g_string_truncate(walk->text, 0);
    gboolean escaped =
        ek_name_utf16(walk->text, (EkSpan){walk->units->data, walk->units->len}, TRUE);
    g_autofree char *composed = g_utf8_normalize(walk->text->str, -1, G_NORMALIZE_NFC);
    if (composed != NULL)
        g_string_assign(walk->text, composed);
    return escaped;
}

static gboolean pass_name(Walk *walk, guint64 file, guint32 parent, EkSpan units)
{
    gboolean escaped = set_name(walk, units);
    EkFileName name = {
        .file = file,
        .parent = parent,
        .is_deleted = walk->is_deleted,
        .text = walk->text->str,
        .bytes = escaped ? units.data : NULL,
        .length = escaped ? units.length : 0,
    };
    return walk->sink->name(walk->sink->data, &name);
}

static gboolean pass_fork(Walk *walk, guint64 number, const EkHfsFork *fork)
{
    const EkOpened *opened = walk->opened;
    guint64 size = opened->catalog.region.block_bytes;
    EkByte done = 0;
    for (guint i = 0; i < fork->extents->len && done < fork->bytes; i++) {
        const EkHfsExtent *part = &g_array_index(fork->extents, EkHfsExtent, i);
        EkByte bytes = MIN(part->count * size, fork->bytes - done);
        EkByte place = ek_hfs_extent_byte(&opened->catalog.region, part);
        EkExtent extent = {done, bytes, place, place != EK_UNPLACED ? bytes : 0, FALSE, FALSE, 0};
        if (!walk->sink->extent(walk->sink->data, number, &extent))
            return FALSE;
        done += bytes;
    }
    EkExtent rest = {done, fork->bytes - done, EK_UNPLACED, 0, FALSE, FALSE, 0};
    return rest.bytes == 0 || walk->sink->extent(walk->sink->data, number, &rest);
}

static gboolean pass_resources(Walk *walk, const EkFile *file, guint32 parent, EkSpan units,
                               EkSpan record)
{
    static const char suffix[] = ":rsrc";
    EkHfsFork fork = ek_hfs_fork_of(&walk->opened->catalog.region,
                                    ek_span_part(record, EK_HFS_RESOURCE_FORK, 80),
                                    (guint32)file->number, EK_HFS_RESOURCE);
    EkFile further = *file;
    further.number = ek_number_in_tree(RESOURCE_FORKS, file->number);
    further.type = EK_TYPE_STREAM;
    further.size = fork.bytes;
    gboolean fine = TRUE;
    if (fork.bytes > 0) {
        fine =
            walk->sink->file(walk->sink->data, &further) && pass_fork(walk, further.number, &fork);
        set_name(walk, units);
        g_string_append(walk->text, suffix);
        EkFileName name = {.file = further.number,
                           .parent = parent,
                           .is_deleted = walk->is_deleted,
                           .text = walk->text->str};
        fine = fine && walk->sink->name(walk->sink->data, &name);
    }
    ek_hfs_fork_clear(&fork);
    return fine;
}

static void note_seen(Walk *walk, guint32 number)
{
    if (number < walk->numbers)
        walk->seen[number / 8] |= (guint8)(1u << number % 8);
}

static gboolean is_seen(const Walk *walk, guint32 number)
{
    return number < walk->numbers && (walk->seen[number / 8] >> number % 8 & 1) != 0;
}

static gboolean take_folder(Walk *walk, guint32 parent, EkSpan units, EkSpan record)
{
    guint32 number = ek_span_be32(record, 8);
    /* The folder that hard links lead into begins with four zeros. */
    gboolean is_private = units.length > 8 && ek_bytes_are_zero(units.data, 8);
    EkFile file = {
        .number = number,
        .type = EK_TYPE_FOLDER,
        .flags = (walk->is_deleted ? EK_FILE_DELETED : 0) | (is_private ? EK_FILE_OWN : 0),
        .created = ek_hfs_timestamp(record, 12),
        .modified = ek_hfs_timestamp(record, 16),
        .accessed = ek_hfs_timestamp(record, 24),
        .attributes = ek_span_be16(record, 42),
    };
    if (is_private)
        walk->private = number;
    return walk->sink->file(walk->sink->data, &file) &&
           (number == EK_HFS_ROOT_FOLDER || pass_name(walk, number, parent, units));
}

/* Is it a link to a file that is kept apart? Then its name leads there. */
static gboolean take_link(Walk *walk, guint32 parent, EkSpan units, EkSpan record)
{
    if (!ek_span_equals(record, 48, "hlnkhfs+", 8))
        return FALSE;
    set_name(walk, units);
    Link link = {ek_span_be32(record, 44), parent, g_strdup(walk->text->str)};
    g_array_append_val(walk->links, link);
    return TRUE;
}

/* Files that links lead to are called by a number. */
static void note_inode(Walk *walk, guint32 parent, EkSpan units, guint32 number)
{
    guint64 inode = 0;
    if (parent != walk->private || walk->private == 0)
        return;
    set_name(walk, units);
    if (g_str_has_prefix(walk->text->str, "iNode") &&
        ek_text_parse_u64(walk->text->str + 5, &inode) && inode <= G_MAXUINT32)
        g_hash_table_insert(walk->inodes, GUINT_TO_POINTER((guint)inode), GUINT_TO_POINTER(number));
}

/* A packed file, whose resource fork is none of its users'. */
static gboolean pass_packed(Walk *walk, const EkFile *file, EkSpan record,
                            const EkHfsPacked *packed)
{
    EkOpened *opened = walk->opened;
    EkHfsFork resources = ek_hfs_fork_of(
        &opened->catalog.region, ek_span_part(record, EK_HFS_RESOURCE_FORK, EK_HFS_FORK_RECORD),
        (guint32)file->number, EK_HFS_RESOURCE);
    gboolean fine = walk->sink->file(walk->sink->data, file) &&
                    ek_hfs_packed_pass(&opened->catalog.region, &opened->attributes, &resources,
                                       packed, walk->sink);
    ek_hfs_fork_clear(&resources);
    return fine;
}

static gboolean pass_content(Walk *walk, EkFile *file, guint32 parent, EkSpan units, EkSpan record)
{
    EkHfsFork fork = ek_hfs_fork_of(&walk->opened->catalog.region,
                                    ek_span_part(record, EK_HFS_DATA_FORK, EK_HFS_FORK_RECORD),
                                    (guint32)file->number, 0);
    /* How it is packed may not be known, or not have been read. */
    gboolean is_opaque = (file->flags & EK_FILE_OPAQUE) != 0;
    EkFolderDamage lost = {.cut_short = TRUE};
    file->size = fork.bytes;
    gboolean fine = walk->sink->file(walk->sink->data, file) &&
                    pass_fork(walk, file->number, &fork) &&
                    (!is_opaque || walk->sink->damage(walk->sink->data, file->number, &lost)) &&
                    pass_resources(walk, file, parent, units, record);
    ek_hfs_fork_clear(&fork);
    return fine;
}

static gboolean take_file(Walk *walk, guint32 parent, EkSpan units, EkSpan record)
{
    guint32 number = ek_span_be32(record, 8);
    gboolean is_packed = (ek_span_u8(record, 41) & FLAG_PACKED) != 0;
    if (!walk->is_deleted && take_link(walk, parent, units, record))
        return TRUE;
    const EkHfsPacked *packed = is_packed ? packed_file(walk->opened, number) : NULL;
    EkFile file = {
        .number = number,
        .type = (ek_span_be16(record, 42) & MODE_TYPE) == MODE_LINK ? EK_TYPE_LINK : EK_TYPE_FILE,
        .flags = (walk->is_deleted ? EK_FILE_DELETED : 0) | (packed != NULL ? EK_FILE_ENCODED
                                                             : is_packed    ? EK_FILE_OPAQUE
                                                                            : 0),
        .size = packed != NULL ? packed->size : 0,
        .created = ek_hfs_timestamp(record, 12),
        .modified = ek_hfs_timestamp(record, 16),
        .accessed = ek_hfs_timestamp(record, 24),
        .attributes = ek_span_be16(record, 42),
        .place =
            walk->node_at != EK_UNPLACED ? walk->node_at + (EkByte)(record.data - walk->node) : 0,
    };
    gboolean fine = (packed != NULL ? pass_packed(walk, &file, record, packed)
                                    : pass_content(walk, &file, parent, units, record)) &&
                    pass_name(walk, number, parent, units);
    if (!walk->is_deleted)
        note_inode(walk, parent, units, number);
    return fine;
}

static gboolean take_record(Walk *walk, EkSpan record)
{
    EkHfsEntry entry;
    if (!ek_hfs_entry_read(record, &entry) ||
        ((walk->is_deleted || walk->opened->is_earlier) && is_seen(walk, entry.number)))
        return TRUE;
    note_seen(walk, entry.number);
    return entry.type == EK_HFS_RECORD_FOLDER
               ? take_folder(walk, entry.parent, entry.name, entry.body)
               : take_file(walk, entry.parent, entry.name, entry.body);
}

/* --- leaves --------------------------------------------------------------------------------- */

/* Are these leaves those that are wanted now: in use, or what is left of what was? */
static gboolean is_wanted(const Walk *walk, guint64 node)
{
    const EkHfsCatalog *catalog = &walk->opened->catalog;
    if (walk->opened->is_earlier)
        return ek_cluster_bitmap_has(&catalog->older, node) &&
               ek_hfs_catalog_was_used(catalog, node) != walk->is_deleted;
    return ek_hfs_catalog_is_used(catalog, node) != walk->is_deleted;
}

/* What links lead to, and what is seen, is found again each time. */
static void choose_sink(Walk *walk, guint64 step)
{
    walk->sink = step < walk->from ? &walk->muted : walk->real;
}

/* What stands in free nodes is not this volume's where it is older than that. */
static gboolean take_node(Walk *walk, EkSpan node)
{
    if (walk->is_deleted && !walk->opened->is_earlier &&
        ek_hfs_catalog_weigh_older(&walk->opened->catalog, node) > 0)
        return TRUE;
    walk->node = node.data;
    for (guint i = 0; ek_span_u8(node, 8) == EK_HFS_KIND_LEAF && i < ek_span_be16(node, 10); i++)
        if (!take_record(walk, ek_hfs_record_of(node, i)))
            return FALSE;
    return TRUE;
}

/* Of a leaf that was not all read. */
static gboolean take_of_torn(void *data, EkSpan node, EkSpan record)
{
    Walk *walk = data;
    walk->node = node.data;
    return take_record(walk, record);
}

/* A leaf as the journal has it: what is no longer there is deleted. */
static gboolean take_copy(void *data, EkSpan node)
{
    Walk *walk = data;
    if (walk->opened->is_earlier && ek_hfs_catalog_weigh_older(&walk->opened->catalog, node) == 0)
        return TRUE;
    walk->node_at = EK_UNPLACED;
    return take_node(walk, node);
}

/* `before` steps were gone by all that came first. */
static gboolean take_leaves(Walk *walk, guint64 before, guint64 nodes, guint8 *node)
{
    const EkOpened *opened = walk->opened;
    EkSpan span = {node, opened->catalog.tree.node_bytes};
    for (guint64 at = 1; at < nodes; at++) {
        EkKnown known = {0};
        choose_sink(walk, before + at);
        if (!is_wanted(walk, at))
            continue;
        walk->node_at = at * span.length;
        if (!ek_hfs_fork_read(&opened->catalog.region, &opened->catalog.fork, at * span.length,
                              node, span.length, &known)) {
            EkFolderDamage damage = {.unread_bytes = span.length - known.good - known.bad,
                                     .bad_bytes = known.bad};
            if ((!walk->is_deleted &&
                 !walk->sink->damage(walk->sink->data, EK_HFS_ROOT_FOLDER, &damage)) ||
                !ek_hfs_catalog_torn(&opened->catalog, at, node, take_of_torn, walk))
                return FALSE;
            continue;
        }
        if (!take_node(walk, span))
            return FALSE;
        if (at % MARK_EVERY == 0 && !walk->sink->mark(walk->sink->data, before + at + 1, at, nodes))
            return FALSE;
    }
    return TRUE;
}

/* All is freed; handed on only while that is `fine`. */
static gboolean pass_links(Walk *walk, gboolean fine)
{
    for (guint i = 0; i < walk->links->len; i++) {
        Link *link = &g_array_index(walk->links, Link, i);
        guint32 file =
            GPOINTER_TO_UINT(g_hash_table_lookup(walk->inodes, GUINT_TO_POINTER(link->inode)));
        EkFileName name = {.file = file, .parent = link->parent, .text = link->name};
        fine = fine && (file == 0 || walk->sink->name(walk->sink->data, &name));
        g_free(link->name);
    }
    return fine;
}

/* What is wrong with all of it. */
static gboolean pass_damage(const Walk *walk)
{
    const EkOpened *opened = walk->opened;
    EkFolderDamage lost = {.unread_bytes = opened->catalog.is_headless ? EK_STEP : 0,
                           .cut_short = opened->is_earlier};
    return (!opened->catalog.is_headless && !opened->is_earlier) ||
           walk->sink->damage(walk->sink->data, EK_HFS_ROOT_FOLDER, &lost);
}

/* Deleted files: the copies in the journal are younger than what stands in free nodes. */
static gboolean take_deleted(Walk *walk, guint64 before, guint64 nodes, guint8 *node)
{
    const EkOpened *opened = walk->opened;
    walk->is_deleted = TRUE;
    choose_sink(walk, before);
    return ek_hfs_journal_leaves(&opened->catalog.region,
                                 (EkSpan){opened->header, sizeof opened->header},
                                 opened->catalog.tree.node_bytes, take_copy, walk) &&
           take_leaves(walk, before, nodes, node);
}

gboolean ek_hfs_walk(EkOpened *opened, guint64 from, const EkFileSink *sink)
{
    g_autoptr(GString) text = g_string_new(NULL);
    g_autoptr(GByteArray) units = g_byte_array_new();
    g_autoptr(GHashTable) inodes = g_hash_table_new(g_direct_hash, g_direct_equal);
    g_autoptr(GArray) links = g_array_new(FALSE, FALSE, sizeof(Link));
    guint64 nodes = ek_hfs_catalog_nodes(&opened->catalog);
    /* A header that was composed does not say which number comes next. */
    guint64 next = opened->is_earlier ? 0 : opened->catalog.next_number;
    guint64 numbers = MIN(next != 0 ? next : nodes * 256, SEEN_MOST);
    g_autofree guint8 *seen = g_malloc0((gsize)(numbers / 8) + 1);
    g_autofree guint8 *node = g_malloc(opened->catalog.tree.node_bytes);
    Walk walk = {.opened = opened,
                 .sink = sink,
                 .real = sink,
                 .muted = ek_file_sink_muted(sink),
                 .from = from,
                 .text = text,
                 .units = units,
                 .seen = seen,
                 .numbers = numbers,
                 .inodes = inodes,
                 .links = links};
    choose_sink(&walk, 0);
    if (!pass_damage(&walk))
        return FALSE;
    gboolean fine = take_leaves(&walk, 0, nodes, node);
    choose_sink(&walk, nodes);
    fine = pass_links(&walk, fine) && sink->mark(sink->data, MAX(from, nodes + 1), nodes, nodes);
    return fine && take_deleted(&walk, nodes + 1, nodes, node) &&
           sink->mark(sink->data, 0, nodes, nodes);
}

/* --- decoding ------------------------------------------------------------------------------- */

gboolean ek_hfs_decode(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data)
{
    guint8 record[EK_HFS_FILE_BYTES];
    EkSpan span = {record, sizeof record};
    EkKnown known;
    const EkHfsPacked *packed = packed_file(opened, (guint32)MIN(file->number, G_MAXUINT32));
    if (packed == NULL || packed->size != file->size ||
        !ek_hfs_fork_read(&opened->catalog.region, &opened->catalog.fork, file->place, record,
                          sizeof record, &known) ||
        ek_span_be16(span, 0) != EK_HFS_RECORD_FILE || ek_span_be32(span, 8) != file->number)
        return sink(data, NULL, (gsize)file->size);
    EkHfsFork resources = ek_hfs_fork_of(
        &opened->catalog.region, ek_span_part(span, EK_HFS_RESOURCE_FORK, EK_HFS_FORK_RECORD),
        (guint32)file->number, EK_HFS_RESOURCE);
    gboolean fine = ek_hfs_packed_decode(&opened->catalog.region, &opened->attributes, &resources,
                                         packed, sink, data);
    ek_hfs_fork_clear(&resources);
    return fine;
}

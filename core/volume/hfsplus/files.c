/* SPDX-License-Identifier: MIT */
/* Files of HFS+ and HFSX: one pass over the leaves of the catalog, as in Technical Note TN1150. A
 * file keeps eight extents of a fork in the catalog, the tree of extents has the rest. Leaves that
 * are in use no more tell of deleted files. What it distrusts: node numbers and lengths, which
 * records are bounded by, extents, counts, names. */
#include "volume/hfsplus/packed.h"

#include "base/text.h"

#include <string.h>

#define KIND_MAP 2u
#define RECORD_FOLDER 1u
#define RECORD_FILE 2u
#define FILE_BYTES 248u
#define FOLDER_BYTES 88u
#define DATA_FORK 88u
#define RESOURCE_FORK_AT 168u
#define MAP_RECORD 248u /* of a header node */
#define HEADER_MAP_ENDS 8u
#define MAP_NODE_RECORD 14u
#define MODE_TYPE 0xf000u
#define MODE_LINK 0xa000u
#define FLAG_PACKED 0x20u
#define RESOURCE_FORKS 1u    /* the tree of files that they are numbered in */
#define SEEN_MOST (1u << 29) /* numbers of which it is known whether they are there */
#define EPOCH 2082844800     /* seconds from 1904 to 1970 */
#define ATTRIBUTES_FILE 8u
#define MARK_EVERY 16u   /* nodes */
#define GUESS_NODES 256u /* that are looked at for the size of a node */

struct EkOpened {
    EkHfsArea region;
    guint64 next_number;
    EkHfsFork catalog;
    EkHfsTree tree;
    gboolean is_headless; /* the header node of the catalog was not read */
    EkHfsFork attributes;
    GArray *packed; /* EkHfsPacked; NULL: not loaded yet */
};

/* --- opening -------------------------------------------------------------------------------- */

static gboolean read_leaf(const EkOpened *opened, guint64 node, guint32 node_bytes, EkHfsLeaf *leaf)
{
    guint8 head[EK_STEP];
    EkKnown known;
    return ek_hfs_fork_read(&opened->region, &opened->catalog, node * node_bytes, head, sizeof head,
                            &known) &&
           ek_hfs_leaf_read((EkSpan){head, sizeof head}, leaf);
}

/* Where the header node was not read, the size at which most leaves stand tells that of a node. */
static gboolean guess_tree(EkOpened *opened)
{
    guint8 head[EK_STEP];
    EkKnown known;
    guint most = 0;
    if (ek_hfs_fork_read(&opened->region, &opened->catalog, 0, head, sizeof head, &known) ||
        known.bad + known.unread == 0)
        return FALSE;
    for (guint32 size = EK_STEP; size <= EK_HFS_NODE_MOST; size *= 2) {
        guint64 nodes = MIN(opened->catalog.bytes / size, GUESS_NODES);
        guint leaves = 0;
        EkHfsLeaf leaf;
        for (guint64 node = 1; node < nodes; node++)
            leaves +=
                read_leaf(opened, node, size, &leaf) && leaf.next != node && leaf.previous != node;
        /* Every leaf stands at a smaller size as well: the largest at which as many do is it. */
        if (leaves > 0 && leaves >= most) {
            most = leaves;
            opened->tree = (EkHfsTree){
                .node_bytes = size,
                .nodes = (guint32)MIN(opened->catalog.bytes / size, G_MAXUINT32),
                .key_most = EK_HFS_CATALOG_KEY,
            };
        }
    }
    opened->is_headless = most > 0;
    return most > 0;
}

static gboolean has_catalog_at(EkOpened *opened, EkByte start)
{
    opened->region.first_byte = start;
    return (ek_hfs_fork_tree(&opened->region, &opened->catalog, &opened->tree) &&
            opened->tree.key_most == EK_HFS_CATALOG_KEY) ||
           guess_tree(opened);
}

/* Where its block 0 is: the volume may be in a wrapper, and be known by either of its headers. */
static gboolean find_start(EkOpened *opened, const EkVolume *volume)
{
    guint32 size = opened->region.block_bytes;
    EkByte blocks = (EkByte)opened->region.blocks * size;
    EkByte end = volume->header_byte + EK_HFS_HEADER_OFFSET;
    if (has_catalog_at(opened, volume->first_byte) ||
        (volume->header_byte >= EK_HFS_HEADER_OFFSET &&
         has_catalog_at(opened, volume->header_byte - EK_HFS_HEADER_OFFSET)))
        return TRUE;
    for (EkByte rest = 0; rest < size && rest < 16 * EK_STEP; rest += EK_STEP)
        if (end >= blocks + rest && has_catalog_at(opened, end - blocks - rest))
            return TRUE;
    return FALSE;
}

EkOpened *ek_hfs_open(EkReader *reader, const EkVolume *volume, GError **error)
{
    EkSpan span = ek_volume_header(volume);
    EkSpan catalog = ek_span_part(span, EK_HFS_CATALOG_FORK, EK_HFS_FORK_RECORD);
    EkSpan attributes = ek_span_part(span, EK_HFS_ATTRIBUTES_FORK, EK_HFS_FORK_RECORD);
    EkOpened *opened = g_new0(EkOpened, 1);
    EkHfsHeader header;
    if (ek_hfs_header_read(span, &header)) {
        opened->region = (EkHfsArea){
            .reader = reader, .block_bytes = header.block_bytes, .blocks = header.blocks};
        opened->next_number = ek_span_be32(span, 64);
        opened->catalog = ek_hfs_fork_of(&opened->region, catalog, EK_HFS_CATALOG_FILE, 0);
        if (find_start(opened, volume)) {
            ek_hfs_overflow_load(&opened->region, span);
            ek_hfs_fork_clear(&opened->catalog);
            opened->catalog = ek_hfs_fork_of(&opened->region, catalog, EK_HFS_CATALOG_FILE, 0);
            opened->attributes = ek_hfs_fork_of(&opened->region, attributes, ATTRIBUTES_FILE, 0);
            return opened;
        }
    }
    ek_hfs_close(opened);
    ek_error_set(error, EK_ERROR_DAMAGED,
                 "the catalog does not begin where its header says, or "
                 "was not read there");
    return NULL;
}

void ek_hfs_close(EkOpened *opened)
{
    ek_hfs_fork_clear(&opened->catalog);
    ek_hfs_fork_clear(&opened->attributes);
    g_clear_pointer(&opened->packed, g_array_unref);
    g_clear_pointer(&opened->region.overflow, g_array_unref);
    g_free(opened);
}

/* NULL when there is no such file, or none that this version unpacks. */
static const EkHfsPacked *packed_file(EkOpened *opened, guint32 file)
{
    if (opened->packed == NULL)
        opened->packed = ek_hfs_packed_load(&opened->region, &opened->attributes);
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
    GByteArray *used; /* a bit a node: those that are in use */
    guint8 *seen;     /* a bit a number: what is there */
    guint64 numbers;
    guint32 private;    /* the folder that hard links lead into */
    GHashTable *inodes; /* number of a link to number of a file */
    GArray *links;      /* Link */
    gboolean is_deleted;
    EkByte node_at; /* of the node at hand, in the catalog */
    const guint8 *node;
} Walk;

static EkTimestamp timestamp_at(EkSpan record, gsize at)
{
    guint32 seconds = ek_span_be32(record, at);
    return (EkTimestamp){.seconds = (gint64)seconds - EPOCH, .is_set = seconds != 0};
}

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
    guint64 size = opened->region.block_bytes;
    EkByte done = 0;
    for (guint i = 0; i < fork->extents->len && done < fork->bytes; i++) {
        const EkHfsExtent *part = &g_array_index(fork->extents, EkHfsExtent, i);
        EkByte bytes = MIN(part->count * size, fork->bytes - done);
        EkByte place = ek_hfs_extent_byte(&opened->region, part);
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
    EkHfsFork fork =
        ek_hfs_fork_of(&walk->opened->region, ek_span_part(record, RESOURCE_FORK_AT, 80),
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
        .created = timestamp_at(record, 12),
        .modified = timestamp_at(record, 16),
        .accessed = timestamp_at(record, 24),
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
    EkHfsFork resources =
        ek_hfs_fork_of(&opened->region, ek_span_part(record, RESOURCE_FORK_AT, EK_HFS_FORK_RECORD),
                       (guint32)file->number, EK_HFS_RESOURCE);
    gboolean fine =
        walk->sink->file(walk->sink->data, file) &&
        ek_hfs_packed_pass(&opened->region, &opened->attributes, &resources, packed, walk->sink);
    ek_hfs_fork_clear(&resources);
    return fine;
}

static gboolean pass_content(Walk *walk, EkFile *file, guint32 parent, EkSpan units, EkSpan record)
{
    EkHfsFork fork =
        ek_hfs_fork_of(&walk->opened->region, ek_span_part(record, DATA_FORK, EK_HFS_FORK_RECORD),
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
        .created = timestamp_at(record, 12),
        .modified = timestamp_at(record, 16),
        .accessed = timestamp_at(record, 24),
        .attributes = ek_span_be16(record, 42),
        .place = walk->node_at + (EkByte)(record.data - walk->node),
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
    guint key = ek_span_be16(record, 0);
    guint32 parent = ek_span_be32(record, 2);
    gsize bytes = ek_span_be16(record, 6) * 2ul;
    EkSpan units = ek_span_part(record, 8, bytes);
    EkSpan rest = ek_span_part(record, 2ul + key + (key & 1), record.length);
    guint type = ek_span_be16(rest, 0);
    guint32 number = ek_span_be32(rest, 8);
    if (units.length < bytes || key < 6 + bytes || number < EK_HFS_ROOT_FOLDER ||
        (type != RECORD_FOLDER && type != RECORD_FILE) ||
        rest.length < (type == RECORD_FOLDER ? FOLDER_BYTES : FILE_BYTES))
        return TRUE;
    if (walk->is_deleted && is_seen(walk, number))
        return TRUE;
    note_seen(walk, number);
    return type == RECORD_FOLDER ? take_folder(walk, parent, units, rest)
                                 : take_file(walk, parent, units, rest);
}

/* --- leaves --------------------------------------------------------------------------------- */

/* Which nodes are in use: the header node says so of the first ones, further nodes of the rest. */
static void load_map(Walk *walk)
{
    const EkOpened *opened = walk->opened;
    guint32 size = opened->tree.node_bytes;
    g_autofree guint8 *node = g_malloc(size);
    EkKnown known;
    guint32 number = 0;
    gsize begin = MAP_RECORD;
    for (guint count = 0; count < 65536; count++) {
        if (!ek_hfs_fork_read(&opened->region, &opened->catalog, (guint64)number * size, node, size,
                              &known))
            return;
        g_byte_array_append(walk->used, node + begin, (guint)(size - begin - HEADER_MAP_ENDS));
        number = ek_span_be32((EkSpan){node, size}, 0);
        begin = MAP_NODE_RECORD;
        if (number == 0)
            return;
    }
}

/* Does a leaf hang together with its neighbours, as far as they were read? */
static gboolean is_linked(const EkOpened *opened, guint64 node)
{
    guint32 size = opened->tree.node_bytes;
    EkHfsLeaf leaf;
    EkHfsLeaf other;
    if (!read_leaf(opened, node, size, &leaf))
        return TRUE;
    return (leaf.previous == 0 || !read_leaf(opened, leaf.previous, size, &other) ||
            other.next == node) &&
           (leaf.next == 0 || !read_leaf(opened, leaf.next, size, &other) ||
            other.previous == node);
}

static gboolean is_used(const Walk *walk, guint64 node)
{
    if (node / 8 < walk->used->len)
        return (walk->used->data[node / 8] >> (7 - node % 8) & 1) != 0;
    /* Where that is not known a leaf counts as one. */
    return !walk->opened->is_headless || is_linked(walk->opened, node);
}

/* What links lead to, and what is seen, is found again each time. */
static void choose_sink(Walk *walk, guint64 step)
{
    walk->sink = step < walk->from ? &walk->muted : walk->real;
}

/* `before` steps were gone by all that came first. */
static gboolean take_leaves(Walk *walk, guint64 before, guint64 nodes, guint8 *node)
{
    const EkOpened *opened = walk->opened;
    EkSpan span = {node, opened->tree.node_bytes};
    for (guint64 at = 1; at < nodes; at++) {
        EkKnown known = {0};
        choose_sink(walk, before + at);
        if (is_used(walk, at) == walk->is_deleted)
            continue;
        if (!ek_hfs_fork_read(&opened->region, &opened->catalog, at * span.length, node,
                              span.length, &known)) {
            EkFolderDamage damage = {.unread_bytes = span.length - known.good - known.bad,
                                     .bad_bytes = known.bad};
            if (!walk->is_deleted &&
                !walk->sink->damage(walk->sink->data, EK_HFS_ROOT_FOLDER, &damage))
                return FALSE;
            continue;
        }
        walk->node_at = at * span.length;
        walk->node = node;
        for (guint i = 0; ek_span_u8(span, 8) == EK_HFS_KIND_LEAF && i < ek_span_be16(span, 10);
             i++)
            if (!take_record(walk, ek_hfs_record_of(span, i)))
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

gboolean ek_hfs_walk(EkOpened *opened, guint64 from, const EkFileSink *sink)
{
    g_autoptr(GString) text = g_string_new(NULL);
    g_autoptr(GByteArray) units = g_byte_array_new();
    g_autoptr(GByteArray) used = g_byte_array_new();
    g_autoptr(GHashTable) inodes = g_hash_table_new(g_direct_hash, g_direct_equal);
    g_autoptr(GArray) links = g_array_new(FALSE, FALSE, sizeof(Link));
    EkByte room = MIN(opened->catalog.bytes, ek_reader_bytes(opened->region.reader));
    guint64 nodes = MIN(opened->tree.nodes, room / opened->tree.node_bytes);
    /* A header that was composed does not say which number comes next. */
    guint64 numbers = MIN(opened->next_number != 0 ? opened->next_number : nodes * 256, SEEN_MOST);
    g_autofree guint8 *seen = g_malloc0((gsize)(numbers / 8) + 1);
    g_autofree guint8 *node = g_malloc(opened->tree.node_bytes);
    Walk walk = {.opened = opened,
                 .sink = sink,
                 .real = sink,
                 .muted = ek_file_sink_muted(sink),
                 .from = from,
                 .text = text,
                 .units = units,
                 .used = used,
                 .seen = seen,
                 .numbers = numbers,
                 .inodes = inodes,
                 .links = links};
    EkFolderDamage lost = {.unread_bytes = EK_STEP};
    choose_sink(&walk, 0);
    if (!opened->is_headless)
        load_map(&walk);
    else if (!walk.sink->damage(walk.sink->data, EK_HFS_ROOT_FOLDER, &lost))
        return FALSE;
    gboolean fine = take_leaves(&walk, 0, nodes, node);
    choose_sink(&walk, nodes);
    fine = pass_links(&walk, fine) && sink->mark(sink->data, MAX(from, nodes + 1), nodes, nodes);
    walk.is_deleted = TRUE;
    return fine && take_leaves(&walk, nodes + 1, nodes, node) &&
           sink->mark(sink->data, 0, nodes, nodes);
}

/* --- decoding ------------------------------------------------------------------------------- */

gboolean ek_hfs_decode(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data)
{
    guint8 record[FILE_BYTES];
    EkSpan span = {record, sizeof record};
    EkKnown known;
    const EkHfsPacked *packed = packed_file(opened, (guint32)MIN(file->number, G_MAXUINT32));
    if (packed == NULL || packed->size != file->size ||
        !ek_hfs_fork_read(&opened->region, &opened->catalog, file->place, record, sizeof record,
                          &known) ||
        ek_span_be16(span, 0) != RECORD_FILE || ek_span_be32(span, 8) != file->number)
        return sink(data, NULL, (gsize)file->size);
    EkHfsFork resources =
        ek_hfs_fork_of(&opened->region, ek_span_part(span, RESOURCE_FORK_AT, EK_HFS_FORK_RECORD),
                       (guint32)file->number, EK_HFS_RESOURCE);
    gboolean fine =
        ek_hfs_packed_decode(&opened->region, &opened->attributes, &resources, packed, sink, data);
    ek_hfs_fork_clear(&resources);
    return fine;
}

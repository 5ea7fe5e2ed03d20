/* SPDX-License-Identifier: MIT */
/* Files of HFS+ and HFSX: one pass over the leaves of the catalog, as in Technical Note TN1150. A
 * file keeps eight extents of a fork in the catalog, the tree of extents has the rest. Leaves that
 * are in use no more tell of deleted files. What it distrusts: node numbers and lengths, which
 * records are bounded by, extents, counts, names. */
#include "volume/hfsplus/hfsplus.h"

#include "base/text.h"

#include <string.h>

#define EXTENTS_A_RECORD 8u
#define OVERFLOW_MOST (1u << 19) /* records of the tree of extents that are kept */
#define RESOURCE_FORK 0xffu
#define KIND_LEAF 0xffu
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
#define RESOURCE_BIT ((guint64)1 << 40) /* in the number of a file: its resource fork */
#define SEEN_MOST (1u << 29)            /* numbers of which it is known whether they are there */
#define EPOCH 2082844800                /* seconds from 1904 to 1970 */
#define CATALOG_FILE 4u

typedef struct {
    guint64 at; /* blocks from the beginning of the fork */
    guint32 first;
    guint32 count;
} Piece;

typedef struct {
    guint64 bytes;
    guint64 blocks;
    GArray *pieces; /* Piece */
} Fork;

/* Further extents of a fork. */
typedef struct {
    guint32 file;
    guint32 fork; /* 0 or RESOURCE_FORK */
    guint32 start;
    guint32 extents[EXTENTS_A_RECORD * 2];
} Overflow;

struct EkOpened {
    EkGate *gate;
    EkByte first_byte;
    EkHfsHeader header;
    guint64 next_number;
    Fork catalog;
    EkHfsTree tree;
    GArray *overflow; /* Overflow, by file, fork and start */
};

/* --- forks ---------------------------------------------------------------------------------- */

static void add_extents(Fork *fork, EkSpan extents)
{
    for (guint i = 0; i < EXTENTS_A_RECORD; i++) {
        const Piece *last = fork->pieces->len > 0
                                ? &g_array_index(fork->pieces, Piece, fork->pieces->len - 1)
                                : NULL;
        Piece piece = {last != NULL ? last->at + last->count : 0, ek_span_be32(extents, i * 8ul),
                       ek_span_be32(extents, i * 8ul + 4)};
        if (piece.count == 0)
            return;
        g_array_append_val(fork->pieces, piece);
    }
}

static guint64 covered_by(const Fork *fork)
{
    const Piece *last =
        fork->pieces->len > 0 ? &g_array_index(fork->pieces, Piece, fork->pieces->len - 1) : NULL;
    return last != NULL ? last->at + last->count : 0;
}

static gint by_key(gconstpointer a, gconstpointer b)
{
    const Overflow *left = a;
    const Overflow *right = b;
    if (left->file != right->file)
        return left->file < right->file ? -1 : 1;
    if (left->fork != right->fork)
        return left->fork < right->fork ? -1 : 1;
    return left->start < right->start ? -1 : left->start > right->start;
}

/* `span` is what a catalog record or the volume header has of a fork. The caller clears it. */
static Fork fork_of(const EkOpened *opened, EkSpan span, guint32 file, guint32 which)
{
    Fork fork = {.bytes = ek_span_be64(span, 0),
                 .blocks = ek_span_be32(span, 12),
                 .pieces = g_array_new(FALSE, FALSE, sizeof(Piece))};
    if (fork.bytes > G_MAXINT64)
        fork.bytes = 0;
    add_extents(&fork, ek_span_part(span, EK_HFS_FORK_EXTENTS, EXTENTS_A_RECORD * 8));
    for (guint64 covered = covered_by(&fork); covered < fork.blocks;) {
        guint8 extents[EXTENTS_A_RECORD * 8];
        Overflow wanted = {.file = file, .fork = which, .start = (guint32)covered};
        guint place = 0;
        if (opened->overflow == NULL ||
            !g_array_binary_search(opened->overflow, &wanted, by_key, &place))
            break;
        const Overflow *found = &g_array_index(opened->overflow, Overflow, place);
        for (guint i = 0; i < EXTENTS_A_RECORD * 2; i++)
            ek_put_be32(extents + i * 4ul, found->extents[i]);
        add_extents(&fork, (EkSpan){extents, sizeof extents});
        if (covered_by(&fork) <= covered)
            break;
        covered = covered_by(&fork);
    }
    return fork;
}

static void fork_clear(Fork *fork)
{
    g_clear_pointer(&fork->pieces, g_array_unref);
}

static EkByte piece_byte(const EkOpened *opened, const Piece *piece)
{
    return piece->first < opened->header.blocks &&
                   piece->count <= opened->header.blocks - piece->first
               ? opened->first_byte + (EkByte)piece->first * opened->header.block_bytes
               : EK_UNPLACED;
}

/* The piece that holds a block of a fork; NULL when none does. */
static const Piece *piece_at(const Fork *fork, guint64 block)
{
    guint low = 0;
    guint high = fork->pieces->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        const Piece *piece = &g_array_index(fork->pieces, Piece, middle);
        if (block < piece->at)
            high = middle;
        else if (block - piece->at >= piece->count)
            low = middle + 1;
        else
            return piece;
    }
    return NULL;
}

/* FALSE when it is not all there, or was not all read. */
static gboolean fork_read(const EkOpened *opened, const Fork *fork, guint64 offset, guint8 *buffer,
                          gsize length, EkKnown *known)
{
    guint32 size = opened->header.block_bytes;
    *known = (EkKnown){0};
    for (gsize done = 0; done < length;) {
        guint64 block = (offset + done) / size;
        const Piece *piece = piece_at(fork, block);
        EkByte place = piece != NULL ? piece_byte(opened, piece) : EK_UNPLACED;
        if (place == EK_UNPLACED)
            return FALSE;
        EkByte into = offset + done - piece->at * size;
        gsize part = (gsize)MIN(length - done, (EkByte)piece->count * size - into);
        EkKnown own;
        if (!ek_gate_read(opened->gate, place + into, buffer + done, part, &own, NULL))
            return FALSE;
        known->good += own.good;
        known->bad += own.bad;
        known->unread += own.unread;
        done += part;
    }
    return known->good == length;
}

/* --- nodes ---------------------------------------------------------------------------------- */

/* A record of a node; empty when it has none such. */
static EkSpan record_of(EkSpan node, guint index)
{
    gsize last = node.length - 2ul * (index + 1);
    guint16 begin = ek_span_be16(node, last);
    guint16 end = ek_span_be16(node, last - 2);
    if (index >= ek_span_be16(node, 10) || 2ul * (index + 2) > node.length || begin < 14 ||
        end <= begin || end > last)
        return (EkSpan){node.data, 0};
    return ek_span_part(node, begin, end - (gsize)begin);
}

static gboolean tree_of(const EkOpened *opened, const Fork *fork, EkHfsTree *tree)
{
    guint8 head[EK_STEP];
    EkKnown known;
    return fork_read(opened, fork, 0, head, sizeof head, &known) &&
           ek_hfs_tree_read((EkSpan){head, sizeof head}, tree);
}

/* The tree of extents, whole: it is small on any volume that is not one heap of fragments. */
static void load_overflow(EkOpened *opened, EkSpan header)
{
    EkHfsTree tree;
    Fork fork = fork_of(opened, ek_span_part(header, EK_HFS_EXTENTS_FORK, 80), 3, 0);
    GArray *overflow = g_array_new(FALSE, FALSE, sizeof(Overflow));
    if (tree_of(opened, &fork, &tree)) {
        g_autofree guint8 *node = g_malloc(tree.node_bytes);
        EkSpan span = {node, tree.node_bytes};
        EkKnown known;
        EkByte room = MIN(fork.bytes, ek_gate_bytes(opened->gate));
        guint64 nodes = MIN(tree.nodes, room / tree.node_bytes);
        for (guint64 at = 1; at < nodes && overflow->len < OVERFLOW_MOST; at++) {
            if (!fork_read(opened, &fork, at * tree.node_bytes, node, span.length, &known) ||
                ek_span_u8(span, 8) != KIND_LEAF)
                continue;
            for (guint i = 0; i < ek_span_be16(span, 10); i++) {
                EkSpan record = record_of(span, i);
                Overflow one = {.fork = ek_span_u8(record, 2),
                                .file = ek_span_be32(record, 4),
                                .start = ek_span_be32(record, 8)};
                if (ek_span_be16(record, 0) != EK_HFS_EXTENTS_KEY ||
                    record.length < 12 + sizeof one.extents)
                    continue;
                for (guint k = 0; k < EXTENTS_A_RECORD * 2; k++)
                    one.extents[k] = ek_span_be32(record, 12 + k * 4ul);
                g_array_append_val(overflow, one);
            }
        }
    }
    g_array_sort(overflow, by_key);
    fork_clear(&fork);
    opened->overflow = overflow;
}

/* --- opening -------------------------------------------------------------------------------- */

static gboolean has_catalog_at(EkOpened *opened, EkByte start)
{
    opened->first_byte = start;
    return tree_of(opened, &opened->catalog, &opened->tree) &&
           opened->tree.key_most == EK_HFS_CATALOG_KEY;
}

/* Where its block 0 is: the volume may be in a wrapper, and be known by either of its headers. */
static gboolean find_start(EkOpened *opened, const EkVolume *volume)
{
    EkByte blocks = (EkByte)opened->header.blocks * opened->header.block_bytes;
    EkByte end = volume->header_byte + EK_HFS_HEADER_OFFSET;
    if (has_catalog_at(opened, volume->first_byte) ||
        (volume->header_byte >= EK_HFS_HEADER_OFFSET &&
         has_catalog_at(opened, volume->header_byte - EK_HFS_HEADER_OFFSET)))
        return TRUE;
    for (EkByte rest = 0; rest < opened->header.block_bytes && rest < 16 * EK_STEP; rest += EK_STEP)
        if (end >= blocks + rest && has_catalog_at(opened, end - blocks - rest))
            return TRUE;
    return FALSE;
}

EkOpened *ek_hfs_open(EkGate *gate, const EkVolume *volume, GError **error)
{
    EkSpan span = {volume->header, EK_HEADER_MOST};
    EkOpened *opened = g_new0(EkOpened, 1);
    opened->gate = gate;
    if (ek_hfs_header_read(span, &opened->header)) {
        EkSpan catalog = ek_span_part(span, EK_HFS_CATALOG_FORK, 80);
        opened->next_number = ek_span_be32(span, 64);
        opened->catalog = fork_of(opened, catalog, CATALOG_FILE, 0);
        if (find_start(opened, volume)) {
            load_overflow(opened, span);
            fork_clear(&opened->catalog);
            opened->catalog = fork_of(opened, catalog, CATALOG_FILE, 0);
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
    fork_clear(&opened->catalog);
    g_clear_pointer(&opened->overflow, g_array_unref);
    g_free(opened);
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
    const EkFileSink *sink;
    GString *text;
    GByteArray *units;
    GByteArray *used; /* a bit a node: those that are in use */
    guint8 *seen;     /* a bit a number: what is there */
    guint64 numbers;
    guint32 private;    /* the folder that hard links lead into */
    GHashTable *inodes; /* number of a link to number of a file */
    GArray *links;      /* Link */
    gboolean is_deleted;
} Walk;

static EkMoment moment_at(EkSpan record, gsize at)
{
    guint32 seconds = ek_span_be32(record, at);
    return (EkMoment){.seconds = (gint64)seconds - EPOCH, .is_set = seconds != 0};
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

static gboolean pass_fork(Walk *walk, guint64 number, const Fork *fork)
{
    const EkOpened *opened = walk->opened;
    guint64 size = opened->header.block_bytes;
    EkByte done = 0;
    for (guint i = 0; i < fork->pieces->len && done < fork->bytes; i++) {
        const Piece *piece = &g_array_index(fork->pieces, Piece, i);
        EkByte bytes = MIN(piece->count * size, fork->bytes - done);
        EkByte place = piece_byte(opened, piece);
        EkExtent extent = {done, bytes, place, place != EK_UNPLACED ? bytes : 0, FALSE};
        if (!walk->sink->extent(walk->sink->data, number, &extent))
            return FALSE;
        done += bytes;
    }
    EkExtent rest = {done, fork->bytes - done, EK_UNPLACED, 0, FALSE};
    return rest.bytes == 0 || walk->sink->extent(walk->sink->data, number, &rest);
}

static gboolean pass_resources(Walk *walk, const EkFile *file, guint32 parent, EkSpan units,
                               EkSpan record)
{
    static const char suffix[] = ":rsrc";
    Fork fork = fork_of(walk->opened, ek_span_part(record, RESOURCE_FORK_AT, 80),
                        (guint32)file->number, RESOURCE_FORK);
    EkFile further = *file;
    further.number = file->number | RESOURCE_BIT;
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
    fork_clear(&fork);
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
        .created = moment_at(record, 12),
        .modified = moment_at(record, 16),
        .accessed = moment_at(record, 24),
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

static gboolean take_file(Walk *walk, guint32 parent, EkSpan units, EkSpan record)
{
    guint32 number = ek_span_be32(record, 8);
    gboolean is_packed = (ek_span_u8(record, 41) & FLAG_PACKED) != 0;
    if (!walk->is_deleted && take_link(walk, parent, units, record))
        return TRUE;
    Fork fork = fork_of(walk->opened, ek_span_part(record, DATA_FORK, 80), number, 0);
    EkFile file = {
        .number = number,
        .type = (ek_span_be16(record, 42) & MODE_TYPE) == MODE_LINK ? EK_TYPE_LINK : EK_TYPE_FILE,
        .flags = (walk->is_deleted ? EK_FILE_DELETED : 0) | (is_packed ? EK_FILE_OPAQUE : 0),
        .size = fork.bytes,
        .created = moment_at(record, 12),
        .modified = moment_at(record, 16),
        .accessed = moment_at(record, 24),
        .attributes = ek_span_be16(record, 42),
    };
    EkFolderDamage lost = {.cut_short = TRUE};
    gboolean fine = walk->sink->file(walk->sink->data, &file) && pass_fork(walk, number, &fork) &&
                    pass_name(walk, number, parent, units) &&
                    (!is_packed || walk->sink->damage(walk->sink->data, number, &lost)) &&
                    pass_resources(walk, &file, parent, units, record);
    fork_clear(&fork);
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
        if (!fork_read(opened, &opened->catalog, (guint64)number * size, node, size, &known))
            return;
        g_byte_array_append(walk->used, node + begin, (guint)(size - begin - HEADER_MAP_ENDS));
        number = ek_span_be32((EkSpan){node, size}, 0);
        begin = MAP_NODE_RECORD;
        if (number == 0)
            return;
    }
}

static gboolean is_used(const Walk *walk, guint64 node)
{
    /* Where that is not known a leaf counts as one. */
    return node / 8 >= walk->used->len || (walk->used->data[node / 8] >> (7 - node % 8) & 1) != 0;
}

static gboolean take_leaves(Walk *walk, guint64 nodes, guint8 *node)
{
    const EkOpened *opened = walk->opened;
    EkSpan span = {node, opened->tree.node_bytes};
    for (guint64 at = 1; at < nodes; at++) {
        EkKnown known = {0};
        if (is_used(walk, at) == walk->is_deleted)
            continue;
        if (!fork_read(opened, &opened->catalog, at * span.length, node, span.length, &known)) {
            EkFolderDamage damage = {.unread_bytes = span.length - known.good - known.bad,
                                     .bad_bytes = known.bad};
            if (!walk->is_deleted &&
                !walk->sink->damage(walk->sink->data, EK_HFS_ROOT_FOLDER, &damage))
                return FALSE;
            continue;
        }
        for (guint i = 0; ek_span_u8(span, 8) == KIND_LEAF && i < ek_span_be16(span, 10); i++)
            if (!take_record(walk, record_of(span, i)))
                return FALSE;
        if (at % 256 == 0 && !walk->sink->mark(walk->sink->data, 0, at, nodes))
            return FALSE;
    }
    return TRUE;
}

static gboolean pass_links(Walk *walk)
{
    gboolean fine = TRUE;
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
    EkByte room = MIN(opened->catalog.bytes, ek_gate_bytes(opened->gate));
    guint64 nodes = MIN(opened->tree.nodes, room / opened->tree.node_bytes);
    /* A header that was composed does not say which number comes next. */
    guint64 numbers = MIN(opened->next_number != 0 ? opened->next_number : nodes * 256, SEEN_MOST);
    g_autofree guint8 *seen = g_malloc0((gsize)(numbers / 8) + 1);
    g_autofree guint8 *node = g_malloc(opened->tree.node_bytes);
    Walk walk = {.opened = opened,
                 .sink = sink,
                 .text = text,
                 .units = units,
                 .used = used,
                 .seen = seen,
                 .numbers = numbers,
                 .inodes = inodes,
                 .links = links};
    (void)from;
    load_map(&walk);
    gboolean fine = take_leaves(&walk, nodes, node);
    fine = pass_links(&walk) && fine;
    walk.is_deleted = TRUE;
    return fine && take_leaves(&walk, nodes, node) && sink->mark(sink->data, 0, nodes, nodes);
}

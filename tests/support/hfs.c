/* SPDX-License-Identifier: MIT */
/* HFS+ volumes, byte by byte after Technical Note TN1150. */
#include "volumes.h"

#include "fixture.h"

#include "base/bytes.h"

#include <zlib.h>

#define HEADER 1024u
#define LABEL "Briza"
#define EXTENTS_NODES 4u
#define JOURNAL_BLOCKS 8u
#define JOURNAL_BLOCKS_LAID 512u /* of one that is laid out for many files */
#define HEADER_EVERY 64u         /* blocks of a journal */
#define ROOT 2u
#define FOLDERS_LAID 32u
#define FIRST_FILE 16u /* numbers before it are the format's own */
#define FILE_BLOCKS 3u
#define SPARE_BLOCKS 300u
#define PIECES 10u
#define PIECES_NUMBER 9000u
#define IN_RECORD 8u
#define PACKED_NUMBER 9100u /* of the first of the packed files */
#define ATTRIBUTES_NODES 4u
#define CHUNK 65536u
#define RUN_BLOCKS 18u /* of a resource fork before its second run, which lies two blocks on */

typedef struct {
    const HfsPlan *plan;
    guint32 blocks;
    guint32 bitmap; /* first blocks of each */
    guint32 bitmap_blocks;
    guint32 journal_info; /* 0: none */
    guint32 extents;
    guint32 extents_blocks;
    guint32 catalog;
    guint32 catalog_blocks;
    guint32 catalog_nodes;
    guint32 content;
    guint32 attributes;
    guint32 resources;
    gsize resources_bytes;
    guint8 *data;
} Hfs;

#define MADE 3850000000u /* when, in seconds since 1904, where the plan does not say */

static guint32 made(const HfsPlan *plan)
{
    return plan->made != 0 ? plan->made : MADE;
}

static guint32 first_number(const HfsPlan *plan)
{
    return plan->first_number != 0 ? plan->first_number : FIRST_FILE;
}

static guint32 journal_blocks(const HfsPlan *plan)
{
    return plan->room != 0 ? JOURNAL_BLOCKS_LAID : JOURNAL_BLOCKS;
}

static guint32 blocks_for(const Hfs *hfs, gsize bytes)
{
    return (guint32)ek_divide_up(bytes, hfs->plan->block_bytes);
}

static guint8 *block_at(const Hfs *hfs, guint32 block)
{
    return hfs->data + (gsize)block * hfs->plan->block_bytes;
}

static void use_blocks(Hfs *hfs, guint32 first, guint32 count)
{
    for (guint32 block = first; block < first + count; block++)
        block_at(hfs, hfs->bitmap)[block / 8] |= (guint8)(0x80 >> block % 8);
}

static void put_fork(guint8 *fork, guint64 bytes, guint32 first, guint32 blocks)
{
    ek_put_be64(fork, bytes);
    ek_put_be32(fork + 12, blocks);
    ek_put_be32(fork + 16, first);
    ek_put_be32(fork + 20, blocks);
}

static void put_header(const Hfs *hfs, guint8 *h)
{
    const HfsPlan *plan = hfs->plan;
    memcpy(h, plan->is_sensitive ? "HX" : "H+", 2);
    ek_put_be16(h + 2, plan->is_sensitive ? 5 : 4);
    ek_put_be32(h + 4, plan->has_journal ? 0x2100 : 0x100);
    ek_put_be32(h + 12, hfs->journal_info);
    ek_put_be32(h + 16, made(plan));
    ek_put_be32(h + 20, made(plan) + 10000000u);
    ek_put_be32(h + 32, plan->files);
    ek_put_be32(h + 40, plan->block_bytes);
    ek_put_be32(h + 44, hfs->blocks);
    ek_put_be32(h + 48, SPARE_BLOCKS);
    if (plan->made != 0)
        ek_put_be32(h + 64, first_number(plan) + plan->files + plan->folders + 1);
    ek_put_be64(h + 104, 0x5eed004200000042);
    gsize size = plan->block_bytes;
    put_fork(h + 112, hfs->bitmap_blocks * size, hfs->bitmap, hfs->bitmap_blocks);
    put_fork(h + 192, hfs->extents_blocks * size, hfs->extents, hfs->extents_blocks);
    put_fork(h + 272, hfs->catalog_blocks * size, hfs->catalog, hfs->catalog_blocks);
    if (plan->has_packed)
        put_fork(h + 352, (gsize)ATTRIBUTES_NODES * plan->node_bytes, hfs->attributes,
                 blocks_for(hfs, (gsize)ATTRIBUTES_NODES * plan->node_bytes));
}

/* --- trees --- */

static void put_header_node(guint8 *node, guint32 node_bytes, guint32 nodes, guint32 leaves,
                            guint16 key_most)
{
    static const guint16 records[] = {14, 120, 248};
    node[8] = 1;
    ek_put_be16(node + 10, 3);
    ek_put_be16(node + 14, leaves > 1 ? 2 : (leaves == 1 ? 1 : 0));
    ek_put_be32(node + 16, leaves > 1 ? leaves + 1 : leaves);
    ek_put_be32(node + 24, leaves > 0 ? 1 : 0);
    ek_put_be32(node + 28, leaves);
    ek_put_be16(node + 32, (guint16)node_bytes);
    ek_put_be16(node + 34, key_most);
    ek_put_be32(node + 36, nodes);
    for (gsize i = 0; i < G_N_ELEMENTS(records); i++)
        ek_put_be16(node + node_bytes - 2 * (i + 1), records[i]);
    ek_put_be16(node + node_bytes - 8, (guint16)(node_bytes - 8));
}

typedef struct {
    Hfs *hfs;
    guint32 leaf; /* its number; 0: none yet */
    guint16 used; /* bytes of it */
    guint16 records;
} Filling;

static guint8 *node_at(const Hfs *hfs, guint32 number)
{
    return block_at(hfs, hfs->catalog) + (gsize)number * hfs->plan->node_bytes;
}

static void put_record(Filling *filling, const guint8 *record, guint16 length)
{
    guint32 size = filling->hfs->plan->node_bytes;
    if (filling->leaf == 0 || filling->used + length + 2u * (filling->records + 2u) > size) {
        if (filling->leaf != 0)
            ek_put_be32(node_at(filling->hfs, filling->leaf), filling->leaf + 1);
        filling->leaf++;
        filling->used = 14;
        filling->records = 0;
        guint8 *fresh = node_at(filling->hfs, filling->leaf);
        ek_put_be32(fresh + 4, filling->leaf - 1);
        fresh[8] = 0xff;
        fresh[9] = 1;
    }
    guint8 *node = node_at(filling->hfs, filling->leaf);
    memcpy(node + filling->used, record, length);
    filling->records++;
    ek_put_be16(node + size - 2u * filling->records, filling->used);
    filling->used = (guint16)(filling->used + length);
    ek_put_be16(node + size - 2u * (filling->records + 1u), filling->used);
    ek_put_be16(node + 10, filling->records);
}

static guint16 put_key(guint8 *record, guint32 parent, const char *name)
{
    guint16 units = (guint16)strlen(name);
    ek_put_be16(record, (guint16)(6 + units * 2));
    ek_put_be32(record + 2, parent);
    ek_put_be16(record + 6, units);
    for (guint i = 0; i < units; i++)
        ek_put_be16(record + 8 + 2u * i, (guint16)name[i]);
    return (guint16)(8 + units * 2);
}

static void put_folder(Filling *filling, guint32 parent, const char *name, guint32 number)
{
    guint8 record[256] = {0};
    guint16 key = put_key(record, parent, name);
    ek_put_be16(record + key, 1);
    ek_put_be32(record + key + 4, filling->hfs->plan->files);
    ek_put_be32(record + key + 8, number);
    ek_put_be32(record + key + 12, made(filling->hfs->plan));
    ek_put_be32(record + key + 20, made(filling->hfs->plan));
    put_record(filling, record, (guint16)(key + 88));
}

static void put_thread(Filling *filling, guint32 number, guint16 type, guint32 parent,
                       const char *name)
{
    guint8 record[256] = {0};
    guint16 key = put_key(record, number, "");
    ek_put_be16(record + key, type);
    guint16 behind = put_key(record + key + 2, parent, name);
    ek_put_be16(record + key + 2, 0);
    put_record(filling, record, (guint16)(key + 2 + behind));
}

/* A file's blocks lie behind those of the one before it, the second run two blocks on. */
static void put_file(Filling *filling, guint number, guint32 parent)
{
    Hfs *hfs = filling->hfs;
    guint8 record[512] = {0};
    g_autofree char *name = g_strdup_printf("file %05u", number);
    guint16 key = put_key(record, parent, name);
    guint8 *file = record + key;
    guint32 first = hfs->content + number * (FILE_BLOCKS + 2);
    gsize bytes = (gsize)FILE_BLOCKS * hfs->plan->block_bytes - 1;
    guint32 in_first = number % 5 == 0 ? 1 : FILE_BLOCKS;
    ek_put_be16(file, 2);
    ek_put_be32(file + 8, first_number(hfs->plan) + number);
    for (guint date = 12; date <= 20; date += 4)
        ek_put_be32(file + date, made(hfs->plan) + number);
    ek_put_be64(file + 88, bytes);
    ek_put_be32(file + 100, FILE_BLOCKS);
    ek_put_be32(file + 104, first);
    ek_put_be32(file + 108, in_first);
    use_blocks(hfs, first, in_first);
    fill_noise(block_at(hfs, first), (gsize)(FILE_BLOCKS + 2) * hfs->plan->block_bytes,
               made(hfs->plan) + number);
    /* Behind its end there is nothing. */
    guint32 last = in_first < FILE_BLOCKS ? first + FILE_BLOCKS + 1 : first + FILE_BLOCKS - 1;
    block_at(hfs, last)[hfs->plan->block_bytes - 1] = 0;
    if (in_first < FILE_BLOCKS) {
        ek_put_be32(file + 112, first + in_first + 2);
        ek_put_be32(file + 116, FILE_BLOCKS - in_first);
        use_blocks(hfs, first + in_first + 2, FILE_BLOCKS - in_first);
    }
    put_record(filling, record, (guint16)(key + 248));
}

/* A file of single blocks, each two behind the one before. */
static guint32 piece_block(const Hfs *hfs, guint piece)
{
    return hfs->content + MAX(hfs->plan->files, hfs->plan->room) * (FILE_BLOCKS + 2) + piece * 2;
}

static void put_pieces(Filling *filling)
{
    Hfs *hfs = filling->hfs;
    guint8 record[512] = {0};
    guint16 key = put_key(record, 2, "pieces");
    guint8 *file = record + key;
    ek_put_be16(file, 2);
    ek_put_be32(file + 8, PIECES_NUMBER);
    ek_put_be32(file + 12, 3850000000u);
    ek_put_be32(file + 16, 3850000000u);
    ek_put_be64(file + 88, (guint64)PIECES * hfs->plan->block_bytes - 3);
    ek_put_be32(file + 100, PIECES);
    for (guint i = 0; i < PIECES; i++) {
        use_blocks(hfs, piece_block(hfs, i), 1);
        if (i >= IN_RECORD)
            continue;
        ek_put_be32(file + 104 + 8ul * i, piece_block(hfs, i));
        ek_put_be32(file + 108 + 8ul * i, 1);
    }
    put_record(filling, record, (guint16)(key + 248));
}

/* What of it the catalog has no room for stands in the tree of extents. */
static void put_overflow(Hfs *hfs)
{
    guint32 size = hfs->plan->node_bytes;
    guint8 *node = block_at(hfs, hfs->extents) + size;
    guint8 *record = node + 14;
    node[8] = 0xff;
    node[9] = 1;
    ek_put_be16(node + 10, 1);
    ek_put_be16(record, 10);
    ek_put_be32(record + 4, PIECES_NUMBER);
    ek_put_be32(record + 8, IN_RECORD);
    for (guint i = IN_RECORD; i < PIECES; i++) {
        ek_put_be32(record + 12 + 8ul * (i - IN_RECORD), piece_block(hfs, i));
        ek_put_be32(record + 16 + 8ul * (i - IN_RECORD), 1);
    }
    ek_put_be16(node + size - 2, 14);
    ek_put_be16(node + size - 4, 14 + 12 + 64);
}

/* --- packed files --- */

static const struct {
    const char *name;
    guint32 type;
    gsize bytes;
} packed_files[] = {{"packed apart", 4, PACKED_APART},
                    {"packed here", 3, PACKED_HERE},
                    {"packed oddly", 8, PACKED_APART},
                    {"stored here", 3, PACKED_HERE / 4}};

guint8 *composed_packed(gsize length)
{
    guint8 *content = g_malloc(length);
    for (gsize i = 0; i < length; i++)
        content[i] = (guint8)(i % 3 == 0 ? (i * i >> 7) & 0x3f : 'a' + i % 23);
    return content;
}

static gsize pack(const guint8 *from, gsize length, guint8 *into, gsize room)
{
    uLongf packed = (uLongf)room;
    int result = compress2(into, &packed, from, (uLong)length, 9);
    g_assert(result == Z_OK);
    return (gsize)packed;
}

/* The resource fork: where its data is, the table of chunks, the chunks, the last one not packed.
 */
static void put_resources(Hfs *hfs)
{
    g_autofree guint8 *content = composed_packed(PACKED_APART);
    guint32 chunks = (guint32)ek_divide_up(PACKED_APART, CHUNK);
    guint8 *fork = g_malloc0(2 * PACKED_APART);
    gsize at = 260 + 4 + 8ul * chunks;
    ek_put_be32(fork, 256);
    ek_put_le32(fork + 260, chunks);
    for (guint32 i = 0; i < chunks; i++) {
        gsize bytes = MIN(CHUNK, PACKED_APART - (gsize)i * CHUNK);
        gsize packed = bytes + 1;
        fork[at] = 0xff;
        memcpy(fork + at + 1, content + (gsize)i * CHUNK, bytes);
        if (i + 1 < chunks)
            packed = pack(content + (gsize)i * CHUNK, bytes, fork + at, 2 * CHUNK);
        ek_put_le32(fork + 264 + 8ul * i, (guint32)(at - 260));
        ek_put_le32(fork + 268 + 8ul * i, (guint32)packed);
        at += packed;
    }
    hfs->resources_bytes = at;
    gsize first = (gsize)RUN_BLOCKS * hfs->plan->block_bytes;
    g_assert(at > first && at - first < (gsize)20 * hfs->plan->block_bytes);
    memcpy(block_at(hfs, hfs->resources), fork, first);
    memcpy(block_at(hfs, hfs->resources + RUN_BLOCKS + 2), fork + first, at - first);
    g_free(fork);
}

static void put_attribute(Filling *filling, guint32 file, guint32 type, gsize size,
                          const guint8 *content, gsize length)
{
    static const char name[] = "com.apple.decmpfs";
    guint8 record[4096] = {0};
    guint16 key = (guint16)(14 + 2 * (sizeof name - 1));
    ek_put_be16(record, (guint16)(key - 2));
    ek_put_be32(record + 4, file);
    ek_put_be16(record + 12, sizeof name - 1);
    for (guint i = 0; i < sizeof name - 1; i++)
        ek_put_be16(record + 14 + 2u * i, (guint16)name[i]);
    ek_put_be32(record + key, 0x10);
    ek_put_be32(record + key + 12, (guint32)(16 + length));
    memcpy(record + key + 16, "fpmc", 4);
    ek_put_le32(record + key + 20, type);
    ek_put_le64(record + key + 24, size);
    if (length > 0)
        memcpy(record + key + 32, content, length);
    put_record(filling, record, (guint16)(key + 32 + length + (length & 1)));
}

static void put_attributes(Hfs *hfs)
{
    Hfs tree = *hfs;
    Filling filling = {.hfs = &tree};
    /* put_record fills the tree whose first node is the catalog's: here it is this one's. */
    tree.catalog = hfs->attributes;
    for (guint32 i = 0; i < G_N_ELEMENTS(packed_files); i++) {
        gsize size = packed_files[i].bytes;
        g_autofree guint8 *content = composed_packed(size);
        guint8 room[4096] = {0xff};
        gsize length = 0;
        if (size == PACKED_HERE)
            length = pack(content, size, room, sizeof room);
        else if (size < PACKED_HERE) {
            memcpy(room + 1, content, size);
            length = size + 1;
        }
        put_attribute(&filling, PACKED_NUMBER + i, packed_files[i].type, size, room, length);
    }
    put_header_node(block_at(hfs, hfs->attributes), hfs->plan->node_bytes, ATTRIBUTES_NODES,
                    filling.leaf, 266);
}

static void put_packed(Filling *filling)
{
    Hfs *hfs = filling->hfs;
    for (guint32 i = 0; i < G_N_ELEMENTS(packed_files); i++) {
        guint8 record[512] = {0};
        guint16 key = put_key(record, 2, packed_files[i].name);
        guint8 *file = record + key;
        ek_put_be16(file, 2);
        ek_put_be32(file + 8, PACKED_NUMBER + i);
        ek_put_be32(file + 12, 3850000000u);
        ek_put_be32(file + 16, 3850000000u);
        file[41] = 0x20;
        if (packed_files[i].type == 4) {
            guint32 blocks = blocks_for(hfs, hfs->resources_bytes);
            put_fork(file + 168, hfs->resources_bytes, hfs->resources, RUN_BLOCKS);
            ek_put_be32(file + 168 + 12, blocks);
            ek_put_be32(file + 168 + 24, hfs->resources + RUN_BLOCKS + 2);
            ek_put_be32(file + 168 + 28, blocks - RUN_BLOCKS);
        }
        put_record(filling, record, (guint16)(key + 248));
    }
}

static void put_index(Filling *filling)
{
    Hfs *hfs = filling->hfs;
    guint32 size = hfs->plan->node_bytes;
    guint32 leaves = filling->leaf;
    guint8 *node = node_at(hfs, leaves + 1);
    guint16 used = 14;
    ek_put_be16(node + 8, 2);
    ek_put_be16(node + 10, (guint16)leaves);
    for (guint32 i = 1; i <= leaves; i++) {
        const guint8 *leaf = node_at(hfs, i);
        guint16 key = (guint16)(2 + ek_span_be16((EkSpan){leaf + 14, 2}, 0));
        g_assert(used + key + 4u + 2 * (i + 1) <= size);
        memcpy(node + used, leaf + 14, key);
        ek_put_be32(node + used + key, i);
        ek_put_be16(node + size - 2 * i, used);
        used = (guint16)(used + key + 4);
    }
    ek_put_be16(node + size - 2 * (leaves + 1), used);
}

/* Those of a folder, 0: the root. */
static void put_files(Filling *filling, guint folder)
{
    const HfsPlan *plan = filling->hfs->plan;
    for (guint i = folder; i < plan->files; i += plan->folders + 1)
        put_file(filling, i, folder == 0 ? ROOT : first_number(plan) + plan->files + folder);
}

/* What leads from numbers to names, and what is in folders: in the order of their numbers. */
static void put_threads(Filling *filling)
{
    const HfsPlan *plan = filling->hfs->plan;
    for (guint i = 0; i < plan->files; i++) {
        g_autofree char *name = g_strdup_printf("file %05u", i);
        guint folder = i % (plan->folders + 1);
        put_thread(filling, first_number(plan) + i, 4,
                   folder == 0 ? ROOT : first_number(plan) + plan->files + folder, name);
    }
    for (guint i = 1; i <= plan->folders; i++) {
        g_autofree char *name = g_strdup_printf("shelf %03u", i);
        put_thread(filling, first_number(plan) + plan->files + i, 3, ROOT, name);
        put_files(filling, i);
    }
}

static void put_catalog(Hfs *hfs)
{
    Filling filling = {.hfs = hfs};
    put_folder(&filling, 1, LABEL, ROOT);
    put_thread(&filling, ROOT, 3, 1, LABEL);
    put_files(&filling, 0);
    if (hfs->plan->has_pieces)
        put_pieces(&filling);
    if (hfs->plan->has_packed) {
        put_resources(hfs);
        put_packed(&filling);
        put_attributes(hfs);
    }
    for (guint i = 1; i <= hfs->plan->folders; i++) {
        g_autofree char *name = g_strdup_printf("shelf %03u", i);
        put_folder(&filling, ROOT, name, first_number(hfs->plan) + hfs->plan->files + i);
    }
    put_threads(&filling);
    if (filling.leaf > 1)
        put_index(&filling);
    put_header_node(node_at(hfs, 0), hfs->plan->node_bytes, hfs->catalog_nodes, filling.leaf, 516);
    node_at(hfs, 0)[51] = hfs->plan->is_sensitive ? 0xbc : 0xcf;
    /* Its map: the header node, the leaves, the index. */
    guint32 used = filling.leaf > 1 ? filling.leaf + 2 : filling.leaf + 1;
    for (guint32 i = 0; i < used; i++)
        node_at(hfs, 0)[248 + i / 8] |= (guint8)(0x80 >> i % 8);
}

/* --- the volume --- */

static void put_journal(Hfs *hfs, Composed *composed)
{
    guint8 *info = block_at(hfs, hfs->journal_info);
    gsize size = hfs->plan->block_bytes;
    ek_put_be32(info, 1);
    ek_put_be64(info + 36, (hfs->journal_info + 1) * size);
    ek_put_be64(info + 44, journal_blocks(hfs->plan) * size);
    composed->journal_byte = (hfs->journal_info + 1) * size;
    for (guint32 block = 0; block < journal_blocks(hfs->plan); block += HEADER_EVERY)
        put_header(hfs, hfs->data + composed->journal_byte + block * size + 2 * 512);
}

static void lay_out(Hfs *hfs)
{
    const HfsPlan *plan = hfs->plan;
    guint files = MAX(plan->files, plan->room);
    /* Those of one size lie alike, however many folders there are. */
    guint folders = plan->room != 0 ? MAX(plan->folders, FOLDERS_LAID) : plan->folders;
    gsize records = files * (gsize)(270 + 60) + folders * (gsize)(120 + 60) + 1024;
    hfs->catalog_nodes = (guint32)(records / (plan->node_bytes - 300)) + 4;
    hfs->bitmap = blocks_for(hfs, HEADER + 512);
    hfs->extents_blocks = blocks_for(hfs, (gsize)EXTENTS_NODES * plan->node_bytes);
    hfs->catalog_blocks = blocks_for(hfs, (gsize)hfs->catalog_nodes * plan->node_bytes);
    hfs->blocks = hfs->bitmap + 2 + journal_blocks(plan) + hfs->extents_blocks +
                  hfs->catalog_blocks + files * (FILE_BLOCKS + 2) + SPARE_BLOCKS;
    hfs->bitmap_blocks = blocks_for(hfs, ek_divide_up(hfs->blocks, 8));
    guint32 next = hfs->bitmap + hfs->bitmap_blocks;
    if (plan->has_journal) {
        hfs->journal_info = next;
        next += 1 + journal_blocks(plan);
    }
    hfs->extents = next;
    hfs->catalog = next + hfs->extents_blocks;
    hfs->content = hfs->catalog + hfs->catalog_blocks;
    /* In what is spare. */
    hfs->attributes = hfs->content + files * (FILE_BLOCKS + 2) + 2 * PIECES;
    hfs->resources = hfs->attributes + blocks_for(hfs, (gsize)ATTRIBUTES_NODES * plan->node_bytes);
}

Composed *composed_hfs(const HfsPlan *plan)
{
    Hfs hfs = {.plan = plan};
    lay_out(&hfs);
    Composed *composed = g_new0(Composed, 1);
    *composed = (Composed){
        .filesystem = "hfsplus",
        .label = LABEL,
        .uuid = "5eed004200000042",
        .first_byte = HEADER,
        .first_length = 512,
        .length = (gsize)hfs.blocks * plan->block_bytes + plan->rest,
        .copy_length = 512,
        .catalog_byte = (gsize)hfs.catalog * plan->block_bytes,
    };
    if (plan->has_packed) {
        composed->attributes_byte = (gsize)hfs.attributes * plan->block_bytes;
        composed->resources_byte = (gsize)hfs.resources * plan->block_bytes;
    }
    composed->data = hfs.data = g_malloc0(composed->length);
    composed->copy_byte = composed->length - HEADER;
    put_header(&hfs, hfs.data + composed->first_byte);
    put_header(&hfs, hfs.data + composed->copy_byte);
    use_blocks(&hfs, 0, hfs.content);
    guint32 last = blocks_for(&hfs, HEADER);
    use_blocks(&hfs, hfs.blocks - last, last);
    put_header_node(block_at(&hfs, hfs.extents), plan->node_bytes, EXTENTS_NODES,
                    plan->has_pieces ? 1 : 0, 10);
    if (plan->has_pieces)
        put_overflow(&hfs);
    put_catalog(&hfs);
    if (plan->has_journal)
        put_journal(&hfs, composed);
    return composed;
}

Composed *composed_hfsplus(gboolean sensitive, gsize rest)
{
    HfsPlan plan = {
        .block_bytes = 4096, .node_bytes = 4096, .is_sensitive = sensitive, .rest = rest};
    return composed_hfs(&plan);
}

void composed_hfs_over(guint8 *drive, gsize length, const HfsPlan *plan, gboolean clears)
{
    g_autoptr(Composed) newer = composed_hfs(plan);
    EkSpan first = {newer->data + newer->first_byte, newer->first_length};
    gsize extents = (gsize)ek_span_be32(first, 192 + 16) * plan->block_bytes;
    gsize content = newer->catalog_byte + (gsize)ek_span_be32(first, 272 + 12) * plan->block_bytes;
    guint32 behind = plan->files * (FILE_BLOCKS + 2);
    const guint8 *bitmap = newer->data + (gsize)ek_span_be32(first, 112 + 16) * plan->block_bytes;
    EkSpan head = {newer->data + newer->catalog_byte, plan->node_bytes};
    guint32 leaves = ek_span_be32(head, 28);
    guint32 nodes = leaves > 1 ? leaves + 2 : leaves + 1;
    g_assert(newer->length <= length);
    if (clears)
        memset(drive, 0, content);
    memcpy(drive, newer->data, extents + plan->node_bytes);
    memcpy(drive + newer->catalog_byte, head.data, (gsize)nodes * plan->node_bytes);
    for (guint32 block = (guint32)(content / plan->block_bytes), i = 0; i < behind; i++, block++)
        if ((bitmap[block / 8] & 0x80 >> block % 8) != 0)
            memcpy(drive + (gsize)block * plan->block_bytes,
                   newer->data + (gsize)block * plan->block_bytes, plan->block_bytes);
    memcpy(drive + newer->copy_byte, newer->data + newer->copy_byte, newer->copy_length);
}

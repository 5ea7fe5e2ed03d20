/* SPDX-License-Identifier: MIT */
/* A Btrfs volume without any superblock. Every node of a tree says at which address of the volume
 * it stands; a leaf of the chunk tree says where on the device the chunks of these addresses lie,
 * its own among them, and how long the device is. From the leaf's place follows where the device
 * begins; nodes of the other trees, and the leaf's own copy, must then be where the chunks have
 * them. Offsets as in the "Btrfs On-disk Format" of its documentation. */
#include "volume/btrfs/btrfs.h"
#include "volume/formats.h"
#include "volume/headers.h"

#include "base/checksum.h"

#include <string.h>

#define NODE_LEAST 4096u
#define NODE_MOST 65536u
#define HEADER_BYTES 101u
#define ITEM_BYTES 25u
#define CHUNK_TREE 3u
#define LEVEL_MOST 7u
#define DEVICE_ITEM 216u
#define CHUNK_ITEM 228u
#define CHUNK_BYTES 48u
#define STRIPE_BYTES 32u
#define STRIPES_MOST 4096u
#define LEAVES_TRIED 256u
#define NODES_TRIED 4096u
#define DEVICE_LEAST ((guint64)1 << 20)

/* Leaves of the chunk tree are told from other nodes by the stride of their runs. */
enum { SEEN_NODE = NODE_LEAST, SEEN_CHUNKS = 2 * NODE_LEAST };

/* A stripe of a chunk: addresses of the volume and where they lie on a device. */
typedef struct {
    guint64 logical;
    guint64 bytes;
    guint64 device;
    guint64 offset;
} Stripe;

typedef struct {
    EkByte place;
    guint64 logical;
    guint64 generation;
    guint32 bytes;
    guint8 id[16];   /* of the volume */
    GArray *stripes; /* Stripe */
    GArray *devices; /* guint64: number, bytes */
} Leaf;

gboolean ek_btrfs_record_seen(EkSpan span, EkRecord *record)
{
    guint64 logical = ek_span_le64(span, 48);
    guint64 owner = ek_span_le64(span, 88);
    guint32 items = ek_span_le32(span, 96);
    guint8 level = ek_span_u8(span, 100);
    if (span.length < NODE_LEAST || logical == 0 || logical % NODE_LEAST != 0 ||
        ek_bytes_are_zero(span.data + 32, 16) || owner == 0 || items == 0 ||
        items > NODE_MOST / ITEM_BYTES || level > LEVEL_MOST)
        return FALSE;
    record->number = logical / NODE_LEAST;
    record->bytes = owner == CHUNK_TREE && level == 0 ? SEEN_CHUNKS : SEEN_NODE;
    return TRUE;
}

static void leaf_clear(Leaf *leaf)
{
    g_clear_pointer(&leaf->stripes, g_array_unref);
    g_clear_pointer(&leaf->devices, g_array_unref);
}

static void take_chunk(Leaf *leaf, EkSpan chunk, guint64 logical)
{
    guint stripes = MIN(ek_span_le16(chunk, 44), STRIPES_MOST);
    for (guint i = 0; i < stripes; i++) {
        gsize at = CHUNK_BYTES + (gsize)i * STRIPE_BYTES;
        Stripe stripe = {logical, ek_span_le64(chunk, 0), ek_span_le64(chunk, at),
                         ek_span_le64(chunk, at + 8)};
        if (ek_span_has(chunk, at, STRIPE_BYTES) && stripe.bytes > 0 &&
            stripe.bytes < G_MAXINT64 / 2 && stripe.offset < G_MAXINT64 / 2 &&
            leaf->stripes->len < STRIPES_MOST)
            g_array_append_val(leaf->stripes, stripe);
    }
}

/* Reads a leaf of the chunk tree, of whatever size makes its checksum fit. */
static gboolean leaf_read(EkReader *reader, EkByte place, Leaf *leaf)
{
    g_autofree guint8 *data = g_malloc(NODE_MOST);
    *leaf = (Leaf){.place = place};
    for (leaf->bytes = NODE_LEAST; leaf->bytes <= NODE_MOST; leaf->bytes *= 2) {
        if (ek_presence_read(reader, place, data, leaf->bytes) != EK_PRESENT)
            return FALSE;
        EkSpan rest = {data + 32, leaf->bytes - 32};
        if (~ek_crc32c(G_MAXUINT32, rest) == ek_span_le32((EkSpan){data, 4}, 0))
            break;
    }
    if (leaf->bytes > NODE_MOST)
        return FALSE;
    EkSpan span = {data, leaf->bytes};
    memcpy(leaf->id, data + 32, sizeof leaf->id);
    leaf->logical = ek_span_le64(span, 48);
    leaf->generation = ek_span_le64(span, 80);
    leaf->stripes = g_array_new(FALSE, FALSE, sizeof(Stripe));
    leaf->devices = g_array_new(FALSE, FALSE, 2 * sizeof(guint64));
    guint32 items = ek_span_le32(span, 96);
    for (guint32 i = 0; i < items; i++) {
        gsize item = HEADER_BYTES + (gsize)i * ITEM_BYTES;
        if (!ek_span_has(span, item, ITEM_BYTES))
            break;
        EkSpan content = ek_span_part(span, HEADER_BYTES + (gsize)ek_span_le32(span, item + 17),
                                      ek_span_le32(span, item + 21));
        guint64 device[2] = {ek_span_le64(content, 0), ek_span_le64(content, 8)};
        if (ek_span_u8(span, item + 8) == CHUNK_ITEM)
            take_chunk(leaf, content, ek_span_le64(span, item + 9));
        else if (ek_span_u8(span, item + 8) == DEVICE_ITEM && ek_span_has(content, 0, 16))
            g_array_append_val(leaf->devices, device);
    }
    return TRUE;
}

/* How long the device of a number is; 0: the leaf does not say. */
static guint64 device_bytes(const Leaf *leaf, guint64 number)
{
    for (guint i = 0; i < leaf->devices->len; i++) {
        const guint64 *device = &((const guint64 *)(const void *)leaf->devices->data)[(gsize)i * 2];
        if (device[0] == number)
            return device[1];
    }
    return 0;
}

static gboolean holds(const Stripe *stripe, guint64 logical)
{
    return logical >= stripe->logical && logical - stripe->logical < stripe->bytes;
}

/* Is a node of this volume, with this address, at `at`? */
static gboolean is_node(EkReader *reader, const Leaf *leaf, EkByte at, guint64 logical)
{
    guint8 header[HEADER_BYTES];
    return ek_presence_read(reader, at, header, sizeof header) == EK_PRESENT &&
           memcmp(header + 32, leaf->id, sizeof leaf->id) == 0 &&
           ek_span_le64((EkSpan){header, sizeof header}, 48) == logical;
}

/* Nodes of other trees that are where a device that begins at `first` has them. */
static guint count_nodes(EkReader *reader, const Leaf *leaf, guint64 device, EkByte first,
                         const GArray *runs)
{
    guint there = 0;
    for (guint i = 0; i < runs->len && i < NODES_TRIED; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        guint64 logical = run->first_record * NODE_LEAST;
        gboolean fits = FALSE;
        for (guint k = 0; k < leaf->stripes->len && !fits; k++) {
            const Stripe *stripe = &g_array_index(leaf->stripes, Stripe, k);
            fits = stripe->device == device && holds(stripe, logical) &&
                   run->first_byte == first + stripe->offset + (logical - stripe->logical) &&
                   run->first_byte != leaf->place;
        }
        if (fits && is_node(reader, leaf, run->first_byte, logical))
            there++;
    }
    return there;
}

typedef struct {
    EkByte first;
    guint64 bytes;
    guint64 device;
    EkByte copy; /* of the leaf; EK_UNPLACED: there is none */
    guint nodes;
} Found;

/* The leaf lies in one of the stripes that it names for its own address. */
static Found find_start(EkReader *reader, const Leaf *leaf, const GArray *runs)
{
    Found best = {.copy = EK_UNPLACED};
    for (guint i = 0; i < leaf->stripes->len; i++) {
        const Stripe *stripe = &g_array_index(leaf->stripes, Stripe, i);
        if (!holds(stripe, leaf->logical))
            continue;
        EkByte inside = leaf->logical - stripe->logical;
        Found found = {.device = stripe->device, .copy = EK_UNPLACED};
        if (stripe->offset + inside > leaf->place)
            continue;
        found.first = leaf->place - stripe->offset - inside;
        found.bytes = device_bytes(leaf, stripe->device);
        if (found.first % EK_STEP != 0 || found.bytes < DEVICE_LEAST ||
            found.bytes > G_MAXINT64 / 2)
            continue;
        for (guint k = 0; k < leaf->stripes->len && found.copy == EK_UNPLACED; k++) {
            const Stripe *other = &g_array_index(leaf->stripes, Stripe, k);
            EkByte at = found.first + other->offset + inside;
            if (k != i && other->device == stripe->device && holds(other, leaf->logical) &&
                other->logical == stripe->logical && is_node(reader, leaf, at, leaf->logical))
                found.copy = at;
        }
        found.nodes = count_nodes(reader, leaf, stripe->device, found.first, runs);
        guint weight = found.nodes + (found.copy != EK_UNPLACED ? 1 : 0);
        if (weight > best.nodes + (best.copy != EK_UNPLACED ? 1 : 0))
            best = found;
    }
    return best;
}

static EkVolume *describe(const Leaf *leaf, const Found *found)
{
    EkVolume *volume = ek_volume_new(NULL, "btrfs");
    volume->composed = volume->by_backup = TRUE;
    volume->first_byte = found->first;
    volume->bytes = found->bytes;
    volume->header_byte = leaf->place;
    volume->metadata_byte = leaf->place;
    volume->own_sector_size = EK_STEP;
    volume->uuid = ek_volume_uuid((EkSpan){leaf->id, sizeof leaf->id});
    ek_volume_property_number(volume, "bytes per node", leaf->bytes);
    ek_volume_property_number(volume, "generation", leaf->generation);
    ek_volume_property(volume, "device", "%" G_GUINT64_FORMAT, found->device);
    ek_volume_reason(volume, 30,
                     "no superblock found; the chunk tree at sector %" G_GUINT64_FORMAT
                     " (its checksum fits) states where the volume starts and how long it is",
                     leaf->place / EK_STEP);
    if (found->copy != EK_UNPLACED)
        ek_volume_reason(volume, 15, "a copy of it is at sector %" G_GUINT64_FORMAT,
                         found->copy / EK_STEP);
    if (found->nodes > 0)
        ek_volume_reason(volume, found->nodes > 1 ? 25 : 15,
                         "%u other %s of its trees %s where the chunk tree states", found->nodes,
                         found->nodes == 1 ? "node" : "nodes", found->nodes == 1 ? "is" : "are");
    ek_volume_reason(volume, 0, "label lost (stored only in the superblock)");
    ek_header_end(volume, TRUE);
    return volume;
}

/* What the newest leaf so far says of a place. */
typedef struct {
    guint64 generation;
    EkVolume *volume;
} Newest;

/* Of several at one place the newest leaf says how things are. */
static void take_found(GArray *newest, const Leaf *leaf, const Found *found)
{
    for (guint i = 0; i < newest->len; i++) {
        Newest *known = &g_array_index(newest, Newest, i);
        if (known->volume->first_byte != found->first)
            continue;
        if (leaf->generation > known->generation) {
            ek_volume_free(known->volume);
            *known = (Newest){leaf->generation, describe(leaf, found)};
        }
        return;
    }
    Newest fresh = {leaf->generation, describe(leaf, found)};
    g_array_append_val(newest, fresh);
}

gboolean ek_btrfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                        void *data, GError **error)
{
    const GArray *runs = sightings->runs;
    guint tried = 0;
    (void)error;
    g_autoptr(GArray) newest = g_array_new(FALSE, FALSE, sizeof(Newest));
    for (guint i = 0; i < runs->len && tried < LEAVES_TRIED; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        Leaf leaf;
        if (run->stride != SEEN_CHUNKS)
            continue;
        tried++;
        if (!leaf_read(reader, run->first_byte, &leaf))
            continue;
        Found found = find_start(reader, &leaf, runs);
        if (found.bytes > 0)
            take_found(newest, &leaf, &found);
        leaf_clear(&leaf);
    }
    for (guint i = 0; i < newest->len; i++)
        sink(data, g_array_index(newest, Newest, i).volume);
    return TRUE;
}

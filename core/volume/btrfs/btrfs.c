/* SPDX-License-Identifier: MIT */
/* Btrfs volumes (one device of them): offsets as in the "Btrfs On-disk Format" of its
 * documentation. Found by any mirror of the superblock, which says itself where it stands; believed
 * when its checksum fits or the chunk tree is where it says. The files are not listed by this
 * version. */
#include "volume/btrfs/btrfs.h"
#include "volume/headers.h"

#include "base/checksum.h"

#define SUPER_BYTES 4096u
#define MAGIC_OFFSET 64u
#define CHUNKS_OFFSET 811u
#define CHUNKS_MOST 2048u
#define KEY_BYTES 17u
#define CHUNK_BYTES 48u
#define STRIPE_BYTES 32u
#define SUM_CRC32C 0u
#define FEATURES_OFFSET 188u
#define METADATA_UUID 0x400u /* a feature: its trees carry another UUID than it is called by */
#define METADATA_UUID_OFFSET 571u

static const EkByte mirrors[] = {(EkByte)64 << 10, (EkByte)64 << 20, (EkByte)256 << 30};

typedef struct {
    EkByte place; /* of this mirror in the volume */
    guint64 generation;
    guint64 chunk_root;
    guint64 devices;
    guint32 sector_bytes;
    guint32 node_bytes;
    guint16 sum_kind;
    guint64 device;
    guint64 device_bytes;
    guint32 chunks_bytes;
} Super;

static gboolean super_read(EkSpan span, Super *super)
{
    if (span.length < SUPER_BYTES || !ek_span_equals(span, MAGIC_OFFSET, "_BHRfS_M", 8))
        return FALSE;
    *super = (Super){
        .place = ek_span_le64(span, 48),
        .generation = ek_span_le64(span, 72),
        .chunk_root = ek_span_le64(span, 88),
        .devices = ek_span_le64(span, 136),
        .sector_bytes = ek_span_le32(span, 144),
        .node_bytes = ek_span_le32(span, 148),
        .chunks_bytes = ek_span_le32(span, 160),
        .sum_kind = ek_span_le16(span, 196),
        .device = ek_span_le64(span, 201),
        .device_bytes = ek_span_le64(span, 209),
    };
    return ek_is_power_of_two(super->sector_bytes) && super->sector_bytes >= 4096 &&
           super->sector_bytes <= 65536 && ek_is_power_of_two(super->node_bytes) &&
           super->node_bytes >= super->sector_bytes && super->node_bytes <= 65536 &&
           super->chunks_bytes <= CHUNKS_MOST && super->device_bytes > mirrors[0] &&
           super->device_bytes < G_MAXINT64;
}

/* The UUID that its trees and its mirrors have in common, whatever it is called. */
static const guint8 *identity_of(EkSpan span)
{
    gboolean is_apart = (ek_span_le64(span, FEATURES_OFFSET) & METADATA_UUID) != 0;
    return span.data + (is_apart ? METADATA_UUID_OFFSET : 32);
}

static gboolean checksum_fits(EkSpan span)
{
    return ~ek_crc32c(G_MAXUINT32, ek_span_part(span, 32, SUPER_BYTES - 32)) ==
           ek_span_le32(span, 0);
}

guint ek_btrfs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    Super super;
    if (!super_read(span, &super) || super.place > at)
        return 0;
    for (guint i = 0; i < G_N_ELEMENTS(mirrors); i++)
        if (super.place == mirrors[i]) {
            candidates[0] =
                (EkCandidate){at - super.place, at, i == 0 ? EK_ROLE_PRIMARY : EK_ROLE_BACKUP};
            return 1;
        }
    return 0;
}

/* Where on this device a place of the volume's own address space lies; EK_UNPLACED when the chunks
 * named in the superblock do not tell. */
static EkByte placed(EkSpan span, const Super *super, guint64 logical)
{
    EkSpan chunks = ek_span_part(span, CHUNKS_OFFSET, super->chunks_bytes);
    for (gsize at = 0; ek_span_has(chunks, at, KEY_BYTES + CHUNK_BYTES);) {
        guint64 first = ek_span_le64(chunks, at + 9);
        guint64 length = ek_span_le64(chunks, at + KEY_BYTES);
        guint stripes = ek_span_le16(chunks, at + KEY_BYTES + 44);
        gsize stripe = at + KEY_BYTES + CHUNK_BYTES;
        for (guint i = 0; i < stripes && ek_span_has(chunks, stripe, STRIPE_BYTES); i++) {
            EkByte offset = ek_span_le64(chunks, stripe + 8);
            if (logical >= first && logical - first < length &&
                ek_span_le64(chunks, stripe) == super->device && offset < G_MAXINT64 / 2 &&
                length < G_MAXINT64 / 2)
                return offset + (logical - first);
            stripe += STRIPE_BYTES;
        }
        at = stripe;
    }
    return EK_UNPLACED;
}

static EkPresence look_at_chunk_tree(EkReader *reader, EkVolume *volume, const Super *super,
                                     EkSpan own)
{
    guint8 node[128];
    EkByte place = placed(own, super, super->chunk_root);
    if (place == EK_UNPLACED) {
        ek_volume_reason(volume, 0,
                         "the location of the chunk tree cannot be determined from this device");
        return EK_UNREAD;
    }
    EkByte at = volume->first_byte + place;
    EkPresence part = ek_presence_read(reader, at, node, sizeof node);
    EkSpan span = {node, sizeof node};
    if (part == EK_PRESENT && (memcmp(node + 32, identity_of(own), 16) != 0 ||
                               ek_span_le64(span, 48) != super->chunk_root))
        part = EK_ABSENT;
    ek_presence_reason(volume, part, "the chunk tree", at, 35);
    return part;
}

static guint weigh_mirrors(EkReader *reader, EkVolume *volume, const Super *super, EkSpan own)
{
    guint8 copy[SUPER_BYTES];
    guint there = 0;
    for (guint i = 0; i < G_N_ELEMENTS(mirrors); i++) {
        Super other;
        EkByte at = volume->first_byte + mirrors[i];
        if (at == volume->header_byte && i == 0)
            ek_presence_reason(volume, EK_PRESENT, "the primary superblock", at, 15);
        if (at == volume->header_byte || mirrors[i] + SUPER_BYTES > super->device_bytes)
            continue;
        EkPresence part = ek_presence_read(reader, at, copy, sizeof copy);
        if (part == EK_PRESENT &&
            (!super_read((EkSpan){copy, sizeof copy}, &other) || other.place != mirrors[i] ||
             memcmp(identity_of((EkSpan){copy, sizeof copy}), identity_of(own), 16) != 0))
            part = EK_ABSENT;
        ek_presence_reason(volume, part, i == 0 ? "the primary superblock" : "another superblock",
                           at, 15);
        there += part == EK_PRESENT;
    }
    return there;
}

EkVolume *ek_btrfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[SUPER_BYTES];
    EkSpan span = {data, sizeof data};
    Super super;
    g_autoptr(EkVolume) volume =
        ek_header_begin("btrfs", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !super_read(span, &super))
        return g_steal_pointer(&volume);
    volume->bytes = super.device_bytes;
    volume->uuid = ek_volume_uuid(ek_span_part(span, 32, 16));
    volume->label = ek_volume_label(ek_span_part(span, 299, 256));
    ek_volume_property_number(volume, "bytes per sector", super.sector_bytes);
    ek_volume_property_number(volume, "bytes per node", super.node_bytes);
    ek_volume_property_number(volume, "generation", super.generation);
    ek_volume_property(volume, "device", "%" G_GUINT64_FORMAT ", of %" G_GUINT64_FORMAT,
                       super.device, super.devices);

    ek_volume_reason(volume, 20, "superblock at sector %" G_GUINT64_FORMAT " is valid",
                     candidate->header_byte / EK_STEP);
    gboolean fits = super.sum_kind == SUM_CRC32C && checksum_fits(span);
    if (super.sum_kind == SUM_CRC32C)
        ek_volume_reason(volume, fits ? 15 : 0, "its checksum %s", fits ? "fits" : "does not fit");
    guint copies = weigh_mirrors(reader, volume, &super, span);
    EkPresence tree = look_at_chunk_tree(reader, volume, &super, span);
    ek_header_end(volume, tree == EK_PRESENT || copies > 0 || (fits && tree == EK_UNREAD));
    return g_steal_pointer(&volume);
}

#define PLACE_OFFSET 48u

/* Each mirror from the one that the volume was found by, with its own place and sum. */
gboolean ek_btrfs_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                         GError **error)
{
    guint8 good[SUPER_BYTES];
    EkSpan span = {good, sizeof good};
    Super super;
    (void)error;
    if (ek_presence_read(reader, volume->header_byte, good, sizeof good) != EK_PRESENT ||
        !super_read(span, &super) || super.sum_kind != SUM_CRC32C || !checksum_fits(span))
        return TRUE; /* that it does not open is told by the check */
    g_autofree char *from = g_strdup_printf("the backup copy at sector %" G_GUINT64_FORMAT,
                                            volume->header_byte / EK_STEP);
    for (guint i = 0; i < G_N_ELEMENTS(mirrors); i++) {
        guint8 there[SUPER_BYTES];
        Super other;
        EkByte at = volume->first_byte + mirrors[i];
        EkSpan copy = {there, sizeof there};
        if (at == volume->header_byte || mirrors[i] + SUPER_BYTES > super.device_bytes ||
            (ek_presence_read(reader, at, there, sizeof there) == EK_PRESENT &&
             super_read(copy, &other) && checksum_fits(copy) && other.place == mirrors[i] &&
             memcmp(identity_of(copy), identity_of(span), 16) == 0))
            continue;
        ek_put_le64(good + PLACE_OFFSET, mirrors[i]);
        ek_put_le32(good, ~ek_crc32c(G_MAXUINT32, ek_span_part(span, 32, SUPER_BYTES - 32)));
        ek_header_repair_range(reader, "btrfs-superblock", at, good, sizeof good,
                               i == 0 ? "primary superblock" : "mirror of the superblock", from,
                               sink, data);
    }
    return TRUE;
}

/* SPDX-License-Identifier: MIT */
/* UDF volumes: as in ECMA-167 and the OSTA UDF specification 2.60. Found by an anchor volume
 * descriptor pointer, which says itself at which block it stands; believed when the descriptors it
 * points to are there. The files are not listed by this version. */
#include "volume/formats.h"
#include "volume/headers.h"

#include "base/checksum.h"
#include "base/text.h"

#define TAG_BYTES 16u
#define TAG_PRIMARY 1u
#define TAG_ANCHOR 2u
#define TAG_LOGICAL 6u
#define TAG_PARTITION 5u
#define TAG_TERMINATOR 8u
#define FIRST_ANCHOR 256u
#define BLOCK_MOST 4096u
#define DESCRIPTORS_TRIED 16u
#define END_READS 16u
#define END_BLOCKS_A_READ 64u
#define UUID_LETTERS 16

static const EkSignature signatures[] = {
    /* Tag 2 in version 2 or 3; the sum of the tag, a zero. */
    {.offset = 0,
     .length = 6,
     .bytes = {2, 0, 2, 0, 0, 0},
     .mask = {0xff, 0xff, 0xfe, 0xff, 0x00, 0xff}},
};

static gboolean tag_fits(EkSpan span, guint16 kind)
{
    guint8 sum = 0;
    for (gsize i = 0; i < TAG_BYTES; i++)
        if (i != 4)
            sum = (guint8)(sum + ek_span_u8(span, i));
    guint16 length = ek_span_le16(span, 10);
    return ek_span_le16(span, 0) == kind && sum == ek_span_u8(span, 4) &&
           ek_span_has(span, TAG_BYTES, length) &&
           ek_crc16(ek_span_part(span, TAG_BYTES, length)) == ek_span_le16(span, 8);
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    if (span.length < EK_HEADER_BYTES ||
        !tag_fits(ek_span_part(span, 0, EK_HEADER_BYTES), TAG_ANCHOR))
        return 0;
    guint32 block = ek_span_le32(span, 12);
    if (ek_span_le32(span, 16) == 0 || block < FIRST_ANCHOR)
        return 0;
    /* The size of a block is not told: measuring tries them. */
    candidates[0] = (EkCandidate){at, at, block == FIRST_ANCHOR ? EK_ROLE_PRIMARY : EK_ROLE_BACKUP};
    return 1;
}

typedef struct {
    guint32 block_bytes;
    EkByte first_byte;
    gboolean primary; /* a primary descriptor is where it says */
} Place;

/* Tries the sizes a block can have: the descriptors must stand where the anchor says. */
static Place find_place(EkReader *reader, EkByte at, EkSpan anchor)
{
    guint8 data[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    for (guint32 size = EK_STEP; size <= BLOCK_MOST; size *= 2) {
        EkByte before = (EkByte)ek_span_le32(anchor, 12) * size;
        if (before > at || at % EK_STEP != 0)
            continue;
        EkByte first = at - before;
        EkByte place = first + (EkByte)ek_span_le32(anchor, 20) * size;
        if (ek_presence_read(reader, place, data, sizeof data) == EK_PRESENT &&
            ek_span_le32(span, 12) == ek_span_le32(anchor, 20) && ek_span_le16(span, 0) >= 1 &&
            ek_span_le16(span, 0) <= 9 && tag_fits(span, ek_span_le16(span, 0)))
            return (Place){size, first, TRUE};
    }
    return (Place){0};
}

/* A d-string: its kind of characters, then the text; its length stands in the last byte. */
static char *text_of(EkSpan span)
{
    guint8 length = ek_span_u8(span, span.length - 1);
    if (length < 2 || length > span.length - 1)
        return NULL;
    if (ek_span_u8(span, 0) == 16)
        return ek_text_utf16(span.data + 1, length - 1u, TRUE);
    return g_convert((const char *)span.data + 1, length - 1, "UTF-8", "ISO-8859-1", NULL, NULL,
                     NULL);
}

/* The name of the volume set begins with sixteen letters that are no other's. */
static char *uuid_of(EkSpan span)
{
    g_autofree char *text = text_of(span);
    if (text == NULL || g_utf8_strlen(text, -1) < UUID_LETTERS)
        return NULL;
    g_autofree char *first = g_utf8_substring(text, 0, UUID_LETTERS);
    return g_utf8_strdown(first, -1);
}

/* Walks the descriptors: label, partitions and their end. */
static void take_descriptors(EkReader *reader, EkVolume *volume, EkSpan anchor, const Place *place)
{
    guint8 data[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    EkByte at = place->first_byte + (EkByte)ek_span_le32(anchor, 20) * place->block_bytes;
    guint blocks = MIN(ek_span_le32(anchor, 16) / place->block_bytes, DESCRIPTORS_TRIED);
    for (guint i = 0; i < blocks; i++, at += place->block_bytes) {
        if (ek_presence_read(reader, at, data, sizeof data) != EK_PRESENT)
            continue;
        guint16 kind = ek_span_le16(span, 0);
        if (kind == TAG_TERMINATOR)
            break;
        if (kind == TAG_PARTITION && tag_fits(span, kind)) {
            EkByte end =
                ((EkByte)ek_span_le32(span, 188) + ek_span_le32(span, 192)) * place->block_bytes;
            volume->bytes = MAX(volume->bytes, end);
            ek_volume_property(volume, "partition", "blocks %u to %" G_GUINT64_FORMAT,
                               ek_span_le32(span, 188), end / place->block_bytes - 1);
        }
        if (kind == TAG_LOGICAL && volume->label == NULL)
            volume->label = text_of(ek_span_part(span, 84, 128));
        if (kind == TAG_PRIMARY && volume->uuid == NULL)
            volume->uuid = uuid_of(ek_span_part(span, 72, 128));
    }
}

/* The last anchor stands at the very end, with up to two reserves of descriptors between it and the
 * partition: how long the volume is stands nowhere else. */
static void find_end(EkReader *reader, EkVolume *volume, const Place *place, EkByte own)
{
    EkByte limit = ek_reader_bytes(reader);
    gsize step = END_BLOCKS_A_READ * (gsize)place->block_bytes;
    g_autofree guint8 *blocks = g_malloc(step);
    EkByte end = volume->bytes;
    gboolean found = FALSE;
    for (guint i = 0; i < END_READS; i++) {
        EkByte first = volume->bytes / place->block_bytes + (EkByte)i * END_BLOCKS_A_READ;
        EkByte at = place->first_byte + first * place->block_bytes;
        gsize length = at < limit ? (gsize)MIN(step, limit - at) : 0;
        if (length == 0 || !ek_reader_read(reader, at, blocks, length, NULL, NULL))
            break;
        for (gsize k = 0; (k + 1) * place->block_bytes <= length; k++) {
            EkSpan block = {blocks + k * place->block_bytes, place->block_bytes};
            if (ek_span_le32(block, 12) != first + k || !tag_fits(block, TAG_ANCHOR))
                continue;
            end = (first + k + 1) * place->block_bytes;
            found = TRUE;
        }
    }
    if (own - place->first_byte >= volume->bytes)
        end = MAX(end, own - place->first_byte + place->block_bytes);
    volume->length_is_least = !found && end == volume->bytes;
    volume->bytes = end;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    g_autoptr(EkVolume) volume =
        ek_header_begin("udf", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !tag_fits(span, TAG_ANCHOR))
        return g_steal_pointer(&volume);
    Place place = find_place(reader, candidate->header_byte, span);
    ek_volume_reason(volume, 20,
                     "anchor of block %u at sector %" G_GUINT64_FORMAT ", its sum right",
                     ek_span_le32(span, 12), candidate->header_byte / EK_STEP);
    if (place.block_bytes == 0) {
        ek_header_end(volume, FALSE);
        return g_steal_pointer(&volume);
    }
    volume->first_byte = place.first_byte;
    volume->own_sector_size = place.block_bytes;
    ek_volume_reason(volume, 50, "the volume descriptors are where it says");
    ek_volume_property_number(volume, "bytes per block", place.block_bytes);
    take_descriptors(reader, volume, span, &place);
    find_end(reader, volume, &place, candidate->header_byte);
    guint8 mark[EK_HEADER_BYTES];
    EkByte at = place.first_byte + 32768;
    EkPresence part = ek_presence_read(reader, at, mark, sizeof mark);
    EkSpan marked = {mark, sizeof mark};
    if (part == EK_PRESENT && !ek_span_equals(marked, 1, "BEA01", 5) &&
        !ek_span_equals(marked, 1, "CD001", 5))
        part = EK_ABSENT;
    ek_presence_reason(volume, part, "the volume recognition sequence", at, 20);
    ek_header_end(volume, TRUE);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_udf = {
    .name = "udf",
    .types = {{.mbr = 0x07, .gpt = "Microsoft basic data", .apm = ""}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};

/* SPDX-License-Identifier: MIT */
/* BitLocker volumes: the boot sector and the three metadata blocks, after their published
 * descriptions. A metadata block names the places of all three, so any of them tells where the
 * volume begins; it also says how long it is. */
#include "volume/formats.h"
#include "volume/headers.h"

#define BLOCKS 3u
#define BOOT_PLACES 176u /* of the metadata, in the boot sector */
#define BLOCK_PLACES 32u /* in a metadata block */
#define BLOCK_VERSION 2u

static const EkSignature signatures[] = {
    {.offset = 3, .length = 8, .bytes = {'-', 'F', 'V', 'E', '-', 'F', 'S', '-'}},
    {.offset = 0, .length = 8, .bytes = {'-', 'F', 'V', 'E', '-', 'F', 'S', '-'}},
};

static gboolean is_block(EkSpan span)
{
    return ek_span_equals(span, 0, "-FVE-FS-", 8) && ek_span_le16(span, 10) == BLOCK_VERSION;
}

static gboolean is_boot(EkSpan span)
{
    guint32 sector = ek_span_le16(span, 11);
    return ek_span_equals(span, 3, "-FVE-FS-", 8) && ek_span_le16(span, 510) == 0xaa55 &&
           ek_is_power_of_two(sector) && sector >= 512 && sector <= 4096 &&
           ek_span_le64(span, BOOT_PLACES) > 0 && ek_span_le64(span, BOOT_PLACES) < G_MAXINT64;
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    if (span.length < EK_HEADER_BYTES || (!is_block(span) && !is_boot(span)))
        return 0;
    candidates[0] = (EkCandidate){at, at, is_boot(span) ? EK_ROLE_PRIMARY : EK_ROLE_BACKUP};
    return 1;
}

/* How many of the three blocks stand where `places` says when the volume begins at `start`. */
static guint count_blocks(EkReader *reader, EkByte start, EkSpan places, guint *unread)
{
    guint8 block[64];
    guint there = 0;
    *unread = 0;
    for (guint i = 0; i < BLOCKS; i++) {
        EkByte place = ek_span_le64(places, i * 8);
        if (place == 0 || place > G_MAXINT64)
            continue;
        EkPresence part = ek_presence_read(reader, start + place, block, sizeof block);
        there += part == EK_PRESENT && is_block((EkSpan){block, sizeof block});
        *unread += part == EK_UNREAD;
    }
    return there;
}

/* A metadata block is one of three: the one for which most of the others are there. */
static EkByte start_of(EkReader *reader, EkByte at, EkSpan places)
{
    EkByte best = EK_UNPLACED;
    guint most = 0;
    for (guint i = 0; i < BLOCKS; i++) {
        EkByte place = ek_span_le64(places, i * 8);
        guint unread = 0;
        if (place == 0 || place > at)
            continue;
        guint there = count_blocks(reader, at - place, places, &unread);
        if (there > most) {
            most = there;
            best = at - place;
        }
    }
    return best;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    guint8 block[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    g_autoptr(EkVolume) volume =
        ek_header_begin("bitlocker", reader, candidate, data, sizeof data, error);
    if (volume == NULL || (!is_block(span) && !is_boot(span)))
        return g_steal_pointer(&volume);
    gboolean boot = is_boot(span);
    EkSpan places = ek_span_part(span, boot ? BOOT_PLACES : BLOCK_PLACES, BLOCKS * 8);
    if (!boot)
        volume->first_byte = start_of(reader, candidate->header_byte, places);
    if (volume->first_byte == EK_UNPLACED) {
        volume->first_byte = candidate->first_byte;
        ek_header_end(volume, FALSE);
        return g_steal_pointer(&volume);
    }
    guint unread = 0;
    guint there = count_blocks(reader, volume->first_byte, places, &unread);
    ek_volume_reason(volume, 20, "%s at sector %" G_GUINT64_FORMAT,
                     boot ? "boot sector" : "metadata block", candidate->header_byte / EK_STEP);
    ek_volume_reason(volume,
                     there > 1    ? 60
                     : there == 1 ? 35
                                  : 0,
                     "%u of 3 metadata blocks are where it says%s", there,
                     unread > 0 ? ", some were not read" : "");
    /* The length of what is encrypted stands in the blocks only. */
    for (guint i = 0; i < BLOCKS && volume->bytes == 0; i++)
        if (ek_presence_read(reader, volume->first_byte + ek_span_le64(places, i * 8), block,
                             sizeof block) == EK_PRESENT &&
            is_block((EkSpan){block, sizeof block}))
            volume->bytes = ek_span_le64((EkSpan){block, sizeof block}, 16);
    if (volume->bytes == 0 || volume->bytes > G_MAXINT64) {
        volume->bytes = ek_span_le64(places, 0) + 65536;
        volume->length_is_least = TRUE;
    }
    if (boot)
        volume->own_sector_size = ek_span_le16(span, 11);
    ek_header_end(volume, there > 0 || unread > 0);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_bitlocker = {
    .name = "bitlocker",
    .types = {{.mbr = 0x07, .gpt = "Microsoft basic data", .apm = ""}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};

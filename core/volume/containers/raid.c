/* SPDX-License-Identifier: MIT */
/* Members of Linux software RAID: the superblocks of the kernel's
 * include/uapi/linux/raid/md_p.h. Version 1 says itself where in the member it stands: at the end
 * (1.0), at the beginning (1.1), 4 KiB from it (1.2). Version 0.90 stands in the last 64 KiB that
 * are aligned to their size, and says how long the member is only for some levels. */
#include "volume/formats.h"
#include "volume/headers.h"

#define MAGIC 0xa92b4efcu
#define V0_BYTES 4096u
#define V0_RESERVED 65536u
#define V1_SUM_OFFSET 216u
#define V1_FIXED 256u

static const EkSignature signatures[] = {
    {.offset = 0, .length = 4, .bytes = {0xfc, 0x4e, 0x2b, 0xa9}},
};

/* The sum of 32-bit words, as 64 bits folded once; the sum's own field counted as zero. */
static guint32 folded_sum(EkSpan span, gsize own)
{
    guint64 sum = 0;
    gsize at = 0;
    for (; at + 4 <= span.length; at += 4)
        if (at != own)
            sum += ek_span_le32(span, at);
    if (at + 2 <= span.length)
        sum += ek_span_le16(span, at);
    return (guint32)((sum & 0xffffffff) + (sum >> 32));
}

static gboolean v1_fits(EkSpan span)
{
    guint32 devices = ek_span_le32(span, 220);
    return ek_span_le32(span, 4) == 1 && devices <= 384 * 4 &&
           ek_span_has(span, V1_FIXED, devices * 2u) &&
           folded_sum(ek_span_part(span, 0, V1_FIXED + devices * 2u), V1_SUM_OFFSET) ==
               ek_span_le32(span, V1_SUM_OFFSET);
}

static gboolean v0_fits(EkSpan span)
{
    return ek_span_le32(span, 4) == 0 && ek_span_le32(span, 8) == 90 && span.length >= V0_BYTES &&
           folded_sum(ek_span_part(span, 0, V0_BYTES), 152) == ek_span_le32(span, 152);
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkByte before = 0;
    if (span.length < EK_HEADER_BYTES || ek_span_le32(span, 0) != MAGIC)
        return 0;
    if (v1_fits(span)) {
        guint64 offset = ek_span_le64(span, 144);
        if (offset > at / EK_STEP)
            return 0;
        before = offset * EK_STEP;
    } else if (v0_fits(span)) {
        before = (EkByte)ek_span_le32(span, 32) * 1024;
        if (before == 0 || before > at)
            return 0;
    } else {
        return 0;
    }
    candidates[0] = (EkCandidate){at - before, at, EK_ROLE_PRIMARY};
    return 1;
}

static const char *level_of(guint32 level)
{
    switch (level) {
    case 0: return "RAID 0";
    case 1: return "RAID 1";
    case 4: return "RAID 4";
    case 5: return "RAID 5";
    case 6: return "RAID 6";
    case 10: return "RAID 10";
    case G_MAXUINT32: return "linear";
    default: return "another level";
    }
}

static void take_v1(EkVolume *volume, EkSpan span)
{
    guint64 offset = ek_span_le64(span, 144) * EK_STEP;
    guint64 data = ek_span_le64(span, 128) * EK_STEP;
    guint64 size = ek_span_le64(span, 136) * EK_STEP;
    gboolean at_end = offset >= data + size && size > 0;
    EkByte behind = volume->header_byte - volume->first_byte;
    /* 1.0 stands 8 KiB from the end at least, at a multiple of 4 KiB. */
    volume->bytes = at_end ? behind + 8192 : data + size;
    volume->length_is_least = TRUE;
    volume->uuid = ek_volume_uuid(ek_span_part(span, 16, 16));
    volume->label = ek_volume_label(ek_span_part(span, 32, 32));
    guint64 made = ek_span_le64(span, 64) & 0xffffffffff;
    guint64 used = ek_span_le64(span, 192) & 0xffffffffff;
    volume->created = ek_timestamp_utc((gint64)made);
    volume->used = ek_timestamp_utc((gint64)used);
    ek_volume_property(volume, "superblock", "version 1.%u", at_end ? 0 : offset == 0 ? 1 : 2);
    ek_volume_property(volume, "level", "%s", level_of(ek_span_le32(span, 72)));
    ek_volume_property_number(volume, "members", ek_span_le32(span, 92));
    ek_volume_property_number(volume, "sectors per chunk", ek_span_le32(span, 88));
    ek_volume_property_number(volume, "content begins at sector", data / EK_STEP);
    ek_volume_property_number(volume, "sectors of content", size / EK_STEP);
}

static void take_v0(EkVolume *volume, EkSpan span)
{
    volume->bytes = volume->header_byte - volume->first_byte + V0_RESERVED;
    volume->length_is_least = TRUE;
    guint8 uuid[16];
    memcpy(uuid, span.data + 20, 4);
    memcpy(uuid + 4, span.data + 52, 12);
    volume->uuid = ek_volume_uuid((EkSpan){uuid, sizeof uuid});
    volume->created = ek_timestamp_utc(ek_span_le32(span, 24));
    volume->used = ek_timestamp_utc(ek_span_le32(span, 128));
    ek_volume_property(volume, "superblock", "version 0.90");
    ek_volume_property(volume, "level", "%s", level_of(ek_span_le32(span, 28)));
    ek_volume_property_number(volume, "members", ek_span_le32(span, 40));
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[V0_BYTES];
    EkSpan span = {data, sizeof data};
    g_autoptr(EkVolume) volume =
        ek_header_begin("linux-raid", reader, candidate, data, sizeof data, error);
    if (volume == NULL || (!v1_fits(span) && !v0_fits(span)))
        return g_steal_pointer(&volume);
    volume->is_container = TRUE;
    ek_volume_reason(volume, 80, "superblock at sector %" G_GUINT64_FORMAT ", its checksum right",
                     candidate->header_byte / EK_STEP);
    if (ek_span_le32(span, 4) == 1)
        take_v1(volume, span);
    else
        take_v0(volume, span);
    ek_header_end(volume, TRUE);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_raid = {
    .name = "linux-raid",
    .types = {{.mbr = 0xfd, .gpt = "Linux RAID", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};

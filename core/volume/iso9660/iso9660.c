/* SPDX-License-Identifier: MIT */
/* ISO 9660 volumes: as in ECMA-119. Found by the primary volume descriptor, believed when the root
 * folder is where it says. The files are not listed by this version. */
#include "volume/formats.h"
#include "volume/headers.h"

#include "base/text.h"

#include <stdio.h>

#define SECTOR 2048u
#define FIRST_DESCRIPTOR 16u
#define ROOT_RECORD 156u
#define CREATED 813u
#define MODIFIED 830u
#define ESCAPES 88u
#define SUPPLEMENTARY 2u /* type of a descriptor */
#define END_OF_DESCRIPTORS 255u
#define DESCRIPTORS_MOST 16u

static const EkSignature signatures[] = {
    {.offset = 0, .length = 7, .bytes = {1, 'C', 'D', '0', '0', '1', 1}},
};

typedef struct {
    guint32 blocks;
    guint32 block_bytes;
    guint32 root_block;
    guint32 root_bytes;
} Descriptor;

/* Numbers stand there in both orders of bytes. */
static gboolean both32(EkSpan span, gsize offset, guint32 *number)
{
    *number = ek_span_le32(span, offset);
    return *number == ek_span_be32(span, offset + 4);
}

static gboolean descriptor_read(EkSpan span, Descriptor *descriptor)
{
    *descriptor = (Descriptor){.block_bytes = ek_span_le16(span, 128)};
    return span.length >= SECTOR && ek_span_equals(span, 0, "\1CD001\1", 7) &&
           both32(span, 80, &descriptor->blocks) &&
           both32(span, ROOT_RECORD + 2, &descriptor->root_block) &&
           both32(span, ROOT_RECORD + 10, &descriptor->root_bytes) &&
           ek_is_power_of_two(descriptor->block_bytes) && descriptor->block_bytes >= 512 &&
           descriptor->block_bytes <= SECTOR && descriptor->blocks > FIRST_DESCRIPTOR &&
           descriptor->root_block < descriptor->blocks;
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    Descriptor descriptor;
    if (!descriptor_read(span, &descriptor) || at < FIRST_DESCRIPTOR * SECTOR)
        return 0;
    candidates[0] = (EkCandidate){at - FIRST_DESCRIPTOR * SECTOR, at, EK_ROLE_PRIMARY};
    return 1;
}

/* Text that is filled up with spaces. */
static char *text_of(EkSpan span)
{
    char *text = ek_volume_label(span);
    if (text != NULL)
        g_strchomp(text);
    if (text != NULL && *text == '\0')
        g_clear_pointer(&text, g_free);
    return text;
}

static EkTimestamp timestamp_of(EkSpan span)
{
    char digits[15] = {0};
    memcpy(digits, span.data, MIN(span.length, 14));
    int part[6] = {0};
    if (sscanf(digits, "%4d%2d%2d%2d%2d%2d", &part[0], &part[1], &part[2], &part[3], &part[4],
               &part[5]) != 6 ||
        part[0] < 1970)
        return (EkTimestamp){0};
    g_autoptr(GDateTime) time =
        g_date_time_new_utc(part[0], part[1], part[2], part[3], part[4], part[5]);
    if (time == NULL)
        return (EkTimestamp){0};
    gint64 east = (gint8)ek_span_u8(span, 16) * (gint64)15 * 60;
    return (EkTimestamp){.seconds = g_date_time_to_unix(time) - east, .is_set = TRUE};
}

/* The time it was written tells one disc from another. */
static char *uuid_of(EkSpan span)
{
    const char *d = (const char *)span.data;
    for (gsize i = 0; i < span.length; i++)
        if (!g_ascii_isdigit(d[i]))
            return NULL;
    return span.length < 16 ? NULL
                            : g_strdup_printf("%.4s-%.2s-%.2s-%.2s-%.2s-%.2s-%.2s", d, d + 4, d + 6,
                                              d + 8, d + 10, d + 12, d + 14);
}

/* The label of the supplementary descriptor in UTF-16, where there is one: it has letters that the
 * primary one has not. By the Joliet specification. NULL: there is none. */
static char *wide_label(EkReader *reader, EkByte first_byte)
{
    for (guint i = 1; i < DESCRIPTORS_MOST; i++) {
        guint8 data[SECTOR];
        EkSpan span = {data, sizeof data};
        EkByte at = first_byte + (EkByte)(FIRST_DESCRIPTOR + i) * SECTOR;
        if (ek_presence_read(reader, at, data, sizeof data) != EK_PRESENT ||
            !ek_span_equals(span, 1, "CD001", 5) || ek_span_u8(span, 0) == END_OF_DESCRIPTORS)
            return NULL;
        if (ek_span_u8(span, 0) != SUPPLEMENTARY || !ek_span_equals(span, ESCAPES, "%/", 2))
            continue;
        g_autofree char *label = ek_text_utf16(data + 40, 32, TRUE);
        g_strchomp(label);
        return *label != '\0' ? g_steal_pointer(&label) : NULL;
    }
    return NULL;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[SECTOR];
    guint8 record[34];
    EkSpan span = {data, sizeof data};
    Descriptor descriptor;
    g_autoptr(EkVolume) volume =
        ek_header_begin("iso9660", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !descriptor_read(span, &descriptor))
        return g_steal_pointer(&volume);
    volume->bytes = (EkByte)descriptor.blocks * descriptor.block_bytes;
    volume->own_sector_size = SECTOR;
    volume->label = text_of(ek_span_part(span, 40, 32));
    char *wide = wide_label(reader, volume->first_byte);
    if (wide != NULL) {
        g_free(volume->label);
        volume->label = wide;
    }
    volume->created = timestamp_of(ek_span_part(span, CREATED, 17));
    volume->used = timestamp_of(ek_span_part(span, MODIFIED, 17));
    volume->uuid = uuid_of(ek_span_part(span, volume->used.is_set ? MODIFIED : CREATED, 16));
    ek_volume_property_number(volume, "bytes per block", descriptor.block_bytes);
    ek_volume_property_number(volume, "blocks", descriptor.blocks);
    ek_volume_property_number(volume, "root folder begins at block", descriptor.root_block);

    ek_volume_reason(volume, 30, "primary volume descriptor at sector %" G_GUINT64_FORMAT,
                     candidate->header_byte / EK_STEP);
    EkByte at = volume->first_byte + (EkByte)descriptor.root_block * descriptor.block_bytes;
    EkPresence part = ek_presence_read(reader, at, record, sizeof record);
    /* Its entry for itself, behind which an extension may add more. */
    if (part == EK_PRESENT && (record[0] < sizeof record || record[32] != 1 || record[33] != 0 ||
                               memcmp(record + 2, data + ROOT_RECORD + 2, 8) != 0))
        part = EK_ABSENT;
    ek_presence_reason(volume, part, "the root folder", at, 60);
    ek_header_end(volume, part != EK_ABSENT);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_iso9660 = {
    .name = "iso9660",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .header_offset = (EkByte)FIRST_DESCRIPTOR * SECTOR,
    .recognise = recognise,
    .measure = measure,
};

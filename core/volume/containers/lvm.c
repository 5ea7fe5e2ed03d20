/* SPDX-License-Identifier: MIT */
/* LVM2 physical volumes: the label as in lvm2's documentation of its on-disk text format. The label
 * stands in one of the first four sectors and says in which, with a sum of its own. */
#include "volume/formats.h"
#include "volume/headers.h"

#include "base/checksum.h"

#define LABEL_SECTORS 4u
#define SUM_SEED 0xf597a6cfu
#define METADATA_LOOKED_AT 1024u

static const EkSignature signatures[] = {
    {.offset = 0, .length = 8, .bytes = {'L', 'A', 'B', 'E', 'L', 'O', 'N', 'E'}},
};

static gboolean label_fits(EkSpan span)
{
    return span.length >= EK_STEP && ek_span_equals(span, 0, "LABELONE", 8) &&
           ek_span_equals(span, 24, "LVM2 001", 8) && ek_span_le64(span, 8) < LABEL_SECTORS &&
           ek_span_le32(span, 20) >= 32 && ek_span_le32(span, 20) <= 256 &&
           ek_crc32_from(SUM_SEED, ek_span_part(span, 20, EK_STEP - 20)) == ek_span_le32(span, 16);
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkByte before = ek_span_le64(span, 8) * EK_STEP;
    if (!label_fits(span) || before > at)
        return 0;
    candidates[0] = (EkCandidate){at - before, at, EK_ROLE_PRIMARY};
    return 1;
}

/* The place and size of the first metadata area: the lists of data and metadata areas each end in
 * a pair of zeros. */
static EkRange metadata_area(EkSpan header)
{
    gsize at = 40;
    guint lists = 0;
    while (ek_span_has(header, at, 16)) {
        EkRange area = {ek_span_le64(header, at), ek_span_le64(header, at + 8)};
        at += 16;
        if (area.first == 0)
            lists++;
        else if (lists == 1)
            return area;
        if (lists == 2)
            break;
    }
    return (EkRange){0, 0};
}

/* The name of the volume group begins the text of the metadata. */
static EkPresence weigh_metadata(EkReader *reader, EkVolume *volume, EkRange area)
{
    guint8 header[EK_STEP];
    guint8 text[METADATA_LOOKED_AT];
    EkSpan span = {header, sizeof header};
    EkByte at = volume->first_byte + area.first;
    if (area.first == 0 || area.first > G_MAXINT64 / 2)
        return EK_UNREAD;
    EkPresence part = ek_presence_read(reader, at, header, sizeof header);
    if (part == EK_PRESENT && !ek_span_equals(span, 4, " LVM2 x[5A%r0N*>", 16))
        part = EK_ABSENT;
    ek_presence_reason(volume, part, "the metadata area", at, 30);
    EkByte offset = ek_span_le64(span, 40);
    if (part != EK_PRESENT || offset == 0 || offset > G_MAXINT64 / 2 ||
        ek_presence_read(reader, at + offset, text, sizeof text) != EK_PRESENT)
        return part;
    gsize length = 0;
    while (length < 128 && text[length] > ' ' && text[length] < 127)
        length++;
    if (length > 0 && text[length] == ' ')
        volume->label = g_strndup((const char *)text, length);
    return part;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    g_autoptr(EkVolume) volume =
        ek_header_begin("lvm2", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !label_fits(span))
        return g_steal_pointer(&volume);
    gsize place = ek_span_le32(span, 20);
    EkSpan header = ek_span_part(span, place, span.length);
    volume->uuid = ek_volume_label(ek_span_part(header, 0, 32));
    volume->bytes = ek_span_le64(header, 32);
    if (volume->bytes == 0 || volume->bytes > G_MAXINT64) {
        ek_header_end(volume, FALSE);
        return g_steal_pointer(&volume);
    }
    volume->is_container = TRUE;
    ek_volume_reason(volume, 60, "label at sector %" G_GUINT64_FORMAT ", its checksum right",
                     candidate->header_byte / EK_STEP);
    ek_volume_property_number(volume, "label in sector", ek_span_le64(span, 8));
    weigh_metadata(reader, volume, metadata_area(header));
    if (volume->label != NULL)
        ek_volume_property(volume, "volume group", "%s", volume->label);
    ek_header_end(volume, TRUE);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_lvm = {
    .name = "lvm2",
    .types = {{.mbr = 0x8e, .gpt = "Linux LVM", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};

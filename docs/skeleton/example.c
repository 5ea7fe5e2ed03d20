/* SPDX-License-Identifier: MIT */
/* A skeleton to copy: one file system that is found by its header. Say here which published format
 * it follows, and what it distrusts. The build compiles this file, so that it stays right. */
#include "volume/volume.h"

/* The line of list.h declares it (volume/formats.h). */
extern const EkFileSystem ek_fs_example;

static const EkSignature signatures[] = {
    {.offset = 0, .length = 4, .bytes = {'S', 'E', 'E', 'D'}},
};

/* Is what stands at `at` a header of ours? Looks at `span` only, and believes nothing. */
static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    if (!ek_span_equals(span, 0, "SEED", 4) || ek_span_le32(span, 8) == 0)
        return 0;
    candidates[0] = (EkCandidate){.first_byte = at, .header_byte = at, .role = EK_ROLE_PRIMARY};
    return 1;
}

/* Does the rest stand where the header says? This is where false positives die: at most
 * EK_MEASURE_READS reads, a reason with points for each thing that is there, none for what was not
 * read, and `is_confirmed` only when something besides the header speaks for it. */
static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    g_autoptr(EkVolume) volume = ek_volume_new(&ek_fs_example, "example");
    EkKnown known;
    guint8 table[512];
    if (!ek_reader_read(reader, candidate->header_byte, volume->header, EK_HEADER_BYTES, NULL,
                        error))
        return NULL;
    EkSpan header = ek_volume_header(volume);
    volume->first_byte = candidate->first_byte;
    volume->header_byte = candidate->header_byte;
    volume->own_sector_size = 512;
    volume->bytes = (EkByte)ek_span_le32(header, 8) * 512;
    ek_volume_reason(volume, 20, "header at sector %" G_GUINT64_FORMAT,
                     candidate->header_byte / 512);

    EkByte at = 0;
    if (!g_uint64_checked_add(&at, candidate->first_byte, (EkByte)ek_span_le32(header, 4) * 512) ||
        !ek_reader_read(reader, at, table, sizeof table, &known, NULL)) {
        ek_volume_reason(volume, -100, "its table would lie past the end of the drive");
    } else if (known.good < sizeof table) {
        volume->is_confirmed = TRUE;
        ek_volume_reason(volume, 0, "its table could not be checked (unread)");
    } else if (ek_span_le32((EkSpan){table, sizeof table}, 0) == 1) {
        volume->is_confirmed = TRUE;
        ek_volume_reason(volume, 50, "its table is where it says");
    }
    return g_steal_pointer(&volume);
}

/* Proposals only: whoever calls decides. */
static gboolean repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error)
{
    (void)reader;
    (void)volume;
    (void)sink;
    (void)data;
    (void)error;
    return TRUE;
}

static GPtrArray *explain(EkSpan span)
{
    static const EkFieldRule rules[] = {
        {0, 4, "mark", EK_FIELD_BYTES, NULL},
        {4, 4, "table begins at", EK_FIELD_LE32, "(sector)"},
        {8, 4, "sectors in the volume", EK_FIELD_LE32, NULL},
        {12, 500, "unused", EK_FIELD_BYTES, NULL},
    };
    GPtrArray *fields = ek_fields_new();
    ek_fields_add_rules(fields, span, rules, G_N_ELEMENTS(rules));
    return fields;
}

const EkFileSystem ek_fs_example = {
    .name = "example",
    .types = {{.mbr = 0x83, .gpt = "Linux", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
    .repair = repair,
    .structure = "example-header",
    .explain = explain,
    /* .open, .close, .root, .walk and .decode come with the files. */
};

/* SPDX-License-Identifier: MIT */
/* The volume header of HFS+, 1024 bytes behind the beginning, and its copy, 1024 bytes before the
 * end. The copy is written when the trees grow, so that what it counts may be old: the file
 * system's own checker counts again. */
#include "volume/headers.h"
#include "volume/hfsplus/hfsplus.h"

#include <string.h>

gboolean ek_hfs_mend(EkGate *gate, const EkVolume *volume, EkMendSink sink, void *data,
                     GError **error)
{
    guint8 header[EK_HEADER_MOST];
    EkHfsHeader own;
    memcpy(header, volume->header, sizeof header);
    /* One in a wrapper is opened by its wrapper's header. */
    if (!ek_hfs_header_read((EkSpan){header, sizeof header}, &own))
        return TRUE;
    if (volume->bytes < 2 * EK_HFS_HEADER_OFFSET)
        return ek_error_set(error, EK_ERROR_DAMAGED, "the kept volume header is none");
    EkByte places[] = {volume->first_byte + EK_HFS_HEADER_OFFSET,
                       volume->first_byte + volume->bytes - EK_HFS_HEADER_OFFSET};
    static const char *const names[] = {"volume header", "alternate volume header"};
    for (guint i = 0; i < G_N_ELEMENTS(places); i++) {
        guint8 there[EK_HEADER_MOST];
        EkHfsHeader other;
        gboolean is_there = ek_part_read(gate, places[i], there, sizeof there) == EK_PART_THERE &&
                            ek_hfs_header_read((EkSpan){there, sizeof there}, &other) &&
                            other.blocks == own.blocks && other.block_bytes == own.block_bytes;
        g_autofree char *from = volume->composed
                                    ? g_strdup("what its other traces tell")
                                    : g_strdup_printf("the one at sector %" G_GUINT64_FORMAT,
                                                      volume->header_byte / EK_STEP);
        if (!is_there)
            ek_header_mend_range(gate, "hfsplus-header", places[i], header, sizeof header, names[i],
                                 from, sink, data);
    }
    return TRUE;
}

GPtrArray *ek_hfs_header_explain(EkSpan span)
{
    static const EkFieldRule rules[] = {
        {0, 4, "signature and version", EK_FIELD_BYTES, NULL},
        {4, 4, "attributes", EK_FIELD_BYTES, NULL},
        {8, 4, "mounted last by", EK_FIELD_BYTES, NULL},
        {12, 4, "journal", EK_FIELD_BYTES, NULL},
        {16, 16, "dates", EK_FIELD_BYTES, NULL},
        {32, 8, "files, folders", EK_FIELD_BYTES, NULL},
        {40, 4, "bytes a block", EK_FIELD_BYTES, NULL},
        {44, 4, "blocks", EK_FIELD_BYTES, NULL},
        {48, 4, "free blocks", EK_FIELD_BYTES, NULL},
        {52, 28, "where to go on", EK_FIELD_BYTES, NULL},
        {80, 32, "boot information", EK_FIELD_BYTES, NULL},
        {112, 80, "bitmap", EK_FIELD_BYTES, NULL},
        {192, 80, "tree of extents", EK_FIELD_BYTES, NULL},
        {272, 80, "catalog", EK_FIELD_BYTES, NULL},
        {352, 80, "tree of attributes", EK_FIELD_BYTES, NULL},
        {432, 80, "startup file", EK_FIELD_BYTES, NULL},
    };
    GPtrArray *fields = ek_fields_new();
    if (span.length >= EK_HEADER_MOST)
        ek_fields_add_rules(fields, span, rules, G_N_ELEMENTS(rules));
    return fields;
}

/* SPDX-License-Identifier: MIT */
/* The volume header of HFS+, 1024 bytes behind the beginning, and its copy, 1024 bytes before the
 * end. The copy is written when the trees grow, so that what it counts may be old: it is counted
 * again from the bitmap and the catalog. Offsets as in Technical Note TN1150. */
#include "volume/headers.h"
#include "volume/hfsplus/fork.h"

#include <string.h>

#define FOLDER_RECORD 1u
#define FILE_RECORD 2u
#define UNMOUNTED 0x100u /* of the attributes: nothing needs to be checked */
#define PIECE_BYTES (1u << 20)

typedef struct {
    guint32 files;
    guint32 folders;
    guint32 last; /* the highest number that is in use */
} Counted;

static gboolean count_record(void *data, EkSpan record, EkByte at)
{
    Counted *counted = data;
    gsize key = ek_span_be16(record, 0) + 2ul;
    guint type = ek_span_be16(record, key);
    guint32 number = ek_span_be32(record, key + 8);
    (void)at;
    if (type != FOLDER_RECORD && type != FILE_RECORD)
        return TRUE;
    counted->files += type == FILE_RECORD ? 1 : 0;
    counted->folders += type == FOLDER_RECORD && number != EK_HFS_ROOT_FOLDER ? 1 : 0;
    counted->last = MAX(counted->last, number);
    return TRUE;
}

/* Was all of a fork read? */
static gboolean is_read(const EkHfsArea *region, const EkHfsFork *fork)
{
    EkByte covered = 0;
    for (guint i = 0; i < fork->extents->len; i++) {
        const EkHfsExtent *extent = &g_array_index(fork->extents, EkHfsExtent, i);
        EkByte place = ek_hfs_extent_byte(region, extent);
        EkByte bytes = (EkByte)extent->count * region->block_bytes;
        if (place == EK_UNPLACED || ek_reader_known(region->reader, place, bytes).good < bytes)
            return FALSE;
        covered += bytes;
    }
    return covered >= fork->bytes;
}

static guint32 count_free(const EkHfsArea *region, const EkHfsFork *bitmap)
{
    g_autofree guint8 *piece = g_malloc(PIECE_BYTES);
    guint32 count = 0;
    EkByte whole = ek_divide_up(region->blocks, 8);
    for (EkByte at = 0; at < whole; at += PIECE_BYTES) {
        gsize length = (gsize)MIN(PIECE_BYTES, whole - at);
        EkKnown known;
        if (!ek_hfs_fork_read(region, bitmap, at, piece, length, &known))
            return 0;
        for (guint64 i = at * 8; i < MIN((at + length) * 8, region->blocks); i++)
            count += (piece[i / 8 - at] >> (7 - i % 8) & 1) == 0 ? 1 : 0;
    }
    return count;
}

/* What could not be counted, since not all of it was read, is left to the file system's own
 * checker, which is asked for. */
static void recount(EkReader *reader, const EkVolume *volume, const EkHfsHeader *own,
                    guint8 *header)
{
    EkSpan span = {header, EK_HEADER_BYTES};
    EkHfsArea region = {.reader = reader,
                        .first_byte = volume->first_byte,
                        .block_bytes = own->block_bytes,
                        .blocks = own->blocks};
    ek_hfs_overflow_load(&region, span);
    EkHfsFork bitmap = ek_hfs_fork_of(
        &region, ek_span_part(span, EK_HFS_BITMAP_FORK, EK_HFS_FORK_RECORD), EK_HFS_BITMAP_FILE, 0);
    EkHfsFork catalog =
        ek_hfs_fork_of(&region, ek_span_part(span, EK_HFS_CATALOG_FORK, EK_HFS_FORK_RECORD),
                       EK_HFS_CATALOG_FILE, 0);
    Counted counted = {.last = MAX(ek_span_be32(span, 64), 1) - 1};
    gboolean has_catalog = is_read(&region, &catalog);
    gboolean has_bitmap = bitmap.bytes >= ek_divide_up(own->blocks, 8) && is_read(&region, &bitmap);
    ek_hfs_fork_records(&region, &catalog, count_record, &counted);
    ek_put_be32(header + 64, counted.last + 1);
    if (has_catalog) {
        ek_put_be32(header + 32, counted.files);
        ek_put_be32(header + 36, counted.folders);
    }
    if (has_bitmap)
        ek_put_be32(header + 48, count_free(&region, &bitmap));
    if (!has_catalog || !has_bitmap)
        ek_put_be32(header + 4, ek_span_be32(span, 4) & ~UNMOUNTED);
    ek_hfs_fork_clear(&bitmap);
    ek_hfs_fork_clear(&catalog);
    g_clear_pointer(&region.overflow, g_array_unref);
}

gboolean ek_hfs_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error)
{
    guint8 header[EK_HEADER_BYTES];
    EkHfsHeader own;
    memcpy(header, volume->header, sizeof header);
    /* One in a wrapper is opened by its wrapper's header. */
    if (!ek_hfs_header_read((EkSpan){header, sizeof header}, &own))
        return TRUE;
    if (volume->bytes < 2 * EK_HFS_HEADER_OFFSET)
        return ek_error_set(error, EK_ERROR_DAMAGED, "the kept volume header is none");
    /* One that was composed without its tree of extents is enough to find files by, not to be
     * written: no system mounts it. */
    gboolean is_first = volume->header_byte == volume->first_byte + EK_HFS_HEADER_OFFSET;
    if (own.extents_block == 0)
        return TRUE;
    if (!is_first)
        recount(reader, volume, &own, header);
    EkByte places[] = {volume->first_byte + EK_HFS_HEADER_OFFSET,
                       volume->first_byte + volume->bytes - EK_HFS_HEADER_OFFSET};
    static const char *const names[] = {"volume header", "alternate volume header"};
    for (guint i = 0; i < G_N_ELEMENTS(places); i++) {
        guint8 there[EK_HEADER_BYTES];
        EkHfsHeader other;
        gboolean is_there =
            ek_presence_read(reader, places[i], there, sizeof there) == EK_PRESENT &&
            ek_hfs_header_read((EkSpan){there, sizeof there}, &other) &&
            other.blocks == own.blocks && other.block_bytes == own.block_bytes;
        g_autofree char *from =
            volume->composed
                ? g_strdup("other metadata")
                : g_strdup_printf("the one at sector %" G_GUINT64_FORMAT "%s",
                                  volume->header_byte / EK_STEP, is_first ? "" : ", counted again");
        if (!is_there)
            ek_header_repair_range(reader, "hfsplus-header", places[i], header, sizeof header,
                                   names[i], from, sink, data);
    }
    return TRUE;
}

GPtrArray *ek_hfs_header_explain(EkSpan span)
{
    static const EkFieldRule rules[] = {
        {0, 4, "signature and version", EK_FIELD_BYTES, NULL},
        {4, 4, "attributes", EK_FIELD_BYTES, NULL},
        {8, 4, "last mounted version", EK_FIELD_BYTES, NULL},
        {12, 4, "journal", EK_FIELD_BYTES, NULL},
        {16, 16, "dates", EK_FIELD_BYTES, NULL},
        {32, 8, "files, folders", EK_FIELD_BYTES, NULL},
        {40, 4, "bytes per block", EK_FIELD_BYTES, NULL},
        {44, 4, "blocks", EK_FIELD_BYTES, NULL},
        {48, 4, "free blocks", EK_FIELD_BYTES, NULL},
        {52, 28, "next allocation and IDs", EK_FIELD_BYTES, NULL},
        {80, 32, "boot information", EK_FIELD_BYTES, NULL},
        {112, 80, "bitmap", EK_FIELD_BYTES, NULL},
        {192, 80, "extents overflow file", EK_FIELD_BYTES, NULL},
        {272, 80, "catalog", EK_FIELD_BYTES, NULL},
        {352, 80, "attributes file", EK_FIELD_BYTES, NULL},
        {432, 80, "startup file", EK_FIELD_BYTES, NULL},
    };
    GPtrArray *fields = ek_fields_new();
    if (span.length >= EK_HEADER_BYTES)
        ek_fields_add_rules(fields, span, rules, G_N_ELEMENTS(rules));
    return fields;
}

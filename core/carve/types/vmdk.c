/* SPDX-License-Identifier: MIT */
/* Sparse extents of VMDK disk images (the published Virtual Disk Format 1.1): the last grain that
 * its tables name, or, of one written as a stream, marker by marker. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define SECTOR 512u
#define TABLES_MOST (1u << 20)
#define MARKERS_MOST (1u << 24)
#define AT_END G_MAXUINT64 /* the directory stands at the end: a stream */

static const EkSignature signatures[] = {{0, 4, {'K', 'D', 'M', 'V'}, {0}}};

typedef struct {
    EkByte grain; /* sectors */
    EkByte directory;
    guint32 each; /* entries of a table */
    guint64 tables;
} Extent;

static Extent extent_of(EkSpan head)
{
    Extent extent = {ek_span_le64(head, 20), ek_span_le64(head, 56), ek_span_le32(head, 44), 0};
    EkByte capacity = ek_span_le64(head, 12);
    if (extent.grain > 0 && extent.grain < 65536 && extent.each > 0 && capacity < G_MAXINT64)
        extent.tables = ek_divide_up(capacity, extent.grain * extent.each);
    return extent;
}

static gboolean begin(EkSpan span)
{
    Extent extent = extent_of(span);
    return ek_span_le32(span, 4) >= 1 && ek_span_le32(span, 4) <= 3 && extent.tables > 0 &&
           extent.tables <= TABLES_MOST && extent.each <= 4096 &&
           (extent.grain & (extent.grain - 1)) == 0;
}

/* FALSE where a table names what is not there. */
static gboolean pass_tables(EkContent *content, const Extent *extent, EkByte *end)
{
    for (guint64 i = 0; i < extent->tables; i++) {
        EkSpan entry = ek_content_at(content, extent->directory * SECTOR + 4 * i, 4);
        EkByte table = (EkByte)ek_span_le32(entry, 0) * SECTOR;
        EkSpan grains = table > 0 ? ek_content_at(content, table, 4 * (gsize)extent->each) : entry;
        if (entry.length == 0 || (table > 0 && grains.length == 0))
            return FALSE;
        *end = MAX(*end, table + (table > 0 ? 4 * (EkByte)extent->each : 0));
        for (gsize k = 0; table > 0 && k < extent->each; k++) {
            EkByte grain = ek_span_le32(grains, 4 * k);
            if (grain > 1)
                *end = MAX(*end, (grain + extent->grain) * SECTOR);
        }
    }
    return *end <= ek_content_bytes(content);
}

/* 0 where it breaks. */
static EkByte pass_stream(EkContent *content, EkByte at)
{
    for (guint i = 0; i < MARKERS_MOST; i++) {
        EkSpan marker = ek_content_at(content, at, 16);
        guint64 value = ek_span_le64(marker, 0);
        guint32 size = ek_span_le32(marker, 8);
        guint32 type = ek_span_le32(marker, 12);
        if (marker.length == 0 || (size == 0 && (type > 3 || value > TABLES_MOST)))
            return 0;
        if (size > 0) {
            at = ek_divide_up(at + 12 + size, SECTOR) * SECTOR;
        } else if (type == 0) {
            return at + SECTOR;
        } else {
            at += SECTOR + value * SECTOR;
        }
    }
    return 0;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, SECTOR);
    Extent extent = extent_of(head);
    EkByte end = ek_span_le64(head, 64); /* sectors before the first grain */
    end = end < (EkByte)1 << 40 ? end * SECTOR : 0;
    gboolean fine;
    if (extent.directory == AT_END) {
        end = pass_stream(content, end);
        fine = end != 0 && end <= ek_content_bytes(content);
    } else {
        fine = extent.directory < (EkByte)1 << 40 && pass_tables(content, &extent, &end);
    }
    if (!fine) {
        ek_followed_break(followed, SECTOR, MIN(MAX(end, SECTOR), ek_content_bytes(content)),
                          SECTOR, "what its tables name is not there");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end, EK_PROOF_TABLES, "its tables, up to the last grain");
}

const EkCarveType ek_carve_vmdk = {
    .name = "vmdk",
    .ending = "vmdk",
    .kind = EK_KIND_ARCHIVE,
    .checks = "its tables of grains; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_disk = TRUE,
};

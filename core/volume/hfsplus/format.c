/* SPDX-License-Identifier: MIT */
/* HFS+ and HFSX as a file system among others: what it is found by, and what it can do. */
#include "volume/formats.h"
#include "volume/hfsplus/hfsplus.h"

static const EkSignature signatures[] = {
    {.offset = 0, .length = 4, .bytes = {'H', '+', 0, 4}},
    {.offset = 0, .length = 4, .bytes = {'H', 'X', 0, 5}},
    {.offset = 0, .length = 2, .bytes = {'B', 'D'}}, /* an HFS volume around one */
};

/* The header nodes of the catalog and of the tree of extents, leaves of the catalog, and headers
 * wherever they stand. */
static const EkSignature record_signatures[] = {
    {.offset = 0, .length = 4, .bytes = {'H', '+', 0, 4}},
    {.offset = 0, .length = 4, .bytes = {'H', 'X', 0, 5}},
    {.offset = 8, .length = 4, .bytes = {1, 0, 0, 3}},
    {.offset = 8, .length = 6, .bytes = {0xff, 1}, .mask = {0xff, 0xff, 0, 0, 0xff, 0xff}},
};

const EkFileSystem ek_fs_hfsplus = {
    .name = "hfsplus",
    .types = {{.mbr = 0xaf, .gpt = "Apple HFS+", .apm = "Apple_HFS"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .header_offset = EK_HFS_HEADER_OFFSET,
    .recognise = ek_hfs_recognise,
    .measure = ek_hfs_measure,
    .repair = ek_hfs_repair,
    .structure = "hfsplus-header",
    .header_bytes = EK_HEADER_BYTES,
    .explain = ek_hfs_header_explain,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_hfs_record_seen,
    .infer = ek_hfs_infer,
    .infer_earlier = ek_hfs_infer_earlier,
    .use = ek_hfs_use,
    .unclean = ek_hfs_unclean,
    .open = ek_hfs_open,
    .close = ek_hfs_close,
    .root = ek_hfs_root,
    .walk = ek_hfs_walk,
    .decode = ek_hfs_decode,
};

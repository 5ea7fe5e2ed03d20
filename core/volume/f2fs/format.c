/* SPDX-License-Identifier: MIT */
/* F2FS as a file system among others: what it is found by, and what it can do. */
#include "volume/f2fs/f2fs.h"
#include "volume/formats.h"

static const EkSignature signatures[] = {
    {.offset = 0, .length = 4, .bytes = {0x10, 0x20, 0xf5, 0xf2}},
};

/* A checkpoint has no magic number, but its checksum has one place. */
static const EkSignature record_signatures[] = {
    {.offset = 164, .length = 4, .bytes = {0xfc, 0x0f, 0, 0}},
};

const EkFileSystem ek_fs_f2fs = {
    .name = "f2fs",
    .types = {{.mbr = 0x83, .gpt = "Linux", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .header_offset = 1024,
    .recognise = ek_f2fs_recognise,
    .measure = ek_f2fs_measure,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_f2fs_record_seen,
    .infer = ek_f2fs_infer,
};

/* SPDX-License-Identifier: MIT */
/* Btrfs as a file system among others: what it is found by, and what it can do. */
#include "volume/btrfs/btrfs.h"
#include "volume/formats.h"

static const EkSignature signatures[] = {
    {.offset = 64, .length = 8, .bytes = {'_', 'B', 'H', 'R', 'f', 'S', '_', 'M'}},
};

/* A node of a tree: its flags, as written and with the current kind of back references. */
static const EkSignature record_signatures[] = {
    {.offset = 56, .length = 8, .bytes = {1, 0, 0, 0, 0, 0, 0, 1}},
};

const EkFileSystem ek_fs_btrfs = {
    .name = "btrfs",
    .types = {{.mbr = 0x83, .gpt = "Linux", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .header_offset = (EkByte)64 << 10,
    .recognise = ek_btrfs_recognise,
    .measure = ek_btrfs_measure,
    .repair = ek_btrfs_repair,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_btrfs_record_seen,
    .infer = ek_btrfs_infer,
};

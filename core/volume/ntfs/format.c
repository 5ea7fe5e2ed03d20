/* SPDX-License-Identifier: MIT */
/* NTFS as a file system among others: what it is found by, and what it can do. */
#include "volume/formats.h"
#include "volume/ntfs/ntfs.h"

static const EkSignature signatures[] = {
    {.offset = 3, .length = 8, .bytes = {'N', 'T', 'F', 'S', ' ', ' ', ' ', ' '}},
};

static const EkSignature record_signatures[] = {
    {.offset = 0, .length = 4, .bytes = {'F', 'I', 'L', 'E'}},
    {.offset = 0, .length = 4, .bytes = {'I', 'N', 'D', 'X'}},
};

const EkFileSystem ek_fs_ntfs = {
    .name = "ntfs",
    .recogniser = 1,
    .types = {{.mbr = 0x07, .gpt = "Microsoft basic data", .apm = "Windows_NTFS"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = ek_ntfs_recognise,
    .measure = ek_ntfs_measure,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_ntfs_record_seen,
    .infer = ek_ntfs_infer,
    .infer_earlier = ek_ntfs_infer_earlier,
    .repair = ek_ntfs_repair,
    .use = ek_ntfs_use,
    .structure = "ntfs-boot",
    .header_bytes = EK_HEADER_BYTES,
    .explain = ek_ntfs_boot_explain,
    .unclean = ek_ntfs_unclean,
    .backup = ek_ntfs_backup,
    .open = ek_ntfs_open,
    .lacks = ek_ntfs_lacks,
    .adopt = ek_ntfs_adopt,
    .own_records = ek_ntfs_own_records,
    .close = ek_ntfs_close,
    .root = ek_ntfs_root,
    .walk = ek_ntfs_walk,
    .decode = ek_ntfs_decode,
};

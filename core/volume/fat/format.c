/* SPDX-License-Identifier: MIT */
/* FAT12, FAT16 and FAT32 as a file system among others: what it is found by, and what it can do. */
#include "volume/fat/fat.h"
#include "volume/formats.h"

static const EkSignature signatures[] = {
    {.offset = 510, .length = 2, .bytes = {0x55, 0xaa}},
};

static const EkSignature record_signatures[] = {
    {.offset = 0, .length = 8, .bytes = {'.', ' ', ' ', ' ', ' ', ' ', ' ', ' '}},
    {.offset = 0, .length = 3, .bytes = {0xf8, 0xff, 0xff}},
};

const EkFileSystem ek_fs_fat = {
    .name = "fat",
    .types =
        {{.filesystem = "fat12", .mbr = 0x01, .gpt = "Microsoft basic data", .apm = "DOS_FAT_12"},
         {.filesystem = "fat16", .mbr = 0x0e, .gpt = "Microsoft basic data", .apm = "DOS_FAT_16"},
         {.filesystem = "fat32", .mbr = 0x0c, .gpt = "Microsoft basic data", .apm = "DOS_FAT_32"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = ek_fat_recognise,
    .measure = ek_fat_measure,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_fat_record_seen,
    .infer = ek_fat_infer,
    .infer_earlier = ek_fat_infer_earlier,
    .repair = ek_fat_repair,
    .use = ek_fat_use,
    .unclean = ek_fat_unclean,
    .structure = "fat-boot",
    .header_bytes = EK_HEADER_BYTES,
    .explain = ek_fat_boot_explain,
    .backup = ek_fat_backup,
    .open = ek_fat_open,
    .close = ek_fat_close,
    .root = ek_fat_root,
    .lists_free_folders = TRUE,
    .walk = ek_fat_walk,
};

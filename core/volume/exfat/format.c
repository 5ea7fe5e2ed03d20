/* SPDX-License-Identifier: MIT */
/* exFAT as a file system among others: what it is found by, and what it can do. */
#include "volume/exfat/set.h"
#include "volume/formats.h"

static const EkSignature signatures[] = {
    {.offset = 3, .length = 8, .bytes = {'E', 'X', 'F', 'A', 'T', ' ', ' ', ' '}},
};

/* The first FAT, an up-case table, root folders by the entry of that table, and folders by the
 * stream entry of a set: what it may be, and what is always zero. */
static const EkSignature record_signatures[] = {
    {.length = 8, .bytes = {0xf8, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}},
    {.length = 8, .bytes = {0, 0, 1, 0, 2, 0, 3, 0}},
    {.offset = EK_EXFAT_ENTRY_BYTES, .length = 4, .bytes = {EK_EXFAT_UPCASE}},
    {.offset = 2 * EK_EXFAT_ENTRY_BYTES, .length = 4, .bytes = {EK_EXFAT_UPCASE}},
    {.offset = EK_EXFAT_ENTRY_BYTES,
     .length = 8,
     .bytes = {EK_EXFAT_STREAM & ~EK_EXFAT_IN_USE, 1},
     .mask = {0xff & ~EK_EXFAT_IN_USE, 0xfd, 0xff, 0, 0, 0, 0xff, 0xff}},
};

const EkFileSystem ek_fs_exfat = {
    .name = "exfat",
    .recogniser = 1,
    .types = {{.mbr = 0x07, .gpt = "Microsoft basic data", .apm = "Windows_NTFS"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = ek_exfat_recognise,
    .measure = ek_exfat_measure,
    .repair = ek_exfat_repair,
    .structure = "exfat-boot",
    .header_bytes = EK_HEADER_BYTES,
    .explain = ek_exfat_boot_explain,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_exfat_record_seen,
    .infer = ek_exfat_infer,
    .infer_earlier = ek_exfat_infer_earlier,
    .use = ek_exfat_use,
    .unclean = ek_exfat_unclean,
    .open = ek_exfat_open,
    .close = ek_exfat_close,
    .root = ek_exfat_root_number,
    .lists_free_folders = TRUE,
    .walk = ek_exfat_walk,
};

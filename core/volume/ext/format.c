/* SPDX-License-Identifier: MIT */
/* ext2, ext3 and ext4 as a file system among others: what it is found by, and what it can do. */
#include "volume/ext/history.h"
#include "volume/formats.h"

static const EkSignature signatures[] = {
    /* The magic, the state below 8, what to do on errors. */
    {.offset = 56,
     .length = 4,
     .bytes = {0x53, 0xef, 0x00, 0x00},
     .mask = {0xff, 0xff, 0xf8, 0xff}},
};

/* The first blocks of folders, with and without types, the root's too; and the head of the first
 * inode table. */
/* The inode of a folder: its type, and a size that is a multiple of a block and below 16 MiB. */
#define FOLDER_INODE(at)                                                                           \
    {                                                                                              \
        .offset = (at), .length = 8, .bytes = {0, 0x40}, .mask = {                                 \
            0,                                                                                     \
            0xf0,                                                                                  \
            0,                                                                                     \
            0,                                                                                     \
            0xff,                                                                                  \
            0x03,                                                                                  \
            0,                                                                                     \
            0xff                                                                                   \
        }                                                                                          \
    }

static const EkSignature record_signatures[] = {
    {.offset = 4,
     .length = 8,
     .bytes = {12, 0, 1, 2, '.', 0, 0, 0},
     .mask = {0xff, 0xff, 0xff, 0xfd, 0xff, 0xff, 0xff, 0xff}},
    {.offset = 256, .length = 4, .bytes = {0xed, 0x41, 0, 0}},
    {.offset = 128, .length = 4, .bytes = {0xed, 0x41, 0, 0}},
    FOLDER_INODE(0),
    FOLDER_INODE(128),
    FOLDER_INODE(256),
    FOLDER_INODE(384),
};

const EkFileSystem ek_fs_ext = {
    .name = "ext",
    .recogniser = 1,
    .types = {{.mbr = 0x83, .gpt = "Linux", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = ek_ext_recognise,
    .measure = ek_ext_measure,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_ext_record_seen,
    .infer = ek_ext_infer,
    .infer_earlier = ek_ext_infer_earlier,
    .repair = ek_ext_repair,
    .use = ek_ext_use,
    .unclean = ek_ext_unclean,
    .moments = ek_ext_moments,
    .header_offset = EK_EXT_SUPER_OFFSET,
    .structure = "ext-superblock",
    .header_bytes = EK_EXT_SUPER_BYTES,
    .explain = ek_ext_super_explain,
    .backup = ek_ext_backup,
    .open = ek_ext_open,
    .close = ek_ext_close,
    .lacks = ek_ext_lacks,
    .adopt = ek_ext_adopt,
    .root = ek_ext_root,
    .walk = ek_ext_walk,
};

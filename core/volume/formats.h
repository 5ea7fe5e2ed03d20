/* SPDX-License-Identifier: MIT */
/* The descriptors of all file systems and containers. */
#ifndef EK_VOLUME_FORMATS_H
#define EK_VOLUME_FORMATS_H

#include "volume/volume.h"

extern const EkFileSystem ek_fs_ntfs;
extern const EkFileSystem ek_fs_fat;
extern const EkFileSystem ek_fs_exfat;
extern const EkFileSystem ek_fs_ext;
extern const EkFileSystem ek_fs_hfsplus;
extern const EkFileSystem ek_fs_apfs;
extern const EkFileSystem ek_fs_xfs;
extern const EkFileSystem ek_fs_btrfs;
extern const EkFileSystem ek_fs_f2fs;
extern const EkFileSystem ek_fs_udf;
extern const EkFileSystem ek_fs_iso9660;
extern const EkFileSystem ek_fs_refs;
extern const EkFileSystem ek_fs_swap;
extern const EkFileSystem ek_fs_luks;
extern const EkFileSystem ek_fs_lvm;
extern const EkFileSystem ek_fs_bitlocker;
extern const EkFileSystem ek_fs_raid;
extern const EkFileSystem ek_fs_ldm;

#endif

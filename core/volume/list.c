/* SPDX-License-Identifier: MIT */
/* The list of all file systems. */
#include "volume/formats.h"

const EkFileSystem *const ek_file_systems[] = {
    &ek_fs_ntfs,    &ek_fs_fat,       &ek_fs_exfat, &ek_fs_ext,  &ek_fs_hfsplus,
    &ek_fs_apfs,    &ek_fs_xfs,       &ek_fs_btrfs, &ek_fs_f2fs, &ek_fs_udf,
    &ek_fs_iso9660, &ek_fs_refs,      &ek_fs_swap,  &ek_fs_luks, &ek_fs_lvm,
    &ek_fs_raid,    &ek_fs_bitlocker, &ek_fs_ldm,   NULL};

const EkFileSystem *ek_file_system_for(const char *filesystem)
{
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        if (g_str_has_prefix(filesystem, ek_file_systems[i]->name))
            return ek_file_systems[i];
    return NULL;
}

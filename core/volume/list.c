/* SPDX-License-Identifier: MIT */
#include "volume/fat/fat.h"
#include "volume/ntfs/ntfs.h"
#include "volume/volume.h"

const EkFileSystem *const ek_file_systems[] = {&ek_fs_ntfs, &ek_fs_fat, NULL};

const EkFileSystem *ek_file_system_for(const char *filesystem)
{
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        if (g_str_has_prefix(filesystem, ek_file_systems[i]->name))
            return ek_file_systems[i];
    return NULL;
}

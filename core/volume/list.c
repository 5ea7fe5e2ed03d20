/* SPDX-License-Identifier: MIT */
/* All file systems, and finding one. */
#include "volume/formats.h"

#define EK_FORMAT(name) &ek_fs_##name,
const EkFileSystem *const ek_file_systems[] = {
#include "volume/list.h"
    NULL};
#undef EK_FORMAT

const EkFileSystem *ek_file_system_for(const char *filesystem)
{
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        if (g_str_has_prefix(filesystem, ek_file_systems[i]->name))
            return ek_file_systems[i];
    return NULL;
}

const EkPartitionType *ek_partition_type_for(const char *filesystem)
{
    static const EkPartitionType none = {.apm = ""};
    const EkFileSystem *format = ek_file_system_for(filesystem);
    for (gsize i = 0; format != NULL && i < EK_PARTITION_TYPES && format->types[i].mbr != 0; i++)
        if (format->types[i].filesystem == NULL ||
            g_str_equal(format->types[i].filesystem, filesystem))
            return &format->types[i];
    return &none;
}

/* SPDX-License-Identifier: MIT */
#include "volume/volume.h"

#include <string.h>

static void ground_free(gpointer data)
{
    EkGround *ground = data;
    g_free(ground->text);
    g_free(ground);
}

EkVolume *ek_volume_new(const EkFileSystem *format, const char *filesystem)
{
    EkVolume *volume = g_new0(EkVolume, 1);
    volume->format = format;
    volume->filesystem = filesystem;
    volume->reasons = g_ptr_array_new_with_free_func(ground_free);
    return volume;
}

void ek_volume_free(EkVolume *volume)
{
    g_free(volume->label);
    g_free(volume->uuid);
    g_ptr_array_unref(volume->reasons);
    g_free(volume);
}

void ek_volume_reason(EkVolume *volume, int points, const char *format, ...)
{
    EkGround *ground = g_new0(EkGround, 1);
    va_list arguments;
    va_start(arguments, format);
    ground->text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    ground->points = points;
    g_ptr_array_add(volume->reasons, ground);
    volume->confidence = CLAMP(volume->confidence + points, 0, 100);
}

void ek_mend_free(EkMend *mend)
{
    g_free(mend->after);
    g_free(mend->what);
    g_free(mend->from);
    g_free(mend);
}

EkEntry *ek_entry_copy(const EkEntry *entry)
{
    EkEntry *copy = g_memdup2(entry, sizeof *entry);
    copy->name = g_strdup(entry->name);
    copy->name_bytes = g_memdup2(entry->name_bytes, entry->name_length);
    return copy;
}

void ek_entry_free(EkEntry *entry)
{
    g_free(entry->name);
    g_free(entry->name_bytes);
    g_free(entry);
}

/* SPDX-License-Identifier: MIT */
/* Files counted by kind and by folder. */
#include "work/tally.h"

#include <string.h>

#define OTHERS "further folders"

void ek_count_add(EkCount *count, const EkItem *item)
{
    count->files++;
    count->bytes += item->file.size;
    count->whole += item->damage.condition == EK_CONDITION_WHOLE;
}

static void folder_free(void *data)
{
    EkTallyFolder *folder = data;
    g_free(folder->name);
    g_free(folder);
}

EkTally *ek_tally_new(guint folders_most)
{
    EkTally *tally = g_new0(EkTally, 1);
    tally->folders = g_ptr_array_new_with_free_func(folder_free);
    tally->by_name = g_hash_table_new(g_str_hash, g_str_equal);
    tally->folders_most = folders_most;
    return tally;
}

void ek_tally_free(EkTally *tally)
{
    g_hash_table_unref(tally->by_name);
    g_ptr_array_unref(tally->folders);
    g_free(tally);
}

static EkTallyFolder *folder_of(EkTally *tally, const char *prefix, const char *path)
{
    const char *slash = strchr(path, '/');
    g_autofree char *own = g_strndup(path, slash != NULL ? (gsize)(slash - path) : 0);
    g_autofree char *name = g_strconcat(prefix, own, NULL);
    EkTallyFolder *folder = g_hash_table_lookup(tally->by_name, name);
    if (folder != NULL)
        return folder;
    if (tally->folders->len > tally->folders_most)
        return tally->folders->pdata[tally->folders_most];
    gboolean is_full = tally->folders->len == tally->folders_most;
    folder = g_new0(EkTallyFolder, 1);
    folder->name = is_full ? g_strdup(OTHERS) : g_steal_pointer(&name);
    g_ptr_array_add(tally->folders, folder);
    /* One of the drive that is called so is another. */
    if (!is_full)
        g_hash_table_insert(tally->by_name, folder->name, folder);
    return folder;
}

void ek_tally_add(EkTally *tally, const char *prefix, const char *path, const EkItem *item)
{
    ek_count_add(&tally->all, item);
    ek_count_add(&tally->kinds[ek_kind_of(item->name)], item);
    ek_count_add(&folder_of(tally, prefix, path)->count, item);
}

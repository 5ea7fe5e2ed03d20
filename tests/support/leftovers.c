/* SPDX-License-Identifier: MIT */
/* What a test that crashed leaves behind, found by the kernel's own lists. */
#include "leftovers.h"

#include <ftw.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/mount.h>

static gboolean is_below(const char *path, const char *folder)
{
    return g_str_has_prefix(path, folder) &&
           (path[strlen(folder)] == '/' || path[strlen(folder)] == '\0');
}

static void unmount_below(const char *folder)
{
    g_autofree char *text = NULL;
    if (!g_file_get_contents("/proc/self/mounts", &text, NULL, NULL))
        return;
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    /* The last that was mounted first. */
    for (guint i = g_strv_length(lines); i-- > 0;) {
        g_auto(GStrv) words = g_strsplit(lines[i], " ", -1);
        g_autofree char *place =
            words[0] != NULL && words[1] != NULL ? g_strcompress(words[1]) : NULL;
        if (place != NULL && is_below(place, folder))
            umount2(place, MNT_DETACH);
    }
}

static void detach_below(const char *folder)
{
    g_autoptr(GDir) dir = g_dir_open("/sys/block", 0, NULL);
    const char *name;
    while (dir != NULL && (name = g_dir_read_name(dir)) != NULL) {
        g_autofree char *path = g_strdup_printf("/sys/block/%s/loop/backing_file", name);
        g_autofree char *backing = NULL;
        if (!g_file_get_contents(path, &backing, NULL, NULL) || !is_below(backing, folder))
            continue;
        g_autofree char *command = g_strdup_printf("losetup -d /dev/%s", name);
        if (!g_spawn_command_line_sync(command, NULL, NULL, NULL, NULL))
            fprintf(stderr, "%s: still attached to %s", name, backing);
    }
}

void leftovers_release(const char *folder)
{
    unmount_below(folder);
    detach_below(folder);
}

static int remove_entry(const char *path, const struct stat *st, int kind, struct FTW *walk)
{
    (void)st;
    (void)kind;
    (void)walk;
    g_chmod(path, 0700);
    return g_remove(path);
}

void leftovers_remove(const char *folder)
{
    leftovers_release(folder);
    nftw(folder, remove_entry, 16, FTW_DEPTH | FTW_PHYS);
}

/* SPDX-License-Identifier: MIT */
/* What on this machine tells drives, by itself, to erase deleted data. */
#include "device/system.h"

#include <string.h>

/* Enabled units and jobs: where they are, what they are called, and how one stops them. */
static const struct {
    const char *path;
    const char *text;
} jobs[] = {
    {"etc/systemd/system/timers.target.wants/fstrim.timer",
     "fstrim.timer (stop it: systemctl stop fstrim.timer)"},
    {"etc/cron.daily/fstrim", "/etc/cron.daily/fstrim"},
    {"etc/cron.weekly/fstrim", "/etc/cron.weekly/fstrim"},
    {"etc/cron.d/fstrim", "/etc/cron.d/fstrim"},
};

GPtrArray *ek_system_trims(const EkSystem *system)
{
    GPtrArray *found = g_ptr_array_new();
    for (gsize i = 0; i < G_N_ELEMENTS(jobs); i++) {
        g_autofree char *path = g_build_filename(ek_system_root(system), jobs[i].path, NULL);
        /* The link of an enabled unit leads to where this root need not have it. */
        if (g_file_test(path, G_FILE_TEST_EXISTS) || g_file_test(path, G_FILE_TEST_IS_SYMLINK))
            g_ptr_array_add(found, (gpointer)jobs[i].text);
    }
    return found;
}

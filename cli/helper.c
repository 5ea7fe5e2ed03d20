/* SPDX-License-Identifier: MIT */
/* Where our helpers are. */
#include "helper.h"

#include "base/platform.h"

#include <unistd.h>

char *ek_helper_path(const char *name, int mode)
{
    static const char *const places[] = {".", "../libexec/ektypon"};
    g_autofree char *self = ek_platform_own_path();
    g_autofree char *folder = self != NULL ? g_path_get_dirname(self) : NULL;
    for (gsize i = 0; folder != NULL && i < G_N_ELEMENTS(places); i++) {
        g_autofree char *path = g_build_filename(folder, places[i], name, NULL);
        if (access(path, mode) == 0)
            return g_steal_pointer(&path);
    }
    return g_build_filename(EKTYPON_LIBEXEC, name, NULL);
}

/* SPDX-License-Identifier: MIT */
/* The name of the set of recognisers that a hunt was made with. */
#include "hunt/hunt.h"

#include "base/digest.h"
#include "base/text.h"

#define NAME_BYTES 8u

char *ek_hunt_recognisers(void)
{
    guint8 sum[EK_SHA256_BYTES];
    g_autoptr(GString) all = g_string_new(NULL);
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        g_string_append_printf(all, "%s;", ek_scheme_name(ek_table_formats[i]->scheme));
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        g_string_append_printf(all, "%s %u;", ek_file_systems[i]->name,
                               ek_file_systems[i]->recogniser);
    ek_sha256_of(all->str, all->len, sum);
    return ek_text_hex(sum, NAME_BYTES, '\0');
}

/* SPDX-License-Identifier: MIT */
/* Replays saved inputs without a fuzzer: the seeds, and what once was found. */
#include "harness.h"

#include <stdio.h>

#define CUT_MOST 16u /* inputs that are cut; the kept corpora hold hundreds */

int main(int argc, char **argv)
{
    guint count = 0;
    for (int i = 1; i < argc; i++) {
        GDir *folder = g_dir_open(argv[i], 0, NULL);
        for (const char *name; folder != NULL && (name = g_dir_read_name(folder)) != NULL;) {
            g_autofree char *path = g_build_filename(argv[i], name, NULL);
            char *data = NULL;
            gsize length = 0;
            if (!g_file_get_contents(path, &data, &length, NULL))
                continue;
            LLVMFuzzerTestOneInput((const uint8_t *)data, length);
            /* And cut short anywhere, which a seed never is. */
            for (gsize cut = 0; count < CUT_MOST && cut < length; cut += length / 37 + 1)
                LLVMFuzzerTestOneInput((const uint8_t *)data, cut);
            g_free(data);
            count++;
        }
        if (folder != NULL)
            g_dir_close(folder);
    }
    printf("%u inputs replayed\n", count);
    return count > 0 ? 0 : 1;
}

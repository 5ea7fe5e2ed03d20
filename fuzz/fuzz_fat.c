/* SPDX-License-Identifier: MIT */
/* Fuzzes the pieces that read FAT entries and names. */
#include "harness.h"
#include "volume/fat/fat.h"
#include "volume/formats.h"
#include "walk.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    FuzzImage fuzz;
    EkCandidate candidates[EK_CANDIDATES_MOST];
    g_ptr_array_unref(ek_fat_boot_explain((EkSpan){data, size}));
    guint count = ek_fs_fat.recognise((EkSpan){data, size}, 0, candidates);
    if (count == 0 || !fuzz_image_open(&fuzz, data, size))
        return 0;
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume =
            ek_volume_measure(&ek_fs_fat, fuzz.reader, &candidates[i], NULL);
        if (volume == NULL || volume->confidence < 0 || volume->confidence > 100)
            abort();
        fuzz_walk(fuzz.reader, volume);
    }
    fuzz_image_close(&fuzz);
    return 0;
}

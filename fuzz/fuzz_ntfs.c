/* SPDX-License-Identifier: MIT */
/* Fuzzes the pieces that read NTFS records. */
#include "harness.h"
#include "volume/formats.h"
#include "volume/ntfs/ntfs.h"

#include <stdlib.h>
#include <string.h>

static void measure(const uint8_t *data, size_t size)
{
    FuzzImage fuzz;
    EkCandidate candidates[EK_CANDIDATES_MOST];
    guint count = ek_fs_ntfs.recognise((EkSpan){data, size}, 0, candidates);
    if (count == 0 || !fuzz_image_open(&fuzz, data, size))
        return;
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume =
            ek_volume_measure(&ek_fs_ntfs, fuzz.reader, &candidates[i], NULL);
        if (volume == NULL || volume->confidence < 0 || volume->confidence > 100)
            abort();
    }
    fuzz_image_close(&fuzz);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    measure(data, size);
    g_ptr_array_unref(ek_ntfs_boot_explain((EkSpan){data, size}));
    g_autofree guint8 *record = g_memdup2(data, size);
    EkSpan span = {record, size};
    if (size > 0 && size <= 65536 && ek_ntfs_record_fix_up(record, size, 512)) {
        ek_ntfs_record_number(span);
        for (guint32 type = 0x10; type <= 0x100; type += 0x10) {
            EkSpan content = ek_ntfs_resident(ek_ntfs_record_attribute(span, type));
            if (content.length > 0 &&
                (content.data < record || content.data + content.length > record + size))
                abort();
        }
    }
    return 0;
}

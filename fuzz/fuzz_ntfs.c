/* SPDX-License-Identifier: MIT */
/* Fuzzes the pieces that read NTFS records. */
#include "harness.h"
#include "volume/formats.h"
#include "volume/ntfs/record.h"

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

static void check_within(EkSpan part, EkSpan whole)
{
    if (part.length > 0 &&
        (part.data < whole.data || part.data + part.length > whole.data + whole.length))
        abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    measure(data, size);
    g_ptr_array_unref(ek_ntfs_boot_explain((EkSpan){data, size}));
    g_autofree guint8 *record = g_memdup2(data, size);
    EkSpan span = {record, size};
    if (size > 0 && size <= 65536 && ek_ntfs_record_fix_up(record, size, 512)) {
        EkNtfsAttribute attribute;
        EkNtfsNamed named;
        EkNtfsRun runs[8];
        for (gsize at = 0; ek_ntfs_attribute_next(span, &at, &attribute);) {
            check_within(attribute.span, span);
            check_within(attribute.content, span);
            check_within(attribute.name, span);
            check_within(attribute.runs, span);
            ek_ntfs_runs(&attribute, runs, G_N_ELEMENTS(runs));
            if (ek_ntfs_name_read(attribute.content, &named))
                check_within(named.units, span);
        }
    }
    return 0;
}

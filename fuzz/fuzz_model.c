/* SPDX-License-Identifier: MIT */
/* Fuzzes the reader of drive models. */
#include "device/model.h"
#include "harness.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    g_autoptr(GError) error = NULL;
    g_autoptr(EkModel) model = ek_model_read(fuzz_file(data, size), &error);
    if ((model == NULL) != (error != NULL))
        abort();
    for (guint i = 0; model != NULL && i < model->faults->len; i++) {
        EkSector at = 0;
        EkSector first = 0;
        EkSector count = 0;
        /* Runs come in order and never stand still. */
        for (int k = 0; k < 50 && ek_fault_run(model->faults->pdata[i], at, &first, &count); k++) {
            if (count == 0 || first + count <= at)
                abort();
            at = first + count;
        }
    }
    return 0;
}

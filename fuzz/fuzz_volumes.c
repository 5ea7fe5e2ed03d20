/* SPDX-License-Identifier: MIT */
/* All recognisers and measurers: the input stands at the beginning of a volume, at the place of its
 * first header, and at its own beginning. */
#include "harness.h"
#include "hunt/hunt.h"
#include "table/table.h"
#include "volume/formats.h"

#include <stdlib.h>

static void drop_mend(void *data, EkMend *mend)
{
    (void)data;
    ek_mend_free(mend);
}

static void measure(EkGate *gate, const EkFileSystem *format, EkByte at)
{
    guint8 start[EK_RECOGNISE_BYTES];
    EkClaim claims[EK_CLAIMS_MOST];
    if (!ek_gate_read(gate, at, start, sizeof start, NULL, NULL))
        return;
    guint count = format->recognise((EkSpan){start, sizeof start}, at, claims);
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume = format->measure(gate, &claims[i], NULL);
        if (volume == NULL || volume->confidence < 0 || volume->confidence > 100)
            abort();
        if (volume->stands && format->mend != NULL)
            format->mend(gate, volume, drop_mend, NULL, NULL);
        if (volume->stands && format->use != NULL && volume->bytes < G_MAXINT64 / 2)
            for (EkByte part = 0; part < volume->bytes; part += volume->bytes / 5 + 1)
                format->use(gate, volume, volume->first_byte + part);
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    FuzzImage fuzz;
    gboolean unread = FALSE;
    if (size == 0 || !fuzz_image_open(&fuzz, data, size))
        return 0;
    for (gsize i = 0; ek_file_systems[i] != NULL; i++) {
        measure(fuzz.gate, ek_file_systems[i], 0);
        if (ek_file_systems[i]->header_offset != 0)
            measure(fuzz.gate, ek_file_systems[i], ek_file_systems[i]->header_offset);
    }
    g_autofree EkTable *table = g_new0(EkTable, 1);
    ek_table_current(fuzz.gate, 512, table, &unread);
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        for (EkByte at = 0; at <= 512; at += 512)
            ek_table_load(ek_table_formats[i], fuzz.gate, at, 512, table);
    fuzz_image_close(&fuzz);
    return 0;
}

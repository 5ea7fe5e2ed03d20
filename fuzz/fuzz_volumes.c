/* SPDX-License-Identifier: MIT */
/* All recognisers and measurers: the input stands at the beginning of a volume, at the place of its
 * first header, and at its own beginning. */
#include "harness.h"
#include "hunt/steps.h"
#include "rebuild/plan.h"
#include "rebuild/stack.h"
#include "table/table.h"
#include "volume/formats.h"

#include <stdlib.h>

static void drop_repair(void *data, EkRepair *repair)
{
    (void)data;
    ek_repair_free(repair);
}

static void measure(EkReader *reader, const EkFileSystem *format, EkByte at)
{
    guint8 start[EK_RECOGNISE_BYTES];
    EkCandidate candidates[EK_CANDIDATES_MOST];
    if (!ek_reader_read(reader, at, start, sizeof start, NULL, NULL))
        return;
    guint count = format->recognise((EkSpan){start, sizeof start}, at, candidates);
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume = ek_volume_measure(format, reader, &candidates[i], NULL);
        if (volume == NULL || volume->confidence < 0 || volume->confidence > 100)
            abort();
        if (volume->is_confirmed && format->repair != NULL)
            format->repair(reader, volume, drop_repair, NULL, NULL);
        EkByte same = 0;
        for (EkByte part = 0; volume->is_confirmed && part < volume->bytes / 5 * 5;
             part += volume->bytes / 5)
            ek_volume_use(volume, reader,
                          (EkRange){volume->first_byte + part, volume->bytes - part}, &same);
    }
}

static void check_plan(const EkPlan *plan, EkReader *reader)
{
    EkByte at = 0;
    for (guint i = 0; i < plan->edits->len; i++) {
        const EkEdit *edit = plan->edits->pdata[i];
        if (edit->length == 0 || edit->first_byte < at ||
            edit->first_byte + edit->length > ek_reader_bytes(reader))
            abort();
        at = edit->first_byte + edit->length;
        g_ptr_array_unref(ek_edit_fields(edit, EK_STEP, TRUE));
    }
}

/* What would be rebuilt of it, by evidence and with each kind of table, one plan on another. */
static void plan(const FuzzImage *fuzz, const GPtrArray *traces, const GPtrArray *findings)
{
    static const EkScheme schemes[] = {EK_SCHEME_UNKNOWN, EK_SCHEME_MBR, EK_SCHEME_GPT};
    g_autoptr(GPtrArray) tables = ek_hunt_tables(fuzz->reader, EK_STEP, traces);
    g_autofree EkPlanVolume *volumes = g_new0(EkPlanVolume, findings->len + 1);
    g_autoptr(GPtrArray) made = g_ptr_array_new_with_free_func((GDestroyNotify)g_ptr_array_unref);
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *finding = findings->pdata[i];
        volumes[i] = (EkPlanVolume){i + 1, finding->volume, finding->standing};
    }
    for (gsize i = 0; i < G_N_ELEMENTS(schemes); i++) {
        g_autoptr(EkPlanWishes) wishes = ek_plan_wishes_new();
        wishes->scheme = schemes[i];
        wishes->layer = i == 1 ? 2 : 0;
        EkPlanInput input = {.parts = {fuzz->image, fuzz->map, EK_STEP, NULL, NULL},
                             .case_id = "0123",
                             .volumes = volumes,
                             .volume_count = findings->len,
                             .tables = tables,
                             .wishes = wishes};
        g_autoptr(EkPlan) planned = ek_plan_make(&input, NULL);
        if (planned == NULL)
            continue;
        check_plan(planned, fuzz->reader);
        g_ptr_array_unref(ek_stack_edits(planned->edits, made));
        g_ptr_array_add(made, g_ptr_array_ref(planned->edits));
    }
}

/* Everything that a hunt does with it, inference and standing included, and a plan. */
static void hunt(const FuzzImage *fuzz, gsize size)
{
    EkReader *reader = fuzz->reader;
    static EkHuntSteps *steps;
    guint8 step[EK_RECOGNISE_BYTES];
    g_autoptr(GArray) traces = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    g_autoptr(GPtrArray) all = g_ptr_array_new();
    if (steps == NULL)
        steps = ek_hunt_steps_new();
    for (EkByte at = 0; at < size; at += EK_STEP)
        if (ek_reader_read(reader, at, step, sizeof step, NULL, NULL))
            ek_hunt_steps_look(steps, reader, (EkSpan){step, sizeof step}, at, traces, traces);
    for (guint i = 0; i < traces->len; i++)
        g_ptr_array_add(all, &g_array_index(traces, EkTrace, i));
    g_autoptr(GPtrArray) findings = ek_hunt_agree(reader, EK_STEP, all, NULL, NULL);
    if (findings == NULL)
        abort();
    plan(fuzz, all, findings);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    FuzzImage fuzz;
    gboolean unread = FALSE;
    if (size == 0 || !fuzz_image_open(&fuzz, data, size))
        return 0;
    for (gsize i = 0; ek_file_systems[i] != NULL; i++) {
        measure(fuzz.reader, ek_file_systems[i], 0);
        if (ek_file_systems[i]->header_offset != 0)
            measure(fuzz.reader, ek_file_systems[i], ek_file_systems[i]->header_offset);
    }
    hunt(&fuzz, size);
    g_autofree EkTable *table = g_new0(EkTable, 1);
    ek_table_current(fuzz.reader, 512, table, &unread);
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        for (EkByte at = 0; at <= 512; at += 512)
            ek_table_load(ek_table_formats[i], fuzz.reader, at, 512, table);
    fuzz_image_close(&fuzz);
    return 0;
}

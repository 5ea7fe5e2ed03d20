/* SPDX-License-Identifier: MIT */
/* What lies outside of all partitions that are planned. */
#include "rebuild/planner.h"

#include "base/text.h"

#define GAP_BYTES (1u << 20) /* smaller gaps are alignment, not space */
#define APPLE_MAP 64u        /* sectors, as usual */
#define LOOK_BYTES (1u << 20)

/* A link to a logical partition, or a further MBR, is part of a table, and no unknown content. */
static gboolean is_table(EkSpan span)
{
    EkTable table;
    return ek_table_ebr.read(span, EK_STEP, &table) || ek_table_mbr.read(span, EK_STEP, &table);
}

/* The first byte in the range that is not zero, nor a table's; FALSE when there is none. */
static gboolean first_content(EkReader *reader, EkRange range, EkByte *at)
{
    g_autofree guint8 *buffer = g_malloc(LOOK_BYTES);
    EkByte from = range.first;
    EkRange data;
    while (from < ek_range_end(range) && ek_reader_next_data(reader, from, &data)) {
        from = MAX(from, data.first);
        if (from >= ek_range_end(range))
            return FALSE;
        gsize length = (gsize)MIN(LOOK_BYTES, ek_range_end(range) - from);
        if (!ek_reader_read(reader, from, buffer, length, NULL, NULL))
            return FALSE;
        for (gsize i = 0; i < length; i += EK_STEP)
            if (!ek_bytes_are_zero(buffer + i, MIN(EK_STEP, length - i)) &&
                !is_table((EkSpan){buffer + i, MIN(EK_STEP, length - i)})) {
                *at = from + i;
                return TRUE;
            }
        from += length;
    }
    return FALSE;
}

static void look_at_gap(EkPlanner *planner, EkByte first, EkByte end)
{
    EkByte content = 0;
    guint32 size = planner->sector_size;
    if (end < first + GAP_BYTES)
        return;
    EkRange gap = {first, end - first};
    g_autofree char *text = ek_text_size(gap.bytes);
    if (first_content(planner->reader, gap, &content))
        ek_planner_warn(planner,
                        "sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
                        " (%s) contain unrecognised data from sector %" G_GUINT64_FORMAT
                        " on. No partition is planned there",
                        first / size, end / size - 1, text, content / size);
    EkKnown known = ek_reader_known(planner->reader, first, gap.bytes);
    if (known.bad + known.unread > 0) {
        g_autofree char *missing = ek_text_size(known.bad + known.unread);
        ek_planner_warn(planner,
                        "sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
                        " (outside all volumes): %s could not be read and may contain more volumes",
                        first / size, end / size - 1, missing);
    }
}

void ek_planner_look_at_gaps(EkPlanner *planner)
{
    g_autoptr(GArray) taken = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < planner->plan->partitions->len; i++) {
        const EkPlanPartition *partition = planner->plan->partitions->pdata[i];
        if (!partition->entry.extended)
            g_array_append_val(taken, partition->entry.range);
    }
    for (guint i = 0; i < planner->chosen->len; i++)
        g_array_append_val(taken, g_array_index(planner->chosen, EkChosen, i).range);
    /* What is left out has been named; it is not unknown. */
    for (gsize i = 0; i < planner->input->volume_count; i++) {
        EkRange range = ek_volume_range(planner->input->volumes[i].volume);
        g_array_append_val(taken, range);
    }
    g_array_sort(taken, ek_range_by_first);
    /* Sector 0 is the table's, and more of it where that is an Apple partition map. */
    EkByte at = planner->sector_size;
    if (planner->plan->scheme == EK_SCHEME_APM)
        at *= APPLE_MAP;
    for (guint i = 0; i < taken->len; i++) {
        EkRange range = g_array_index(taken, EkRange, i);
        if (range.first > at)
            look_at_gap(planner, at, MIN(range.first, planner->bytes));
        at = MAX(at, ek_range_end(range));
    }
    /* A GPT's backup stands at the end of the drive. */
    EkByte end = planner->bytes;
    if (planner->plan->scheme == EK_SCHEME_GPT)
        end -= MIN(end, ek_gpt_backup_bytes(planner->table_size));
    if (at < end)
        look_at_gap(planner, at, end);
}

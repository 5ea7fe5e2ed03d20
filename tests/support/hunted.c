/* SPDX-License-Identifier: MIT */
/* A hunt over what a bench holds, with what it sees kept in memory. */
#include "hunted.h"

#include "check.h"

static gboolean take_trace(void *data, const EkTrace *trace, GError **error)
{
    (void)error;
    g_ptr_array_add(data, g_memdup2(trace, sizeof *trace));
    return TRUE;
}

static gboolean take_hunted(void *data, EkRange range, GError **error)
{
    (void)data;
    (void)range;
    (void)error;
    return TRUE;
}

GPtrArray *bench_hunt(Bench *bench)
{
    GError *error = NULL;
    gint cancel = 0;
    g_autoptr(GPtrArray) traces = g_ptr_array_new_with_free_func(g_free);
    EkHuntSink sink = {traces, take_trace, take_hunted, NULL};
    g_autoptr(EkHunt) hunt = ek_hunt_new(bench->reader, &sink, 2, &cancel);
    g_autoptr(GArray) ranges = bench_good(bench);
    CHECK(ek_hunt_scan(hunt, ranges, &error));
    GPtrArray *findings = ek_hunt_agree(bench->reader, 512, traces, NULL, &error);
    CHECK_FINE(&error);
    return findings;
}

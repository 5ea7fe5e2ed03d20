/* SPDX-License-Identifier: MIT */
/* How many traces of a kind are kept one by one. A drive full of copies of boot sectors must not
 * crowd out the one that counts, and a forged one must not fill the memory: in each window of the
 * drive the first ones are kept, a few of each content, and those that speak of a volume at a place
 * where partitions begin. */
#ifndef EK_HUNT_LIMIT_H
#define EK_HUNT_LIMIT_H

#include "hunt/hunt.h"

typedef struct EkTraceLimit EkTraceLimit;

/* `sink` is asked what was kept before, and must outlive the limit. */
EkTraceLimit *ek_trace_limit_new(EkReader *reader, const EkHuntSink *sink);
void ek_trace_limit_free(EkTraceLimit *limit);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkTraceLimit, ek_trace_limit_free)

/* Is the trace kept? To be called with all traces, in order of position within each kind and
 * format. */
gboolean ek_trace_limit_keeps(EkTraceLimit *limit, const EkTrace *trace);

/* Appends to `rests` (EkTrace) what sums up those that were left out since the last call: for each
 * kind, format and window all of them so far. */
void ek_trace_limit_rests(EkTraceLimit *limit, GArray *rests);

#endif

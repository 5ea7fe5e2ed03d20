/* SPDX-License-Identifier: MIT */
/* Looking at one step. */
#include "hunt/steps.h"

#include "hunt/matcher.h"

#define RUNS_COMPARED 8u
#define SIEVE_BITS 64u

struct EkHuntSteps {
    EkMatcher *matcher; /* one bit a file system, then one the records of each, then one a table */
    guint first_record; /* the bit of the first one's records */
    guint first_table;
};

EkHuntSteps *ek_hunt_steps_new(void)
{
    EkHuntSteps *steps = g_new0(EkHuntSteps, 1);
    EkMatcher *matcher = steps->matcher = ek_matcher_new();
    guint bit = 0;
    for (guint i = 0; ek_file_systems[i] != NULL; i++)
        ek_matcher_add(matcher, bit++, ek_file_systems[i]->signatures,
                       ek_file_systems[i]->signature_count);
    steps->first_record = bit;
    for (guint i = 0; ek_file_systems[i] != NULL; i++)
        ek_matcher_add(matcher, bit++, ek_file_systems[i]->record_signatures,
                       ek_file_systems[i]->record_signature_count);
    steps->first_table = bit;
    for (guint i = 0; ek_table_formats[i] != NULL; i++)
        ek_matcher_add(matcher, bit++, ek_table_formats[i]->signatures,
                       ek_table_formats[i]->signature_count);
    /* Whoever adds the format that is one too many learns it from the first test. */
    g_assert(bit <= SIEVE_BITS);
    return steps;
}

void ek_hunt_steps_free(EkHuntSteps *steps)
{
    ek_matcher_free(steps->matcher);
    g_free(steps);
}

static void add_trace(GArray *traces, const char *kind, const char *format, EkSpan span, EkByte at)
{
    EkTrace trace = {.kind = kind, .format = format, .first_byte = at, .count = 1};
    trace.header_length = MIN(span.length, EK_HEADER_MOST);
    memcpy(trace.header, span.data, trace.header_length);
    g_array_append_val(traces, trace);
}

/* A record goes into the run that it continues: one whose first record it would be in line with. */
static void add_record(GArray *runs, const char *format, const EkRecord *record, EkByte at)
{
    EkByte before = record->number * record->bytes;
    for (guint i = 0; i < MIN(runs->len, RUNS_COMPARED); i++) {
        EkTrace *run = &g_array_index(runs, EkTrace, runs->len - 1 - i);
        if (run->stride == record->bytes && run->format == format &&
            at - before == run->first_byte - run->first_record * run->stride &&
            record->number > run->first_record) {
            run->count = record->number - run->first_record + 1;
            return;
        }
    }
    EkTrace run = {.kind = EK_TRACE_RECORDS,
                   .format = format,
                   .first_byte = at,
                   .count = 1,
                   .stride = record->bytes,
                   .first_record = record->number};
    g_array_append_val(runs, run);
}

/* Asks those whose signature stands in the step. A boot sector ends as a table does: only what is
 * no boot sector may be one. */
static void look_closer(const EkHuntSteps *steps, guint64 bits, EkSpan span, EkByte at,
                        GArray *traces, GArray *runs)
{
    EkCandidate candidates[EK_CANDIDATES_MOST];
    EkRecord record;
    EkTable table;
    gboolean is_taken = FALSE;
    for (guint i = 0; ek_file_systems[i] != NULL; i++) {
        const EkFileSystem *format = ek_file_systems[i];
        if ((bits >> i & 1) != 0 && format->recognise(span, at, candidates) > 0) {
            add_trace(traces, "boot-sector", format->name, span, at);
            is_taken = TRUE;
        }
        if ((bits >> (steps->first_record + i) & 1) != 0 && runs != NULL &&
            format->record(span, &record))
            add_record(runs, format->name, &record, at);
    }
    for (guint i = 0; ek_table_formats[i] != NULL && !is_taken; i++) {
        const EkTableFormat *format = ek_table_formats[i];
        /* A drive does not begin with a link of a chain. */
        if ((bits >> (steps->first_table + i) & 1) == 0 || (at == 0 && format == &ek_table_ebr) ||
            !format->read(span, EK_STEP, &table))
            continue;
        add_trace(traces, "table", ek_scheme_name(format->scheme), span, at);
        is_taken = TRUE;
    }
}

void ek_hunt_steps_look(const EkHuntSteps *steps, EkReader *reader, EkSpan span, EkByte at,
                        GArray *traces, GArray *runs)
{
    guint64 bits = ek_matcher_look(steps->matcher, span.data);
    if (bits != 0 && ek_reader_known(reader, at, EK_STEP).good == EK_STEP)
        look_closer(steps, bits, span, at, traces, runs);
}

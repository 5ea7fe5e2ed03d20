/* SPDX-License-Identifier: MIT */
/* Looking at one step. */
#include "hunt/steps.h"

#include "base/digest.h"

#define RUNS_COMPARED 8u

struct EkHuntSteps {
    EkMatcher *matcher; /* its own */
    guint first_record; /* ids: one a file system, from here on one the records of each */
    guint first_table;  /* from here on one a table */
};

guint ek_hunt_steps_enter(EkMatcher *matcher, guint first)
{
    guint id = first;
    for (guint i = 0; ek_file_systems[i] != NULL; i++)
        ek_matcher_add(matcher, id++, ek_file_systems[i]->signatures,
                       ek_file_systems[i]->signature_count);
    for (guint i = 0; ek_file_systems[i] != NULL; i++)
        ek_matcher_add(matcher, id++, ek_file_systems[i]->record_signatures,
                       ek_file_systems[i]->record_signature_count);
    for (guint i = 0; ek_table_formats[i] != NULL; i++)
        ek_matcher_add(matcher, id++, ek_table_formats[i]->signatures,
                       ek_table_formats[i]->signature_count);
    return id;
}

EkHuntSteps *ek_hunt_steps_new(void)
{
    EkHuntSteps *steps = g_new0(EkHuntSteps, 1);
    while (ek_file_systems[steps->first_record] != NULL)
        steps->first_record++;
    steps->first_table = 2 * steps->first_record;
    steps->matcher = ek_matcher_new();
    ek_hunt_steps_enter(steps->matcher, 0);
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
    /* One bit less: as a number that every store can hold. */
    trace.sum = MAX(ek_block_sum(0, EK_STEP, span.data, EK_STEP) >> 1, 1);
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
void ek_hunt_steps_recognise(const EkHuntSteps *steps, const EkMatches *matches, EkSpan span,
                             EkByte at, GArray *traces, GArray *runs)
{
    EkCandidate candidates[EK_CANDIDATES_MOST];
    EkRecord record;
    EkTable table;
    gboolean is_taken = FALSE;
    for (guint i = 0; i < matches->count; i++) {
        guint id = matches->ids[i];
        if (id < steps->first_record) {
            const EkFileSystem *format = ek_file_systems[id];
            if (format->recognise(span, at, candidates) == 0)
                continue;
            add_trace(traces, "boot-sector", format->name, span, at);
            is_taken = TRUE;
        } else if (id < steps->first_table) {
            const EkFileSystem *format = ek_file_systems[id - steps->first_record];
            if (runs != NULL && format->record(span, &record))
                add_record(runs, format->name, &record, at);
        } else if (!is_taken) {
            const EkTableFormat *format = ek_table_formats[id - steps->first_table];
            /* A drive does not begin with a link of a chain. */
            if ((at == 0 && format == &ek_table_ebr) || !format->read(span, EK_STEP, &table))
                continue;
            add_trace(traces, "table", ek_scheme_name(format->scheme), span, at);
            is_taken = TRUE;
        }
    }
}

void ek_hunt_steps_look(const EkHuntSteps *steps, EkReader *reader, EkSpan span, EkByte at,
                        GArray *traces, GArray *runs)
{
    EkMatches matches;
    if (ek_matcher_look(steps->matcher, span.data, &matches) &&
        ek_reader_known(reader, at, EK_STEP).good == EK_STEP)
        ek_hunt_steps_recognise(steps, &matches, span, at, traces, runs);
}

/* SPDX-License-Identifier: MIT */
/* Tests of core/scan: several visitors, one pass, one order. */
#include "check.h"
#include "fixture.h"
#include "scan/scan.h"

#include <string.h>

#define DRIVE (24u << 20)
#define CHUNK ((EkByte)1 << 20)

static const EkSignature tags[] = {
    {.offset = 0, .length = 6, .bytes = "SEEDS1"},
    {.offset = 0, .length = 6, .bytes = "FROST2"},
    {.offset = 100, .length = 6, .bytes = "MOULD3"},
};

typedef struct {
    const EkSignature *tags; /* one id each */
    guint count;
    GString *seen; /* "id@step " in order of commits */
    EkByte committed;
    guint out_of_order;
    guint stop_after;
} Visitor;

static void *begin(void *data, EkRange chunk)
{
    (void)chunk;
    (void)data;
    return g_string_new(NULL);
}

static guint enter(void *data, EkMatcher *matcher, guint first)
{
    const Visitor *visitor = data;
    for (guint i = 0; i < visitor->count; i++)
        ek_matcher_add(matcher, first + i, &visitor->tags[i], 1);
    return first + visitor->count;
}

static void look(void *data, void *gathered, const EkMatches *matches, EkSpan span, EkByte at)
{
    (void)data;
    for (guint i = 0; i < matches->count; i++)
        g_string_append_printf(gathered, "%u@%" G_GUINT64_FORMAT "%s ", matches->ids[i],
                               at / EK_STEP, span.length < EK_SCAN_SHOWN ? " short" : "");
}

static gboolean commit(void *data, void *gathered, EkRange chunk, GError **error)
{
    Visitor *visitor = data;
    visitor->out_of_order += chunk.first < visitor->committed;
    visitor->committed = ek_range_end(chunk);
    g_string_append(visitor->seen, ((GString *)gathered)->str);
    if (visitor->stop_after > 0 && --visitor->stop_after == 0)
        return ek_error_set(error, EK_ERROR_NO_SPACE, "full");
    return TRUE;
}

static void discard(void *gathered)
{
    g_string_free(gathered, TRUE);
}

static gboolean run(Bench *bench, Visitor *visitors, guint count, guint threads, gint cancel,
                    GError **error)
{
    g_autoptr(EkScan) scan = ek_scan_new(bench->reader, threads, &cancel);
    g_autoptr(GArray) ranges = bench_good(bench);
    ek_scan_set_chunk(scan, CHUNK);
    for (guint i = 0; i < count; i++) {
        EkScanVisitor visitor = {&visitors[i], begin, look, NULL, commit, discard, enter};
        visitors[i].seen = g_string_new(NULL);
        ek_scan_add(scan, &visitor);
    }
    gboolean done = ek_scan_run(scan, ranges, error);
    EkScanProgress progress = ek_scan_progress(scan);
    if (done)
        CHECK_NUMBER(progress.done, progress.total);
    return done;
}

static guint8 *make_drive(void)
{
    guint8 *drive = g_malloc0(DRIVE);
    fill_noise(drive, DRIVE / 2, 5);
    memcpy(drive + 3 * EK_STEP, "SEEDS1", 6);
    memcpy(drive + 2047 * EK_STEP, "FROST2", 6);
    memcpy(drive + 2047 * EK_STEP + 100, "MOULD3", 6);
    memcpy(drive + 2048 * EK_STEP, "SEEDS1", 6);
    memcpy(drive + 9000 * EK_STEP + 1, "SEEDS1", 6); /* not where it should be */
    memcpy(drive + DRIVE - EK_STEP, "FROST2", 6);
    return drive;
}

static void visitors_see_their_own(void)
{
    for (guint threads = 1; threads <= 5; threads += 2) {
        Bench bench;
        Visitor visitors[] = {{.tags = tags, .count = 2}, {.tags = tags + 2, .count = 1}};
        g_autofree guint8 *drive = make_drive();
        bench_open(&bench, drive, DRIVE);
        CHECK(run(&bench, visitors, 2, threads, 0, NULL));
        CHECK_TEXT(visitors[0].seen->str, "0@3 1@2047 0@2048 1@49151 short ");
        CHECK_TEXT(visitors[1].seen->str, "0@2047 ");
        for (guint i = 0; i < 2; i++) {
            CHECK(visitors[i].out_of_order == 0 && visitors[i].committed == DRIVE);
            g_string_free(visitors[i].seen, TRUE);
        }
        bench_close(&bench);
    }
}

static void what_was_not_read_is_not_shown(void)
{
    Bench bench;
    Visitor visitor = {.tags = tags, .count = 2};
    g_autofree guint8 *drive = make_drive();
    bench_open(&bench, drive, DRIVE);
    bench_hole(&bench, 2048, 1, EK_STATE_BAD);
    CHECK(run(&bench, &visitor, 1, 2, 0, NULL));
    CHECK_TEXT(visitor.seen->str, "0@3 1@2047 1@49151 short ");
    g_string_free(visitor.seen, TRUE);
    bench_close(&bench);
}

static void any_visitor_ends_it(void)
{
    Bench bench;
    GError *error = NULL;
    Visitor visitors[] = {{.tags = tags, .count = 2}, {.tags = tags, .count = 2, .stop_after = 2}};
    g_autofree guint8 *drive = make_drive();
    bench_open(&bench, drive, DRIVE);
    CHECK(!run(&bench, visitors, 2, 3, 0, &error));
    CHECK_ERROR(&error, EK_ERROR_NO_SPACE, "full");
    CHECK_NUMBER(visitors[0].committed, 2 * CHUNK);
    CHECK_NUMBER(visitors[1].committed, 2 * CHUNK);
    for (guint i = 0; i < 2; i++)
        g_string_free(visitors[i].seen, TRUE);

    Visitor cancelled = {.tags = tags, .count = 2};
    CHECK(!run(&bench, &cancelled, 1, 2, 1, &error));
    CHECK_ERROR(&error, EK_ERROR_CANCELLED, "interrupted");
    CHECK_NUMBER(cancelled.committed, 0);
    g_string_free(cancelled.seen, TRUE);
    bench_close(&bench);
}

int main(void)
{
    static const Test tests[] = {
        {"visitors see their own", visitors_see_their_own},
        {"what was not read is not shown", what_was_not_read_is_not_shown},
        {"any visitor ends it", any_visitor_ends_it},
    };
    return RUN_TESTS("scan", tests);
}

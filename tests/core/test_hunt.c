/* SPDX-License-Identifier: MIT */
/* Tests of core/hunt. */
#include "check.h"
#include "fixture.h"
#include "hunt/hunt.h"

#include <string.h>

typedef struct {
    GPtrArray *traces; /* EkTrace* */
    EkByte hunted;
    EkByte last;
    guint out_of_order;
    guint stop_after;
} Sink;

static gboolean take_trace(void *data, const EkTrace *trace, GError **error)
{
    Sink *sink = data;
    (void)error;
    g_ptr_array_add(sink->traces, g_memdup2(trace, sizeof *trace));
    return TRUE;
}

static gboolean take_hunted(void *data, EkRange range, GError **error)
{
    Sink *sink = data;
    sink->out_of_order += range.first < sink->last;
    sink->last = ek_range_end(range);
    sink->hunted += range.bytes;
    if (sink->stop_after > 0 && --sink->stop_after == 0)
        return ek_error_set(error, EK_ERROR_NO_SPACE, "full");
    return TRUE;
}

static gboolean scan(Bench *bench, Sink *sink, guint threads, gint cancel, GError **error)
{
    EkHuntSink to = {sink, take_trace, take_hunted, NULL};
    g_autoptr(EkHunt) hunt = ek_hunt_new(bench->reader, &to, threads, &cancel);
    g_autoptr(GArray) ranges = bench_good(bench);
    sink->traces = g_ptr_array_new_with_free_func(g_free);
    return ek_hunt_scan(hunt, ranges, error);
}

#define DRIVE (80u << 20)
#define NTFS_AT (2048u * 512)
#define FAT_AT (30000u * 512)
#define WIDE_AT (50001u * 512)

static guint8 *make_drive(void)
{
    gsize length = 0;
    guint8 *drive = g_malloc(DRIVE);
    fill_noise(drive, DRIVE, 21);
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 2048, &length);
    memcpy(drive + NTFS_AT, ntfs, length);
    g_autoptr(FatVolume) fat = fat_volume_new(16, 30000);
    memcpy(drive + FAT_AT, fat->data, fat->length);
    g_autoptr(FatVolume) wide = fat_volume_new(32, 50001); /* begins at an odd sector */
    memcpy(drive + WIDE_AT, wide->data, wide->length);
    memset(drive, 0, 512);
    return drive;
}

static void every_volume_is_found(void)
{
    Bench bench;
    Sink sink = {0};
    GError *error = NULL;
    g_autofree guint8 *drive = make_drive();
    mbr_put(drive, 0, 0x07, 2048, 16001);
    mbr_put(drive, 1, 0x06, 30000, 7000);  /* longer by some, and an older type */
    mbr_put(drive, 2, 0x0c, 50000, 66000); /* begins a sector too early */
    bench_open(&bench, drive, DRIVE);
    CHECK(scan(&bench, &sink, 2, 0, &error));
    CHECK_FINE(&error);
    CHECK_NUMBER(sink.hunted, DRIVE);
    CHECK_NUMBER(sink.out_of_order, 0);
    g_autoptr(GPtrArray) findings = ek_hunt_agree(bench.reader, 512, sink.traces, NULL, &error);
    CHECK_NUMBER(findings->len, 3);
    static const struct {
        EkByte at;
        const char *filesystem;
        EkStanding standing;
    } wanted[] = {{NTFS_AT, "ntfs", EK_STANDING_LISTED},
                  {FAT_AT, "fat16", EK_STANDING_LISTED},
                  {WIDE_AT, "fat32", EK_STANDING_DISPLACED}};
    for (guint i = 0; i < MIN(findings->len, 3); i++) {
        const EkFinding *finding = findings->pdata[i];
        CHECK_NUMBER(finding->volume->first_byte, wanted[i].at);
        CHECK_TEXT(finding->volume->filesystem, wanted[i].filesystem);
        CHECK_NUMBER(finding->standing, wanted[i].standing);
    }
    g_ptr_array_unref(sink.traces);
    bench_close(&bench);
}

static void the_result_does_not_depend_on_threads(void)
{
    Bench bench;
    GError *error = NULL;
    g_autofree guint8 *drive = make_drive();
    g_autoptr(GString) first = NULL;
    bench_open(&bench, drive, DRIVE);
    for (guint threads = 1; threads <= 5; threads += 2) {
        Sink sink = {0};
        g_autoptr(GString) text = g_string_new(NULL);
        CHECK(scan(&bench, &sink, threads, 0, &error));
        for (guint i = 0; i < sink.traces->len; i++) {
            const EkTrace *trace = sink.traces->pdata[i];
            g_string_append_printf(text, "%s %s %" G_GUINT64_FORMAT "\n", trace->kind,
                                   trace->format, trace->first_byte);
        }
        if (first == NULL)
            first = g_steal_pointer(&text);
        else
            CHECK_TEXT(text->str, first->str);
        g_ptr_array_unref(sink.traces);
    }
    CHECK_CONTAINS(first->str, "boot-sector ntfs 1048576\n");
    bench_close(&bench);
}

static GArray *recall_traces(void *data, const char *kind, const char *format, EkRange range)
{
    const Sink *sink = data;
    GArray *found = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    for (guint i = 0; i < sink->traces->len; i++) {
        const EkTrace *trace = sink->traces->pdata[i];
        if (g_str_equal(trace->kind, kind) && g_str_equal(trace->format, format) &&
            trace->first_byte >= range.first && trace->first_byte < ek_range_end(range))
            g_array_append_vals(found, trace, 1);
    }
    return found;
}

/* What a store does: one row a kind, format and place. */
static gboolean replace_trace(void *data, const EkTrace *trace, GError **error)
{
    Sink *sink = data;
    for (guint i = sink->traces->len; i > 0; i--) {
        EkTrace *other = sink->traces->pdata[i - 1];
        if (g_str_equal(other->kind, trace->kind) && g_str_equal(other->format, trace->format) &&
            other->first_byte == trace->first_byte) {
            *other = *trace;
            return TRUE;
        }
    }
    return take_trace(data, trace, error);
}

static gint by_place(gconstpointer a, gconstpointer b)
{
    const EkTrace *left = *(const EkTrace *const *)a;
    const EkTrace *right = *(const EkTrace *const *)b;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

/* All that is found, in words. Scans from the beginning, is stopped after so many chunks, and goes
 * on in a new hunt, until it is done. */
static char *found_by(Bench *bench, guint threads, EkByte chunk, guint chunks_a_go)
{
    Sink sink = {.traces = g_ptr_array_new_with_free_func(g_free)};
    EkHuntSink to = {&sink, replace_trace, take_hunted, recall_traces};
    gint cancel = 0;
    gboolean done = FALSE;
    for (guint go = 0; !done && go < 1000; go++) {
        g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
        g_autoptr(EkHunt) hunt = ek_hunt_new(bench->reader, &to, threads, &cancel);
        EkByte from = sink.last - MIN(sink.last, EK_RECOGNISE_BYTES);
        EkRange rest = {from, DRIVE - from};
        g_array_append_val(ranges, rest);
        ek_hunt_set_chunk(hunt, chunk);
        sink.stop_after = chunks_a_go;
        done = ek_hunt_scan(hunt, ranges, NULL);
    }
    CHECK(done);
    g_ptr_array_sort(sink.traces, by_place);
    g_autoptr(GPtrArray) findings = ek_hunt_agree(bench->reader, 512, sink.traces, NULL, NULL);
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *finding = findings->pdata[i];
        g_string_append_printf(text, "%s at %" G_GUINT64_FORMAT " %s %d\n",
                               finding->volume->filesystem, finding->volume->first_byte,
                               ek_standing_name(finding->standing), finding->volume->confidence);
        for (guint k = 0; k < finding->volume->reasons->len; k++)
            g_string_append_printf(text, "  %s\n",
                                   ((const EkEvidence *)finding->volume->reasons->pdata[k])->text);
    }
    for (guint i = 0; i < sink.traces->len; i++) {
        const EkTrace *trace = sink.traces->pdata[i];
        if (g_str_equal(trace->kind, "boot-sector"))
            g_string_append_printf(text, "%s %" G_GUINT64_FORMAT "\n", trace->format,
                                   trace->first_byte);
    }
    g_ptr_array_unref(sink.traces);
    return g_string_free(text, FALSE);
}

/* With a flood of boot sectors past what is kept. */
static void neither_chunks_nor_interruptions_matter(void)
{
    Bench bench;
    g_autofree guint8 *drive = make_drive();
    const EkByte flood = 78u << 20;
    for (guint i = 0; i < 2000; i++) {
        memcpy(drive + flood + i * 512, drive + FAT_AT, 512);
        drive[flood + i * 512 + 39] = (guint8)i;
        drive[flood + i * 512 + 40] = (guint8)(i >> 8);
    }
    bench_open(&bench, drive, DRIVE);
    g_autofree char *wanted = found_by(&bench, 2, 16u << 20, 0);
    CHECK_CONTAINS(wanted, "ntfs at 1048576 lost");
    static const struct {
        guint threads;
        EkByte chunk;
        guint chunks_a_go;
    } ways[] = {{1, 1u << 20, 0}, {5, 1u << 20, 7}, {3, 2u << 20, 2}, {2, 16u << 20, 2}};
    for (gsize i = 0; i < G_N_ELEMENTS(ways); i++) {
        g_autofree char *got =
            found_by(&bench, ways[i].threads, ways[i].chunk, ways[i].chunks_a_go);
        CHECK_TEXT(got, wanted);
    }
    bench_close(&bench);
}

static void a_boot_sector_in_a_stretch_not_read_is_found_by_its_backup(void)
{
    Bench bench;
    Sink sink = {0};
    GError *error = NULL;
    g_autofree guint8 *drive = make_drive();
    bench_open(&bench, drive, DRIVE);
    bench_hole(&bench, 2040, 16, EK_STATE_BAD);
    bench_hole(&bench, WIDE_AT / 512, 1, EK_STATE_SET_ASIDE);
    CHECK(scan(&bench, &sink, 0, 0, &error));
    g_autoptr(GPtrArray) findings = ek_hunt_agree(bench.reader, 512, sink.traces, NULL, &error);
    CHECK_NUMBER(findings->len, 3);
    const EkFinding *ntfs = findings->pdata[0];
    CHECK_NUMBER(ntfs->volume->first_byte, NTFS_AT);
    CHECK_NUMBER(ntfs->volume->header_byte, NTFS_AT + 16000 * 512);
    CHECK_NUMBER(ntfs->standing, EK_STANDING_LOST);
    const EkFinding *wide = findings->pdata[2];
    CHECK_NUMBER(wide->volume->first_byte, WIDE_AT);
    CHECK_NUMBER(wide->volume->header_byte, WIDE_AT + 6 * 512);
    g_ptr_array_unref(sink.traces);
    bench_close(&bench);
}

/* The copy in sector 6 alone was read, and what is behind it where a copy of its own would be: it
 * is no first header. */
static void a_copy_alone_is_taken_for_one(void)
{
    Bench bench;
    Sink sink = {0};
    GError *error = NULL;
    g_autofree guint8 *drive = make_drive();
    bench_open(&bench, drive, DRIVE);
    bench_hole(&bench, WIDE_AT / 512, 6, EK_STATE_BAD);
    bench_hole(&bench, WIDE_AT / 512 + 20, 4000, EK_STATE_BAD);
    CHECK(scan(&bench, &sink, 0, 0, &error));
    g_autoptr(GPtrArray) findings = ek_hunt_agree(bench.reader, 512, sink.traces, NULL, &error);
    CHECK_NUMBER(findings->len, 3);
    CHECK_NUMBER(((const EkFinding *)findings->pdata[2])->volume->first_byte, WIDE_AT);
    g_ptr_array_unref(sink.traces);
    bench_close(&bench);
}

static void a_flood_of_boot_sectors_is_counted_not_kept(void)
{
    Bench bench;
    Sink sink = {0};
    GError *error = NULL;
    g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
    g_autofree guint8 *drive = g_malloc0(1 << 20);
    for (gsize at = 0; at < 1 << 20; at += 512)
        memcpy(drive + at, fat->data, 512);
    bench_open(&bench, drive, 1 << 20);
    CHECK(scan(&bench, &sink, 0, 0, &error));
    guint kept = 0;
    guint64 more = 0;
    for (guint i = 0; i < sink.traces->len; i++) {
        const EkTrace *trace = sink.traces->pdata[i];
        kept += g_str_equal(trace->kind, "boot-sector");
        if (g_str_has_prefix(trace->kind, EK_TRACE_REST))
            more = trace->count;
    }
    CHECK(kept >= 32 && kept < 40); /* the first ones, and those of a usual place */
    CHECK_NUMBER(more, 2048 - kept);
    g_autoptr(GPtrArray) findings = ek_hunt_agree(bench.reader, 512, sink.traces, NULL, &error);
    CHECK_NUMBER(findings->len, 0); /* none has its FAT where it says */
    g_ptr_array_unref(sink.traces);
    bench_close(&bench);
}

static void a_hunt_can_be_called_off(void)
{
    Bench bench;
    Sink sink = {0};
    GError *error = NULL;
    g_autofree guint8 *drive = make_drive();
    bench_open(&bench, drive, DRIVE);
    CHECK(!scan(&bench, &sink, 2, 1, &error));
    CHECK_ERROR(&error, EK_ERROR_CANCELLED, "interrupted");
    CHECK_NUMBER(sink.hunted, 0);
    g_ptr_array_unref(sink.traces);
    sink = (Sink){.stop_after = 1};
    CHECK(!scan(&bench, &sink, 2, 0, &error));
    CHECK_ERROR(&error, EK_ERROR_NO_SPACE, "full");
    g_ptr_array_unref(sink.traces);
    bench_close(&bench);
}

int main(void)
{
    static const Test tests[] = {
        {"every volume is found", every_volume_is_found},
        {"the result does not depend on threads", the_result_does_not_depend_on_threads},
        {"neither chunks nor interruptions matter", neither_chunks_nor_interruptions_matter},
        {"a boot sector that was not read is found by its backup",
         a_boot_sector_in_a_stretch_not_read_is_found_by_its_backup},
        {"a copy alone is taken for one", a_copy_alone_is_taken_for_one},
        {"a flood of boot sectors is counted, not kept",
         a_flood_of_boot_sectors_is_counted_not_kept},
        {"a hunt can be called off", a_hunt_can_be_called_off},
    };
    return RUN_TESTS("hunt", tests);
}

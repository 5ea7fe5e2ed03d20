/* SPDX-License-Identifier: MIT */
/* Tests of core/image. */
#include "check.h"
#include "fixture.h"
#include "image/checkedblock.h"

#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define SECTORS 300u

static EkMark random_mark(GRand *random)
{
    return (EkMark){
        (EkState)g_rand_int_range(random, 0, EK_STATES), (EkReason)g_rand_int_range(random, 0, 3),
        (guint32)g_rand_int_range(random, 0, 2), (guint32)g_rand_int_range(random, 1, 3)};
}

static gboolean same(EkMark a, EkMark b)
{
    return a.state == b.state && a.reason == b.reason && a.attempts == b.attempts &&
           a.event == b.event;
}

/* The map against a plain array, one mark a sector. */
static void compare(const EkReadMap *map, const EkMark *plain, guint sectors)
{
    EkSector totals[EK_STATES] = {0};
    EkSector stretches[EK_STATES] = {0};
    for (guint i = 0; i < sectors; i++) {
        EkStretch at = ek_read_map_at(map, i);
        if (!same(at.mark, plain[i]) || i < at.first || i >= at.first + at.count)
            CHECK_NUMBER(i, -1);
        totals[plain[i].state]++;
        stretches[plain[i].state] += i == 0 || !same(plain[i], plain[i - 1]);
    }
    for (int state = 0; state < EK_STATES; state++) {
        CHECK_NUMBER(ek_read_map_total(map, (EkState)state), totals[state]);
        CHECK_NUMBER(ek_read_map_stretches(map, (EkState)state), stretches[state]);
    }
}

static void the_map_agrees_with_a_plain_array(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_autoptr(EkReadMap) map = ek_read_map_new(SECTORS);
    EkMark plain[SECTORS];
    memset(plain, 0, sizeof plain);
    for (int round = 0; round < 1500; round++) {
        EkSector first = (EkSector)g_rand_int_range(random, 0, SECTORS);
        EkSector count = (EkSector)g_rand_int_range(random, 1, round % 10 == 0 ? SECTORS : 12);
        EkMark mark = random_mark(random);
        ek_read_map_set(map, first, count, mark);
        for (EkSector i = first; i < MIN(first + count, SECTORS); i++)
            plain[i] = mark;
        if (round % 20 == 0)
            compare(map, plain, SECTORS);
    }
    compare(map, plain, SECTORS);
    EkSector tally[EK_STATES];
    EkSector wanted[EK_STATES] = {0};
    ek_read_map_tally(map, 50, 100, tally);
    for (guint i = 50; i < 150; i++)
        wanted[plain[i].state]++;
    for (int state = 0; state < EK_STATES; state++)
        CHECK_NUMBER(tally[state], wanted[state]);
}

/* Far more boundaries than one leaf of the map holds, and then few again. */
static void a_map_of_many_boundaries_agrees_with_a_plain_array(void)
{
    enum { MANY = 60000 };
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_autoptr(EkReadMap) map = ek_read_map_new(MANY);
    g_autofree EkMark *plain = g_new0(EkMark, MANY);
    for (int round = 0; round < 90000; round++) {
        gboolean wide = round > 60000 && round % 100 == 0;
        EkSector first = (EkSector)g_rand_int_range(random, 0, MANY);
        EkSector count = (EkSector)g_rand_int_range(random, 1, wide ? MANY / 4 : 4);
        EkMark mark = random_mark(random);
        ek_read_map_set(map, first, count, mark);
        for (EkSector i = first; i < MIN(first + count, MANY); i++)
            plain[i] = mark;
        if (round % 15000 == 0)
            compare(map, plain, MANY);
    }
    g_autoptr(EkReadMap) copy = ek_read_map_copy(map);
    ek_read_map_set(map, 0, MANY, plain[0]);
    compare(copy, plain, MANY);
    CHECK_NUMBER(ek_read_map_at(map, MANY / 2).count, MANY);
}

/* A store that does what the map's changes say ends up with the map's boundaries. */
static void changes_rebuild_the_map_elsewhere(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_autoptr(EkReadMap) map = ek_read_map_new(SECTORS);
    gboolean stored[SECTORS + 1] = {TRUE};
    EkMark marks[SECTORS + 1];
    memset(marks, 0, sizeof marks);
    for (int commit = 0; commit < 200; commit++) {
        for (int i = g_rand_int_range(random, 0, 6); i > 0; i--)
            ek_read_map_set(map, (EkSector)g_rand_int_range(random, 0, SECTORS),
                            (EkSector)g_rand_int_range(random, 1, 40), random_mark(random));
        g_autoptr(GPtrArray) changes = ek_read_map_take_changes(map);
        for (guint c = 0; c < changes->len; c++) {
            const EkMapChange *change = changes->pdata[c];
            for (EkSector i = change->from; i <= change->to; i++)
                stored[i] = FALSE;
            for (gsize k = 0; k < change->count; k++) {
                stored[change->stretches[k].first] = TRUE;
                marks[change->stretches[k].first] = change->stretches[k].mark;
            }
        }
        EkMark current = marks[0];
        for (guint i = 0; i < SECTORS; i++) {
            gboolean begins = ek_read_map_at(map, i).first == i;
            if (stored[i])
                current = marks[i];
            if (begins != stored[i] || !same(current, ek_read_map_at(map, i).mark))
                CHECK_NUMBER(i, -1);
        }
    }
    g_autoptr(GPtrArray) nothing = ek_read_map_take_changes(map);
    CHECK_NUMBER(nothing->len, 0);
}

static void stretches_are_found_by_state(void)
{
    g_autoptr(EkReadMap) map = ek_read_map_new(100);
    EkStretch stretch;
    ek_read_map_set(map, 10, 20, (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    ek_read_map_set(map, 50, 5, (EkMark){EK_STATE_BAD, EK_REASON_MEDIUM, 1, 1});
    CHECK(ek_read_map_next(map, 0, EK_STATE_BIT(EK_STATE_GOOD), &stretch));
    CHECK_NUMBER(stretch.first, 10);
    CHECK(ek_read_map_next(map, 15, EK_STATE_BIT(EK_STATE_GOOD), &stretch));
    CHECK_NUMBER(stretch.first, 15);
    CHECK_NUMBER(stretch.count, 15);
    CHECK(ek_read_map_next(map, 30, EK_STATES_UNREAD, &stretch));
    CHECK_NUMBER(stretch.count, 20);
    CHECK(!ek_read_map_next(map, 30, EK_STATE_BIT(EK_STATE_GOOD), &stretch));
    CHECK(!ek_read_map_next(map, 100, 0xff, &stretch));
    ek_read_map_set(map, 99, 50, (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    CHECK_NUMBER(ek_read_map_at(map, 99).count, 1);
}

static void the_image_is_sparse_where_there_are_zeros(void)
{
    GError *error = NULL;
    g_autofree guint8 *data = g_malloc0(1 << 20);
    guint8 back[4096];
    struct stat st;
    CHECK(ek_image_create("image.raw", 1 << 24, &error));
    CHECK(!ek_image_create("image.raw", 1 << 24, &error));
    CHECK_ERROR(&error, EK_ERROR_FAILED, "image.raw");
    g_autoptr(EkImage) image = ek_image_open("image.raw", 1 << 24, TRUE, &error);
    CHECK_FINE(&error);
    memcpy(data + 300000, "germination", 11);
    CHECK(ek_image_write(image, 1 << 22, data, 1 << 20, &error));
    CHECK(ek_image_sync(image, &error));
    CHECK(stat("image.raw", &st) == 0);
    CHECK(st.st_blocks * 512 < 65536);
    CHECK(ek_image_read(image, (1 << 22) + 300000, back, 11, &error));
    CHECK_BYTES(back, "germination", 11);
    EkRange range;
    CHECK(ek_image_next_data(image, 0, &range));
    CHECK(range.first <= (1 << 22) + 300000 && ek_range_end(range) > (1 << 22) + 300000);
}

static void a_truncated_image_is_said(void)
{
    GError *error = NULL;
    write_file("image.raw", "short", 5);
    CHECK(ek_image_open("image.raw", 512, FALSE, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, "has 5 bytes where the drive has 512");
}

static void layers_lie_over_one_another(void)
{
    g_autoptr(EkOverlay) overlay = ek_overlay_new();
    guint8 buffer[10] = "..........";
    EkRange covered;
    CHECK(ek_overlay_is_empty(overlay));
    ek_overlay_add(overlay, 102, (const guint8 *)"aaaa", 4);
    ek_overlay_add(overlay, 104, (const guint8 *)"bbbb", 4);
    ek_overlay_add(overlay, 50, (const guint8 *)"c", 1);
    ek_overlay_lay(overlay, 100, buffer, sizeof buffer);
    CHECK_BYTES(buffer, "..aabbbb..", 10);
    memset(buffer, '.', sizeof buffer);
    ek_overlay_lay(overlay, 105, buffer, 2);
    CHECK_BYTES(buffer, "bb........", 10);
    CHECK(ek_overlay_next(overlay, 60, 200, &covered));
    CHECK_NUMBER(covered.first, 102);
    CHECK_NUMBER(covered.bytes, 4);
    CHECK(ek_overlay_next(overlay, 106, 107, &covered));
    CHECK_NUMBER(covered.first, 106);
    CHECK_NUMBER(covered.bytes, 1);
    CHECK(!ek_overlay_next(overlay, 108, 200, &covered));
}

static void the_reader_tells_unread_from_zero(void)
{
    Bench bench;
    guint8 data[20 * 512];
    guint8 buffer[20 * 512];
    EkKnown known;
    EkRange hole;
    gboolean bad = FALSE;
    GError *error = NULL;
    fill_noise(data, sizeof data, 3);
    bench_open(&bench, data, sizeof data);
    bench_hole(&bench, 4, 2, EK_STATE_BAD);
    bench_hole(&bench, 6, 3, EK_STATE_SET_ASIDE);
    CHECK(ek_reader_read(bench.reader, 3 * 512 + 100, buffer, 5 * 512, &known, &error));
    CHECK_NUMBER(known.bad, 2 * 512);
    CHECK_NUMBER(known.unread, 2 * 512 + 100);
    CHECK_NUMBER(known.good, 412);
    CHECK_BYTES(buffer, data + 3 * 512 + 100, 412);
    CHECK(!ek_reader_read(bench.reader, 19 * 512, buffer, 513, NULL, &error));
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, "past the end");
    CHECK(!ek_reader_read(bench.reader, G_MAXUINT64, buffer, 2, NULL, &error));
    g_clear_error(&error);
    CHECK(ek_reader_next_hole(bench.reader, 0, sizeof data, &hole, &bad));
    CHECK_NUMBER(hole.first, 4 * 512);
    CHECK_NUMBER(hole.bytes, 2 * 512);
    CHECK(bad);
    CHECK(ek_reader_next_hole(bench.reader, 7 * 512 + 1, 8 * 512, &hole, &bad));
    CHECK_NUMBER(hole.first, 7 * 512 + 1);
    CHECK_NUMBER(hole.bytes, 511);
    CHECK(!bad);
    CHECK(!ek_reader_next_hole(bench.reader, 9 * 512, sizeof data, &hole, &bad));
    bench_close(&bench);
}

static void the_two_faces_differ_by_the_plan_only(void)
{
    Bench bench;
    guint8 data[8 * 512];
    guint8 buffer[8 * 512];
    EkKnown known;
    EkRange hole;
    gboolean bad = FALSE;
    GError *error = NULL;
    fill_noise(data, sizeof data, 4);
    bench_open(&bench, data, sizeof data);
    bench_hole(&bench, 2, 2, EK_STATE_BAD);
    g_autoptr(EkOverlay) repairs = ek_overlay_new();
    g_autoptr(EkOverlay) kept = ek_overlay_new();
    g_autofree guint8 *sector = g_malloc0(512);
    memset(sector, 'm', 512);
    ek_overlay_add(repairs, 2 * 512, sector, 512);
    ek_overlay_add(kept, 6 * 512, (const guint8 *)"kept", 4);
    EkImageReaderParts parts = {bench.image, bench.map, 512, kept, repairs};
    g_autoptr(EkReader) read = ek_image_reader_new(&parts, EK_FACE_AS_READ);
    g_autoptr(EkReader) repaired = ek_image_reader_new(&parts, EK_FACE_AS_REPAIRED);
    CHECK(ek_reader_read(read, 0, buffer, sizeof buffer, &known, &error));
    CHECK_NUMBER(known.bad, 1024);
    CHECK_NUMBER(buffer[2 * 512], 0);
    CHECK_BYTES(buffer + 6 * 512, "kept", 4);
    CHECK(ek_reader_read(repaired, 0, buffer, sizeof buffer, &known, &error));
    CHECK_NUMBER(known.bad, 512);
    CHECK_NUMBER(known.good, 7 * 512);
    CHECK_BYTES(buffer + 2 * 512, sector, 512);
    CHECK_BYTES(buffer + 6 * 512, "kept", 4);
    CHECK(ek_reader_next_hole(repaired, 0, sizeof data, &hole, &bad));
    CHECK_NUMBER(hole.first, 3 * 512);
    bench_close(&bench);
}

static void a_piece_knows_what_of_it_was_read(void)
{
    guint8 data[8 * 512];
    guint8 buffer[sizeof data];
    Bench bench;
    EkCheckedBlock piece;
    fill_noise(data, sizeof data, 3);
    bench_open(&bench, data, sizeof data);
    bench_hole(&bench, 2, 1, EK_STATE_BAD);
    CHECK(ek_checked_block_read(&piece, bench.reader, 512, buffer, 5 * 512));
    CHECK_NUMBER(piece.known.bad, 512);
    CHECK_NUMBER(ek_checked_block_until(&piece, 0), 512);
    CHECK_NUMBER(ek_checked_block_until(&piece, 511), 512);
    CHECK_NUMBER(ek_checked_block_until(&piece, 700), 700); /* not read at all */
    CHECK_NUMBER(ek_checked_block_until(&piece, 1024), 5 * 512);
    CHECK_NUMBER(ek_checked_block_until(&piece, 9999), 9999);
    CHECK(ek_checked_block_has(&piece, 0, 512));
    CHECK(!ek_checked_block_has(&piece, 0, 513));
    CHECK(!ek_checked_block_has(&piece, 600, 1));
    CHECK(ek_checked_block_has(&piece, 1024, 4 * 512 - 512));
    CHECK(!ek_checked_block_has(&piece, 1024, 4 * 512)); /* past its end */
    CHECK_BYTES(buffer + 1024, data + 3 * 512, 512);
    CHECK(!ek_checked_block_read(&piece, bench.reader, 6 * 512, buffer,
                                 5 * 512)); /* leaves the image */
    bench_close(&bench);
}

/* A claim may lead through the whole image: it is followed so far and no further. */
static void a_bounded_reader_gives_out(void)
{
    Bench bench;
    GError *error = NULL;
    guint8 data[4096] = {1, 2, 3};
    guint8 back[16];
    bench_open(&bench, data, sizeof data);
    g_autoptr(EkReader) bounded = ek_reader_bounded(bench.reader, 3);
    for (int i = 0; i < 3; i++)
        CHECK(ek_reader_read(bounded, 0, back, sizeof back, NULL, &error));
    CHECK(!ek_reader_is_spent(bounded));
    CHECK_FINE(&error);
    CHECK(!ek_reader_read(bounded, 0, back, sizeof back, NULL, &error));
    CHECK(ek_reader_is_spent(bounded));
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, "more places than are looked at");
    CHECK(ek_reader_read(bench.reader, 0, back, sizeof back, NULL, &error));
    bench_close(&bench);
}

/* A map that somebody made up may have more different marks than there are numbers for. */
static void marks_beyond_number_say_the_same_of_a_sector(void)
{
    const EkSector sectors = ((EkSector)1 << 20) + 1000;
    g_autoptr(EkReadMap) map = ek_read_map_new(sectors);
    for (EkSector i = 0; i < sectors; i++)
        ek_read_map_append(
            map, i,
            (EkMark){i % 2 == 0 ? EK_STATE_GOOD : EK_STATE_BAD, EK_REASON_MEDIUM, 1, (guint32)i});
    CHECK(ek_read_map_at(map, sectors - 1).mark.state == EK_STATE_BAD);
    CHECK(ek_read_map_at(map, sectors - 2).mark.state == EK_STATE_GOOD);
}

int main(void)
{
    static const Test tests[] = {
        {"a bounded reader gives out", a_bounded_reader_gives_out},
        {"marks beyond number say the same of a sector",
         marks_beyond_number_say_the_same_of_a_sector},
        {"the map agrees with a plain array", the_map_agrees_with_a_plain_array},
        {"a map of many boundaries agrees with a plain array",
         a_map_of_many_boundaries_agrees_with_a_plain_array},
        {"changes rebuild the map elsewhere", changes_rebuild_the_map_elsewhere},
        {"stretches are found by state", stretches_are_found_by_state},
        {"the image is sparse where there are zeros", the_image_is_sparse_where_there_are_zeros},
        {"a truncated image is said", a_truncated_image_is_said},
        {"layers lie over one another", layers_lie_over_one_another},
        {"the reader tells unread from zero", the_reader_tells_unread_from_zero},
        {"a piece knows what of it was read", a_piece_knows_what_of_it_was_read},
        {"the two faces differ by the plan only", the_two_faces_differ_by_the_plan_only},
    };
    return RUN_TESTS("image", tests);
}

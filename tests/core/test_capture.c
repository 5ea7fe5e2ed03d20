/* SPDX-License-Identifier: MIT */
/* Tests of core/capture: reading, marking, keeping. */
#include "base/digest.h"
#include "capture/capture.h"
#include "capture/imagewriter.h"
#include "check.h"
#include "fixture.h"

#include <fcntl.h>
#include <string.h>
#include <unistd.h>

/* A store in memory that checks, at each commit, that what is called good is in the image. */
typedef struct {
    EkReadMap *map;
    EkImage *image;
    const guint8 *truth;
    gsize length;
    GHashTable *sums;
    guint commits;
    guint fail_at; /* commit that fails; 0: none */
    guint wrong;
    EkKeptState state;
} Store;

static gboolean store_commit(void *data, const GPtrArray *changes, const EkBlockSum *sums,
                             gsize count, const EkKeptState *state, GError **error)
{
    Store *store = data;
    if (++store->commits == store->fail_at)
        return ek_error_set(error, EK_ERROR_NO_SPACE, "the store is full");
    for (guint i = 0; i < changes->len; i++) {
        const EkMapChange *change = changes->pdata[i];
        /* Where boundaries go and none comes, what holds to the left of them holds on. */
        if (change->from > 0)
            ek_read_map_set(store->map, change->from, change->to - change->from,
                            ek_read_map_at(store->map, change->from - 1).mark);
        for (gsize k = 0; k < change->count; k++) {
            EkStretch stretch = change->stretches[k];
            ek_read_map_set(store->map, stretch.first, stretch.count, stretch.mark);
            gsize first = stretch.first * 512;
            gsize bytes = MIN(stretch.count * 512, store->length - first);
            g_autofree guint8 *there = g_malloc(bytes);
            if (stretch.mark.state == EK_STATE_GOOD &&
                (!ek_image_read(store->image, first, there, bytes, NULL) ||
                 memcmp(there, store->truth + first, bytes) != 0))
                store->wrong++;
        }
    }
    for (gsize i = 0; i < count; i++)
        g_hash_table_insert(store->sums, GUINT_TO_POINTER((guint)sums[i].number),
                            g_memdup2(&sums[i].sum, sizeof sums[i].sum));
    store->state = *state;
    return TRUE;
}

static gboolean store_sum(void *data, guint64 number, guint64 *sum, GError **error)
{
    (void)error;
    const guint64 *known =
        g_hash_table_lookup(((Store *)data)->sums, GUINT_TO_POINTER((guint)number));
    *sum = known != NULL ? *known : 0;
    return TRUE;
}

static gboolean store_correct(void *data, EkByte first, const guint8 *bytes, gsize length,
                              GError **error)
{
    (void)data;
    (void)first;
    (void)bytes;
    (void)length;
    return ek_error_set(error, EK_ERROR_FAILED, "nothing is applied here");
}

typedef struct {
    Store store;
    EkDevice *device;
    guint8 *truth;
    gint cancel;
    EkCaptureChoices choices;
    EkPrefix *prefix;
} Rig;

static void rig_open(Rig *rig, gsize length, const char *faults)
{
    GError *error = NULL;
    *rig = (Rig){.choices = {.all_rounds = TRUE}};
    rig->truth = g_malloc(length);
    fill_noise(rig->truth, length, 11);
    memset(rig->truth + length / 4, 0, length / 8); /* zeros are a good region too */
    write_file("drive.img", rig->truth, length);
    g_autofree char *text =
        g_strdup_printf("[drive]\nbacking=drive.img\nerror-time=1000\n%s", faults);
    write_file("drive.model", text, strlen(text));
    rig->device = ek_device_open("sim:drive.model", NULL, &error);
    CHECK_FINE(&error);
    CHECK(ek_image_create("image.raw", length, &error));
    rig->store.image = ek_image_open("image.raw", length, TRUE, &error);
    rig->store.truth = rig->truth;
    rig->store.length = length;
    rig->store.map = ek_read_map_new(ek_divide_up(length, 512));
    rig->store.sums = g_hash_table_new_full(NULL, NULL, NULL, g_free);
    CHECK_FINE(&error);
}

static void rig_close(Rig *rig)
{
    ek_device_close(rig->device);
    ek_image_close(rig->store.image);
    ek_read_map_free(rig->store.map);
    g_hash_table_unref(rig->store.sums);
    g_free(rig->truth);
}

static EkCaptureEnd rig_run(Rig *rig, EkCaptureProgress *progress, GError **error)
{
    /* What a test has put there beforehand is as if loaded from the store. */
    g_ptr_array_unref(ek_read_map_take_changes(rig->store.map));
    EkCaptureParts parts = {
        .device = rig->device,
        .image = rig->store.image,
        .map = rig->store.map,
        .event = 1,
        .sink = {&rig->store, store_commit, store_sum, store_correct},
        .cancel = &rig->cancel,
        .choices = rig->choices,
        .prefix = rig->prefix,
    };
    g_autoptr(EkCapture) capture = ek_capture_new(&parts);
    EkCaptureEnd end = ek_capture_run(capture, error);
    if (progress != NULL)
        *progress = ek_capture_progress(capture);
    CHECK_NUMBER(rig->store.wrong, 0);
    return end;
}

/* Every sector is what the faults make of it, and the image holds what is good. */
static void check_end_state(Rig *rig, const EkSector (*bad)[2], gsize count)
{
    EkSector sectors = ek_read_map_sectors(rig->store.map);
    guint wrong = 0;
    for (EkSector at = 0; at < sectors; at++) {
        EkState wanted = EK_STATE_GOOD;
        for (gsize i = 0; i < count; i++)
            if (at >= bad[i][0] && at < bad[i][0] + bad[i][1])
                wanted = EK_STATE_BAD;
        EkMark mark = ek_read_map_at(rig->store.map, at).mark;
        wrong += mark.state != wanted ||
                 mark.reason != (wanted == EK_STATE_BAD ? EK_REASON_MEDIUM : EK_REASON_NONE);
    }
    CHECK_NUMBER(wrong, 0);
    CHECK_NUMBER(rig->store.state.totals[EK_STATE_GOOD],
                 ek_read_map_total(rig->store.map, EK_STATE_GOOD));
}

static void check_sums(Rig *rig)
{
    for (gsize at = 0, block = 0; at < rig->store.length; at += EK_BLOCK_BYTES, block++) {
        guint64 wanted = 0;
        for (gsize in = at; in < MIN(at + EK_BLOCK_BYTES, rig->store.length); in += 512)
            if (ek_read_map_at(rig->store.map, in / 512).mark.state == EK_STATE_GOOD)
                wanted +=
                    ek_block_sum(in / 512, 512, rig->truth + in, MIN(512u, rig->store.length - in));
        guint64 kept = 0;
        store_sum(&rig->store, block, &kept, NULL);
        CHECK(kept == wanted);
    }
}

static void all_that_reads_is_taken(void)
{
    static const EkSector bad[][2] = {{0, 1}, {777, 1}, {10000, 300}, {34000, 2}, {40960, 1}};
    Rig rig;
    GError *error = NULL;
    /* A length that is no multiple of anything; the last sector is bad. */
    rig_open(&rig, 40960 * 512 + 77,
             "[fault a]\nkind=unreadable\nfirst=0\ncount=1\n"
             "[fault b]\nkind=unreadable\nfirst=777\ncount=1\n"
             "[fault c]\nkind=unreadable\nfirst=10000\ncount=300\n"
             "[fault d]\nkind=unreadable\nfirst=34000\ncount=2\n"
             "[fault e]\nkind=unreadable\nfirst=40960\ncount=1\n");
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_COMPLETE);
    CHECK_FINE(&error);
    check_end_state(&rig, bad, G_N_ELEMENTS(bad));
    check_sums(&rig);
    rig_close(&rig);
}

static void random_drives_end_right(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    for (int drive = 0; drive < 20; drive++) {
        Rig rig;
        EkSector bad[6][2];
        GError *error = NULL;
        g_autoptr(GString) faults = g_string_new(
            g_rand_boolean(random) ? "returns-before-error=true\n" : "max-transfer=64\n");
        for (int i = 0; i < 6; i++) {
            bad[i][0] = (EkSector)g_rand_int_range(random, 0, 20000);
            bad[i][1] = (EkSector)(g_rand_boolean(random) ? 1 : g_rand_int_range(random, 2, 400));
            g_string_append_printf(faults, "[fault %d]\nkind=unreadable\nfirst=%d\ncount=%d\n", i,
                                   (int)bad[i][0], (int)bad[i][1]);
        }
        rig_open(&rig, (gsize)g_rand_int_range(random, 21000 * 512, 22000 * 512), faults->str);
        CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_COMPLETE);
        CHECK_FINE(&error);
        check_end_state(&rig, (const EkSector(*)[2])bad, 6);
        check_sums(&rig);
        rig_close(&rig);
        remove("image.raw");
    }
}

static void a_large_physical_sector_goes_as_one(void)
{
    static const EkSector bad[][2] = {{1000, 8}};
    Rig rig;
    EkCaptureProgress progress;
    GError *error = NULL;
    rig_open(&rig, 4000 * 512,
             "physical-sector-size=4096\n[fault a]\nkind=unreadable\nfirst=1003\ncount=1\n");
    CHECK_NUMBER(rig_run(&rig, &progress, &error), EK_CAPTURE_COMPLETE);
    check_end_state(&rig, bad, 1);
    CHECK(progress.failed_commands >= 2); /* the large read, then the sector alone */
    CHECK(progress.failed_commands <= 4);
    rig_close(&rig);
}

static void a_drive_that_reads_nowhere_stops_the_work(void)
{
    Rig rig;
    GError *error = NULL;
    rig_open(&rig, 200000 * 512, "[fault all]\nkind=unreadable\nfirst=0\ncount=200000\n");
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_STOPPED);
    CHECK_FINE(&error);
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_BAD), 0);
    CHECK(rig.store.state.failed_commands >= 64);
    CHECK(rig.store.state.failed_commands < 150);
    rig_close(&rig);
}

static void a_drive_that_stops_later_marks_nothing_bad(void)
{
    Rig rig;
    GError *error = NULL;
    /* It reads its first half, then the heads fail for good: what stood there reads no more. */
    rig_open(&rig, 60000 * 512, "[fault half]\nkind=unreadable\nfirst=30000\ncount=30000\n");
    rig.cancel = 0;
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_COMPLETE);
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_BAD), 30000);
    rig_close(&rig);
    remove("image.raw");

    rig_open(&rig, 60000 * 512, "[fault half]\nkind=unreadable\nfirst=30000\ncount=30000\n");
    EkReadMap *map = rig.store.map;
    rig.cancel = 1;
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_CANCELLED);
    rig.cancel = 0;
    ek_read_map_set(map, 0, 30000, (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    ek_image_write(rig.store.image, 0, rig.truth, 30000 * 512, NULL);
    ek_device_close(rig.device);
    const char *dead = "[drive]\nbacking=drive.img\nerror-time=10\n"
                       "[fault all]\nkind=unreadable\nfirst=0\ncount=60000\n";
    write_file("drive.model", dead, strlen(dead));
    rig.device = ek_device_open("sim:drive.model", NULL, &error);
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_STOPPED);
    CHECK_NUMBER(ek_read_map_total(map, EK_STATE_BAD), 0);
    CHECK_NUMBER(ek_read_map_total(map, EK_STATE_GOOD), 30000);
    rig_close(&rig);
}

static void another_drive_is_not_read_into_the_case(void)
{
    Rig rig;
    GError *error = NULL;
    rig_open(&rig, 8000 * 512, "");
    ek_read_map_set(rig.store.map, 0, 4000, (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    g_autofree guint8 *other = g_malloc(4000 * 512);
    fill_noise(other, 4000 * 512, 99);
    ek_image_write(rig.store.image, 0, other, 4000 * 512, NULL);
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_STRANGER);
    CHECK_ERROR(&error, EK_ERROR_GONE, "another drive");
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_UNTOUCHED), 4000);
    rig_close(&rig);
}

static void a_drive_that_dies_is_gone_not_bad(void)
{
    Rig rig;
    EkCaptureProgress progress;
    GError *error = NULL;
    rig_open(&rig, 60000 * 512, "lifetime=0.12\n");
    CHECK_NUMBER(rig_run(&rig, &progress, &error), EK_CAPTURE_GONE);
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_BAD), 0);
    CHECK(progress.totals[EK_STATE_GOOD] > 0);
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_GOOD), progress.totals[EK_STATE_GOOD]);
    rig_close(&rig);
}

static void what_the_store_refuses_is_not_called_good(void)
{
    Rig rig;
    GError *error = NULL;
    rig_open(&rig, 8000 * 512, "");
    rig.store.fail_at = 1;
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_FAILED);
    CHECK_ERROR(&error, EK_ERROR_NO_SPACE, "full");
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_GOOD), 0);
    rig_close(&rig);
}

/* A sparse file: its holes are good without being read, and count in the sums like zeros. */
static void holes_are_taken_without_reading(void)
{
    Rig rig;
    GError *error = NULL;
    gsize length = 40u * 1048576 + 77;
    gsize places[] = {17u * 1048576 + 3, 30u * 1048576, length - 50};
    rig_open(&rig, length, "");
    memset(rig.truth, 0, length);
    int fd = open("sparse.img", O_RDWR | O_CREAT, 0600);
    CHECK(ftruncate(fd, (off_t)length) == 0);
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++) {
        gsize bytes = MIN(9000u, length - places[i]);
        fill_noise(rig.truth + places[i], bytes, (guint32)i);
        CHECK(pwrite(fd, rig.truth + places[i], bytes, (off_t)places[i]) == (ssize_t)bytes);
    }
    close(fd);
    ek_device_close(rig.device);
    rig.device = ek_device_open("sparse.img", NULL, &error);
    EkCaptureProgress progress;
    CHECK_NUMBER(rig_run(&rig, &progress, &error), EK_CAPTURE_COMPLETE);
    CHECK_FINE(&error);
    CHECK_NUMBER(progress.read_bytes, length);
    CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_GOOD), length / 512 + 1);
    g_autofree guint8 *image = read_file("image.raw", &length);
    CHECK_BYTES(image, rig.truth, length);
    check_sums(&rig);
    rig_close(&rig);
}

static void check_prefix(const Rig *rig, EkPrefix *prefix, gsize length)
{
    g_autoptr(EkSha256) digest = ek_sha256_new();
    ek_sha256_update(digest, rig->truth, length);
    g_autofree char *wanted = ek_sha256_finish_hex(digest);
    CHECK_NUMBER(prefix->bytes, length);
    g_autofree char *got = ek_sha256_finish_hex(prefix->digest);
    CHECK_TEXT(got, wanted);
    ek_prefix_clear(prefix);
}

/* All of a healthy drive, of any size; of another what comes before its first bad sector. */
static void the_digest_grows_while_reading_in_order(void)
{
    const gsize length = (9 << 20) + 512 * 3 + 100;
    EkPrefix prefix = {0};
    Rig rig;
    GError *error = NULL;
    rig_open(&rig, length, "");
    rig.prefix = &prefix;
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_COMPLETE);
    check_prefix(&rig, &prefix, length);
    rig_close(&rig);

    unlink("image.raw");
    rig_open(&rig, length, "[fault f]\nkind=unreadable\nfirst=16384\ncount=1\n");
    rig.prefix = &prefix;
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_COMPLETE);
    CHECK(prefix.bytes > 0 && prefix.bytes <= 16384 * 512);
    check_prefix(&rig, &prefix, prefix.bytes);
    rig_close(&rig);

    /* What the store refuses is not vouched for. */
    unlink("image.raw");
    rig_open(&rig, length, "");
    rig.prefix = &prefix;
    rig.store.fail_at = 1;
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_FAILED);
    g_clear_error(&error);
    CHECK(prefix.digest == NULL && prefix.bytes == 0);
    rig_close(&rig);
}

static void what_was_left_is_taken_later(void)
{
    static const EkSector bad[][2] = {{5000, 64}};
    Rig rig;
    GError *error = NULL;
    rig_open(&rig, 20000 * 512, "[fault a]\nkind=unreadable\nfirst=5000\ncount=64\n");
    /* As a kill leaves it: some good, some set aside, the rest untouched. */
    ek_read_map_set(rig.store.map, 0, 4096, (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    ek_image_write(rig.store.image, 0, rig.truth, 4096 * 512, NULL);
    ek_read_map_set(rig.store.map, 4096, 2048,
                    (EkMark){EK_STATE_SET_ASIDE, EK_REASON_MEDIUM, 1, 1});
    CHECK_NUMBER(rig_run(&rig, NULL, &error), EK_CAPTURE_COMPLETE);
    CHECK_FINE(&error);
    check_end_state(&rig, bad, 1);
    rig_close(&rig);
}

/* A store that is busy until it is let go. */
static gint store_is_held;

static gboolean busy_sum(void *data, guint64 number, guint64 *sum, GError **error)
{
    while (g_atomic_int_get(&store_is_held) != 0)
        g_usleep(1000);
    return store_sum(data, number, sum, error);
}

static gpointer let_go(gpointer data)
{
    (void)data;
    g_usleep(300000);
    g_atomic_int_set(&store_is_held, 0);
    return NULL;
}

/* However many notes are under way when the last one comes, it is answered. */
static void a_full_queue_comes_to_its_end(void)
{
    static const guint counts[] = {65534, 65535, 65536, 65537};
    for (gsize i = 0; i < G_N_ELEMENTS(counts); i++) {
        Rig rig;
        GError *error = NULL;
        EkKeptState state = {0};
        EkMark good = {EK_STATE_GOOD, EK_REASON_NONE, 0, 1};
        EkMark aside = {EK_STATE_SET_ASIDE, EK_REASON_SKIPPED, 0, 1};
        rig_open(&rig, 1 << 20, "");
        EkImageWriterParts parts = {.image = rig.store.image,
                                    .map = rig.store.map,
                                    .sector_size = 512,
                                    .buffer_bytes = 4096,
                                    .sink = {&rig.store, store_commit, busy_sum, store_correct}};
        g_atomic_int_set(&store_is_held, 1);
        EkImageWriter *writer = ek_image_writer_new(&parts);
        guint8 *buffer = ek_image_writer_take_buffer(writer);
        memcpy(buffer, rig.truth, 512);
        ek_image_writer_write(writer, 0, 1, buffer, 512, good, &state);
        g_usleep(50000); /* the image writer has taken that, and waits for the store */
        GThread *helper = g_thread_new("let go", let_go, NULL);
        for (guint n = 0; n < counts[i]; n++)
            ek_image_writer_mark(writer, 1 + n % 100, 1, aside, &state);
        alarm(30);
        CHECK(ek_image_writer_finish(writer, &state, &error));
        alarm(0);
        CHECK_FINE(&error);
        g_thread_join(helper);
        CHECK_NUMBER(ek_read_map_total(rig.store.map, EK_STATE_SET_ASIDE), 100);
        rig_close(&rig);
        unlink("image.raw");
    }
}

int main(void)
{
    static const Test tests[] = {
        {"a full queue comes to its end", a_full_queue_comes_to_its_end},
        {"all that reads is taken", all_that_reads_is_taken},
        {"random drives end right", random_drives_end_right},
        {"a large physical sector goes as one", a_large_physical_sector_goes_as_one},
        {"a drive that reads nowhere stops the work", a_drive_that_reads_nowhere_stops_the_work},
        {"a drive that stops later marks nothing bad", a_drive_that_stops_later_marks_nothing_bad},
        {"another drive is not read into the case", another_drive_is_not_read_into_the_case},
        {"a drive that dies is gone, not bad", a_drive_that_dies_is_gone_not_bad},
        {"what the store refuses is not called good", what_the_store_refuses_is_not_called_good},
        {"holes are taken without reading", holes_are_taken_without_reading},
        {"the digest grows while reading in order", the_digest_grows_while_reading_in_order},
        {"what was left is taken later", what_was_left_is_taken_later},
    };
    return RUN_TESTS("capture", tests);
}

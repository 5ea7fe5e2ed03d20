/* SPDX-License-Identifier: MIT */
/* The scheduler over simulated drives, with nothing but a map and a clock. */
#include "capture/scheduling.h"
#include "check.h"
#include "device/ground.h"
#include "device/simulated.h"

#include <math.h>
#include <string.h>

#define MS 1000000
#define GIB_SECTORS 2097152u

typedef struct {
    EkModel *model; /* the device's */
    EkDevice *device;
    EkReadMap *map;
    EkSchedulerParts parts;
    EkSector twice; /* sectors read again after they were good */
    guint64 reads;
    guint64 failed;
    EkSector first_read; /* of the very first read */
    EkSector lowest;
    EkSector highest;
    double clock_at_share; /* when `share` of the drive was good */
    guint64 failed_at_share;
    double share;
} Bench;

static EkModel *plain_model(void)
{
    EkModel *model = ek_model_new();
    model->model = g_strdup("bench");
    model->sector_size = model->physical_sector_size = 512;
    model->read_rate = 160;
    model->max_transfer = 1u << 20;
    model->command_time = MS / 10;
    model->seek_time = 9 * MS;
    model->error_time = 1500 * (gint64)MS;
    model->seed = 1;
    return model;
}

static EkFault *add(EkModel *model, EkFaultKind kind, EkSector first, EkSector count)
{
    EkFault *fault = g_new0(EkFault, 1);
    *fault = (EkFault){.kind = kind, .first = first, .count = count, .rate = 2, .chance = 1};
    g_ptr_array_add(model->faults, fault);
    return fault;
}

static void take(void *data, EkSector first, EkSector count, EkState state, EkReason reason,
                 guint32 attempts)
{
    Bench *bench = data;
    if (state == EK_STATE_GOOD) {
        EkSector tally[EK_STATES];
        ek_read_map_tally(bench->map, first, count, tally);
        bench->twice += tally[EK_STATE_GOOD];
    }
    ek_read_map_set(bench->map, first, count, (EkMark){state, reason, attempts, 1});
}

static void bench_open(Bench *bench, EkModel *model, EkSector sectors)
{
    guint32 command = model->max_transfer / model->sector_size;
    *bench = (Bench){.model = model, .share = 0.99, .lowest = G_MAXUINT64};
    bench->device = ek_simulated_new(model, "bench", NULL, sectors * model->sector_size);
    bench->map = ek_read_map_new(sectors);
    bench->parts = (EkSchedulerParts){
        .map = bench->map,
        .sectors = sectors,
        .sector_size = model->sector_size,
        .unit = model->physical_sector_size / model->sector_size,
        .command = command,
        .most = command * 4,
        .patience = 6,
        .data = bench,
        .set = take,
    };
}

static double clock_of(const Bench *bench)
{
    return (double)ek_device_clock(bench->device) / 1e9;
}

/* Reads until nothing is left, or until `until` (may be NULL) says so. */
static void bench_run(Bench *bench, gboolean (*until)(const Bench *, const EkRead *))
{
    g_autoptr(EkScheduler) scheduler = ek_scheduler_new(&bench->parts);
    g_autofree guint8 *buffer = g_malloc((gsize)bench->parts.most * bench->parts.sector_size);
    EkSector sectors = bench->parts.sectors;
    EkRead read;
    while (ek_scheduler_next(scheduler, &read)) {
        if (until != NULL && until(bench, &read))
            return;
        CHECK(read.count > 0 && read.count <= sectors - read.first);
        if (bench->reads++ == 0)
            bench->first_read = read.first;
        bench->lowest = MIN(bench->lowest, read.first);
        bench->highest = MAX(bench->highest, read.first + read.count - 1);
        double began = clock_of(bench);
        EkReadOutcome outcome =
            ek_device_read_in_blocks(bench->device, read.first, read.count, read.block, buffer);
        bench->failed += outcome.reason != EK_REASON_NONE;
        while (outcome.gone && !ek_device_is_back(bench->device))
            ek_device_wait(bench->device, 1000 * (gint64)MS);
        ek_scheduler_observe(scheduler, &read, &outcome, clock_of(bench) - began);
        EkSector good = ek_read_map_total(bench->map, EK_STATE_GOOD);
        if (bench->clock_at_share == 0 && (double)good >= bench->share * (double)sectors) {
            bench->clock_at_share = clock_of(bench);
            bench->failed_at_share = bench->failed;
        }
    }
}

static void bench_close(Bench *bench)
{
    ek_device_close(bench->device);
    ek_read_map_free(bench->map);
}

/* Every sector is what the faults make of it; flaky ones are either. */
static void check_end(const Bench *bench)
{
    g_autoptr(EkGroundIndex) index = ek_ground_index_new(bench->model);
    EkSector per = bench->parts.unit;
    EkSector wrong = 0;
    for (EkSector at = 0; at < bench->parts.sectors; at++) {
        EkState state = ek_read_map_at(bench->map, at).mark.state;
        gboolean bad = FALSE;
        gboolean flaky = FALSE;
        EkSector from = at - at % per;
        for (EkSector i = from; i < from + per; i++) {
            EkGround ground = ek_ground_at(index, i, i + 1);
            flaky |= ground.fault != NULL && ground.fault->kind == EK_FAULT_FLAKY;
            bad |= ground.fault != NULL && ground.fault->kind != EK_FAULT_FLAKY &&
                   ground.fault->kind != EK_FAULT_SLOW;
        }
        if (flaky && !bad)
            wrong += state != EK_STATE_GOOD && state != EK_STATE_BAD;
        else
            wrong += state != (bad ? EK_STATE_BAD : EK_STATE_GOOD);
    }
    CHECK_NUMBER(wrong, 0);
    CHECK_NUMBER(bench->twice, 0);
}

static EkModel *random_model(GRand *random, EkSector sectors)
{
    static const gint64 error_times[] = {20, 1500, 7000, 30000};
    EkModel *model = plain_model();
    model->error_time = error_times[g_rand_int_range(random, 0, 4)] * (gint64)MS;
    model->command_time = g_rand_int_range(random, 1, 300) * (gint64)MS / 100;
    model->physical_sector_size = g_rand_boolean(random) ? 512 : 4096;
    model->returns_before_error = g_rand_boolean(random);
    model->seed = g_rand_int(random);
    for (int i = g_rand_int_range(random, 0, 9); i > 0; i--) {
        EkFaultKind kind = (EkFaultKind)g_rand_int_range(random, 0, 5);
        EkSector count = (EkSector)exp(g_rand_double_range(random, 0, 6));
        if (kind == EK_FAULT_VANISH)
            count = MIN(count, 3);
        EkFault *fault =
            add(model, kind, (EkSector)g_rand_int_range(random, 0, (gint)sectors), count);
        fault->chance = 0.5;
        fault->hang = 30000 * (gint64)MS;
        fault->after_errors = (guint64)g_rand_int_range(random, 0, 3);
        fault->back_after = 5000 * (gint64)MS;
        if (g_rand_boolean(random) && kind != EK_FAULT_VANISH) {
            fault->repeat_every = count + (EkSector)g_rand_int_range(random, 500, 30000);
            fault->drift = g_rand_int_range(random, -2, 3);
            fault->until = fault->first + 20 * fault->repeat_every;
        }
    }
    return model;
}

static void random_drives_end_right(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    for (int i = 0; i < 40; i++) {
        Bench bench;
        EkSector sectors = (EkSector)g_rand_int_range(random, 1, 300000);
        bench_open(&bench, random_model(random, sectors), sectors);
        bench.parts.backwards = i % 5 == 4;
        bench.parts.again = (guint)(i % 3);
        bench_run(&bench, NULL);
        check_end(&bench);
        bench_close(&bench);
    }
}

static void a_drive_of_one_sector_is_read(void)
{
    Bench bench;
    bench_open(&bench, plain_model(), 1);
    bench_run(&bench, NULL);
    CHECK_NUMBER(bench.reads, 1);
    check_end(&bench);
    bench_close(&bench);
}

static void a_healthy_drive_is_read_once_in_order(void)
{
    Bench bench;
    bench_open(&bench, plain_model(), GIB_SECTORS + 77);
    bench_run(&bench, NULL);
    CHECK_NUMBER(bench.twice, 0);
    CHECK_NUMBER(bench.first_read, 0);
    /* 1 GiB in reads of 4 MiB, and a few smaller ones at the start. */
    CHECK(bench.reads < 256 + 40);
    CHECK(clock_of(&bench) < 1024 / 160.0 + 0.2);
    bench_close(&bench);
}

static void one_scratch_costs_few_failures(void)
{
    Bench bench;
    EkModel *model = plain_model();
    add(model, EK_FAULT_UNREADABLE, 9000000, 20000);
    bench_open(&bench, model, 16 * GIB_SECTORS);
    bench.share = 0.998;
    gboolean (*none)(const Bench *, const EkRead *) = NULL;
    bench_run(&bench, none);
    CHECK(bench.failed_at_share <= 6);
    CHECK_NUMBER(ek_read_map_total(bench.map, EK_STATE_BAD), 20000);
    CHECK_NUMBER(bench.twice, 0);
    bench_close(&bench);
}

static gboolean is_single(const Bench *bench, const EkRead *read)
{
    (void)bench;
    return read->round == EK_ROUND_SINGLE;
}

/* One stripe of eight fails, each a little further apart than the last. */
static void a_damaged_head_is_learned(void)
{
    Bench bench;
    EkModel *model = plain_model();
    EkFault *fault = add(model, EK_FAULT_UNREADABLE, 30001, 16384);
    fault->repeat_every = 8 * 16384;
    fault->drift = 5;
    bench_open(&bench, model, 16 * GIB_SECTORS);
    bench.share = 0.875 * 0.99;
    bench_run(&bench, is_single);
    CHECK(bench.failed_at_share <= 30); /* of 250 stripes */
    double healthy = 16 * 1024 / 160.0 * 7 / 8;
    CHECK(bench.clock_at_share < healthy * 1.1 + 25 * 1.5);
    CHECK_NUMBER(bench.twice, 0);
    bench_close(&bench);
}

/* One of two heads fails, and its stripes get shorter from zone to zone: jumps alone land on bad
 * ground as often as not. */
static void every_zone_of_a_damaged_head_is_learned(void)
{
    Bench bench;
    EkModel *model = plain_model();
    EkFault *first = add(model, EK_FAULT_UNREADABLE, 3000, 5000);
    first->repeat_every = 10000;
    first->until = 8 * GIB_SECTORS;
    EkFault *second = add(model, EK_FAULT_UNREADABLE, 8 * GIB_SECTORS + 4444, 4321);
    second->repeat_every = 2 * 4321;
    bench_open(&bench, model, 16 * GIB_SECTORS);
    bench.share = 0.5 * 0.99;
    bench_run(&bench, is_single);
    CHECK(bench.failed_at_share <= 75); /* of 3500 stripes */
    /* The stripes that read, and a seek to each. */
    double healthy = 8 * 1024 / 160.0 + 3500 * 0.009;
    CHECK(bench.clock_at_share < healthy * 1.15 + 75 * 1.5);
    CHECK_NUMBER(bench.twice, 0);
    bench_close(&bench);
}

/* Where a command is dear and an error is not, commands stay large. */
static void dear_commands_are_few(void)
{
    Bench bench;
    EkModel *model = plain_model();
    model->command_time = 150 * 1000000;
    model->error_time = 2 * 1000000;
    for (guint i = 0; i < 20; i++)
        add(model, EK_FAULT_UNREADABLE, 100000 + i * 97000, 1);
    bench_open(&bench, model, GIB_SECTORS);
    bench_run(&bench, NULL);
    double healthy = 1024 * (0.15 + 1 / 160.0);
    CHECK(clock_of(&bench) < healthy + 20 * 20 * 0.16);
    check_end(&bench);
    bench_close(&bench);
}

/* The pattern ends halfway: what is stepped over in vain is read after all. */
static void a_wrong_guess_is_unlearned(void)
{
    Bench bench;
    EkModel *model = plain_model();
    EkFault *fault = add(model, EK_FAULT_UNREADABLE, 30001, 16384);
    fault->repeat_every = 8 * 16384;
    fault->until = 8 * GIB_SECTORS;
    bench_open(&bench, model, 16 * GIB_SECTORS);
    bench_run(&bench, is_single);
    EkSector tally[EK_STATES];
    ek_read_map_tally(bench.map, 9 * GIB_SECTORS, 7 * GIB_SECTORS, tally);
    CHECK_NUMBER(tally[EK_STATE_GOOD], 7 * GIB_SECTORS);
    bench_close(&bench);
}

static void slow_ground_comes_last(void)
{
    Bench bench;
    EkModel *model = plain_model();
    EkSector slow = GIB_SECTORS / 4;
    add(model, EK_FAULT_SLOW, 5000000, slow);
    bench_open(&bench, model, 16 * GIB_SECTORS);
    bench.share = 0.98;
    bench_run(&bench, NULL);
    CHECK(bench.clock_at_share < 16 * 1024 / 160.0 * 1.05);
    check_end(&bench);
    bench_close(&bench);
}

static gboolean wanted_is_in(const Bench *bench, const EkRead *read)
{
    EkSector tally[EK_STATES];
    EkSector unread = 0;
    for (gsize i = 0; i < bench->parts.wanted_count; i++) {
        ek_read_map_tally(bench->map, bench->parts.wanted[i].first, bench->parts.wanted[i].count,
                          tally);
        unread += tally[EK_STATE_UNTOUCHED];
    }
    (void)read;
    return unread == 0;
}

static void what_is_wanted_comes_first_by_rank(void)
{
    static const EkSectorRange wanted[] = {{900000, 5000}, {100, 50}, {899000, 3000}};
    Bench bench;
    EkModel *model = plain_model();
    add(model, EK_FAULT_UNREADABLE, 902000, 3);
    bench_open(&bench, model, GIB_SECTORS);
    bench.parts.wanted = wanted;
    bench.parts.wanted_count = G_N_ELEMENTS(wanted);
    bench_run(&bench, wanted_is_in);
    CHECK_NUMBER(bench.first_read, 900000);
    CHECK_NUMBER(bench.lowest, 100);
    CHECK_NUMBER(bench.highest, 904999);
    /* Nothing else was read so far. */
    CHECK(ek_read_map_total(bench.map, EK_STATE_UNTOUCHED) >= GIB_SECTORS - 5000 - 50 - 3000);
    bench_close(&bench);
}

static void limits_are_kept(void)
{
    Bench bench;
    EkModel *model = plain_model();
    add(model, EK_FAULT_UNREADABLE, 50000, 10);
    bench_open(&bench, model, GIB_SECTORS);
    bench.parts.limits = (EkSectorRange){40000, 30000};
    bench_run(&bench, NULL);
    CHECK_NUMBER(bench.lowest, 40000);
    CHECK_NUMBER(bench.highest, 69999);
    CHECK_NUMBER(ek_read_map_total(bench.map, EK_STATE_GOOD), 29990);
    CHECK_NUMBER(ek_read_map_total(bench.map, EK_STATE_BAD), 10);
    bench_close(&bench);
}

static void backwards_begins_at_the_end(void)
{
    Bench bench;
    bench_open(&bench, plain_model(), 100001);
    bench.parts.backwards = TRUE;
    bench_run(&bench, NULL);
    CHECK(bench.first_read + 2048 >= 100001);
    check_end(&bench);
    bench_close(&bench);
}

static void a_block_that_is_asked_for_is_kept_to(void)
{
    Bench bench;
    bench_open(&bench, plain_model(), 64000);
    bench.parts.block = 64;
    bench_run(&bench, NULL);
    /* A thousand commands: each costs a tenth of a millisecond besides its transfer. */
    double transfer = 64000.0 * 512 / (160 * 1048576.0);
    CHECK(fabs(clock_of(&bench) - transfer - 0.1 - 0.009) < 0.002);
    bench_close(&bench);
}

static void flaky_sectors_come_with_retries(void)
{
    EkSector bad[2];
    for (guint again = 0; again < 2; again++) {
        Bench bench;
        EkModel *model = plain_model();
        add(model, EK_FAULT_FLAKY, 1000, 400)->chance = 0.7;
        bench_open(&bench, model, 20000);
        bench.parts.again = again * 8;
        bench_run(&bench, NULL);
        bad[again] = ek_read_map_total(bench.map, EK_STATE_BAD);
        CHECK_NUMBER(bench.twice, 0);
        bench_close(&bench);
    }
    CHECK(bad[0] > 100);
    CHECK(bad[1] < bad[0] / 4);
}

static void probes_weigh_cost_against_cost(void)
{
    /* Where both cost the same, halves; where a failure is dear, small steps. */
    CHECK(fabs(ek_costs_probe(1, 1) - 0.5) < 1e-6);
    double dear = ek_costs_probe(0.0001, 1.5);
    CHECK(dear > 0.999 && dear < 1);
    CHECK(ek_costs_probe(1.5, 0.0001) < 0.01);
    double p = ek_costs_probe(1, 7);
    CHECK(fabs(p + pow(p, 7) - 1) < 1e-6);
}

static void costs_are_told_apart(void)
{
    EkCosts costs;
    ek_costs_init(&costs, 512);
    for (int i = 0; i < 20; i++) {
        ek_costs_note_good(&costs, 2048, 1, TRUE, 0.002 + 2048 * 1e-6);
        ek_costs_note_good(&costs, 8, 1, TRUE, 0.002 + 8 * 1e-6);
    }
    CHECK(fabs(costs.command - 0.002) < 1e-5);
    CHECK(fabs(costs.sector - 1e-6) < 1e-8);
    ek_costs_note_good(&costs, 8, 1, FALSE, 0.002 + 8e-6 + 0.015);
    CHECK(fabs(costs.seek - 0.015) < 1e-4);
    ek_costs_note_failure(&costs, 7);
    CHECK(costs.failure == 7);
    EkCostsKept kept = ek_costs_keep(&costs);
    EkCosts other;
    ek_costs_init(&other, 512);
    ek_costs_recall(&other, &kept);
    CHECK(other.failure == 7);
    CHECK(fabs(other.command - costs.command) < 1e-9);
}

static void runs_are_learned(void)
{
    EkRuns runs;
    ek_runs_init(&runs);
    double before = ek_runs_share(&runs, 64, 0, 1000000);
    for (int i = 0; i < 50; i++)
        ek_runs_note(&runs, 300);
    CHECK(ek_runs_share(&runs, 64, 0, 1000000) < before);
    EkSector place = ek_runs_quantile(&runs, 0.75, 0, 1000000);
    CHECK(place > 255 && place < 512);
    /* A share is never fewer sectors than a smaller one. */
    EkSector last = 0;
    for (double share = 0.05; share < 1; share += 0.05) {
        EkSector now = ek_runs_quantile(&runs, share, 10, 100000);
        CHECK(now >= last && now > 10 && now <= 100000);
        last = now;
    }
}

int main(void)
{
    static const Test tests[] = {
        {"random drives end right", random_drives_end_right},
        {"a drive of one sector is read", a_drive_of_one_sector_is_read},
        {"a healthy drive is read once, in order", a_healthy_drive_is_read_once_in_order},
        {"one scratch costs few failures", one_scratch_costs_few_failures},
        {"a damaged head is learned", a_damaged_head_is_learned},
        {"every zone of a damaged head is learned", every_zone_of_a_damaged_head_is_learned},
        {"dear commands are few", dear_commands_are_few},
        {"a wrong guess is unlearned", a_wrong_guess_is_unlearned},
        {"slow ground comes last", slow_ground_comes_last},
        {"what is wanted comes first, by rank", what_is_wanted_comes_first_by_rank},
        {"limits are kept", limits_are_kept},
        {"backwards begins at the end", backwards_begins_at_the_end},
        {"a block that is asked for is kept to", a_block_that_is_asked_for_is_kept_to},
        {"flaky sectors come with retries", flaky_sectors_come_with_retries},
        {"probes weigh cost against cost", probes_weigh_cost_against_cost},
        {"costs are told apart", costs_are_told_apart},
        {"runs are learned", runs_are_learned},
    };
    return RUN_TESTS("scheduler", tests);
}

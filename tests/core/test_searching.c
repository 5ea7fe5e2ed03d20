/* SPDX-License-Identifier: MIT */
/* How a bad region is searched: the size of reads, when a failure is looked into at once, how far a
 * sweep walks, guesses from the runs before, and what of this saves failures on a drive. */
#include "capture/blocksize.h"
#include "capture/runpattern.h"
#include "check.h"
#include "trial.h"

#include <math.h>

static EkCosts costs_of(double command, double seek, double failure)
{
    EkCosts costs;
    ek_costs_init(&costs, 512);
    costs.sector = 512 / (160 * 1048576.0);
    costs.command = command;
    costs.seek = seek;
    costs.failure = failure;
    return costs;
}

static void without_failures_reads_are_as_large_as_they_can_be(void)
{
    EkCosts costs = costs_of(0.0001, 0.009, 1.5);
    EkBlockSize size = ek_block_size(&costs, 0, 8, 2048);
    CHECK_NUMBER(size.block, 2048);
    CHECK(!size.stay);
    /* A command that is no whole number of units is cut to one. */
    CHECK_NUMBER(ek_block_size(&costs, 0, 8, 1001).block, 1000);
    CHECK_NUMBER(ek_block_size(&costs, 0, 8, 5).block, 8);
}

static void reads_shrink_as_failures_grow(void)
{
    EkCosts costs = costs_of(0.0001, 0.009, 1.5);
    guint32 last = 2048;
    for (double gap = 1e8; gap > 100; gap /= 3) {
        EkBlockSize size = ek_block_size(&costs, 1 / gap, 1, 2048);
        CHECK(size.block >= 1 && size.block <= last);
        last = size.block;
    }
    CHECK(last < 16);
    /* Dear commands want large reads in spite of it. */
    costs = costs_of(1.5, 0.009, 0.0001);
    CHECK_NUMBER(ek_block_size(&costs, 1.0 / 50000, 1, 2048).block, 2048);
}

static void blocks_are_whole_units(void)
{
    EkCosts costs = costs_of(0.0005, 0.009, 0.05);
    for (double gap = 1e7; gap > 10; gap /= 2) {
        EkBlockSize size = ek_block_size(&costs, 1 / gap, 8, 256);
        CHECK(size.block >= 8 && size.block <= 256);
        CHECK_NUMBER(size.block % 8, 0);
    }
}

static void cheap_failures_are_looked_into_at_once(void)
{
    EkCosts cheap = costs_of(0.0003, 0.009, 0.003);
    CHECK(ek_block_size(&cheap, 1.0 / 35000, 1, 2048).stay);
    EkCosts dear = costs_of(0.0003, 0.009, 3);
    CHECK(!ek_block_size(&dear, 1.0 / 35000, 1, 2048).stay);
    /* Few failures can wait, however cheap. */
    CHECK(!ek_block_size(&cheap, 1.0 / 100000000, 1, 2048).stay);
}

/* What the search really costs on average, by trying every place. */
static double mean_search(const EkCosts *costs, EkSector units)
{
    double sum = 0;
    for (EkSector bad = 0; bad < units; bad++) {
        EkSector at = 0;
        EkSector end = units;
        for (;;) {
            EkSector step = MIN(ek_block_step(costs, end - at), end - at);
            if (bad >= at + step) {
                sum += costs->command;
                at += step;
                continue;
            }
            sum += costs->failure + costs->seek;
            end = at + step;
            if (step == 1)
                break;
        }
    }
    return sum / (double)units;
}

static void a_search_costs_about_what_is_said(void)
{
    static const double failures[] = {0.002, 0.02, 0.3, 1.5, 7};
    for (guint i = 0; i < G_N_ELEMENTS(failures); i++) {
        EkCosts costs = costs_of(0.0002, 0.009, failures[i]);
        for (EkSector units = 2; units <= 2048; units *= 4) {
            double said = ek_block_search(&costs, (double)units);
            double mean = mean_search(&costs, units);
            CHECK(mean > said * 0.85);
            CHECK(mean < said * 1.25);
        }
    }
}

static void walks_are_shorter_the_dearer_a_failure(void)
{
    EkCosts costs = costs_of(0.0002, 0.009, 0.02);
    CHECK(ek_block_walk(&costs) == 0);
    costs.failure = 0.3;
    double half = ek_block_walk(&costs);
    costs.failure = 3;
    CHECK(half > 0 && ek_block_walk(&costs) > half && ek_block_walk(&costs) < 1);
}

static void edges_are_guessed_once_they_fit(void)
{
    EkRunPattern edges = {0};
    EkSector begin = 0;
    EkSector length = 0;
    CHECK(!ek_run_pattern_begin(&edges, 0, G_MAXUINT64, &begin));
    CHECK(!ek_run_pattern_length(&edges, &length));
    for (EkSector at = 10000; at <= 16000; at += 2000) {
        ek_run_pattern_note_begin(&edges, at);
        ek_run_pattern_note_length(&edges, 300);
    }
    CHECK(ek_run_pattern_begin(&edges, 17000, 19000, &begin));
    CHECK_NUMBER(begin, 18000);
    CHECK(ek_run_pattern_begin(&edges, 18000, 18001, &begin));
    CHECK_NUMBER(begin, 18000);
    CHECK(ek_run_pattern_begin(&edges, 7500, 9000, &begin));
    CHECK_NUMBER(begin, 8000);
    CHECK(!ek_run_pattern_begin(&edges, 18001, 20000, &begin));
    CHECK(ek_run_pattern_length(&edges, &length));
    CHECK_NUMBER(length, 300);
    /* What does not fit is soon believed no more. */
    for (guint i = 0; i < 8; i++) {
        ek_run_pattern_note_begin(&edges, 20000 + i * 777);
        ek_run_pattern_note_length(&edges, 100 + i);
    }
    CHECK(!ek_run_pattern_begin(&edges, 30000, 30100, &begin));
    CHECK(!ek_run_pattern_length(&edges, &length));
}

/* A drive with so many bad sectors anywhere on it. */
static void open_with_singles(Trial *trial, EkSector sectors, guint count, gint64 error_time)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(7);
    EkModel *model = trial_model();
    model->error_time = error_time;
    for (guint i = 0; i < count; i++)
        trial_add(model, EK_FAULT_UNREADABLE, (EkSector)(g_rand_double(random) * (double)sectors),
                  1);
    trial_open(trial, model, sectors);
}

static gboolean is_at_share(const Trial *trial, const EkRead *read)
{
    (void)read;
    return trial->clock_at_share > 0;
}

/* Up to 99 % about one failure each, where the rest of the block can wait. */
static void isolated_failures_cost_one_each_at_first(void)
{
    Trial trial;
    open_with_singles(&trial, 16 * (EkSector)GIB_SECTORS, 200, 1500 * (gint64)MS);
    trial_run(&trial, is_at_share);
    CHECK(trial.failed_at_share <= 240);
    trial_close(&trial);
}

/* Cheap failures in numbers: on the way, not on a second one. */
static void many_cheap_failures_cost_no_second_way(void)
{
    Trial trial;
    EkSector sectors = 4 * (EkSector)GIB_SECTORS;
    open_with_singles(&trial, sectors, 600, 3 * MS);
    trial_run(&trial, NULL);
    double transfer = (double)sectors * 512 / (160 * 1048576.0);
    /* Each: the read that failed, the way back, a search, the way on. */
    CHECK(trial_clock(&trial) < transfer + 600 * 0.060);
    CHECK_NUMBER(trial.twice, 0);
    CHECK_NUMBER(ek_read_map_total(trial.map, EK_STATE_BAD),
                 sectors - ek_read_map_total(trial.map, EK_STATE_GOOD));
    trial_close(&trial);
}

/* A scratch across tracks: once its first runs are known, the others are not searched for. */
static void tracks_are_guessed(void)
{
    Trial trial;
    EkSector sectors = 256 * (EkSector)GIB_SECTORS;
    EkModel *model = trial_model();
    model->error_time = 20 * MS;
    EkFault *fault = trial_add(model, EK_FAULT_UNREADABLE, sectors / 2, 500);
    fault->repeat_every = 2000;
    fault->until = sectors / 2 + 2000 * 200;
    trial_open(&trial, model, sectors);
    trial.share = 1 - 1e-9 - 201.0 * 500 / (double)sectors;
    trial_run(&trial, is_at_share);
    CHECK(trial.clock_at_share > 0);
    CHECK(trial.failed_at_share < 201 * 3);
    CHECK_NUMBER(trial.twice, 0);
    trial_close(&trial);
}

static gboolean is_half_way(const Trial *trial, const EkRead *read)
{
    return read->first > trial->parts.sectors / 2;
}

/* A damaged head that was learned need not be learned again after a pause. */
static void a_pattern_is_known_after_a_pause(void)
{
    Trial trial;
    EkSector sectors = 8 * (EkSector)GIB_SECTORS;
    EkModel *model = trial_model();
    EkFault *fault = trial_add(model, EK_FAULT_UNREADABLE, 9999, 16384);
    fault->repeat_every = 131072;
    fault->drift = 2;
    trial_open(&trial, model, sectors);
    trial_run(&trial, is_half_way);
    guint64 before = trial.failed;
    CHECK(before > 5);
    trial.share = 0.99 * 7 / 8;
    trial_run(&trial, is_at_share);
    CHECK(trial.clock_at_share > 0);
    CHECK(trial.failed - before < 6);
    CHECK_NUMBER(trial.twice, 0);
    trial_close(&trial);
}

static gboolean is_past_the_skim(const Trial *trial, const EkRead *read)
{
    (void)trial;
    return read->round > EK_ROUND_SKIM;
}

/* Looking once more at what was jumped over leaves alone what the drive vanished for. */
static void a_second_look_stays_off_what_it_vanishes_for(void)
{
    Trial trial;
    EkSector sectors = 256 * (EkSector)GIB_SECTORS;
    EkSector scratch = sectors / 2;
    EkModel *model = trial_model();
    model->error_time = 20 * MS;
    trial_add(model, EK_FAULT_UNREADABLE, scratch, 22780);
    trial_add(model, EK_FAULT_VANISH, scratch + 32780, 2)->back_after = 5000 * (gint64)MS;
    trial_open(&trial, model, sectors);
    trial_run(&trial, is_past_the_skim);
    CHECK_NUMBER(trial.vanished, 1);
    CHECK(trial.failed > 3);
    trial_run(&trial, NULL);
    CHECK_NUMBER(trial.twice, 0);
    CHECK_NUMBER(ek_read_map_total(trial.map, EK_STATE_BAD), 22782);
    trial_close(&trial);
}

/* Two bad sectors in one block, and three that are one run, are told apart. */
static void neighbours_end_right(void)
{
    static const EkSector apart[] = {1, 2, 3, 7, 50, 500, 1500};
    for (guint i = 0; i < G_N_ELEMENTS(apart); i++) {
        for (guint cheap = 0; cheap < 2; cheap++) {
            Trial trial;
            EkModel *model = trial_model();
            if (cheap)
                model->error_time = 2 * MS;
            for (EkSector at = 5000; at < 250000; at += 12345) {
                trial_add(model, EK_FAULT_UNREADABLE, at, 1);
                trial_add(model, EK_FAULT_UNREADABLE, at + apart[i], 3);
            }
            trial_open(&trial, model, 260000);
            trial_run(&trial, NULL);
            trial_check_end(&trial);
            trial_close(&trial);
        }
    }
}

int main(void)
{
    static const Test tests[] = {
        {"without failures reads are as large as they can be",
         without_failures_reads_are_as_large_as_they_can_be},
        {"reads shrink as failures grow", reads_shrink_as_failures_grow},
        {"blocks are whole units", blocks_are_whole_units},
        {"cheap failures are looked into at once", cheap_failures_are_looked_into_at_once},
        {"a search costs about what is said", a_search_costs_about_what_is_said},
        {"walks are shorter the dearer a failure", walks_are_shorter_the_dearer_a_failure},
        {"edges are guessed once they fit", edges_are_guessed_once_they_fit},
        {"isolated failures cost one each at first", isolated_failures_cost_one_each_at_first},
        {"many cheap failures cost no second way", many_cheap_failures_cost_no_second_way},
        {"tracks are guessed", tracks_are_guessed},
        {"a pattern is known after a pause", a_pattern_is_known_after_a_pause},
        {"a second look stays off what it vanishes for",
         a_second_look_stays_off_what_it_vanishes_for},
        {"neighbours end right", neighbours_end_right},
    };
    return RUN_TESTS("searching", tests);
}

/* SPDX-License-Identifier: MIT */
/* The scheduler over simulated drives, with nothing but a map and a clock. */
#include "capture/scheduling.h"
#include "check.h"
#include "trial.h"

#include <math.h>
#include <string.h>

static EkModel *random_model(GRand *random, EkSector sectors)
{
    static const gint64 error_times[] = {2, 20, 1500, 7000, 30000};
    EkModel *model = trial_model();
    model->error_time = error_times[g_rand_int_range(random, 0, 5)] * (gint64)MS;
    model->command_time = g_rand_int_range(random, 1, 300) * (gint64)MS / 100;
    model->physical_sector_size = g_rand_boolean(random) ? 512 : 4096;
    model->returns_before_error = g_rand_boolean(random);
    model->seed = g_rand_int(random);
    for (int i = g_rand_boolean(random) ? g_rand_int_range(random, 1, 300) : 0; i > 0; i--)
        trial_add(model, EK_FAULT_UNREADABLE, (EkSector)g_rand_int_range(random, 0, (gint)sectors),
                  1);
    for (int i = g_rand_int_range(random, 0, 9); i > 0; i--) {
        EkFaultKind kind = (EkFaultKind)g_rand_int_range(random, 0, 5);
        EkSector count = (EkSector)exp(g_rand_double_range(random, 0, 6));
        if (kind == EK_FAULT_VANISH)
            count = MIN(count, 3);
        EkFault *fault =
            trial_add(model, kind, (EkSector)g_rand_int_range(random, 0, (gint)sectors), count);
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
        Trial trial;
        EkSector sectors = (EkSector)g_rand_int_range(random, 1, 300000);
        trial_open(&trial, random_model(random, sectors), sectors);
        trial.parts.backwards = i % 5 == 4;
        trial.parts.again = (guint)(i % 3);
        trial_run(&trial, NULL);
        trial_check_end(&trial);
        trial_close(&trial);
    }
}

static void a_drive_of_one_sector_is_read(void)
{
    Trial trial;
    trial_open(&trial, trial_model(), 1);
    trial_run(&trial, NULL);
    CHECK_NUMBER(trial.reads, 1);
    trial_check_end(&trial);
    trial_close(&trial);
}

static void a_healthy_drive_is_read_once_in_order(void)
{
    Trial trial;
    trial_open(&trial, trial_model(), GIB_SECTORS + 77);
    trial_run(&trial, NULL);
    CHECK_NUMBER(trial.twice, 0);
    CHECK_NUMBER(trial.first_read, 0);
    /* 1 GiB in reads of 4 MiB, and a few smaller ones at the start. */
    CHECK(trial.reads < 256 + 40);
    CHECK(trial_clock(&trial) < 1024 / 160.0 + 0.2);
    trial_close(&trial);
}

static void one_scratch_costs_few_failures(void)
{
    Trial trial;
    EkModel *model = trial_model();
    trial_add(model, EK_FAULT_UNREADABLE, 9000000, 20000);
    trial_open(&trial, model, 16 * GIB_SECTORS);
    trial.share = 0.998;
    gboolean (*none)(const Trial *, const EkRead *) = NULL;
    trial_run(&trial, none);
    CHECK(trial.failed_at_share <= 6);
    CHECK_NUMBER(ek_read_map_total(trial.map, EK_STATE_BAD), 20000);
    CHECK_NUMBER(trial.twice, 0);
    trial_close(&trial);
}

static gboolean is_single(const Trial *trial, const EkRead *read)
{
    (void)trial;
    return read->round == EK_ROUND_SINGLE;
}

/* One stripe of eight fails, each a little further apart than the last. */
static void a_damaged_head_is_learned(void)
{
    Trial trial;
    EkModel *model = trial_model();
    EkFault *fault = trial_add(model, EK_FAULT_UNREADABLE, 30001, 16384);
    fault->repeat_every = 8 * 16384;
    fault->drift = 5;
    trial_open(&trial, model, 16 * GIB_SECTORS);
    trial.share = 0.875 * 0.99;
    trial_run(&trial, is_single);
    CHECK(trial.failed_at_share <= 30); /* of 250 stripes */
    double healthy = 16 * 1024 / 160.0 * 7 / 8;
    CHECK(trial.clock_at_share < healthy * 1.1 + 25 * 1.5);
    CHECK_NUMBER(trial.twice, 0);
    trial_close(&trial);
}

/* One of two heads fails, and its stripes get shorter from zone to zone: jumps alone land on a bad
 * region as often as not. */
static void every_zone_of_a_damaged_head_is_learned(void)
{
    Trial trial;
    EkModel *model = trial_model();
    EkFault *first = trial_add(model, EK_FAULT_UNREADABLE, 3000, 5000);
    first->repeat_every = 10000;
    first->until = 8 * GIB_SECTORS;
    EkFault *second = trial_add(model, EK_FAULT_UNREADABLE, 8 * GIB_SECTORS + 4444, 4321);
    second->repeat_every = 2 * 4321;
    trial_open(&trial, model, 16 * GIB_SECTORS);
    trial.share = 0.5 * 0.99;
    trial_run(&trial, is_single);
    CHECK(trial.failed_at_share <= 75); /* of 3500 stripes */
    /* The stripes that read, and a seek to each. */
    double healthy = 8 * 1024 / 160.0 + 3500 * 0.009;
    CHECK(trial.clock_at_share < healthy * 1.15 + 75 * 1.5);
    CHECK_NUMBER(trial.twice, 0);
    trial_close(&trial);
}

/* Where a command is dear and an error is not, commands stay large. */
static void dear_commands_are_few(void)
{
    Trial trial;
    EkModel *model = trial_model();
    model->command_time = 150 * 1000000;
    model->error_time = 2 * 1000000;
    for (guint i = 0; i < 20; i++)
        trial_add(model, EK_FAULT_UNREADABLE, 100000 + i * 97000, 1);
    trial_open(&trial, model, GIB_SECTORS);
    trial_run(&trial, NULL);
    double healthy = 1024 * (0.15 + 1 / 160.0);
    CHECK(trial_clock(&trial) < healthy + 20 * 20 * 0.16);
    trial_check_end(&trial);
    trial_close(&trial);
}

/* The pattern ends halfway: what is stepped over in vain is read after all. */
static void a_wrong_guess_is_unlearned(void)
{
    Trial trial;
    EkModel *model = trial_model();
    EkFault *fault = trial_add(model, EK_FAULT_UNREADABLE, 30001, 16384);
    fault->repeat_every = 8 * 16384;
    fault->until = 8 * GIB_SECTORS;
    trial_open(&trial, model, 16 * GIB_SECTORS);
    trial_run(&trial, is_single);
    EkSector tally[EK_STATES];
    ek_read_map_tally(trial.map, 9 * GIB_SECTORS, 7 * GIB_SECTORS, tally);
    CHECK_NUMBER(tally[EK_STATE_GOOD], 7 * GIB_SECTORS);
    trial_close(&trial);
}

static void slow_region_comes_last(void)
{
    Trial trial;
    EkModel *model = trial_model();
    EkSector slow = GIB_SECTORS / 4;
    trial_add(model, EK_FAULT_SLOW, 5000000, slow);
    trial_open(&trial, model, 16 * GIB_SECTORS);
    trial.share = 0.98;
    trial_run(&trial, NULL);
    CHECK(trial.clock_at_share < 16 * 1024 / 160.0 * 1.05);
    trial_check_end(&trial);
    trial_close(&trial);
}

static gboolean wanted_is_in(const Trial *trial, const EkRead *read)
{
    EkSector tally[EK_STATES];
    EkSector unread = 0;
    for (gsize i = 0; i < trial->parts.wanted_count; i++) {
        ek_read_map_tally(trial->map, trial->parts.wanted[i].first, trial->parts.wanted[i].count,
                          tally);
        unread += tally[EK_STATE_UNTOUCHED];
    }
    (void)read;
    return unread == 0;
}

static void what_is_wanted_comes_first_by_rank(void)
{
    static const EkSectorRange wanted[] = {{900000, 5000}, {100, 50}, {899000, 3000}};
    Trial trial;
    EkModel *model = trial_model();
    trial_add(model, EK_FAULT_UNREADABLE, 902000, 3);
    trial_open(&trial, model, GIB_SECTORS);
    trial.parts.wanted = wanted;
    trial.parts.wanted_count = G_N_ELEMENTS(wanted);
    trial_run(&trial, wanted_is_in);
    CHECK_NUMBER(trial.first_read, 900000);
    CHECK_NUMBER(trial.lowest, 100);
    CHECK_NUMBER(trial.highest, 904999);
    /* Nothing else was read so far. */
    CHECK(ek_read_map_total(trial.map, EK_STATE_UNTOUCHED) >= GIB_SECTORS - 5000 - 50 - 3000);
    trial_close(&trial);
}

static void limits_are_kept(void)
{
    Trial trial;
    EkModel *model = trial_model();
    trial_add(model, EK_FAULT_UNREADABLE, 50000, 10);
    trial_open(&trial, model, GIB_SECTORS);
    trial.parts.limits = (EkSectorRange){40000, 30000};
    trial_run(&trial, NULL);
    CHECK_NUMBER(trial.lowest, 40000);
    CHECK_NUMBER(trial.highest, 69999);
    CHECK_NUMBER(ek_read_map_total(trial.map, EK_STATE_GOOD), 29990);
    CHECK_NUMBER(ek_read_map_total(trial.map, EK_STATE_BAD), 10);
    trial_close(&trial);
}

static void backwards_begins_at_the_end(void)
{
    Trial trial;
    trial_open(&trial, trial_model(), 100001);
    trial.parts.backwards = TRUE;
    trial_run(&trial, NULL);
    CHECK(trial.first_read + 2048 >= 100001);
    trial_check_end(&trial);
    trial_close(&trial);
}

static void a_block_that_is_asked_for_is_kept_to(void)
{
    Trial trial;
    trial_open(&trial, trial_model(), 64000);
    trial.parts.block = 64;
    trial_run(&trial, NULL);
    /* A thousand commands: each costs a tenth of a millisecond besides its transfer. */
    double transfer = 64000.0 * 512 / (160 * 1048576.0);
    CHECK(fabs(trial_clock(&trial) - transfer - 0.1 - 0.009) < 0.002);
    trial_close(&trial);
}

static void flaky_sectors_come_with_retries(void)
{
    EkSector bad[2];
    for (guint again = 0; again < 2; again++) {
        Trial trial;
        EkModel *model = trial_model();
        trial_add(model, EK_FAULT_FLAKY, 1000, 400)->chance = 0.7;
        trial_open(&trial, model, 20000);
        trial.parts.again = again * 8;
        trial_run(&trial, NULL);
        bad[again] = ek_read_map_total(trial.map, EK_STATE_BAD);
        CHECK_NUMBER(trial.twice, 0);
        trial_close(&trial);
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
        {"slow ground comes last", slow_region_comes_last},
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

/* SPDX-License-Identifier: MIT */
/* A scheduler over a simulated drive, with nothing but a map and a clock. */
#include "trial.h"

#include "check.h"
#include "device/faultlookup.h"
#include "device/simulated.h"

EkModel *trial_model(void)
{
    EkModel *model = ek_model_new();
    model->model = g_strdup("trial");
    model->sector_size = model->physical_sector_size = 512;
    model->read_rate = 160;
    model->max_transfer = 1u << 20;
    model->command_time = MS / 10;
    model->seek_time = 9 * MS;
    model->error_time = 1500 * (gint64)MS;
    model->seed = 1;
    return model;
}

EkFault *trial_add(EkModel *model, EkFaultKind kind, EkSector first, EkSector count)
{
    EkFault *fault = g_new0(EkFault, 1);
    *fault = (EkFault){.kind = kind, .first = first, .count = count, .rate = 2, .chance = 1};
    g_ptr_array_add(model->faults, fault);
    return fault;
}

static void take(void *data, EkSector first, EkSector count, EkState state, EkReason reason,
                 guint32 attempts)
{
    Trial *trial = data;
    if (state == EK_STATE_GOOD) {
        EkSector tally[EK_STATES];
        ek_read_map_tally(trial->map, first, count, tally);
        trial->twice += tally[EK_STATE_GOOD];
    }
    ek_read_map_set(trial->map, first, count, (EkMark){state, reason, attempts, 1});
}

void trial_open(Trial *trial, EkModel *model, EkSector sectors)
{
    guint32 command = model->max_transfer / model->sector_size;
    *trial = (Trial){.model = model, .share = 0.99, .lowest = G_MAXUINT64};
    trial->device = ek_simulated_new(model, "trial", NULL, sectors * model->sector_size);
    trial->map = ek_read_map_new(sectors);
    trial->parts = (EkSchedulerParts){
        .map = trial->map,
        .sectors = sectors,
        .sector_size = model->sector_size,
        .unit = model->physical_sector_size / model->sector_size,
        .command = command,
        .most = command * 4,
        .patience = 6,
        .data = trial,
        .set = take,
    };
}

double trial_clock(const Trial *trial)
{
    return (double)ek_device_clock(trial->device) / 1e9;
}

void trial_run(Trial *trial, gboolean (*until)(const Trial *, const EkRead *))
{
    g_autoptr(EkScheduler) scheduler = ek_scheduler_new(&trial->parts);
    g_autofree guint8 *buffer = g_malloc((gsize)trial->parts.most * trial->parts.sector_size);
    EkSector sectors = trial->parts.sectors;
    EkRead read;
    while (ek_scheduler_next(scheduler, &read)) {
        if (until != NULL && until(trial, &read))
            return;
        CHECK(read.count > 0 && read.count <= sectors - read.first);
        if (trial->reads++ == 0)
            trial->first_read = read.first;
        trial->lowest = MIN(trial->lowest, read.first);
        trial->highest = MAX(trial->highest, read.first + read.count - 1);
        double began = trial_clock(trial);
        EkReadOutcome outcome =
            ek_device_read_in_blocks(trial->device, read.first, read.count, read.block, buffer);
        trial->failed += outcome.reason != EK_REASON_NONE;
        trial->vanished += outcome.gone ? 1 : 0;
        while (outcome.gone && !ek_device_is_back(trial->device))
            ek_device_wait(trial->device, 1000 * (gint64)MS);
        ek_scheduler_observe(scheduler, &read, &outcome, trial_clock(trial) - began);
        EkSector good = ek_read_map_total(trial->map, EK_STATE_GOOD);
        if (trial->clock_at_share == 0 && (double)good >= trial->share * (double)sectors) {
            trial->clock_at_share = trial_clock(trial);
            trial->failed_at_share = trial->failed;
        }
    }
}

void trial_close(Trial *trial)
{
    ek_device_close(trial->device);
    ek_read_map_free(trial->map);
}

void trial_check_end(const Trial *trial)
{
    g_autoptr(EkFaultLookup) index = ek_fault_lookup_new(trial->model);
    EkSector per = trial->parts.unit;
    EkSector wrong = 0;
    for (EkSector at = 0; at < trial->parts.sectors; at++) {
        EkState state = ek_read_map_at(trial->map, at).mark.state;
        gboolean bad = FALSE;
        gboolean flaky = FALSE;
        EkSector from = at - at % per;
        for (EkSector i = from; i < from + per; i++) {
            EkFaultAt region = ek_fault_lookup_at(index, i, i + 1);
            flaky |= region.fault != NULL && region.fault->kind == EK_FAULT_FLAKY;
            bad |= region.fault != NULL && region.fault->kind != EK_FAULT_FLAKY &&
                   region.fault->kind != EK_FAULT_SLOW;
        }
        if (flaky && !bad)
            wrong += state != EK_STATE_GOOD && state != EK_STATE_BAD;
        else
            wrong += state != (bad ? EK_STATE_BAD : EK_STATE_GOOD);
    }
    CHECK_NUMBER(wrong, 0);
    CHECK_NUMBER(trial->twice, 0);
}

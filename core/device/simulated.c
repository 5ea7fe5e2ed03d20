/* SPDX-License-Identifier: MIT */
/* A simulated drive: a drive model over a backing file, with a clock of its own that passes by the
 * model's costs. Deterministic: what a command does depends on the model and the clock only. */
#include "device/device.h"
#include "device/model.h"

#include <errno.h>
#include <math.h>
#include <string.h>

typedef struct {
    EkDevice device;
    EkModel *model;
    EkDevice *backing;
    gint64 now;          /* ns of device time */
    gint64 used;         /* ns of life used up: the clock less the waiting, plus wear */
    EkSector next;       /* where the last good command ended */
    gboolean positioned; /* FALSE before the first good read: that one pays a seek */
} SimulatedDevice;

typedef struct {
    const EkFault *fault; /* NULL: healthy */
    EkSector count;       /* sectors this holds for */
} Ground;

/* Which fault governs `sector`, and for how many sectors from there: the last in the file counts.
 */
static Ground ground_at(const EkModel *model, EkSector sector, EkSector limit)
{
    Ground ground = {NULL, limit - sector};
    for (guint i = 0; i < model->faults->len; i++) {
        const EkFault *fault = model->faults->pdata[i];
        EkSector first = 0;
        EkSector count = 0;
        if (!ek_fault_run(fault, sector, &first, &count))
            continue;
        EkSector change = first > sector ? first - sector : first + count - sector;
        if (first <= sector)
            ground.fault = fault;
        ground.count = MIN(ground.count, change);
    }
    return ground;
}

static gboolean is_unreadable(Ground ground)
{
    return ground.fault != NULL && ground.fault->kind == EK_FAULT_UNREADABLE;
}

/* The first sector in [first, first + count) that fails, widened to physical sectors: a read of
 * part of one fails when any of it is bad. Returns count when none does. */
static EkSector first_failing(const SimulatedDevice *drive, EkSector first, EkSector count)
{
    const EkModel *model = drive->model;
    EkSector per_physical = model->physical_sector_size / model->sector_size;
    EkSector from = first - first % per_physical;
    EkSector to = (first + count + per_physical - 1) / per_physical * per_physical;
    for (EkSector at = from; at < to;) {
        Ground ground = ground_at(model, at, to);
        if (is_unreadable(ground)) {
            EkSector bad = at - at % per_physical;
            return bad > first ? bad - first : 0;
        }
        at += ground.count;
    }
    return count;
}

static gint64 transfer_time(const SimulatedDevice *drive, EkSector first, EkSector count)
{
    const EkModel *model = drive->model;
    double seconds = 0;
    for (EkSector at = first; at < first + count;) {
        Ground ground = ground_at(model, at, first + count);
        double rate = model->read_rate;
        if (ground.fault != NULL && ground.fault->kind == EK_FAULT_SLOW)
            rate = ground.fault->rate;
        seconds += (double)ground.count * model->sector_size / (rate * 1048576.0);
        at += ground.count;
    }
    return (gint64)llround(seconds * 1e9);
}

static void pass(SimulatedDevice *drive, gint64 nanoseconds)
{
    drive->now += nanoseconds;
    if (drive->model->realtime)
        g_usleep((gulong)(nanoseconds / 1000));
}

static gboolean is_dead(const SimulatedDevice *drive)
{
    return drive->model->lifetime > 0 && drive->used >= drive->model->lifetime;
}

/* One command of at most max-transfer bytes. */
static EkReadOutcome command(SimulatedDevice *drive, EkSector first, guint32 count, guint8 *buffer)
{
    const EkModel *model = drive->model;
    if (is_dead(drive))
        return ek_read_failed(0, ENODEV);

    gint64 cost = model->command_time;
    if (!drive->positioned || drive->next != first)
        cost += model->seek_time;
    EkSector failing = first_failing(drive, first, count);
    EkReadOutcome outcome = {.good = count};
    if (failing < count) {
        drive->positioned = FALSE;
        cost += model->error_time;
        drive->used += model->wear;
        outcome = ek_read_failed(model->returns_before_error ? (guint32)failing : 0, EIO);
    } else {
        cost += transfer_time(drive, first, count);
        drive->positioned = TRUE;
        drive->next = first + count;
    }
    pass(drive, cost);
    drive->used += cost;
    if (outcome.good > 0) {
        EkReadOutcome backing = ek_device_read(drive->backing, first, outcome.good, buffer);
        if (backing.reason != EK_REASON_NONE)
            return backing;
    }
    return outcome;
}

static EkReadOutcome simulated_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    guint32 most = drive->model->max_transfer / drive->model->sector_size;
    guint32 done = 0;
    while (done < count) {
        guint32 part = MIN(most, count - done);
        guint8 *into = buffer + (gsize)done * drive->model->sector_size;
        EkReadOutcome outcome = command(drive, first + done, part, into);
        done += outcome.good;
        if (outcome.reason != EK_REASON_NONE) {
            outcome.good = done;
            return outcome;
        }
    }
    return (EkReadOutcome){.good = count};
}

static gint64 simulated_clock(EkDevice *device)
{
    return ((SimulatedDevice *)device)->now;
}

static void simulated_set_clock(EkDevice *device, gint64 now)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    drive->used += now - drive->now;
    drive->now = now;
}

static void simulated_wait(EkDevice *device, gint64 nanoseconds)
{
    pass((SimulatedDevice *)device, nanoseconds);
}

static void simulated_close(EkDevice *device)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    if (drive->backing != NULL)
        ek_device_close(drive->backing);
    ek_model_free(drive->model);
    g_free(drive);
}

static const EkDeviceClass simulated_class = {
    .read = simulated_read,
    .clock = simulated_clock,
    .set_clock = simulated_set_clock,
    .wait = simulated_wait,
    .close = simulated_close,
};

EkDevice *ek_simulated_open(const char *path, GError **error)
{
    g_autoptr(EkModel) model = ek_model_read(path, error);
    if (model == NULL)
        return NULL;
    g_autoptr(EkDevice) backing = ek_file_open(model->backing, model->sector_size, error);
    if (backing == NULL) {
        g_prefix_error(error, "%s: backing: ", path);
        return NULL;
    }
    backing->info.sectors = ek_divide_up(backing->info.bytes, model->sector_size);

    SimulatedDevice *drive = g_new0(SimulatedDevice, 1);
    drive->device.class = &simulated_class;
    drive->device.info = (EkDeviceInfo){
        .kind = EK_DEVICE_SIMULATED,
        .path = g_strdup(path),
        .model = g_strdup(model->model),
        .serial = g_strdup(model->serial),
        .sector_size = model->sector_size,
        .physical_sector_size = model->physical_sector_size,
        .bytes = backing->info.bytes,
        .max_transfer = model->max_transfer,
    };
    drive->backing = g_steal_pointer(&backing);
    drive->model = g_steal_pointer(&model);
    return &drive->device;
}

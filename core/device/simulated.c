/* SPDX-License-Identifier: MIT */
/* A simulated drive: a drive model over a backing file, with a clock of its own that passes by the
 * model's costs. Deterministic: what a command does depends on the model, the clock and what the
 * drive went through since it was switched on. */
#include "device/simulated.h"

#include "base/bytes.h"
#include "device/faultlookup.h"

#include <errno.h>
#include <math.h>
#include <string.h>

#define MINUTE_NS 60e9
#define NAP_NS ((gint64)50000000) /* between two looks at whether it is called off */

typedef struct {
    EkDevice device;
    EkModel *model;
    EkFaultLookup *region;
    EkDevice *backing;   /* NULL: zeros throughout */
    gint64 now;          /* ns of device time */
    gint64 used;         /* ns of life used up: the clock less the waiting, plus wear */
    EkSector next;       /* where the last good command ended */
    gboolean positioned; /* FALSE before the first good read: that one pays a seek */
    GHashTable *errors;  /* vanish faults: failed commands inside, since the drive came back */
    gint64 back_at;      /* ns: gone until then */
    double heat;         /* degrees above what it was switched on with */
    guint64 failures;    /* of commands, in its life */
} SimulatedDevice;

/* Whether a flaky sector fails at this attempt: a pure function of seed, sector and clock. */
static gboolean draw(const SimulatedDevice *drive, EkSector sector, double chance)
{
    guint64 mixed = drive->model->seed * 0x9E3779B97F4A7C15u ^ sector * 0xD1B54A32D192ED03u ^
                    (guint64)drive->now * 0xAEF17502108EF2D9u;
    for (int i = 0; i < 3; i++) {
        mixed ^= mixed >> 32;
        mixed *= 0xE9846AF9B1A615Du;
    }
    mixed ^= mixed >> 28;
    return (double)(mixed >> 11) * 0x1p-53 < chance;
}

typedef struct {
    EkSector sector; /* relative to the command; its count when nothing fails */
    const EkFault *fault;
    guint number;
} Failing;

/* The first sector in [first, first + count) that fails, widened to physical sectors: a read of
 * part of one fails when any of it is bad. */
static Failing first_failing(const SimulatedDevice *drive, EkSector first, EkSector count)
{
    const EkModel *model = drive->model;
    EkSector per_physical = model->physical_sector_size / model->sector_size;
    EkSector from = first - first % per_physical;
    EkSector to = (first + count + per_physical - 1) / per_physical * per_physical;
    for (EkSector at = from; at < to;) {
        EkFaultAt region = ek_fault_lookup_at(drive->region, at, to);
        EkSector end = at + region.count;
        gboolean flaky = region.fault != NULL && region.fault->kind == EK_FAULT_FLAKY;
        while (flaky && at < end && !draw(drive, at, region.fault->chance))
            at++;
        if (region.fault != NULL && region.fault->kind != EK_FAULT_SLOW && at < end) {
            EkSector bad = at - at % per_physical;
            return (Failing){bad > first ? bad - first : 0, region.fault, region.number};
        }
        at = end;
    }
    return (Failing){count, NULL, 0};
}

static gint64 transfer_time(const SimulatedDevice *drive, EkSector first, EkSector count)
{
    const EkModel *model = drive->model;
    double seconds = 0;
    for (EkSector at = first; at < first + count;) {
        EkFaultAt region = ek_fault_lookup_at(drive->region, at, first + count);
        double rate = model->read_rate;
        if (region.fault != NULL && region.fault->kind == EK_FAULT_SLOW)
            rate = region.fault->rate;
        seconds += (double)region.count * model->sector_size / (rate * 1048576.0);
        at += region.count;
    }
    return (gint64)llround(seconds * 1e9);
}

static void pass(SimulatedDevice *drive, gint64 nanoseconds)
{
    const gint *cancel = drive->device.cancel;
    drive->now += nanoseconds;
    drive->heat += drive->model->health.heats * (double)nanoseconds / MINUTE_NS;
    while (drive->model->realtime && nanoseconds > 0 &&
           (cancel == NULL || g_atomic_int_get(cancel) == 0)) {
        gint64 part = MIN(nanoseconds, NAP_NS);
        g_usleep((gulong)(part / 1000));
        nanoseconds -= part;
    }
}

static gboolean answers(SimulatedDevice *drive)
{
    if (drive->model->lifetime > 0 && drive->used >= drive->model->lifetime)
        return FALSE;
    return drive->now >= drive->back_at;
}

/* The drive drops off: when it is back, every vanish fault counts anew. */
static void vanish(SimulatedDevice *drive, const EkFault *fault)
{
    drive->back_at = drive->now + fault->back_after;
    drive->positioned = FALSE;
    g_hash_table_remove_all(drive->errors);
}

/* A command that fails: what it costs, and what it leaves behind. */
static EkReadOutcome fail(SimulatedDevice *drive, const Failing *failing, gint64 cost)
{
    const EkModel *model = drive->model;
    const EkFault *fault = failing->fault;
    guint32 good = model->returns_before_error ? (guint32)failing->sector : 0;
    gboolean stuck = fault->kind == EK_FAULT_STUCK;

    drive->positioned = FALSE;
    if (fault->kind == EK_FAULT_VANISH && fault->after_errors == 0) {
        vanish(drive, fault);
        return ek_read_failed(0, ENODEV);
    }
    cost += stuck ? fault->hang : model->error_time;
    pass(drive, cost);
    drive->failures++;
    drive->used += cost + model->wear;
    if (fault->kind == EK_FAULT_VANISH) {
        gpointer key = GUINT_TO_POINTER(failing->number + 1);
        guint count = GPOINTER_TO_UINT(g_hash_table_lookup(drive->errors, key)) + 1;
        g_hash_table_insert(drive->errors, key, GUINT_TO_POINTER(count));
        if (count >= fault->after_errors)
            vanish(drive, fault);
    }
    return ek_read_failed(good, stuck ? ETIMEDOUT : EIO);
}

/* One command of at most max-transfer bytes; its data is not fetched. */
static EkReadOutcome command(SimulatedDevice *drive, EkSector first, guint32 count)
{
    const EkModel *model = drive->model;
    if (!answers(drive))
        return ek_read_failed(0, ENODEV);
    gint64 cost = model->command_time;
    if (!drive->positioned || drive->next != first)
        cost += model->seek_time;
    Failing failing = first_failing(drive, first, count);
    if (failing.fault != NULL)
        return fail(drive, &failing, cost);
    cost += transfer_time(drive, first, count);
    drive->positioned = TRUE;
    drive->next = first + count;
    pass(drive, cost);
    drive->used += cost;
    return (EkReadOutcome){.good = count};
}

/* Many commands over region that is healthy throughout cost what each of them costs: FALSE, and
 * nothing done, where that cannot be said beforehand. */
static gboolean commands_over_healthy(SimulatedDevice *drive, EkSector first, guint32 count,
                                      guint32 most)
{
    const EkModel *model = drive->model;
    if (count <= most || model->realtime || !answers(drive))
        return FALSE;
    EkSector per_physical = model->physical_sector_size / model->sector_size;
    EkSector from = first - first % per_physical;
    EkSector to = (first + count + per_physical - 1) / per_physical * per_physical;
    EkFaultAt region = ek_fault_lookup_at(drive->region, from, to);
    if (region.fault != NULL || region.count < to - from)
        return FALSE;
    gint64 cost =
        (gint64)(count / most) * (model->command_time + transfer_time(drive, first, most));
    if (count % most != 0)
        cost += model->command_time + transfer_time(drive, first, count % most);
    if (!drive->positioned || drive->next != first)
        cost += model->seek_time;
    if (model->lifetime > 0 && drive->used + cost >= model->lifetime)
        return FALSE;
    drive->positioned = TRUE;
    drive->next = first + count;
    pass(drive, cost);
    drive->used += cost;
    return TRUE;
}

static EkReadOutcome read_commands(SimulatedDevice *drive, EkSector first, guint32 count)
{
    guint32 most = drive->device.block;
    guint32 done = 0;
    if (commands_over_healthy(drive, first, count, most))
        return (EkReadOutcome){.good = count};
    while (done < count) {
        EkReadOutcome outcome = command(drive, first + done, MIN(most, count - done));
        done += outcome.good;
        if (outcome.reason != EK_REASON_NONE) {
            outcome.good = done;
            return outcome;
        }
    }
    return (EkReadOutcome){.good = count};
}

static EkReadOutcome simulated_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    EkReadOutcome outcome = read_commands(drive, first, count);
    if (outcome.good == 0)
        return outcome;
    if (drive->backing == NULL) {
        outcome.zeros = TRUE;
        return outcome;
    }
    EkReadOutcome backing =
        ek_device_read_in_blocks(drive->backing, first, outcome.good, 0, buffer);
    outcome.zeros = backing.zeros;
    return backing.reason != EK_REASON_NONE ? backing : outcome;
}

static EkDeviceMemory simulated_remember(EkDevice *device)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    return (EkDeviceMemory){drive->now, drive->used, drive->failures};
}

static void simulated_recall(EkDevice *device, EkDeviceMemory memory)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    drive->now = memory.clock;
    drive->used = memory.used;
    drive->failures = memory.failures;
}

static void simulated_wait(EkDevice *device, gint64 nanoseconds)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    double warm = drive->heat;
    pass(drive, nanoseconds);
    drive->heat = MAX(warm - drive->model->health.cools * (double)nanoseconds / MINUTE_NS, 0);
}

static void simulated_health(EkDevice *device, EkHealth *health)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    const EkModelHealth *model = &drive->model->health;
    if (!answers(drive) || (model->silent_after > 0 && drive->now >= model->silent_after)) {
        ek_health_init(health, "the drive did not answer when asked for its health");
        return;
    }
    ek_health_init(health, NULL);
    memcpy(health->value, model->at_first.value, sizeof health->value);
    gint64 *value = health->value;
    if (model->pending_per_failure > 0)
        value[EK_SIGN_PENDING] =
            MAX(value[EK_SIGN_PENDING], 0) +
            (gint64)MIN((double)drive->failures * model->pending_per_failure, G_MAXINT32);
    if (value[EK_SIGN_TEMPERATURE] != EK_SIGN_UNKNOWN)
        value[EK_SIGN_TEMPERATURE] += (gint64)MIN(drive->heat, G_MAXINT32);
}

static gboolean simulated_is_back(EkDevice *device)
{
    return answers((SimulatedDevice *)device);
}

static void simulated_close(EkDevice *device)
{
    SimulatedDevice *drive = (SimulatedDevice *)device;
    if (drive->backing != NULL)
        ek_device_close(drive->backing);
    ek_fault_lookup_free(drive->region);
    ek_model_free(drive->model);
    g_hash_table_unref(drive->errors);
    g_free(drive);
}

static const EkDeviceClass simulated_class = {
    .read = simulated_read,
    .remember = simulated_remember,
    .recall = simulated_recall,
    .wait = simulated_wait,
    .is_back = simulated_is_back,
    .health = simulated_health,
    .close = simulated_close,
    .takes_blocks = TRUE,
};

EkDevice *ek_simulated_new(EkModel *model, const char *path, EkDevice *backing, EkByte bytes)
{
    SimulatedDevice *drive = g_new0(SimulatedDevice, 1);
    drive->device.class = &simulated_class;
    drive->device.info = (EkDeviceInfo){
        .kind = EK_DEVICE_SIMULATED,
        .path = g_strdup(path),
        .model = g_strdup(model->model),
        .serial = g_strdup(model->serial),
        .sector_size = model->sector_size,
        .physical_sector_size = model->physical_sector_size,
        .bytes = bytes,
        .sectors = ek_divide_up(bytes, model->sector_size),
        .max_transfer = model->max_transfer,
        .many_commands = TRUE,
    };
    drive->backing = backing;
    drive->model = model;
    drive->region = ek_fault_lookup_new(model);
    drive->errors = g_hash_table_new(g_direct_hash, g_direct_equal);
    drive->back_at = G_MININT64;
    return &drive->device;
}

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
    EkByte bytes = backing->info.bytes;
    backing->info.sectors = ek_divide_up(bytes, model->sector_size);
    return ek_simulated_new(g_steal_pointer(&model), path, g_steal_pointer(&backing), bytes);
}

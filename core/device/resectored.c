/* SPDX-License-Identifier: MIT */
/* A drive behind an adapter that shows sectors of another size than the case counts in. */
#include "device/device.h"

#include <stdlib.h>
#include <string.h>

#define ALIGNMENT 4096u

typedef struct {
    EkDevice device;
    EkDevice *inner;
    guint8 *room; /* for reads that do not fall on the inner sectors; one inner sector more than
                     the largest command at each end */
    gsize room_bytes;
} ResectoredDevice;

static EkReadOutcome resectored_read(EkDevice *device, EkSector first, guint32 count,
                                     guint8 *buffer)
{
    ResectoredDevice *self = (ResectoredDevice *)device;
    const EkDeviceInfo *inner = ek_device_info(self->inner);
    guint32 size = device->info.sector_size;
    EkByte from = first * size;
    EkByte to = MIN(from + (EkByte)count * size, device->info.bytes);
    EkSector inner_first = from / inner->sector_size;
    EkSector inner_end = ek_divide_up(to, inner->sector_size);
    gsize lead = (gsize)(from - inner_first * inner->sector_size);
    guint32 inner_count = (guint32)(inner_end - inner_first);
    g_assert((gsize)inner_count * inner->sector_size <= self->room_bytes);

    EkReadOutcome outcome = ek_device_read(self->inner, inner_first, inner_count, self->room);
    gsize got = (gsize)outcome.good * inner->sector_size;
    got = got > lead ? MIN(got - lead, (gsize)(to - from)) : 0;
    gsize whole = got == (gsize)(to - from) ? count : got / size;
    memset(buffer, 0, (gsize)count * size);
    memcpy(buffer, self->room + lead, MIN(got, whole * size));
    outcome.good = (guint32)whole;
    return outcome;
}

static EkDeviceMemory resectored_remember(EkDevice *device)
{
    return ek_device_remember(((ResectoredDevice *)device)->inner);
}

static void resectored_recall(EkDevice *device, EkDeviceMemory memory)
{
    ek_device_recall(((ResectoredDevice *)device)->inner, memory);
}

static void resectored_wait(EkDevice *device, gint64 nanoseconds)
{
    ek_device_wait(((ResectoredDevice *)device)->inner, nanoseconds);
}

static gboolean resectored_is_back(EkDevice *device)
{
    return ek_device_is_back(((ResectoredDevice *)device)->inner);
}

static void resectored_set_cancel(EkDevice *device, const gint *cancel)
{
    ek_device_set_cancel(((ResectoredDevice *)device)->inner, cancel);
}

static void resectored_release(EkDevice *device)
{
    ek_device_release(((ResectoredDevice *)device)->inner);
}

static void resectored_close(EkDevice *device)
{
    ResectoredDevice *self = (ResectoredDevice *)device;
    ek_device_close(self->inner);
    free(self->room);
    g_free(self);
}

static void resectored_health(EkDevice *device, EkHealth *health)
{
    ek_device_health(((ResectoredDevice *)device)->inner, health);
}

static const EkDeviceClass resectored_class = {
    .read = resectored_read,
    .remember = resectored_remember,
    .recall = resectored_recall,
    .wait = resectored_wait,
    .is_back = resectored_is_back,
    .set_cancel = resectored_set_cancel,
    .release = resectored_release,
    .health = resectored_health,
    .close = resectored_close,
};

EkDevice *ek_resectored_new(EkDevice *inner, guint32 sector_size)
{
    const EkDeviceInfo *there = ek_device_info(inner);
    guint32 largest = MAX(sector_size, there->sector_size);
    ResectoredDevice *self = g_new0(ResectoredDevice, 1);
    self->device.class = &resectored_class;
    self->device.info = (EkDeviceInfo){
        .kind = there->kind,
        .path = g_strdup(there->path),
        .model = g_strdup(there->model),
        .serial = g_strdup(there->serial),
        .sector_size = sector_size,
        .physical_sector_size = MAX(there->physical_sector_size, largest),
        .bytes = there->bytes,
        .sectors = ek_divide_up(there->bytes, sector_size),
        .max_transfer = MAX(there->max_transfer - there->max_transfer % largest, largest),
    };
    self->inner = inner;
    self->room_bytes = (gsize)self->device.info.max_transfer + 2u * largest;
    void *room = NULL;
    if (posix_memalign(&room, ALIGNMENT, self->room_bytes) != 0)
        g_error("no memory for a read buffer");
    self->room = room;
    return &self->device;
}

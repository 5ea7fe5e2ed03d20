/* SPDX-License-Identifier: MIT */
/* Where sectors come from. */
#include "device/device.h"

#include "base/text.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>

const char *ek_reason_name(EkReason reason)
{
    switch (reason) {
    case EK_REASON_MEDIUM: return "medium";
    case EK_REASON_TIMEOUT: return "timeout";
    case EK_REASON_TRANSPORT: return "transport";
    case EK_REASON_SLOW: return "slow";
    case EK_REASON_SKIPPED: return "skipped";
    case EK_REASON_NONE: break;
    }
    return "";
}

const char *ek_device_kind_name(EkDeviceKind kind)
{
    switch (kind) {
    case EK_DEVICE_BLOCK: return "block";
    case EK_DEVICE_SIMULATED: return "simulated";
    case EK_DEVICE_NBD: return "nbd";
    case EK_DEVICE_FILE: break;
    }
    return "file";
}

gboolean ek_device_is_at(const char *path)
{
    struct stat st;
    return stat(path, &st) == 0 && S_ISBLK(st.st_mode);
}

gboolean ek_device_is_uri(const char *source)
{
    return g_str_has_prefix(source, "nbd://") || g_str_has_prefix(source, "nbd+unix://");
}

gboolean ek_device_count_sectors(EkDeviceInfo *info, GError **error)
{
    info->sectors = ek_divide_up(info->bytes, info->sector_size);
    if (info->sectors <= EK_SECTORS_MOST && info->bytes <= G_MAXINT64)
        return TRUE;
    g_autofree char *size = ek_text_size(info->bytes);
    return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                        "%s claims a size of %s: %" G_GUINT64_FORMAT
                        " sectors of %u bytes. No drive "
                        "has so many, and a case holds at most %" G_GUINT64_FORMAT
                        ". Check the source, or the size that its server gives",
                        info->path, size, info->sectors, info->sector_size, EK_SECTORS_MOST);
}

void ek_device_close(EkDevice *device)
{
    g_free(device->info.path);
    g_free(device->info.model);
    g_free(device->info.serial);
    g_clear_pointer(&device->also, g_array_unref);
    device->class->close(device);
}

const GArray *ek_device_also(const EkDevice *device)
{
    return device->also;
}

const EkDeviceInfo *ek_device_info(const EkDevice *device)
{
    return &device->info;
}

/* Is all of it hole, as the device tells for nothing? */
static gboolean is_hole(EkDevice *device, EkSector first, EkSector count)
{
    if (device->class->next_data == NULL)
        return FALSE;
    if (first < device->asked_from || first >= device->data_end) {
        EkSector run = 0;
        device->asked_from = first;
        device->data_first = device->data_end = G_MAXUINT64;
        if (device->class->next_data(device, first, &device->data_first, &run))
            device->data_end = device->data_first + run;
    }
    return first + count <= device->data_first;
}

static EkReadOutcome read_blocks(EkDevice *device, EkSector first, guint32 count, guint32 block,
                                 guint8 *buffer)
{
    guint32 size = device->info.sector_size;
    guint32 done = 0;
    while (done < count) {
        guint32 part = MIN(block, count - done);
        guint8 *into = buffer + (gsize)done * size;
        EkReadOutcome outcome = device->class->read(device, first + done, part, into);
        if (outcome.zeros)
            memset(into, 0, (gsize)outcome.good * size);
        done += outcome.good;
        if (outcome.reason != EK_REASON_NONE) {
            outcome.good = done;
            outcome.zeros = FALSE;
            return outcome;
        }
    }
    return (EkReadOutcome){.good = count};
}

EkReadOutcome ek_device_read_in_blocks(EkDevice *device, EkSector first, guint32 count,
                                       guint32 block, guint8 *buffer)
{
    g_assert(count > 0 && first < device->info.sectors && count <= device->info.sectors - first);
    if (device->also == NULL)
        device->also = g_array_new(FALSE, FALSE, sizeof(EkSectorRun));
    g_array_set_size(device->also, 0);
    if (is_hole(device, first, count))
        return (EkReadOutcome){.good = count, .zeros = TRUE};
    guint32 largest = MAX(device->info.max_transfer / device->info.sector_size, 1);
    if (block == 0 || block > largest)
        block = largest;
    EkReadOutcome outcome;
    device->block = block;
    if (device->info.many_commands && (device->class->takes_blocks || block == largest))
        outcome = device->class->read(device, first, count, buffer);
    else
        outcome = read_blocks(device, first, count, block, buffer);
    g_assert(outcome.good <= count);
    return outcome;
}

EkReadOutcome ek_device_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer)
{
    EkReadOutcome outcome = ek_device_read_in_blocks(device, first, count, 0, buffer);
    if (outcome.zeros)
        memset(buffer, 0, (gsize)outcome.good * device->info.sector_size);
    outcome.zeros = FALSE;
    return outcome;
}

void ek_device_set_cancel(EkDevice *device, const gint *cancel)
{
    device->cancel = cancel;
    if (device->class->set_cancel != NULL)
        device->class->set_cancel(device, cancel);
}

gboolean ek_device_next_data(EkDevice *device, EkSector from, EkSector *first, EkSector *count)
{
    if (from >= device->info.sectors)
        return FALSE;
    if (device->class->next_data != NULL)
        return device->class->next_data(device, from, first, count);
    *first = from;
    *count = device->info.sectors - from;
    return TRUE;
}

EkDeviceMemory ek_device_remember(EkDevice *device)
{
    if (device->class->remember != NULL)
        return device->class->remember(device);
    gint64 clock = device->clock_base + (g_get_monotonic_time() - device->opened_at) * 1000;
    return (EkDeviceMemory){.clock = clock, .used = clock};
}

void ek_device_recall(EkDevice *device, EkDeviceMemory memory)
{
    if (device->class->recall != NULL) {
        device->class->recall(device, memory);
        return;
    }
    device->clock_base = memory.clock;
    device->opened_at = g_get_monotonic_time();
}

gint64 ek_device_clock(EkDevice *device)
{
    return ek_device_remember(device).clock;
}

void ek_device_wait(EkDevice *device, gint64 nanoseconds)
{
    if (device->class->wait != NULL)
        device->class->wait(device, nanoseconds);
    else
        g_usleep((gulong)(nanoseconds / 1000));
}

void ek_device_release(EkDevice *device)
{
    if (device->class->release != NULL)
        device->class->release(device);
}

gboolean ek_device_is_back(EkDevice *device)
{
    return device->class->is_back != NULL && device->class->is_back(device);
}

EkByte ek_device_bytes_of(const EkDeviceInfo *info, EkSector first, EkSector count)
{
    EkByte from = first * info->sector_size;
    if (from >= info->bytes)
        return 0;
    return MIN(count * info->sector_size, info->bytes - from);
}

EkReadOutcome ek_read_failed(guint32 good, int errnum)
{
    EkReadOutcome outcome = {.good = good, .errnum = errnum};
    switch (errnum) {
    case ENODEV:
    case ENXIO:
    case ENOMEDIUM:
    case ESHUTDOWN:
        outcome.gone = TRUE;
        outcome.reason = EK_REASON_TRANSPORT;
        break;
    case ETIMEDOUT:
    case ETIME: outcome.reason = EK_REASON_TIMEOUT; break;
    case ENOLINK:
    case EREMOTEIO:
    case ECONNRESET: outcome.reason = EK_REASON_TRANSPORT; break;
    default: outcome.reason = EK_REASON_MEDIUM; break;
    }
    return outcome;
}

gboolean ek_device_is_drive(const EkDevice *device)
{
    return device->info.kind == EK_DEVICE_BLOCK || device->info.kind == EK_DEVICE_SIMULATED;
}

void ek_device_health(EkDevice *device, EkHealth *health)
{
    if (device->class->health != NULL)
        device->class->health(device, health);
    else
        ek_health_init(health, device->info.kind == EK_DEVICE_NBD
                                   ? "the drive is read over NBD: ask for its health where it is "
                                     "connected"
                                   : "the source is a file, not a drive");
}

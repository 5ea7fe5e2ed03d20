/* SPDX-License-Identifier: MIT */
/* An NBD export as a source: read-only, over TCP or a Unix socket. The protocol is libnbd's affair.
 * A long read goes as several requests at once. */
#include "device/device.h"

#include <errno.h>
#include <libnbd.h>
#include <string.h>

#define REQUEST_BYTES (256u << 10)
#define POLL_MS 100
#define GRACE_US (800 * (gint64)1000)
#define MOST_ASKED ((guint64)1 << 31) /* bytes, in one question about holes */
#define MOST_REQUESTS 64

typedef struct {
    EkDevice device;
    struct nbd_handle *handle;
    gboolean tells_holes;
} NbdDevice;

static gboolean is_gone(int errnum)
{
    return errnum == ENOTCONN || errnum == ESHUTDOWN || errnum == EPIPE || errnum == ECONNRESET ||
           errnum == ECONNREFUSED || errnum == EINVAL;
}

static EkReadOutcome failed(const NbdDevice *nbd, guint32 good, int errnum)
{
    if (nbd_aio_is_dead(nbd->handle) == 1 || nbd_aio_is_closed(nbd->handle) == 1 || is_gone(errnum))
        return ek_read_failed(good, ENODEV);
    return ek_read_failed(good, errnum);
}

typedef struct {
    gint64 cookie;
    gsize length;
    gboolean done;
    int errnum;
} Request;

static void take_answer(NbdDevice *nbd, Request *request)
{
    int done = nbd_aio_command_completed(nbd->handle, (guint64)request->cookie);
    if (done == 0)
        return;
    request->done = TRUE;
    if (done < 0)
        request->errnum = nbd_get_errno() != 0 ? nbd_get_errno() : EIO;
}

/* Waits for all of them. FALSE when they hang and are called off. */
static gboolean wait_for(NbdDevice *nbd, Request *requests, gsize count)
{
    gint64 called_off = 0;
    for (;;) {
        gsize open = 0;
        for (gsize i = 0; i < count; i++) {
            if (!requests[i].done)
                take_answer(nbd, &requests[i]);
            open += !requests[i].done;
        }
        if (open == 0)
            return TRUE;
        if (nbd_poll(nbd->handle, POLL_MS) < 0) {
            for (gsize i = 0; i < count; i++)
                if (!requests[i].done)
                    requests[i].errnum = ENOTCONN;
            return TRUE;
        }
        const gint *cancel = nbd->device.cancel;
        if (cancel == NULL || g_atomic_int_get(cancel) == 0)
            continue;
        if (called_off == 0)
            called_off = g_get_monotonic_time();
        if (g_get_monotonic_time() - called_off > GRACE_US)
            return FALSE;
    }
}

static EkReadOutcome nbd_device_read(EkDevice *device, EkSector first, guint32 count,
                                     guint8 *buffer)
{
    NbdDevice *nbd = (NbdDevice *)device;
    guint32 size = device->info.sector_size;
    gsize here = (gsize)ek_device_bytes_of(&device->info, first, count);
    Request requests[MOST_REQUESTS] = {0};
    gsize sent = 0;
    gsize number = 0;
    int errnum = 0;
    if (nbd->handle == NULL)
        return ek_read_failed(0, ENODEV);
    while (sent < here && number < MOST_REQUESTS && errnum == 0) {
        Request *request = &requests[number];
        request->length = MIN(MAX(REQUEST_BYTES, size), here - sent);
        request->cookie = nbd_aio_pread(nbd->handle, buffer + sent, request->length,
                                        first * size + sent, NBD_NULL_COMPLETION, 0);
        if (request->cookie < 0) {
            errnum = nbd_get_errno();
            break;
        }
        sent += request->length;
        number++;
    }
    if (!wait_for(nbd, requests, number)) {
        /* The answers would come into a buffer that is no longer ours. */
        nbd_close(nbd->handle);
        nbd->handle = NULL;
        return (EkReadOutcome){.reason = EK_REASON_TIMEOUT, .abandoned = TRUE};
    }
    gsize good = 0;
    for (gsize i = 0; i < number && requests[i].errnum == 0; i++)
        good += requests[i].length;
    for (gsize i = 0; i < number && errnum == 0; i++)
        errnum = requests[i].errnum;
    if (good < here)
        return failed(nbd, (guint32)(good / size), errnum != 0 ? errnum : EIO);
    memset(buffer + here, 0, (gsize)count * size - here);
    return (EkReadOutcome){.good = count};
}

/* --- holes --- */

typedef struct {
    guint64 asked;
    guint64 data; /* where data begins, when some was seen */
    guint64 data_end;
    guint64 end; /* of what was told */
} Told;

static int take_extents(void *user_data, const char *context, uint64_t offset, uint32_t *entries,
                        size_t count, int *error)
{
    Told *told = user_data;
    guint64 at = offset;
    (void)error;
    if (strcmp(context, LIBNBD_CONTEXT_BASE_ALLOCATION) != 0)
        return 0;
    for (size_t i = 0; i + 1 < count; i += 2) {
        guint64 end = at + entries[i];
        gboolean zero = (entries[i + 1] & LIBNBD_STATE_ZERO) != 0;
        if (!zero && told->data == G_MAXUINT64)
            told->data = at;
        if (!zero && (told->data_end == 0 || told->data_end == at))
            told->data_end = end;
        at = end;
    }
    told->end = at;
    return 0;
}

static gboolean nbd_device_next_data(EkDevice *device, EkSector from, EkSector *first,
                                     EkSector *count)
{
    NbdDevice *nbd = (NbdDevice *)device;
    const EkDeviceInfo *info = &device->info;
    EkByte at = from * info->sector_size;
    *first = from;
    *count = info->sectors - from;
    while (nbd->handle != NULL && nbd->tells_holes && at < info->bytes) {
        Told told = {.asked = at, .data = G_MAXUINT64};
        guint64 length = MIN(info->bytes - at, MOST_ASKED);
        nbd_extent_callback callback = {.callback = take_extents, .user_data = &told};
        if (nbd_block_status(nbd->handle, length, at, callback, 0) < 0 || told.end <= at) {
            nbd->tells_holes = FALSE; /* everything is data then */
            return TRUE;
        }
        if (told.data != G_MAXUINT64) {
            *first = MAX(from, told.data / info->sector_size);
            EkSector end = MIN(ek_divide_up(told.data_end, info->sector_size), info->sectors);
            *count = end - *first;
            return TRUE;
        }
        at = told.end;
    }
    return at < info->bytes;
}

static void nbd_device_close(EkDevice *device)
{
    NbdDevice *nbd = (NbdDevice *)device;
    if (nbd->handle != NULL) {
        nbd_shutdown(nbd->handle, 0);
        nbd_close(nbd->handle);
    }
    g_free(nbd);
}

static const EkDeviceClass nbd_class = {
    .read = nbd_device_read,
    .next_data = nbd_device_next_data,
    .close = nbd_device_close,
};

EkDevice *ek_nbd_open(const char *uri, guint32 sector_size, GError **error)
{
    if (!ek_is_power_of_two(sector_size) || sector_size < 512 || sector_size > 65536) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "a sector size of %u is not a power of two from 512 to 65536", sector_size);
        return NULL;
    }
    struct nbd_handle *handle = nbd_create();
    if (handle == NULL) {
        ek_error_set(error, EK_ERROR_FAILED, "%s: %s", uri, nbd_get_error());
        return NULL;
    }
    nbd_add_meta_context(handle, LIBNBD_CONTEXT_BASE_ALLOCATION);
    gint64 bytes = -1;
    if (nbd_connect_uri(handle, uri) == 0)
        bytes = nbd_get_size(handle);
    if (bytes < 0) {
        ek_error_set(error, EK_ERROR_GONE,
                     "%s does not answer: %s. Is the server running, and the export's name right?",
                     uri, nbd_get_error());
        nbd_close(handle);
        return NULL;
    }
    NbdDevice *nbd = g_new0(NbdDevice, 1);
    nbd->handle = handle;
    nbd->tells_holes = nbd_can_meta_context(handle, LIBNBD_CONTEXT_BASE_ALLOCATION) == 1;
    nbd->device.class = &nbd_class;
    nbd->device.info = (EkDeviceInfo){
        .kind = EK_DEVICE_NBD,
        .path = g_strdup(uri),
        .sector_size = sector_size,
        .physical_sector_size = sector_size,
        .bytes = (EkByte)bytes,
        .max_transfer = MAX(REQUEST_BYTES, sector_size),
        .many_commands = TRUE,
    };
    return &nbd->device;
}

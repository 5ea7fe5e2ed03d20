/* SPDX-License-Identifier: MIT */
/* An NBD export as a source: read-only, over TCP or a Unix socket. The protocol is libnbd's affair.
 * A long read goes as several requests at once. */
#include "device/device.h"

#include <errno.h>
#include <libnbd.h>
#include <string.h>

#define REQUEST_BYTES (256u << 10)
#define POLL_MS 100
#define GRACE_US (300 * (gint64)1000)
#define SILENCE_US                                                                                 \
    (30 * G_USEC_PER_SEC) /* of a server that has to say what it has, or where holes are */
#define MOST_ASKED ((guint64)1 << 31) /* bytes, in one question about holes */
#define MOST_REQUESTS 64
#define CAREFUL_BYTES ((EkByte)64 << 20) /* read well, before several requests go at once again */

typedef struct {
    EkDevice device;
    struct nbd_handle *handle; /* NULL: the server is given up */
    gboolean tells_holes;
    EkByte careful; /* bytes still to be read one request at a time */
    guint8 *kept;   /* what came back behind a request that failed: it is not asked for again */
    EkSector kept_first; /* of `kept`; what of it is valid says `ranges` */
    GArray *ranges;      /* EkSectorRun */
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

/* What the server is waited for. */
typedef struct {
    NbdDevice *nbd;
    gint64 until;      /* monotonic µs; 0: as long as it takes */
    gint64 called_off; /* when somebody wanted to end it; 0: nobody did */
} Wait;

/* Lets something happen. FALSE when the wait is over: called off, or too long. */
static gboolean wait_on(Wait *wait)
{
    const gint *cancel = wait->nbd->device.cancel;
    gint64 now = g_get_monotonic_time();
    if (wait->until != 0 && now > wait->until)
        return FALSE;
    if (cancel == NULL || g_atomic_int_get(cancel) == 0)
        return TRUE;
    if (wait->called_off == 0)
        wait->called_off = now;
    return now - wait->called_off <= GRACE_US;
}

/* The server is given up: its answers would come into buffers that are no longer ours. */
static void give_up(NbdDevice *nbd)
{
    nbd_close(nbd->handle);
    nbd->handle = NULL;
}

/* --- reading --- */

typedef struct {
    gint64 cookie;
    gsize offset; /* in the read */
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
    Wait wait = {.nbd = nbd};
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
        if (!wait_on(&wait))
            return FALSE;
    }
}

static gboolean send_request(NbdDevice *nbd, Request *request, EkByte first, guint8 *buffer)
{
    request->cookie = nbd_aio_pread(nbd->handle, buffer + request->offset, request->length,
                                    first + request->offset, NBD_NULL_COMPLETION, 0);
    if (request->cookie >= 0)
        return TRUE;
    request->errnum = nbd_get_errno() != 0 ? nbd_get_errno() : EIO;
    request->done = TRUE;
    return FALSE;
}

/* The run of sectors that was kept at `sector`, or the next one behind it; FALSE when there is
 * none. */
static gboolean next_kept(const NbdDevice *nbd, EkSector sector, EkSectorRun *run)
{
    for (guint i = 0; i < nbd->ranges->len; i++) {
        *run = g_array_index(nbd->ranges, EkSectorRun, i);
        if (sector < run->first + run->count)
            return TRUE;
    }
    return FALSE;
}

/* The next request of a read: what was kept is taken from there, and nobody is asked. TRUE when it
 * is settled by that. */
static gboolean cut_request(NbdDevice *nbd, EkSector first, gsize sent, gsize here, guint8 *buffer,
                            Request *request)
{
    guint32 size = nbd->device.info.sector_size;
    EkSector sector = first + sent / size;
    EkSectorRun run;
    request->offset = sent;
    request->length = MIN(MAX(REQUEST_BYTES, size), here - sent);
    if (!next_kept(nbd, sector, &run))
        return FALSE;
    if (sector < run.first) {
        request->length = MIN(request->length, (gsize)(run.first - sector) * size);
        return FALSE;
    }
    request->length = MIN(here - sent, (gsize)(run.first + run.count - sector) * size);
    memcpy(buffer + sent, nbd->kept + (gsize)(sector - nbd->kept_first) * size, request->length);
    request->done = TRUE;
    return TRUE;
}

static void add_run(GArray *runs, EkSectorRun run)
{
    EkSectorRun *last = runs->len > 0 ? &g_array_index(runs, EkSectorRun, runs->len - 1) : NULL;
    if (last != NULL && last->first + last->count == run.first)
        last->count += run.count;
    else
        g_array_append_val(runs, run);
}

/* Notes what came back behind the first request that failed. */
static void keep_rest(NbdDevice *nbd, EkSector first, guint32 count, const guint8 *buffer,
                      const Request *requests, gsize number, gsize good)
{
    guint32 size = nbd->device.info.sector_size;
    g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(EkSectorRun));
    for (gsize i = 0; i < number; i++) {
        if (requests[i].errnum != 0 || requests[i].offset < good)
            continue;
        EkSectorRun run = {first + requests[i].offset / size,
                           (guint32)ek_divide_up(requests[i].length, size)};
        add_run(runs, run);
    }
    /* What an earlier read left is still of use where this one left nothing. */
    if (runs->len == 0)
        return;
    g_array_append_vals(nbd->device.also, runs->data, runs->len);
    g_array_unref(nbd->ranges);
    nbd->ranges = g_steal_pointer(&runs);
    g_free(nbd->kept);
    nbd->kept = g_memdup2(buffer, (gsize)count * size);
    nbd->kept_first = first;
}

static EkReadOutcome settle(NbdDevice *nbd, EkSector first, guint32 count, guint8 *buffer,
                            const Request *requests, gsize number)
{
    guint32 size = nbd->device.info.sector_size;
    gsize here = (gsize)ek_device_bytes_of(&nbd->device.info, first, count);
    gsize good = 0;
    guint32 failures = 0;
    int errnum = 0;
    for (gsize i = 0; i < number; i++) {
        if (requests[i].errnum == 0 && errnum == 0)
            good += requests[i].length;
        failures += requests[i].errnum != 0;
        if (errnum == 0)
            errnum = requests[i].errnum;
    }
    memset(buffer + here, 0, (gsize)count * size - here);
    if (errnum == 0 && good == here) {
        nbd->careful -= MIN(nbd->careful, here);
        return (EkReadOutcome){.good = count};
    }
    nbd->careful = CAREFUL_BYTES;
    keep_rest(nbd, first, count, buffer, requests, number, good);
    EkReadOutcome outcome = failed(nbd, (guint32)(good / size), errnum != 0 ? errnum : EIO);
    outcome.failures = MAX(failures, 1);
    return outcome;
}

/* A long read goes as several requests at once; where there was trouble of late, one after the
 * other up to the first that fails. */
static EkReadOutcome nbd_device_read(EkDevice *device, EkSector first, guint32 count,
                                     guint8 *buffer)
{
    NbdDevice *nbd = (NbdDevice *)device;
    guint32 size = device->info.sector_size;
    gsize here = (gsize)ek_device_bytes_of(&device->info, first, count);
    Request requests[MOST_REQUESTS] = {0};
    gsize sent = 0;
    gsize number = 0;
    gboolean fine = TRUE;
    gboolean hangs = FALSE;
    if (nbd->handle == NULL)
        return ek_read_failed(0, ENODEV);
    while (sent < here && number < MOST_REQUESTS && fine && !hangs) {
        Request *request = &requests[number++];
        gboolean is_kept = cut_request(nbd, first, sent, here, buffer, request);
        sent += request->length;
        if (is_kept)
            continue;
        fine = send_request(nbd, request, first * size, buffer);
        if (nbd->careful == 0 || !fine)
            continue;
        hangs = !wait_for(nbd, request, 1);
        fine = request->errnum == 0;
    }
    if (hangs || !wait_for(nbd, requests, number)) {
        give_up(nbd);
        return (EkReadOutcome){.reason = EK_REASON_TIMEOUT, .abandoned = TRUE};
    }
    return settle(nbd, first, count, buffer, requests, number);
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

/* Asks, and waits no longer than a server may take. FALSE when nothing useful came of it. */
static gboolean ask_extents(NbdDevice *nbd, guint64 length, guint64 at, Told *told)
{
    nbd_extent_callback callback = {.callback = take_extents, .user_data = told};
    gint64 cookie = nbd_aio_block_status(nbd->handle, length, at, callback, NBD_NULL_COMPLETION, 0);
    Wait wait = {.nbd = nbd, .until = g_get_monotonic_time() + SILENCE_US};
    if (cookie < 0)
        return FALSE;
    for (;;) {
        int done = nbd_aio_command_completed(nbd->handle, (guint64)cookie);
        if (done != 0)
            return done > 0 && told->end > at;
        if (nbd_poll(nbd->handle, POLL_MS) < 0)
            return FALSE;
        if (wait_on(&wait))
            continue;
        give_up(nbd);
        return FALSE;
    }
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
        if (!ask_extents(nbd, length, at, &told)) {
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

/* Takes leave, but waits for no answer to that. */
static void shut_down(NbdDevice *nbd)
{
    if (nbd_aio_is_ready(nbd->handle) == 1)
        (void)nbd_aio_disconnect(nbd->handle, 0);
}

static void nbd_device_close(EkDevice *device)
{
    NbdDevice *nbd = (NbdDevice *)device;
    if (nbd->handle != NULL) {
        shut_down(nbd);
        nbd_close(nbd->handle);
    }
    g_array_unref(nbd->ranges);
    g_free(nbd->kept);
    g_free(nbd);
}

static const EkDeviceClass nbd_class = {
    .read = nbd_device_read,
    .next_data = nbd_device_next_data,
    .close = nbd_device_close,
};

/* Connects, and learns the size. FALSE with *error when the server does not answer in time. */
static gboolean connect_to(NbdDevice *nbd, const char *uri, gint64 *bytes, GError **error)
{
    Wait wait = {.nbd = nbd, .until = g_get_monotonic_time() + SILENCE_US};
    nbd_add_meta_context(nbd->handle, LIBNBD_CONTEXT_BASE_ALLOCATION);
    gboolean fine = nbd_aio_connect_uri(nbd->handle, uri) == 0;
    while (fine && nbd_aio_is_ready(nbd->handle) != 1) {
        fine = nbd_aio_is_dead(nbd->handle) != 1 && nbd_aio_is_closed(nbd->handle) != 1 &&
               nbd_poll(nbd->handle, POLL_MS) >= 0;
        if (fine && wait_on(&wait))
            continue;
        if (!fine)
            break;
        if (wait.called_off != 0)
            return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
        return ek_error_set(error, EK_ERROR_GONE,
                            "%s accepted the connection and then said nothing for %d s. Check the "
                            "server, then try again",
                            uri, (int)(SILENCE_US / G_USEC_PER_SEC));
    }
    *bytes = fine ? nbd_get_size(nbd->handle) : -1;
    return *bytes >= 0 ||
           ek_error_set(error, EK_ERROR_GONE,
                        "%s does not answer: %s. Is the server running, and the export's name "
                        "right?",
                        uri, nbd_get_error());
}

EkDevice *ek_nbd_open(const char *uri, guint32 sector_size, const gint *cancel, GError **error)
{
    gint64 bytes = -1;
    if (!ek_is_power_of_two(sector_size) || sector_size < 512 || sector_size > 65536) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "a sector size of %u is not a power of two from 512 to 65536", sector_size);
        return NULL;
    }
    NbdDevice *nbd = g_new0(NbdDevice, 1);
    nbd->ranges = g_array_new(FALSE, FALSE, sizeof(EkSectorRun));
    nbd->device.cancel = cancel;
    nbd->handle = nbd_create();
    if (nbd->handle == NULL || !connect_to(nbd, uri, &bytes, error)) {
        if (nbd->handle == NULL)
            ek_error_set(error, EK_ERROR_FAILED, "%s: %s", uri, nbd_get_error());
        else
            give_up(nbd);
        nbd_device_close(&nbd->device);
        return NULL;
    }
    nbd->tells_holes = nbd_can_meta_context(nbd->handle, LIBNBD_CONTEXT_BASE_ALLOCATION) == 1;
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

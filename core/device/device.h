/* SPDX-License-Identifier: MIT */
/* Where sectors come from. A source is opened read-only, always. Positions here are in logical
 * sectors of the device; everywhere above, in bytes. */
#ifndef EK_DEVICE_DEVICE_H
#define EK_DEVICE_DEVICE_H

#include "base/error.h"
#include "base/units.h"
#include "device/health.h"

/* Why a read failed, or why region was left for later. The numbers are stored: never renumber. */
typedef enum {
    EK_REASON_NONE = 0,
    EK_REASON_MEDIUM = 1,    /* the drive says it cannot read this */
    EK_REASON_TIMEOUT = 2,   /* the drive did not answer in time */
    EK_REASON_TRANSPORT = 3, /* cable, bridge or bus */
    EK_REASON_SLOW = 4,      /* read, or skipped, because this region is slow */
    EK_REASON_SKIPPED = 5    /* never tried: stepped over beside trouble */
} EkReason;

/* "medium", "timeout" …; "" for EK_REASON_NONE. */
const char *ek_reason_name(EkReason reason);

typedef enum { EK_DEVICE_FILE, EK_DEVICE_BLOCK, EK_DEVICE_SIMULATED, EK_DEVICE_NBD } EkDeviceKind;

/* "file", "block", "simulated", "nbd": the value of `kind` in JSON. */
const char *ek_device_kind_name(EkDeviceKind kind);

typedef struct {
    EkDeviceKind kind;
    char *path;   /* as named by the user, without "sim:" */
    char *model;  /* NULL when not known */
    char *serial; /* NULL when not known */
    guint32 sector_size;
    guint32 physical_sector_size;
    EkByte bytes;         /* exact length; the last sector may be short */
    EkSector sectors;     /* counts a short last sector */
    guint32 max_transfer; /* bytes in the largest single command, a multiple of sector_size */
    gboolean locked;      /* a drive that this opening made the kernel refuse writes to, for good */
    gboolean
        many_commands; /* a longer read is several commands, each of which keeps what it read */
} EkDeviceInfo;

typedef struct {
    guint32 good;       /* sectors that came back, from the first on */
    EkReason reason;    /* EK_REASON_NONE when all came back */
    gboolean gone;      /* the whole device is gone, not this place */
    gboolean zeros;     /* what came back is zeros, and the buffer was left alone */
    gboolean abandoned; /* called off while it hung: says nothing about the drive */
    int errnum;         /* what the system said, 0 when nothing */
    guint32
        failures; /* commands that failed, where they were several at once; 0: as `reason` says */
} EkReadOutcome;

/* Sectors of a device. */
typedef struct {
    EkSector first;
    guint32 count;
} EkSectorRun;

/* What a drive went through, over all openings that handed it on. */
typedef struct {
    gint64 clock;     /* ns of device time */
    gint64 used;      /* ns of a simulated drive's life; elsewhere the same as the clock */
    guint64 failures; /* of commands; elsewhere 0 */
} EkDeviceMemory;

typedef struct EkDevice EkDevice;

/* A kind of device: one file each. */
typedef struct {
    EkReadOutcome (*read)(EkDevice *device, EkSector first, guint32 count, guint8 *buffer);
    gboolean (*next_data)(EkDevice *device, EkSector from, EkSector *first, EkSector *count);
    EkDeviceMemory (*remember)(EkDevice *device); /* NULL: by the wall's clock */
    void (*recall)(EkDevice *device, EkDeviceMemory memory);
    void (*wait)(EkDevice *device, gint64 nanoseconds);       /* NULL: sleeps */
    gboolean (*is_back)(EkDevice *device);                    /* NULL: has to be opened again */
    void (*set_cancel)(EkDevice *device, const gint *cancel); /* NULL: looks at it itself */
    void (*release)(EkDevice *device); /* NULL: nothing is held that would be in the way */
    void (*health)(EkDevice *device, EkHealth *health); /* NULL: it has none to tell */
    void (*close)(EkDevice *device);
    gboolean takes_blocks; /* `read` goes by the device's `block` */
} EkDeviceClass;

/* What every kind begins with. */
struct EkDevice {
    const EkDeviceClass *class;
    EkDeviceInfo info;
    gint64 clock_base;   /* ns of device time from earlier openings */
    gint64 opened_at;    /* monotonic µs */
    const gint *cancel;  /* atomic; NULL: nobody calls a read off */
    guint32 block;       /* sectors in a command of this read */
    EkSector asked_from; /* where a run of data was last asked for */
    EkSector data_first; /* what was told */
    EkSector data_end;
    GArray *also; /* EkSectorRun: what the last read gave behind its first failure */
};

typedef struct {
    guint32 sector_size; /* files only; 0 for 512 */
    gboolean look_only;  /* block devices: leave the kernel's own read-only switch as it is */
    const gint *cancel;  /* atomic: opening is called off when it is not 0; NULL: never */
} EkDeviceOptions;

/* Opens SOURCE: "sim:PATH", an NBD URI, a block device or a file. The caller closes. Errors:
 * EK_ERROR_ABSENT, EK_ERROR_UNSUPPORTED (a directory, a pipe, an unknown scheme), EK_ERROR_DAMAGED
 * (a drive model with a mistake, named with file and line), EK_ERROR_REFUSED (held by somebody
 * else), EK_ERROR_GONE (answers with size 0). */
EkDevice *ek_device_open(const char *source, const EkDeviceOptions *options, GError **error);

/* Fills in `sectors` from `bytes`. EK_ERROR_UNSUPPORTED when they are more than EK_SECTORS_MOST:
 * sizes are told by servers, models and files that may say anything. */
gboolean ek_device_count_sectors(EkDeviceInfo *info, GError **error);

void ek_device_close(EkDevice *device);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkDevice, ek_device_close)

const EkDeviceInfo *ek_device_info(const EkDevice *device);

/* Reads `count` sectors (at least 1, all inside the device) into `buffer`, which has room for
 * count * sector_size bytes and is aligned to the physical sector size. The rest of a short last
 * sector is filled with zeros. Never fails as a call: the outcome says what came back. */
EkReadOutcome ek_device_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer);

/* The same in commands of `block` sectors each (0: as large as the device takes them), up to the
 * first that fails: what came before it is kept. Zeros that cost nothing to know are told
 * (`zeros`), not written to the buffer. */
EkReadOutcome ek_device_read_in_blocks(EkDevice *device, EkSector first, guint32 count,
                                       guint32 block, guint8 *buffer);

/* Sectors that the last read gave besides: several commands were under way at once, and some behind
 * the first that failed came back (EkSectorRun, in order). They are at their places in its buffer.
 * Valid until the next read. */
const GArray *ek_device_also(const EkDevice *device);

/* A read that hangs is called off soon after *cancel (atomic) is not 0, where the kind of device
 * can do that. `cancel` must outlive the device. */
void ek_device_set_cancel(EkDevice *device, const gint *cancel);

/* The next stretch at or after `from` that the device says holds data; what lies before it reads as
 * zeros and costs nothing. FALSE when nothing but holes follow. A device that cannot tell calls
 * everything data. */
gboolean ek_device_next_data(EkDevice *device, EkSector from, EkSector *first, EkSector *count);

/* Device time, ns: what the drive spent, over all openings that handed it on. For a simulated drive
 * the model's clock. */
gint64 ek_device_clock(EkDevice *device);
EkDeviceMemory ek_device_remember(EkDevice *device);
void ek_device_recall(EkDevice *device, EkDeviceMemory memory);

/* Is it a drive that can be asked for its health? A file and an NBD export are none. */
gboolean ek_device_is_drive(const EkDevice *device);

/* What the drive says of its health now: silent for a file or an NBD export. The caller clears. */
void ek_device_health(EkDevice *device, EkHealth *health);

/* Lets device time pass. */
void ek_device_wait(EkDevice *device, gint64 nanoseconds);

/* Lets go of what is held, so that the same device can be opened anew: nothing is read from then
 * on. */
void ek_device_release(EkDevice *device);

/* Whether a device that was gone answers again without being opened anew. */
gboolean ek_device_is_back(EkDevice *device);

/* Bytes of `count` sectors from `first` on: less where the last sector is short. */
EkByte ek_device_bytes_of(const EkDeviceInfo *info, EkSector first, EkSector count);

/* The kinds. `path` comes without its scheme. */
EkDevice *ek_file_open(const char *path, guint32 sector_size, GError **error);
EkDevice *ek_block_open(const char *path, gboolean look_only, GError **error);
EkDevice *ek_simulated_open(const char *path, GError **error);
EkDevice *ek_nbd_open(const char *uri, guint32 sector_size, const gint *cancel, GError **error);

/* The source of a case whose image was made elsewhere: there is nothing to read from. */
#define EK_ADOPTED_PREFIX "adopted:"

/* Is what stands at `path` a block device, behind symbolic links too? FALSE where nothing does. */
gboolean ek_device_is_at(const char *path);

/* Is SOURCE an NBD URI? */
gboolean ek_device_is_uri(const char *source);

/* The same device counted in sectors of another size. Takes `device` over. */
EkDevice *ek_resectored_new(EkDevice *device, guint32 sector_size);

/* What an errno says of a failed read. */
EkReadOutcome ek_read_failed(guint32 good, int errnum);

#endif

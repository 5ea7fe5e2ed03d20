/* SPDX-License-Identifier: MIT */
/* What the operating system knows of the drives: from sysfs, udev's database and the mount table.
 * Nothing here reads from a drive. Every call looks afresh. */
#ifndef EK_DEVICE_SYSTEM_H
#define EK_DEVICE_SYSTEM_H

#include "base/error.h"
#include "base/units.h"

#include <sys/types.h>

typedef struct EkSystem EkSystem;

/* `root` is the folder below which sys/, run/udev/ and proc/ are looked up: NULL for the machine's
 * own, another one for tests. */
EkSystem *ek_system_new(const char *root);
void ek_system_free(EkSystem *system);

/* The folder that it was made with; "/" for the machine's own. */
const char *ek_system_root(const EkSystem *system);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkSystem, ek_system_free)

/* Something that keeps a drive or a partition in use. */
typedef struct {
    char *where; /* a mount point, the name of a holder, or "swap" */
    gboolean is_mount;
    gboolean discards; /* mounted with discard on */
} EkUse;

typedef struct EkPart EkPart;

/* A partition as the kernel knows it. */
struct EkPart {
    char *name; /* "sdb1" */
    dev_t dev;
    EkRange range;    /* on the drive */
    char *filesystem; /* NULL when not known */
    char *label;      /* NULL when not known */
    GPtrArray *uses;  /* EkUse* */
};

typedef struct {
    char *name; /* "sdb" */
    char *path; /* "/dev/sdb" */
    dev_t dev;
    EkByte bytes;
    guint32 sector_size;
    guint32 physical_sector_size;
    char *model; /* NULL when not known, as the next ones */
    char *serial;
    char *wwn;              /* world wide name, as the kernel or udev writes it */
    char *bus;              /* "usb", "ata", "nvme", "virtio", "mmc", "scsi", "loop" … */
    char *table;            /* "dos", "gpt" …, as udev names them */
    char *filesystem;       /* of the drive as a whole */
    char *backing;          /* of a loop device */
    guint64 backing_offset; /* bytes of that file in front of it */
    gboolean read_only;
    gboolean removable;
    gboolean rotational;
    gboolean can_discard;
    gboolean buffered;       /* a loop device that goes through the page cache */
    guint32 timeout_seconds; /* after which the kernel gives a command up; 0: not known */
    gint64 error_count; /* commands that ended in an error, as the kernel counts; -1: it does not */
    char *state;        /* "running", "offline", "live" …; NULL when not known */
    char *scheduler;    /* of its queue; NULL when not known, as the next ones */
    guint64 queue_depth; /* commands that the kernel lets wait; 0: not known */
    char *write_cache;   /* "write back", "write through" */
    char *power;         /* "active", "suspended" … */
    gboolean suspends;   /* the kernel may suspend it when nobody uses it */
    GPtrArray *uses;     /* EkUse*, of the drive as a whole */
    GPtrArray *parts;    /* EkPart* */
} EkDrive;

void ek_drive_free(EkDrive *drive);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkDrive, ek_drive_free)

/* All drives, in order of name: EkDrive*, the caller unrefs. Memory disks, device-mapper and RAID
 * devices, and loop devices with nothing behind them are no drives and left out. */
GPtrArray *ek_system_drives(EkSystem *system);

/* What on this machine tells mounted drives, by itself, to erase deleted data: const char*, with
 * how to stop it; the caller unrefs. */
GPtrArray *ek_system_trims(const EkSystem *system);

/* The drive that the block device node at `path` is, or is a partition of; NULL when it is none.
 * The caller frees. */
EkDrive *ek_system_drive_of_path(EkSystem *system, const char *path);

/* The partition of the drive that the node at `path` is: NULL when it is the whole drive. */
const EkPart *ek_drive_part_of_path(const EkDrive *drive, const char *path);

/* What keeps the drive, or any of its partitions, in use: one line each ("sdb1 is mounted on
 * /media/x"). Empty when free. The caller unrefs. */
GPtrArray *ek_drive_in_use(const EkDrive *drive);

/* TRUE when a file or folder at `path` (or, where it does not exist yet, its nearest parent that
 * does) is kept on the device or in the file at `source`, also through loop devices, device mapper
 * and RAID. */
gboolean ek_system_lies_on(EkSystem *system, const char *path, const char *source);

/* TRUE when what is at `a` and at `b` (devices or files) is one thing, or shares bytes: a partition
 * and its drive, two partitions of one drive, a loop device and the file behind it, two loop
 * devices over one file, two names of one file. */
gboolean ek_system_is_same_storage(EkSystem *system, const char *a, const char *b);

/* The drives that a file or folder (or its nearest parent that exists), or a device, is kept on, at
 * all layers; a device itself first: EkDrive*, the caller unrefs. */
GPtrArray *ek_system_drives_below(EkSystem *system, const char *path);

/* What the mount table calls the file system that `path` (or its nearest parent that exists) is on;
 * NULL when it does not say. The caller frees. */
char *ek_system_filesystem_of(EkSystem *system, const char *path);

/* What keeps the loop devices over a file in use; empty when nothing does. The caller unrefs. */
GPtrArray *ek_system_uses_of_file(EkSystem *system, const char *path);

/* What names a device or file on whatever node or path it is seen. */
typedef struct {
    char *name; /* "wwn …", "serial …", "file …", "node …"; a loop device has its file's */
    gboolean
        is_firm; /* nothing else can have this name; else an adapter or a node may have lent it */
} EkIdentity;

EkIdentity *ek_drive_identity(const EkDrive *drive);

/* The identity of what is at `path`; of a partition, that of its drive. NULL when nothing is there.
 * The caller frees. */
EkIdentity *ek_system_identify(EkSystem *system, const char *path);
void ek_identity_free(EkIdentity *identity);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkIdentity, ek_identity_free)

/* A name that this machine has for itself, so that a case knows whether it came from another; ""
 * when it has none. The caller frees. */
char *ek_system_machine(EkSystem *system);

#endif

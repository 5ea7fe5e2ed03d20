/* SPDX-License-Identifier: MIT */
/* The log that the shim writes: a header, the path, then the data of each record. */
#ifndef EK_TESTS_DISKLOG_H
#define EK_TESTS_DISKLOG_H

#include <stdint.h>

typedef enum {
    DISK_WRITE = 1,   /* data at `offset` of the file */
    DISK_TRUNCATE,    /* to `offset` bytes */
    DISK_PUNCH,       /* `length` bytes from `offset` become zeros; no data follows */
    DISK_SYNC,        /* of the file, or, with `offset` 1, of the folder `path` */
    DISK_SYNC_FAILED, /* what it was to bring to the disk may be lost for good */
    DISK_CREATE,      /* a file of this name */
    DISK_UNLINK,
    DISK_RENAME, /* of a file or folder; its new path follows as `length` bytes of data */
    DISK_COMMAND /* written by the test: a command has ended */
} DiskOp;

typedef struct {
    uint32_t op;
    uint32_t path_length;
    uint64_t file; /* inode number */
    uint64_t offset;
    uint64_t length;
} DiskRecord;

#endif

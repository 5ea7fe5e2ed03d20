/* SPDX-License-Identifier: MIT */
/* A large drive of which an input holds a few pieces. */
#include "pieces.h"

#include "base/bytes.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <unistd.h>

#define HEAD 4u

/* One file for all inputs: what the one before wrote becomes a hole. */
static int blank_drive(char *path, size_t length)
{
    static int fd = -1;
    if (fd < 0)
        fd = memfd_create("drive", 0);
    if (fd < 0 || ftruncate(fd, 0) != 0 || ftruncate(fd, FUZZ_DRIVE_BYTES) != 0)
        abort();
    snprintf(path, length, "/proc/self/fd/%d", fd);
    return fd;
}

static void take_pieces(FuzzDrive *drive, int fd, EkSpan span)
{
    gsize at = 1;
    while (at + HEAD < span.length && drive->count < FUZZ_PIECES_MOST) {
        EkSector sector = ek_span_le16(span, at) | (EkSector)ek_span_u8(span, at + 2) << 16;
        gsize length = MIN(MAX(ek_span_u8(span, at + 3), 1) * 512ul, span.length - at - HEAD);
        EkByte place = sector * 512;
        if (place + length > FUZZ_DRIVE_BYTES)
            break;
        if (pwrite(fd, span.data + at + HEAD, length, (off_t)place) != (ssize_t)length)
            abort();
        drive->places[drive->count] = place;
        drive->lengths[drive->count++] = (guint32)length;
        at += HEAD + length;
    }
}

gboolean fuzz_drive_open(FuzzDrive *drive, const uint8_t *data, size_t size)
{
    char path[64];
    EkSpan span = {data, size};
    *drive = (FuzzDrive){.count = 0};
    if (size <= 1 + HEAD)
        return FALSE;
    take_pieces(drive, blank_drive(path, sizeof path), span);
    if (drive->count == 0)
        return FALSE;
    EkSector sectors = FUZZ_DRIVE_BYTES / 512;
    drive->image.image = ek_image_open(path, FUZZ_DRIVE_BYTES, FALSE, NULL);
    if (drive->image.image == NULL)
        abort();
    drive->image.map = ek_read_map_new(sectors);
    ek_read_map_set(drive->image.map, 0, sectors, (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    if ((data[0] & FUZZ_UNREAD) != 0)
        ek_read_map_set(drive->image.map, drive->places[drive->count - 1] / 512,
                        ek_divide_up(drive->lengths[drive->count - 1], 512),
                        (EkMark){EK_STATE_BAD, EK_REASON_MEDIUM, 1, 1});
    EkImageReaderParts parts = {
        .image = drive->image.image, .map = drive->image.map, .sector_size = 512};
    drive->image.reader = ek_image_reader_new(&parts, EK_FACE_AS_READ);
    return TRUE;
}

void fuzz_drive_close(FuzzDrive *drive)
{
    fuzz_image_close(&drive->image);
}

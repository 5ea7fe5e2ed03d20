/* SPDX-License-Identifier: MIT */
/* A large drive of which an input holds a few pieces: so headers that are gigabytes apart fit into
 * some kilobytes. An input is a byte of flags, then pieces: three bytes the sector (little-endian),
 * one byte how many sectors, then their content; the last one may be cut short. */
#ifndef EK_FUZZ_PIECES_H
#define EK_FUZZ_PIECES_H

#include "harness.h"

#define FUZZ_DRIVE_BYTES ((EkByte)8 << 30)
#define FUZZ_PIECES_MOST 256u

#define FUZZ_UNREAD 1u /* flag: the last piece was not read */

typedef struct {
    FuzzImage image;
    EkByte places[FUZZ_PIECES_MOST]; /* bytes */
    guint32 lengths[FUZZ_PIECES_MOST];
    guint count;
} FuzzDrive;

/* FALSE when the input holds no piece. */
gboolean fuzz_drive_open(FuzzDrive *drive, const uint8_t *data, size_t size);
void fuzz_drive_close(FuzzDrive *drive);

#endif

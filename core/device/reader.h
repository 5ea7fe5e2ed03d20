/* SPDX-License-Identifier: MIT */
/* A child process that reads from a block device. A read that hangs in the kernel cannot be given
 * up by a thread: its process ends when the read does. So the process that hangs is another one,
 * which holds no lock and no file of ours, and is left behind. */
#ifndef EK_DEVICE_READER_H
#define EK_DEVICE_READER_H

#include "base/units.h"

typedef struct EkReader EkReader;

/* For reads of up to `most` bytes from `fd`, which stays the caller's. NULL, with errno, when there
 * can be no child. */
EkReader *ek_reader_new(int fd, gsize most);
void ek_reader_free(EkReader *reader);

typedef struct {
    gssize got;         /* bytes, or -1 */
    int errnum;         /* why not */
    gboolean abandoned; /* it hung, and was called off */
} EkReaderAnswer;

/* Reads `length` bytes at `first` into `buffer`. When *cancel (atomic; NULL: never) is not 0 and
 * the read hangs, it is called off within about a second. */
EkReaderAnswer ek_reader_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                              const gint *cancel);

#endif

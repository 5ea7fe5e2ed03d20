/* SPDX-License-Identifier: MIT */
/* A child process that reads from a block device. A read that hangs in the kernel cannot be given
 * up by a thread: its process ends when the read does. So the process that hangs is another one,
 * which holds no lock and no file of ours, and is left behind. */
#ifndef EK_DEVICE_CHILDREADER_H
#define EK_DEVICE_CHILDREADER_H

#include "base/units.h"

typedef struct EkChildReader EkChildReader;

/* For reads of up to `most` bytes from `fd`, which stays the caller's. NULL, with errno, when there
 * can be no child. */
EkChildReader *ek_child_reader_new(int fd, gsize most);
void ek_child_reader_free(EkChildReader *reader);

typedef struct {
    gssize got;         /* bytes, or -1 */
    int errnum;         /* why not */
    gboolean abandoned; /* it hung, and was called off */
} EkChildReaderAnswer;

/* Reads `length` bytes at `first` into `buffer`. When *cancel (atomic; NULL: never) is not 0 and
 * the read hangs, it is called off within about a second. */
EkChildReaderAnswer ek_child_reader_read(EkChildReader *reader, EkByte first, guint8 *buffer,
                                         gsize length, const gint *cancel);

#endif

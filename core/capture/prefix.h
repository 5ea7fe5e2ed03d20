/* SPDX-License-Identifier: MIT */
/* The digest of an image's beginning, taken while it is read: as long as reads come in order it
 * grows along with them, on a thread of its own, and nothing has to be read a second time for it.
 */
#ifndef EK_CAPTURE_PREFIX_H
#define EK_CAPTURE_PREFIX_H

#include "base/digest.h"

/* What a caller keeps of it; zero-initialised: nothing yet. */
typedef struct {
    EkSha256 *digest; /* of the image's first `bytes` bytes; NULL: of none */
    EkByte bytes;
} EkPrefix;

void ek_prefix_clear(EkPrefix *prefix);

typedef struct EkPrefixWork EkPrefixWork;

/* Begins where `prefix` ends, which must outlive the work. `release` is called, from the work's
 * thread, for each buffer that is through. */
EkPrefixWork *ek_prefix_work_new(EkPrefix *prefix, void (*release)(void *data, guint8 *buffer),
                                 void *data);

/* Takes `length` bytes at byte `first` when they are the next; NULL are zeros. TRUE when taken: the
 * buffer is in use until it is released. */
gboolean ek_prefix_take(EkPrefixWork *work, EkByte first, guint8 *buffer, EkByte length);

/* Waits for what was taken, and frees the work. Unless `kept`, what was read may not be in the
 * image: the prefix is nothing again. */
void ek_prefix_work_finish(EkPrefixWork *work, gboolean kept);

#endif

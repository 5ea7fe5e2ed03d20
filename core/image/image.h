/* SPDX-License-Identifier: MIT */
/* The image file: byte n of the source stands at byte n. Sparse where the source is zero or was not
 * read. */
#ifndef EK_IMAGE_IMAGE_H
#define EK_IMAGE_IMAGE_H

#include "base/error.h"
#include "base/units.h"
#include "image/overlay.h"

typedef struct EkImage EkImage;

/* Makes a new image of `bytes` bytes, all hole, on stable storage. Refuses an existing file. */
gboolean ek_image_create(const char *path, EkByte bytes, GError **error);

/* Makes sure that the block device at `path` can be the image: large enough, in nobody's use, and
 * blank as far as a thousand looks tell. Writes nothing. */
gboolean ek_image_claim_device(const char *path, EkByte bytes, GError **error);

/* These bytes are zeros. In a file a hole stays one; only what stands there is written over. */
gboolean ek_image_zero(EkImage *image, EkByte first, EkByte bytes, GError **error);

/* The image behind a descriptor, which it takes over: it must have `bytes` bytes, a shorter one is
 * EK_ERROR_DAMAGED with both sizes. `path` is for messages. */
EkImage *ek_image_of(int fd, const char *path, EkByte bytes, GError **error);

/* The same by its path. */
EkImage *ek_image_open(const char *path, EkByte bytes, gboolean writable, GError **error);
void ek_image_close(EkImage *image);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkImage, ek_image_close)

EkByte ek_image_bytes(const EkImage *image);

/* Reads `length` bytes at `first`, all inside the image. Safe from several threads. */
gboolean ek_image_read(EkImage *image, EkByte first, guint8 *buffer, gsize length, GError **error);

/* Writes where no byte has been written before: zeros are left as holes. */
gboolean ek_image_write(EkImage *image, EkByte first, const guint8 *data, gsize length,
                        GError **error);

/* Is it blank, as far as a thousand looks tell? */
gboolean ek_image_is_blank(EkImage *image);

/* Brings all that was written to stable storage. After a failure nothing that was written since the
 * last success may be believed: do not try again. */
gboolean ek_image_sync(EkImage *image, GError **error);

/* The next bytes at or after `from` that are no hole. */
gboolean ek_image_next_data(EkImage *image, EkByte from, EkRange *data);

#endif

/* SPDX-License-Identifier: MIT */
/* Bytes laid over others: what makes one face of the image out of the other. */
#ifndef EK_IMAGE_OVERLAY_H
#define EK_IMAGE_OVERLAY_H

#include "base/units.h"

typedef struct EkOverlay EkOverlay;

EkOverlay *ek_overlay_new(void);
void ek_overlay_free(EkOverlay *overlay);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkOverlay, ek_overlay_free)

/* Adds `length` bytes at `first`; copies them. What is added later lies above. */
void ek_overlay_add(EkOverlay *overlay, EkByte first, const guint8 *bytes, gsize length);

/* Lays what there is over the `length` bytes at `buffer`, which stand at `first`. */
void ek_overlay_lay(const EkOverlay *overlay, EkByte first, guint8 *buffer, gsize length);

gboolean ek_overlay_is_empty(const EkOverlay *overlay);

/* The first run of bytes at or after `from`, before `limit`, that the overlay covers. */
gboolean ek_overlay_next(const EkOverlay *overlay, EkByte from, EkByte limit, EkRange *covered);

#endif

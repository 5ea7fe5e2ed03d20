/* SPDX-License-Identifier: MIT */
/* The gate: everything above reads the image through it, in one of its two faces, and learns with
 * the bytes what the read map says of them. Positions are in bytes. Reading is safe from several
 * threads at once. */
#ifndef EK_IMAGE_GATE_H
#define EK_IMAGE_GATE_H

#include "base/bytes.h"
#include "image/image.h"
#include "image/moves.h"
#include "image/overlay.h"
#include "image/readmap.h"

typedef enum {
    EK_FACE_AS_READ,    /* what the drive gave */
    EK_FACE_AS_REPAIRED /* the plan laid over it */
} EkFace;

/* What the read map says of some bytes. What a plan writes counts as good. */
typedef struct {
    EkByte good;
    EkByte bad;
    EkByte unread; /* untouched or set aside */
} EkKnown;

typedef struct EkGate EkGate;

typedef struct {
    EkImage *image;
    const EkReadMap *map;
    guint32 sector_size;   /* of the map */
    const EkOverlay *kept; /* the bytes as read, where `apply` changed the image file; NULL: none */
    const EkOverlay *repairs; /* what the plan writes; NULL: none */
} EkGateParts;

/* Takes nothing over: the parts must live as long as the gate. */
EkGate *ek_gate_new(const EkGateParts *parts, EkFace face);
void ek_gate_free(EkGate *gate);

/* A gate to the same bytes that gives out after so many reads: each one more fails with
 * EK_ERROR_DAMAGED. For one thread. The parts of the first must live as long. The caller frees. */
EkGate *ek_gate_bounded(const EkGate *gate, guint reads);

/* A gate to the same bytes that gives the copies of blocks that were moved, and knows of these what
 * is known of the copies. Holes and data are those of the image. Takes nothing over: both must live
 * as long. The caller frees. */
EkGate *ek_gate_moved(const EkGate *gate, const EkMoves *moves);

/* Did a bounded one give out? */
gboolean ek_gate_is_spent(const EkGate *gate);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkGate, ek_gate_free)

EkByte ek_gate_bytes(const EkGate *gate);

/* Reads `length` bytes at `first`. `known` may be NULL. Bytes that were not read from the drive are
 * zeros in the buffer and counted in `known`. Fails with EK_ERROR_DAMAGED when the range leaves the
 * image, which a structure on a disk may well ask for. */
gboolean ek_gate_read(EkGate *gate, EkByte first, guint8 *buffer, gsize length, EkKnown *known,
                      GError **error);

/* As ek_gate_read, into a new buffer for the caller to g_free. `length` is at most EK_GATE_MOST. */
#define EK_GATE_MOST (64u << 20)
guint8 *ek_gate_read_new(EkGate *gate, EkByte first, gsize length, EkKnown *known, GError **error);

/* From now on notes in `missing` (EkRange) what is read and was not read from the drive, but is not
 * bad: another try may give it. NULL: no more. While it is watched, one thread reads. */
void ek_gate_watch(EkGate *gate, GArray *missing);

/* What is known of a range, cut to the image, without reading it. */
EkKnown ek_gate_known(const EkGate *gate, EkByte first, EkByte length);

/* The first run of bytes at or after `from`, before `limit`, that were not read from the drive;
 * *bad tells whether they are bad or unread. */
gboolean ek_gate_next_hole(const EkGate *gate, EkByte from, EkByte limit, EkRange *hole,
                           gboolean *bad);

/* The next bytes at or after `from` that may be anything but zero. */
gboolean ek_gate_next_data(EkGate *gate, EkByte from, EkRange *data);

#endif

/* SPDX-License-Identifier: MIT */
/* What packers of programs do before they pack, undone: addresses that branches jump to become
 * distances again, differences become bytes (the filters of the .xz file format, 5.3.2 and 5.3.3,
 * and of the 7z format description of the LZMA SDK, in the public domain). */
#ifndef EK_CARVE_UNFILTER_H
#define EK_CARVE_UNFILTER_H

#include "base/units.h"

typedef enum {
    EK_UNFILTER_NONE,
    EK_UNFILTER_DELTA,
    EK_UNFILTER_X86,
    EK_UNFILTER_POWERPC, /* big-endian */
    EK_UNFILTER_ARM,
    EK_UNFILTER_THUMB,
    EK_UNFILTER_SPARC,
    EK_UNFILTER_ARM64,
    EK_UNFILTER_OTHER /* one that is not undone here */
} EkUnfilterKind;

/* By the number that xz and newer 7z have for it; EK_UNFILTER_OTHER: there is none such. */
EkUnfilterKind ek_unfilter_of(guint64 number);

#define EK_UNFILTER_AHEAD 8u /* bytes that wait for what follows them, at most */

/* One stream; all of its state, which may be copied. Begins as zeros, with its kind. */
typedef struct {
    EkUnfilterKind kind;
    guint distance;   /* EK_UNFILTER_DELTA: 1 to 256 */
    guint32 position; /* of the first byte that waits */
    guint32
        recent; /* EK_UNFILTER_X86: which of the bytes before began a branch, the last one lowest */
    guint waiting;
    guint8 ahead[EK_UNFILTER_AHEAD];
    guint8 before[256]; /* EK_UNFILTER_DELTA: a ring */
} EkUnfilter;

/* Undoes it (nothing where there is none), and hands on what is known, in one or more parts. */
typedef void (*EkUnfilterTake)(void *data, const guint8 *bytes, gsize length);
void ek_unfilter_push(EkUnfilter *filter, const guint8 *bytes, gsize length, EkUnfilterTake take,
                      void *data);

/* The stream ends: hands on what waits, as it is. */
void ek_unfilter_finish(EkUnfilter *filter, EkUnfilterTake take, void *data);

#endif

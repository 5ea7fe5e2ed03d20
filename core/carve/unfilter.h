/* SPDX-License-Identifier: MIT */
/* What packers of programs do before they pack, undone: addresses that branches jump to become
 * distances again, differences become bytes (the filters of the .xz file format, 5.3.2 and 5.3.3,
 * and of the 7z format description of the LZMA SDK, in the public domain). */
#ifndef EK_CARVE_UNFILTER_H
#define EK_CARVE_UNFILTER_H

#include "base/units.h"

typedef enum {
    EK_FILTER_NONE,
    EK_FILTER_DELTA,
    EK_FILTER_X86,
    EK_FILTER_POWERPC, /* big-endian */
    EK_FILTER_ARM,
    EK_FILTER_THUMB,
    EK_FILTER_SPARC,
    EK_FILTER_ARM64,
    EK_FILTER_OTHER /* one that is not undone here */
} EkFilterKind;

/* By the number that xz and newer 7z have for it; EK_FILTER_OTHER: there is none such. */
EkFilterKind ek_filter_of(guint64 number);

#define EK_FILTER_AHEAD 8u /* bytes that wait for what follows them, at most */

/* One stream; all of its state, which may be copied. Begins as zeros, with its kind. */
typedef struct {
    EkFilterKind kind;
    guint distance;   /* EK_FILTER_DELTA: 1 to 256 */
    guint32 position; /* of the first byte that waits */
    guint32
        recent; /* EK_FILTER_X86: which of the bytes before began a branch, the last one lowest */
    guint waiting;
    guint8 ahead[EK_FILTER_AHEAD];
    guint8 before[256]; /* EK_FILTER_DELTA: a ring */
} EkFilter;

/* Undoes it, and hands on what is known, in one or more parts. */
typedef void (*EkFilterTake)(void *data, const guint8 *bytes, gsize length);
void ek_filter_push(EkFilter *filter, const guint8 *bytes, gsize length, EkFilterTake take,
                    void *data);

/* The stream ends: hands on what waits, as it is. */
void ek_filter_finish(EkFilter *filter, EkFilterTake take, void *data);

#endif

/* SPDX-License-Identifier: MIT */
/* Positions, lengths, and arithmetic on numbers that came from a disk. */
#ifndef EK_BASE_UNITS_H
#define EK_BASE_UNITS_H

#include <glib.h>

typedef guint64 EkSector; /* a sector number, or a count of sectors */
typedef guint64 EkByte;   /* a byte position, or a count of bytes */

/* Half-open: the bytes [first, first + bytes). */
typedef struct {
    EkByte first;
    EkByte bytes;
} EkRange;

#define EK_STEP                                                                                    \
    512u /* hunting looks at every step of this many bytes, whatever the sector size               \
          */

/* The most sectors that a case counts: 512 TiB in sectors of 512 bytes. */
#define EK_SECTORS_MOST (((guint64)1 << 40) - 1)

/* The first byte after the range. Ranges are built only through ek_range_checked or from numbers
 * that are known to fit, so this cannot wrap. */
static inline EkByte ek_range_end(EkRange range)
{
    return range.first + range.bytes;
}

/* TRUE and *range when first + bytes does not wrap and stays within `limit`. */
static inline gboolean ek_range_holds(EkRange range, EkByte at)
{
    return at >= range.first && at - range.first < range.bytes;
}

static inline gboolean ek_range_checked(EkByte first, EkByte bytes, EkByte limit, EkRange *range)
{
    if (first > limit || bytes > limit - first)
        return FALSE;
    *range = (EkRange){first, bytes};
    return TRUE;
}

/* Sorts ranges (EkRange) by where they begin: for g_array_sort. */
static inline gint ek_range_by_first(gconstpointer a, gconstpointer b)
{
    EkByte left = ((const EkRange *)a)->first;
    EkByte right = ((const EkRange *)b)->first;
    return left < right ? -1 : left > right;
}

static inline gboolean ek_ranges_overlap(EkRange a, EkRange b)
{
    return a.first < ek_range_end(b) && b.first < ek_range_end(a);
}

static inline gboolean ek_is_power_of_two(guint64 number)
{
    return number != 0 && (number & (number - 1)) == 0;
}

/* numerator / denominator, rounded up. The denominator is not 0. */
static inline guint64 ek_divide_up(guint64 numerator, guint64 denominator)
{
    return numerator / denominator + (numerator % denominator != 0);
}

#endif

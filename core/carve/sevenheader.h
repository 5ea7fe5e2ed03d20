/* SPDX-License-Identifier: MIT */
/* The header of a 7z (the 7z format description of the LZMA SDK, in the public domain): where its
 * streams lie, how they are packed, and what the files in them come to. */
#ifndef EK_CARVE_SEVENHEADER_H
#define EK_CARVE_SEVENHEADER_H

#include "base/bytes.h"
#include "carve/unfilter.h"
#include "volume/file.h"

typedef enum { EK_SEVEN_OTHER, EK_SEVEN_PLAIN, EK_SEVEN_LZMA, EK_SEVEN_LZMA2 } EkSevenMethod;

/* Files that are packed as one. */
typedef struct {
    EkSevenMethod method; /* OTHER: what is not unpacked here */
    guint8 properties[5];
    EkUnfilter filter; /* that comes before it */
    EkByte packed_at;  /* from the end of the first 32 bytes on */
    EkByte packed;
    guint64 unpacked;
    guint first_part; /* of `parts` */
    guint part_count;
    guint stream_count; /* packed streams that it takes */
    gboolean has_sum;
    guint32 sum; /* CRC-32 of all of it */
} EkSevenFolder;

/* One file in a folder. */
typedef struct {
    guint64 bytes;
    gboolean has_sum;
    guint32 sum; /* CRC-32 */
} EkSevenPart;

typedef struct {
    GArray *folders; /* EkSevenFolder */
    GArray *parts;   /* EkSevenPart, in the order of folders */
    char *name;      /* of its first file; NULL: none */
    EkTimestamp date;
} EkSevenHeader;

/* What stands in a header, or in the one that says how a packed header is packed. NULL: it is
 * none, or has more than can be looked at. The caller frees. */
EkSevenHeader *ek_seven_header_read(EkSpan span);
void ek_seven_header_free(EkSevenHeader *header);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkSevenHeader, ek_seven_header_free)

/* Is it the one of a packed header? */
static inline gboolean ek_seven_is_packed(EkSpan span)
{
    return ek_span_u8(span, 0) == 0x17;
}

#endif

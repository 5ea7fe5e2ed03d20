/* SPDX-License-Identifier: MIT */
/* A reader: everything above reads bytes through one, and learns with them what is known of them.
 * What is beneath (an image with its read map, blocks that were moved, later containers and arrays)
 * nobody above knows. Positions are in bytes. Reading is safe from several threads at once. */
#ifndef EK_IMAGE_READER_H
#define EK_IMAGE_READER_H

#include "base/bytes.h"
#include "image/moves.h"

/* What the read map says of some bytes. What a plan writes counts as good. */
typedef struct {
    EkByte good;
    EkByte bad;
    EkByte unread; /* untouched or set aside */
} EkKnown;

typedef struct EkReader EkReader;

/* What a kind of reader can do. It is called with ranges that lie within `bytes`. */
typedef struct {
    EkByte (*bytes)(const EkReader *reader);
    gboolean (*read)(EkReader *reader, EkByte first, guint8 *buffer, gsize length, GError **error);
    EkKnown (*known)(const EkReader *reader, EkByte first, EkByte length);
    gboolean (*next_hole)(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                          gboolean *bad);
    gboolean (*next_data)(EkReader *reader, EkByte from, EkRange *data);
    void (*free)(EkReader *reader);
} EkReaderKind;

/* A kind of reader begins with this. */
struct EkReader {
    const EkReaderKind *kind;
    GArray *missing;   /* EkRange: what was asked for and not read; NULL: nobody asks */
    gboolean is_spent; /* a bounded one gave out */
};

void ek_reader_free(EkReader *reader);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkReader, ek_reader_free)

/* The same bytes, given out for so many reads: each one more fails with EK_ERROR_DAMAGED. For one
 * thread. `inner` must live as long. The caller frees. */
EkReader *ek_reader_bounded(EkReader *inner, guint reads);

/* Did a bounded one give out? */
gboolean ek_reader_is_spent(const EkReader *reader);

/* The same bytes, but for the blocks that were moved: of these the copies, and what is known of the
 * copies. Holes and data are those of `inner`. Takes nothing over: both must live as long. The
 * caller frees. */
EkReader *ek_reader_moved(EkReader *inner, const EkMoves *moves);

EkByte ek_reader_bytes(const EkReader *reader);

/* Reads `length` bytes at `first`. `known` may be NULL. Bytes that were not read from the drive are
 * zeros in the buffer and counted in `known`. Fails with EK_ERROR_DAMAGED when the range leaves the
 * drive, which a structure on a disk may well ask for. */
gboolean ek_reader_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                        EkKnown *known, GError **error);

/* As ek_reader_read, into a new buffer for the caller to g_free. `length` is at most
 * EK_READER_MOST. */
#define EK_READER_MOST (64u << 20)
guint8 *ek_reader_read_new(EkReader *reader, EkByte first, gsize length, EkKnown *known,
                           GError **error);

/* From now on notes in `missing` (EkRange) what is read and was not read from the drive, but is not
 * bad: another try may give it. NULL: no more. While it is watched, one thread reads. */
void ek_reader_watch(EkReader *reader, GArray *missing);

/* What is known of a range, cut to the drive, without reading it. */
EkKnown ek_reader_known(const EkReader *reader, EkByte first, EkByte length);

/* The first run of bytes at or after `from`, before `limit`, that were not read from the drive;
 * *bad tells whether they are bad or unread. */
gboolean ek_reader_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                             gboolean *bad);

/* The next bytes at or after `from` that may be anything but zero. */
gboolean ek_reader_next_data(EkReader *reader, EkByte from, EkRange *data);

#endif

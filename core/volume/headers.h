/* SPDX-License-Identifier: MIT */
/* What the file systems with a primary and a backup boot sector share. */
#ifndef EK_VOLUME_HEADERS_H
#define EK_VOLUME_HEADERS_H

#include "volume/volume.h"

/* How a header that should stand somewhere does. */
typedef enum {
    EK_HEADER_AGREES,  /* it stands there and says the same */
    EK_HEADER_DIFFERS, /* something else stands there */
    EK_HEADER_UNREAD,  /* those sectors were not read */
    EK_HEADER_OUTSIDE  /* it would lie past the end of the drive */
} EkHeaderState;

/* Reads the `length` bytes at `at` and compares them with `header`; *copy gets them. */
EkHeaderState ek_header_look(EkReader *reader, EkByte at, const guint8 *header, gsize length,
                             guint8 *copy);

/* Adds what a look at a boot sector found to the volume's reasons. */
void ek_header_reason(EkVolume *volume, EkHeaderState state, const char *which, EkByte at,
                      int points);

/* Proposes to write the volume's header at `at`. */
void ek_header_repair(const EkVolume *volume, EkByte at, const char *what, EkRepairSink sink,
                      void *data);

/* Proposes to write what differs from the `length` bytes that shall stand at `at` (both multiples
 * of EK_STEP), from the first such sector to the last. What was not read differs. */
void ek_header_repair_range(EkReader *reader, const char *structure, EkByte at,
                            const guint8 *wanted, gsize length, const char *what, const char *from,
                            EkRepairSink sink, void *data);

/* What a bitmap at `at` says of the bit `bit`, of which 1 means used: *same is how many bits from
 * there on, of at most `most`, say so too as far as it was looked. */
EkUsage ek_usage_bits(EkReader *reader, EkByte at, guint64 bit, guint64 most, guint64 *same);

/* The same of one bit. */
EkUsage ek_usage_bit(EkReader *reader, EkByte at, guint64 bit);

/* May the `bytes` at `at` be anything but zeros? *data is the run of data that was asked for last,
 * {0, 0} at first: holes are asked for once. To be called with ascending places. */
gboolean ek_may_hold_data(EkReader *reader, EkByte at, EkByte bytes, EkRange *data);

/* What these volumes (EkVolume*) say together of the byte at `at`: used when one that covers it
 * uses it, for itself or for a file; else unknown when one does not tell; else free. */
EkUsage ek_usage_by_any(EkReader *reader, const GPtrArray *volumes, EkByte at);

/* The same of the first byte of `range`; *same: for how many bytes from there on it holds. */
EkUsage ek_usage_of_range(EkReader *reader, const GPtrArray *volumes, EkRange range, EkByte *same);

/* Begins to measure a claim: a volume with its places set, and the `length` bytes (at least
 * EK_HEADER_BYTES) of its header in `data`, zeros past the end of the drive. NULL when reading
 * failed. */
EkVolume *ek_header_begin(const char *filesystem, EkReader *reader, const EkCandidate *candidate,
                          guint8 *data, gsize length, GError **error);

/* Does a partition usually begin there: on a MiB, on a cylinder, behind a cylinder's first track?
 */
gboolean ek_is_usual_start(EkByte at);

/* Ends it: a volume for which nothing speaks but its header does not stand. */
void ek_header_end(EkVolume *volume, gboolean stands);

/* How a structure that should stand somewhere does. */
typedef enum { EK_PRESENT, EK_ABSENT, EK_UNREAD } EkPresence;

/* Reads the `length` bytes at `at`: EK_PRESENT when all of them were read from the drive,
 * EK_ABSENT when they would lie outside it. */
EkPresence ek_presence_read(EkReader *reader, EkByte at, guint8 *buffer, gsize length);

/* What it means that a volume was not cleanly unmounted, where no journal tells more. */
#define EK_UNCLEAN_TEXT "The latest changes may be incomplete."

/* Adds what a look at a structure found to the volume's reasons. */
void ek_presence_reason(EkVolume *volume, EkPresence part, const char *what, EkByte at, int points);

#endif

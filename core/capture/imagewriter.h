/* SPDX-License-Identifier: MIT */
/* The image writer: the one thread that makes what was read last. It writes sectors to the image,
 * brings them to stable storage, and only then lets the map say so. Reading goes on meanwhile. */
#ifndef EK_CAPTURE_IMAGEWRITER_H
#define EK_CAPTURE_IMAGEWRITER_H

#include "base/digest.h"
#include "capture/costs.h"
#include "capture/prefix.h"
#include "image/image.h"
#include "image/readmap.h"

typedef struct {
    guint64 number; /* of the block: its first byte is number * EK_BLOCK_BYTES */
    guint64 sum;
} EkBlockSum;

#define EK_BLOCK_BYTES (16u << 20)

/* What goes along with every commit. */
typedef struct {
    gint64 device_clock; /* ns */
    gint64 device_used;  /* ns: see EkDeviceMemory */
    guint64 failed_commands;
    guint round;                   /* EkRound */
    EkSector totals[EK_STATES];    /* of the map that goes with it; filled in by the image writer */
    EkSector stretches[EK_STATES]; /* likewise */
    EkSector gone_at;              /* where the device last vanished, + 1; 0: it never did */
    EkSector fill[EK_FILLS];       /* sectors read so far that are filled with one thing */
    EkSector repeats_every;        /* answers come again at this distance; 0: no sign of it */
    EkCostsKept costs;             /* as measured */
} EkKeptState;

/* Where the image writer's results go. All are called from the image writer's thread, one at a
 * time. */
typedef struct {
    void *data;
    /* Replaces map boundaries and block sums, all or nothing; returns when they are durable. */
    gboolean (*commit)(void *data, const GPtrArray *changes, const EkBlockSum *sums, gsize count,
                       const EkKeptState *state, GError **error);
    /* The sum a block has so far; 0 when it has none. */
    gboolean (*block_sum)(void *data, guint64 number, guint64 *sum, GError **error);
    /* Bytes that were read from the drive where the image file holds an applied edit: corrects what
     * the case keeps as the bytes before that edit. Durable when it returns. */
    gboolean (*correct)(void *data, EkByte first, const guint8 *bytes, gsize length,
                        GError **error);
} EkImageWriterSink;

typedef struct EkImageWriter EkImageWriter;

typedef struct {
    EkImage *image;
    const EkOverlay *kept; /* where the image file holds applied edits; NULL: nowhere */
    const EkReadMap *map;  /* as the store has it; copied */
    guint32 sector_size;
    gsize buffer_bytes;
    EkImageWriterSink sink;
    EkPrefix *prefix; /* grows as the image's beginning is read in order; NULL: nobody asks */
} EkImageWriterParts;

EkImageWriter *ek_image_writer_new(const EkImageWriterParts *parts);

/* A buffer of buffer_bytes bytes, aligned for direct I/O. Waits while all are on their way. */
guint8 *ek_image_writer_take_buffer(EkImageWriter *writer);
void ek_image_writer_return_buffer(EkImageWriter *writer, guint8 *buffer);

/* Hands over `length` bytes at sector `first`, which were read well; the buffer goes along. */
void ek_image_writer_write(EkImageWriter *writer, EkSector first, EkSector count, guint8 *buffer,
                           gsize length, EkMark mark, const EkKeptState *state);

/* Adds to `fill` what the sectors handed to ek_image_writer_write are filled with. To be called by
 * the thread that hands them over. */
void ek_image_writer_count_fill(EkImageWriter *writer, EkSector fill[EK_FILLS]);

/* Hands over sectors that read as zeros without being read: a hole of the source. The last one may
 * be short: `length` is in bytes. */
void ek_image_writer_hole(EkImageWriter *writer, EkSector first, EkSector count, EkByte length,
                          EkMark mark, const EkKeptState *state);

/* Hands over a mark without data. */
void ek_image_writer_mark(EkImageWriter *writer, EkSector first, EkSector count, EkMark mark,
                          const EkKeptState *state);

/* Waits until all that was handed over is written to the image (durable or not). */
void ek_image_writer_drain(EkImageWriter *writer);

/* TRUE once something could not be kept: reading on makes no sense. */
gboolean ek_image_writer_has_failed(EkImageWriter *writer);

/* Commits what is left, ends the thread and frees the image writer. FALSE with the reason when
 * anything could not be kept; what was committed before stays. */
gboolean ek_image_writer_finish(EkImageWriter *writer, const EkKeptState *state, GError **error);

#endif

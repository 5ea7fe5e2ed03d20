/* SPDX-License-Identifier: MIT */
/* Hunting: visits the image, collects traces, agrees on volumes. */
#ifndef EK_HUNT_HUNT_H
#define EK_HUNT_HUNT_H

#include "image/reader.h"
#include "table/table.h"
#include "volume/standing.h"
#include "volume/volume.h"

/* Names the set of recognisers of this version: what was hunted by another set is hunted again.
 * It follows from the list of formats and their versions. The caller frees. */
char *ek_hunt_recognisers(void);

/* One piece of evidence at one place, or a run of alike ones. */
typedef struct {
    const char *kind;   /* "table", "boot-sector", "records"; with EK_TRACE_REST before it: how many
                         * more of them there were */
    const char *format; /* "mbr", "ntfs", "fat" */
    EkByte first_byte;
    guint64 count;
    guint64 stride;       /* bytes from one to the next; 0 for a single one */
    guint64 first_record; /* of a run of numbered records */
    guint64 sum;          /* of the bytes there: alike ones have the same; 0: of no single place */
} EkTrace;

#define EK_TRACE_RECORDS "records" /* a run of numbered records */
#define EK_TRACE_REST "more "

/* Where the scan's results go, in order of position, from the thread that called. A sink that
 * returns FALSE ends the scan with its error. */
typedef struct {
    void *data;
    gboolean (*trace)(void *data, const EkTrace *trace, GError **error);
    /* Everything up to the end of this range was looked at. */
    gboolean (*hunted)(void *data, EkRange range, GError **error);
    /* The traces (EkTrace) of a kind and format in a range that earlier hunts kept, in order; the
     * caller unrefs. NULL: there was none, or they are not kept. */
    GArray *(*recall)(void *data, const char *kind, const char *format, EkRange range);
} EkHuntSink;

#define EK_HUNT_FORMATS 32u /* that are counted */

/* A moment of a running scan. */
typedef struct {
    EkByte done;
    EkByte total;
    EkByte position;
    guint64 boot_sectors;
    guint64 tables;
    guint64 records;                    /* of file tables */
    guint64 by_format[EK_HUNT_FORMATS]; /* records, folders and the like of each format, in the
                                          order of ek_file_systems */
} EkHuntProgress;

typedef struct EkHunt EkHunt;

/* `threads` 0: as many as there are processors. `cancel` is atomic: not 0 when the work shall end.
 */
EkHunt *ek_hunt_new(EkReader *reader, const EkHuntSink *sink, guint threads, const gint *cancel);
void ek_hunt_free(EkHunt *hunt);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkHunt, ek_hunt_free)

/* How much a worker takes at once: whole MiB, 16 unless said. Nothing that is found depends on it.
 */
void ek_hunt_set_chunk(EkHunt *hunt, EkByte bytes);

/* Looks at every step of the ranges (EkRange, sorted, apart, each within a good region). FALSE with
 * EK_ERROR_CANCELLED when it was asked to end; what was handed to the sink stays valid. */
gboolean ek_hunt_scan(EkHunt *hunt, const GArray *ranges, GError **error);

/* Looks at the likely places only: at most 4096, best first. What is recognised goes to the sink;
 * nothing counts as hunted. FALSE with EK_ERROR_CANCELLED when it was asked to end. */
gboolean ek_hunt_likely(EkReader *reader, guint32 sector_size, const EkHuntSink *sink,
                        const gint *cancel, GError **error);

/* May be called from any thread while it scans. */
EkHuntProgress ek_hunt_progress(EkHunt *hunt);

/* The table that rules the drive. FALSE when there is none, or a volume begins where it would
 * stand; *unread says whether that is because its sectors were not read. */
gboolean ek_hunt_current_table(EkReader *reader, guint32 sector_size, EkTable *table,
                               gboolean *unread);

/* Reads the table that a trace is of, and what follows from its first sector. */
gboolean ek_hunt_load_table(EkReader *reader, const EkTrace *trace, guint32 sector_size,
                            EkTable *table);

/* What speaks for a partition to begin where a volume does, from nothing to the most. */
typedef enum {
    EK_ANCHOR_NONE,
    EK_ANCHOR_USUAL, /* partitions usually begin at such a place */
    EK_ANCHOR_NEXT,  /* at such a place, and right behind another that begins at one */
    EK_ANCHOR_NAMED, /* a table that was found elsewhere, or in a copy, names it */
    EK_ANCHOR_TABLE  /* the current table has a partition that begins there */
} EkAnchor;

typedef struct EkFinding EkFinding;

struct EkFinding {
    EkVolume *volume;
    EkStanding standing;
    EkAnchor anchor;
    guint copies; /* others on the drive that are just like it: disk images are, partitions are not
                   */
    const EkFinding *host;    /* nested: the volume whose file it is in; remains: a newer one */
    gboolean in_free;         /* remains: the newer volume does not use this region yet */
    EkByte overwritten;       /* remains: bytes of it that newer volumes lie on */
    gboolean is_start_unread; /* not all of where its first header may stand was read */
    guint number;             /* for whoever stores it */
};

/* Gives each finding its standing: by the current table (NULL: none), then by what lies on what.
 * `sector_size` is the image's. `tables` are all that were found (EkTable*): an older one that
 * names a volume speaks for it. */
void ek_hunt_stand(EkReader *reader, guint32 sector_size, const EkTable *current,
                   const GPtrArray *tables, GPtrArray *findings);

/* The tables that the traces (EkTrace*) are of, in their order; entries whose header was found as
 * well are part of that table. EkTable*, the caller unrefs. */
GPtrArray *ek_hunt_tables(EkReader *reader, guint32 sector_size, const GPtrArray *traces);

/* What the user asks of a hunt. */
typedef struct {
    const EkExpected *expected; /* a volume that must have been there; NULL: none is known of */
    gboolean is_deep;           /* earlier volumes of which little evidence is left count too */
} EkHuntWishes;

/* Measures what the boot sectors among the traces (EkTrace*) claim, and agrees on volumes: those
 * that stand, in order of position. `wishes` NULL: there are none. EkFinding*, the caller unrefs.
 */
GPtrArray *ek_hunt_agree(EkReader *reader, guint32 sector_size, const GPtrArray *traces,
                         const EkHuntWishes *wishes, GError **error);

#endif

/* SPDX-License-Identifier: MIT */
/* Taking the image: reads what the scheduler chooses, keeps it, and knows when to stop. */
#ifndef EK_CAPTURE_CAPTURE_H
#define EK_CAPTURE_CAPTURE_H

#include "capture/imagewriter.h"
#include "capture/scheduler.h"
#include "device/device.h"
#include "image/reader.h"

typedef enum {
    EK_CAPTURE_COMPLETE,  /* every sector is good or bad */
    EK_CAPTURE_DECISION,  /* what is left takes long: somebody has to want it */
    EK_CAPTURE_LIMIT,     /* a limit that was asked for is reached */
    EK_CAPTURE_CANCELLED, /* stopped in order, on request */
    EK_CAPTURE_STOPPED,   /* the drive stopped reading everywhere; nothing was marked for it */
    EK_CAPTURE_GONE,      /* the device vanished */
    EK_CAPTURE_STRANGER,  /* what reads here is not the drive of this case */
    EK_CAPTURE_FAILED     /* what was read could not be kept: see the error */
} EkCaptureEnd;

#define EK_PATIENCE 6.0
#define EK_DECISION_SECONDS (15 * 60) /* what takes less is not asked about */

/* How it is to be done. All zero: as it is best. */
typedef struct {
    const EkSectorRange *wanted; /* these first, in this order */
    gsize wanted_count;
    gboolean only_wanted; /* and nothing else */
    EkSectorRange limits; /* nothing outside is read; count 0: no limits */
    gboolean backwards;
    EkByte block_bytes;         /* a read of the skim; 0: as it turns out best */
    double patience;            /* times the usual; 0: EK_PATIENCE */
    guint again;                /* times that bad sectors are tried once more */
    gboolean all_rounds;        /* to the end, without asking */
    gint64 time_limit;          /* ns of device time; 0: none */
    guint64 failed_reads_limit; /* 0: none */
    EkByte rate_limit;          /* bytes a second; 0: none */
    guint compare;              /* places that are read a second time at the end */
} EkCaptureChoices;

/* A moment of a running capture. */
typedef struct {
    EkSector sectors;
    guint32 sector_size;
    EkSector totals[EK_STATES];
    EkSector stretches_left; /* untouched or set aside */
    EkSector position;
    EkRound round;
    gint64 device_clock; /* ns */
    guint64 failed_commands;
    EkByte read_bytes;       /* read well since this capture began */
    gint64 reading_since;    /* monotonic µs at which the read at `position` began; 0: none now */
    double failure_seconds;  /* what a failed read costs here */
    EkSector fill[EK_FILLS]; /* sectors of constant fill, in all */
    EkSector repeats_every;  /* answers come again at this distance; 0: no sign of it */
} EkCaptureProgress;

typedef struct {
    EkDevice *device;
    EkImage *image;
    const EkOverlay *kept; /* where the image file holds applied edits; NULL: nowhere */
    const EkReadMap *map;  /* as the store has it; copied */
    guint32 event;         /* that this imaging is, in the case's log */
    EkKeptState state;     /* as the store has it */
    EkImageWriterSink sink;
    const gint *cancel; /* atomic: not 0 when the work shall end */
    EkCaptureChoices choices;
    EkPrefix *prefix; /* the digest of what is read in order; NULL: nobody asks */
    void *data;       /* of what follows */
    /* Called for every percent and every ten seconds of device time; NULL: nobody asks. */
    void (*report)(void *data, const EkCaptureProgress *progress);
    void *pause_data;
    /* Called between two reads, and may take its time; FALSE: EK_CAPTURE_LIMIT. NULL: nobody asks.
     */
    gboolean (*pause)(void *pause_data);
} EkCaptureParts;

typedef struct EkCapture EkCapture;

EkCapture *ek_capture_new(const EkCaptureParts *parts);
void ek_capture_free(EkCapture *capture);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCapture, ek_capture_free)

/* Reads what the map calls neither good nor bad, until nothing is left or something stops it. What
 * was read is durable when it returns, also when it was stopped. With EK_CAPTURE_FAILED and
 * EK_CAPTURE_STRANGER *error says why. After EK_CAPTURE_GONE it may be run again, with the device
 * that came back. */
EkCaptureEnd ek_capture_run(EkCapture *capture, GError **error);

/* From now on reads go to this device: the same drive, come back or at another place. */
void ek_capture_set_device(EkCapture *capture, EkDevice *device);

/* Where it stands now. May be called from any thread while it runs, and after. */
EkCaptureProgress ek_capture_progress(EkCapture *capture);

/* The map at this moment, for showing it: `cells` equal parts of the drive, how many sectors of
 * each are in each state, and the largest stretches that are left. From any thread. */
#define EK_LARGEST_LEFT 3
typedef struct {
    guint cells;
    EkSector (*tally)[EK_STATES];       /* one a cell; room from the caller */
    EkStretch largest[EK_LARGEST_LEFT]; /* untouched or set aside; count 0: none */
} EkCaptureView;
void ek_capture_look(EkCapture *capture, EkCaptureView *view);

/* Seconds of device time that what is left will take at worst. Not while it runs. */
double ek_capture_estimate(EkCapture *capture);

/* What --compare found: places read a second time, and those that answered differently. */
typedef struct {
    guint compared;
    guint differing;
    guint silent; /* did not read this time */
} EkComparison;
EkComparison ek_capture_comparison(const EkCapture *capture);

/* The sector at which the drive stopped or vanished. */
EkSector ek_capture_last_position(const EkCapture *capture);

#endif

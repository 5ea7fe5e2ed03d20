/* SPDX-License-Identifier: MIT */
/* A drive model: the key file that describes a simulated drive (docs/drive-model.md). */
#ifndef EK_DEVICE_MODEL_H
#define EK_DEVICE_MODEL_H

#include "base/error.h"
#include "base/units.h"
#include "device/health.h"

typedef enum {
    EK_FAULT_UNREADABLE,
    EK_FAULT_SLOW,
    EK_FAULT_FLAKY, /* fails by chance, drawn at each attempt */
    EK_FAULT_STUCK, /* hangs, then fails with a timeout */
    EK_FAULT_VANISH /* makes the drive drop off */
} EkFaultKind;

typedef struct {
    char *name;
    EkFaultKind kind;
    EkSector first;
    EkSector count;
    EkSector repeat_every; /* 0: once */
    gint64 drift;          /* added to the distance with each repetition */
    EkSector until;        /* last sector it may touch; 0: the end of the drive */
    double chance;         /* flaky: that a sector fails, 0 to 1 */
    double rate;           /* slow: MiB/s */
    gint64 hang;           /* stuck: ns */
    guint64 after_errors;  /* vanish: failed commands inside it before the drive drops off */
    gint64 back_after;     /* vanish: ns until it answers again */
} EkFault;

/* What the drive says of its health when it is switched on, and how that changes. */
typedef struct {
    EkHealth at_first;
    double pending_per_failure; /* sectors that a failed command leaves waiting */
    double heats;               /* degrees Celsius a minute of work adds */
    double cools;               /* that a minute of waiting takes away, down to where it began */
    gint64 silent_after;        /* ns of device time; 0: never */
} EkModelHealth;

typedef struct {
    char *model;
    char *serial;
    char *backing; /* absolute, or relative to where the program runs */
    guint32 sector_size;
    guint32 physical_sector_size;
    double read_rate;     /* MiB/s */
    guint32 max_transfer; /* bytes */
    gint64 command_time;  /* ns */
    gint64 seek_time;     /* ns */
    gint64 error_time;    /* ns */
    gboolean returns_before_error;
    gboolean realtime;
    guint64 seed;
    gint64 lifetime; /* ns of device time, 0: for ever */
    gint64 wear;     /* ns of life a failed command costs besides its time */
    EkModelHealth health;
    GPtrArray *faults; /* EkFault*, in order of the file */
} EkModel;

/* An empty one: all numbers 0, no faults. The caller fills it in. */
EkModel *ek_model_new(void);
void ek_fault_free(EkFault *fault);

/* Reads and checks a model. Every mistake is an EK_ERROR_DAMAGED that names file and line. */
EkModel *ek_model_read(const char *path, GError **error);
void ek_model_free(EkModel *model);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkModel, ek_model_free)

/* The first run of the fault that ends after `sector`: FALSE when there is none. The run may begin
 * before or after `sector`. */
gboolean ek_fault_run(const EkFault *fault, EkSector sector, EkSector *first, EkSector *count);

#endif

/* SPDX-License-Identifier: MIT */
/* Looking after a drive while it is imaged: its health is asked for and kept, what gets worse is
 * told at once, and a drive that is too hot is left to cool. */
#ifndef EK_WORK_TENDING_H
#define EK_WORK_TENDING_H

#include "case/healthstore.h"
#include "device/device.h"

typedef struct {
    EkCase *opened;
    gint64 event;           /* the imaging, in the case's log */
    gint64 max_temperature; /* degrees Celsius above which it rests; 0: no limit */
    const gint *cancel;
    void (*rests)(void *data, gboolean rests); /* it begins to, or has */
    void (*told)(void *data, const char *text);
    void *data; /* of both */
} EkTendingParts;

typedef struct EkTending EkTending;

/* Asks the drive for the first time. */
EkTending *ek_tending_new(const EkTendingParts *parts, EkDevice *device);
void ek_tending_free(EkTending *tending);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkTending, ek_tending_free)

/* The drive came back, or is read at another place. */
void ek_tending_set_device(EkTending *tending, EkDevice *device);

/* Between two reads: asks when it is time to, and waits for a hot drive to cool. FALSE: it does
 * not cool, and imaging should end. */
gboolean ek_tending_look(EkTending *tending);

/* Asks for the last time. */
void ek_tending_end(EkTending *tending);

#endif

/* SPDX-License-Identifier: MIT */
/* What a volume is to the current partition table. */
#ifndef EK_VOLUME_STANDING_H
#define EK_VOLUME_STANDING_H

#include <glib.h>

typedef enum {
    EK_STANDING_LISTED,
    EK_STANDING_LOST,
    EK_STANDING_DISPLACED,
    EK_STANDING_TABLELESS, /* it fills the drive: no table is needed */
    EK_STANDING_REMAINS,   /* partly overwritten by a newer volume */
    EK_STANDING_NESTED,    /* inside a file of another volume */
    EK_STANDINGS
} EkStanding;

/* "listed": as it is shown and stored. */
const char *ek_standing_name(EkStanding standing);

/* FALSE for a name that is none. */
gboolean ek_standing_from_name(const char *name, EkStanding *standing);

/* One that lies on top: neither overwritten by another nor in a file of another. */
gboolean ek_standing_is_on_top(EkStanding standing);

#endif

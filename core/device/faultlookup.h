/* SPDX-License-Identifier: MIT */
/* Which fault of a drive model governs a sector: the last one in the file that covers it. Models
 * have up to millions of faults, and each simulated command asks. */
#ifndef EK_DEVICE_FAULTLOOKUP_H
#define EK_DEVICE_FAULTLOOKUP_H

#include "device/model.h"

typedef struct {
    const EkFault *fault; /* NULL: healthy */
    guint number;         /* of the fault in the model */
    EkSector count;       /* sectors this holds for, never 0 */
} EkFaultAt;

typedef struct EkFaultLookup EkFaultLookup;

/* For the faults of `model`, which must outlive it and stay as they are. */
EkFaultLookup *ek_fault_lookup_new(const EkModel *model);
void ek_fault_lookup_free(EkFaultLookup *index);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkFaultLookup, ek_fault_lookup_free)

/* What `sector` lies in, looking no further than `limit` (past `sector`). */
EkFaultAt ek_fault_lookup_at(const EkFaultLookup *index, EkSector sector, EkSector limit);

#endif

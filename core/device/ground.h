/* SPDX-License-Identifier: MIT */
/* Which fault of a drive model governs a sector: the last one in the file that covers it. Models
 * have up to millions of faults, and each simulated command asks. */
#ifndef EK_DEVICE_GROUND_H
#define EK_DEVICE_GROUND_H

#include "device/model.h"

typedef struct {
    const EkFault *fault; /* NULL: healthy */
    guint number;         /* of the fault in the model */
    EkSector count;       /* sectors this holds for, never 0 */
} EkGround;

typedef struct EkGroundIndex EkGroundIndex;

/* For the faults of `model`, which must outlive it and stay as they are. */
EkGroundIndex *ek_ground_index_new(const EkModel *model);
void ek_ground_index_free(EkGroundIndex *index);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkGroundIndex, ek_ground_index_free)

/* What `sector` lies in, looking no further than `limit` (past `sector`). */
EkGround ek_ground_at(const EkGroundIndex *index, EkSector sector, EkSector limit);

#endif

/* SPDX-License-Identifier: MIT */
/* The plan: the partition table and the repairs that are proposed, as a list of edits. */
#ifndef EK_REBUILD_PLAN_H
#define EK_REBUILD_PLAN_H

#include "image/gate.h"
#include "table/table.h"
#include "volume/volume.h"

typedef struct {
    guint index;  /* of the slot, from 0 */
    guint volume; /* its number; 0: kept from the old table as it was */
    EkRange range;
    guint8 type;
    gboolean active;
} EkPlanPartition;

typedef struct {
    guint volume;
    char *what;
    char *from;
} EkPlanRepair;

/* Bytes at a place, before and after. */
typedef struct {
    char *structure; /* what the bytes are part of: "mbr", "ntfs-boot", "fat-boot" */
    EkByte first_byte;
    gsize length;
    guint8 *before;
    guint8 *after;
    char *why;
} EkEdit;

EkEdit *ek_edit_new(const char *structure, EkByte first_byte, const guint8 *before,
                    const guint8 *after, gsize length, const char *why);
void ek_edit_free(EkEdit *edit);

typedef struct {
    char *scheme;          /* "mbr", or "none" where no table is planned */
    GPtrArray *partitions; /* EkPlanPartition* */
    GPtrArray *repairs;    /* EkPlanRepair* */
    GPtrArray *edits;      /* EkEdit*, apart from one another, in order of position */
    GPtrArray *warnings;   /* char* */
    gboolean opens;        /* every planned volume was opened through the plan */
} EkPlan;

EkPlan *ek_plan_new(void);
void ek_plan_free(EkPlan *plan);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkPlan, ek_plan_free)

/* A volume that may be planned for. */
typedef struct {
    guint number;
    const EkVolume *volume;
    const char *standing; /* "listed" … */
} EkPlanVolume;

typedef struct {
    EkGateParts parts;   /* of the gate; `repairs` is not looked at */
    const char *case_id; /* identifiers that must be made derive from it */
    const EkPlanVolume *volumes;
    gsize volume_count;
} EkPlanInput;

/* Makes the plan, lays it over the image and opens every planned volume through it. */
EkPlan *ek_plan_make(const EkPlanInput *input, GError **error);

/* The edits as an overlay. The caller frees. */
EkOverlay *ek_plan_overlay(const GPtrArray *edits);

/* The fields an edit touches: EkField* with offsets from the edit's first byte, in order, the
 * meaning of `after` or, for `before`, of what stands there now. The caller unrefs. */
GPtrArray *ek_edit_fields(const EkEdit *edit, guint32 sector_size, gboolean after);

#endif

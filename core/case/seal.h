/* SPDX-License-Identifier: MIT */
/* Sums of what is written to a target: rows of a case that were damaged are told from those that
 * were put there. */
#ifndef EK_CASE_SEAL_H
#define EK_CASE_SEAL_H

#include "rebuild/plan.h"

/* The SHA-256 of an edit in its place, in hexadecimal. The caller frees. */
char *ek_seal_edit(const EkEdit *edit, gint64 application, guint position);

/* The SHA-256 of what a plan would write and of the partitions it tells of. The caller frees. */
char *ek_seal_plan(const EkPlan *plan);

#endif

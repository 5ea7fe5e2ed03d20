/* SPDX-License-Identifier: MIT */
/* Showing a plan: as text, an edit byte by byte, as JSON. */
#ifndef EK_CLI_PLANSHOW_H
#define EK_CLI_PLANSHOW_H

#include "cli.h"

#include "rebuild/plan.h"

/* The table with what stands there now, repairs, warnings, each edit as a line. `bytes` is the
 * image's length. */
void ek_plan_show(EkCli *cli, const EkPlan *plan, EkByte bytes, guint32 sector_size);

/* Edit `number`, from 1: its bytes before and after, and what they mean. */
void ek_plan_show_edit(EkCli *cli, const EkPlan *plan, guint number, guint32 sector_size);

/* All of it, printed; returns the exit status. */
int ek_plan_print_json(const EkPlan *plan, guint32 sector_size);

#endif

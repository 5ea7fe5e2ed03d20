/* SPDX-License-Identifier: MIT */
#ifndef EK_CLI_LAYOUT_H
#define EK_CLI_LAYOUT_H

#include "cli.h"

#include "base/units.h"

/* Draws the drive from end to end, with the volumes (EkCaseVolume*) where they lie: on the first
 * row those that stand, below them what they lie on, or what lies in them. */
void ek_layout_print(EkCli *cli, const GPtrArray *volumes, EkByte bytes, guint32 sector_size);

#endif

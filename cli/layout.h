/* SPDX-License-Identifier: MIT */
/* The drive with its volumes as a line of text. */
#ifndef EK_CLI_LAYOUT_H
#define EK_CLI_LAYOUT_H

#include "cli.h"

#include "base/units.h"
#include "case/volumestore.h"

/* Where one volume is drawn. */
typedef struct {
    guint first; /* column */
    guint end;
    guint row;
    const EkCaseVolume *entry;
} EkLayoutBox;

/* Places volumes (EkCaseVolume*) on so many columns, which stand for `scale` bytes, those that
 * stand on top; *rows is how many rows that takes. EkLayoutBox, the caller unrefs. */
GArray *ek_layout_place(const GPtrArray *volumes, EkByte scale, guint columns, guint *rows);

/* What is drawn below what stands: remains, and what lies in files. */
gboolean ek_layout_is_lower(const EkCaseVolume *entry);

/* How many bytes there are to draw: of the drive, or as far as a volume goes beyond it. */
EkByte ek_layout_bytes(const GPtrArray *volumes, EkByte bytes);

/* Draws the drive from end to end, with the volumes (EkCaseVolume*) where they lie: on the first
 * row those that stand, below them what they lie on, or what lies in them. */
void ek_layout_print(EkCli *cli, const GPtrArray *volumes, EkByte bytes, guint32 sector_size);

#endif

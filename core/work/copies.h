/* SPDX-License-Identifier: MIT */
/* Which of the files that were found by content are the same as files that volumes have. */
#ifndef EK_WORK_COPIES_H
#define EK_WORK_COPIES_H

#include "case/contentstore.h"
#include "work/view.h"

/* Compares each whole file of the catalogue with the whole files of its length that are there in
 * one of these volumes (EkCaseVolume), and marks it where one is the same to the byte. What is
 * packed or has holes is not compared. */
gboolean ek_copies_mark(EkView *view, const GPtrArray *volumes, EkContentStore *store,
                        const gint *cancel, GError **error);

#endif

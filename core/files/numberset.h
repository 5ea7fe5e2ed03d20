/* SPDX-License-Identifier: MIT */
/* A set of numbers, eight to sixteen bytes each: for files by the million. */
#ifndef EK_FILES_NUMBERSET_H
#define EK_FILES_NUMBERSET_H

#include <glib.h>

typedef struct EkNumberSet EkNumberSet;

EkNumberSet *ek_number_set_new(void);
void ek_number_set_free(EkNumberSet *owners);
void ek_number_set_add(EkNumberSet *owners, guint64 number);
gboolean ek_number_set_has(const EkNumberSet *owners, guint64 number);

#endif

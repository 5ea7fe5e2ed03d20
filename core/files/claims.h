/* SPDX-License-Identifier: MIT */
/* A set of numbers, eight to sixteen bytes each: for files by the million. */
#ifndef EK_FILES_CLAIMS_H
#define EK_FILES_CLAIMS_H

#include <glib.h>

typedef struct EkClaims EkClaims;

EkClaims *ek_claims_new(void);
void ek_claims_free(EkClaims *claims);
void ek_claims_add(EkClaims *claims, guint64 number);
gboolean ek_claims_has(const EkClaims *claims, guint64 number);

#endif

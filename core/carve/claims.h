/* SPDX-License-Identifier: MIT */
/* What large files that are being followed may hold of the chunks behind theirs: what begins in
 * there can wait until it is known. Only a hint, which saves work: nothing depends on it. */
#ifndef EK_CARVE_CLAIMS_H
#define EK_CARVE_CLAIMS_H

#include "carve/content.h"

typedef struct EkClaims EkClaims;

EkClaims *ek_claims_new(void);
void ek_claims_free(EkClaims *claims);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkClaims, ek_claims_free)

/* All may be called from any thread. A file that begins at `first` is followed in this content,
 * from now on until it is known to hold the ground up to `end` (at most `first`: none of it). */
void ek_claims_begin(EkClaims *claims, EkByte first, const EkContent *content);
void ek_claims_end(EkClaims *claims, const EkContent *content, EkByte end);

/* May a large one hold this byte? */
gboolean ek_claims_hold(EkClaims *claims, EkByte at);

/* Everything before this byte is known. */
void ek_claims_pass(EkClaims *claims, EkByte at);

/* Waits, a few seconds at most, until everything before the byte `from` is known, or *cancel
 * (atomic) is not 0. FALSE, at once, when a large file may hold `at`. */
gboolean ek_claims_wait(EkClaims *claims, EkByte from, EkByte at, const gint *cancel);

#endif

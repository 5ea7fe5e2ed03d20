/* SPDX-License-Identifier: MIT */
/* All signatures of all formats, compiled into one test that a step passes or not: hardly any does,
 * and only then is somebody called. */
#ifndef EK_HUNT_SIEVE_H
#define EK_HUNT_SIEVE_H

#include "base/signature.h"

typedef struct EkSieve EkSieve;

EkSieve *ek_sieve_new(void);
void ek_sieve_free(EkSieve *sieve);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkSieve, ek_sieve_free)

/* Adds signatures that stand for `bit` (0 to 63). They are not copied. */
void ek_sieve_add(EkSieve *sieve, guint bit, const EkSignature *signatures, gsize count);

/* A bit for each format of which a signature stands in the step of 512 bytes. */
guint64 ek_sieve_look(const EkSieve *sieve, const guint8 *step);

#endif

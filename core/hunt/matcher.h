/* SPDX-License-Identifier: MIT */
/* All signatures of all formats, compiled into one test that a step passes or not: hardly any does,
 * and only then is somebody called. */
#ifndef EK_HUNT_MATCHER_H
#define EK_HUNT_MATCHER_H

#include "base/signature.h"

typedef struct EkMatcher EkMatcher;

EkMatcher *ek_matcher_new(void);
void ek_matcher_free(EkMatcher *matcher);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkMatcher, ek_matcher_free)

/* Adds signatures that stand for `bit` (0 to 63). They are not copied. */
void ek_matcher_add(EkMatcher *matcher, guint bit, const EkSignature *signatures, gsize count);

/* A bit for each format of which a signature stands in the step of 512 bytes. */
guint64 ek_matcher_look(const EkMatcher *matcher, const guint8 *step);

#endif

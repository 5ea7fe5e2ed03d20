/* SPDX-License-Identifier: MIT */
/* All signatures of all formats, compiled into one test that a step passes or not: hardly any does,
 * and only then is somebody called. */
#ifndef EK_SCAN_MATCHER_H
#define EK_SCAN_MATCHER_H

#include "base/signature.h"

typedef struct EkMatcher EkMatcher;

EkMatcher *ek_matcher_new(void);
void ek_matcher_free(EkMatcher *matcher);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkMatcher, ek_matcher_free)

/* Adds signatures that stand for `id` (below EK_MATCHES_MOST). They are not copied. */
#define EK_MATCHES_MOST 256u
void ek_matcher_add(EkMatcher *matcher, guint id, const EkSignature *signatures, gsize count);

/* Those of which a signature stands in a step, each once, in ascending order. */
typedef struct {
    guint count;
    guint ids[EK_MATCHES_MOST];
} EkMatches;

/* Looks at a step of 512 bytes. FALSE, with `matches` left as it is, when nothing stands there. */
gboolean ek_matcher_look(const EkMatcher *matcher, const guint8 *step, EkMatches *matches);

#endif

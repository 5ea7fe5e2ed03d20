/* SPDX-License-Identifier: MIT */
/* What a hunt finds on a bench. */
#ifndef EK_TESTS_HUNTED_H
#define EK_TESTS_HUNTED_H

#include "fixture.h"
#include "hunt/hunt.h"

/* EkFinding*: those of all that was read. The caller unrefs. */
GPtrArray *bench_hunt(Bench *bench);

#endif

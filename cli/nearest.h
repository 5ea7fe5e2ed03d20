/* SPDX-License-Identifier: MIT */
/* The nearest word to one that there is not. */
#ifndef EK_CLI_NEAREST_H
#define EK_CLI_NEAREST_H

#include <glib.h>

/* The one of `words` (NULL at the end) that a mistyped word is nearest to; NULL: none is near. */
const char *ek_nearest(const char *word, const char *const *words);

#endif

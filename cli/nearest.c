/* SPDX-License-Identifier: MIT */
/* The nearest of some words, by the number of letters to change. */
#include "nearest.h"

#include <string.h>

#define LENGTH_MOST 64u

/* How many letters must be put in, taken out or changed to make one of the other. */
static guint distance(const char *a, const char *b)
{
    gsize width = strlen(b);
    guint row[LENGTH_MOST + 1];
    for (guint i = 0; i <= width; i++)
        row[i] = i;
    for (gsize i = 1; a[i - 1] != '\0'; i++) {
        guint before = row[0];
        row[0] = (guint)i;
        for (gsize k = 1; k <= width; k++) {
            guint changed = before + (a[i - 1] != b[k - 1]);
            before = row[k];
            row[k] = MIN(changed, MIN(row[k], row[k - 1]) + 1);
        }
    }
    return row[width];
}

const char *ek_nearest(const char *word, const char *const *words)
{
    const char *best = NULL;
    guint least = (guint)MAX(strlen(word) / 3, 1) + 1;
    for (; *words != NULL; words++) {
        if (strlen(*words) > LENGTH_MOST)
            continue;
        guint apart = g_str_has_prefix(*words, word) ? 1 : distance(word, *words);
        if (apart < least) {
            least = apart;
            best = *words;
        }
    }
    return best;
}

/* SPDX-License-Identifier: MIT */
/* Which files are wanted. */
#ifndef EK_FILES_FILTER_H
#define EK_FILES_FILTER_H

#include "files/files.h"
#include "kind/kind.h"

/* A point in time as someone wrote it down, in the clock of this machine: what a volume keeps in
 * UTC is compared with `utc`, what it keeps in a local clock with `wall`. */
typedef struct {
    gboolean is_set;
    gint64 utc;  /* Unix time */
    gint64 wall; /* as if that clock were UTC */
} EkBound;

typedef struct {
    EkBound after; /* not before */
    EkBound before;
} EkSpanOfTime;

typedef enum { EK_WANTED_ANY, EK_WANTED_ONLY, EK_WANTED_NOT } EkWanted;

/* All that is set must hold. */
typedef struct {
    GPatternSpec *name;  /* of the name, folded; NULL: any */
    GPatternSpec *path;  /* of the path, folded */
    char **endings;      /* folded, without the dot */
    guint kinds;         /* a bit each; 0: any */
    gboolean by_content; /* whoever judges asks the content for its kind: the name does not count */
    guint conditions;    /* a bit each; 0: any */
    guint opens;         /* whoever judges asks the content; a bit each EkOpens; 0: any */
    guint64 least;       /* bytes */
    guint64 most;        /* bytes; 0: no limit */
    EkSpanOfTime created;
    EkSpanOfTime modified;
    EkSpanOfTime accessed;
    EkWanted deleted;
} EkFilter;

void ek_filter_clear(EkFilter *filter);

/* A pattern with * and ?, for which upper and lower case are the same. */
GPatternSpec *ek_filter_pattern(const char *text);

/* The same for a part of a name: without * and ? it may stand anywhere in it. */
GPatternSpec *ek_filter_part(const char *text);

/* "2025-03-01", "2025-03-01T14:05" or with seconds, "2025-03" and "2025" for their first day. FALSE
 * when it is none. */
gboolean ek_filter_bound(const char *text, EkBound *bound);

/* EK_VERDICT_UNKNOWN: nothing is against it, but a date it asks for is not known. */
typedef enum { EK_VERDICT_NO, EK_VERDICT_YES, EK_VERDICT_UNKNOWN } EkVerdict;
EkVerdict ek_filter_judge(const EkFilter *filter, const char *path, const EkItem *item);

/* Is anything set? */
gboolean ek_filter_is_set(const EkFilter *filter);

#endif

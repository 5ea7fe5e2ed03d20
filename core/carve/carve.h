/* SPDX-License-Identifier: MIT */
/* The search for files by their content alone: a pass over ground that finds where files of known
 * types begin and follows each to its end, and a second look at those that break, which joins their
 * pieces. */
#ifndef EK_CARVE_CARVE_H
#define EK_CARVE_CARVE_H

#include "carve/lists.h"
#include "carve/type.h"
#include "scan/scan.h"

typedef enum {
    EK_CONTENT_WHOLE,    /* followed to its end, all checks passed */
    EK_CONTENT_CUT,      /* begins right, and ends early or has a hole */
    EK_CONTENT_DOUBTFUL, /* nothing in it can be checked, or its pieces were joined on a guess */
    EK_CONTENT_STATES
} EkContentState;

const char *ek_content_state_name(EkContentState state);

/* A file that was found. */
typedef struct {
    const EkCarveType *type;
    EkContentState state;
    EkFollowed followed;
    GArray *places;   /* EkRange: its pieces, in order */
    EkByte bytes;     /* of it */
    char *why;        /* for people */
    gboolean is_told; /* where its pieces lie was read, not guessed */
} EkFound;

void ek_found_free(EkFound *found);

/* Where it begins. */
EkByte ek_found_first(const EkFound *found);

/* What begins in a file that does not hold its ground, and is passed over as part of it. */
typedef enum {
    EK_HIDES_NOTHING,
    EK_HIDES_SAME, /* what is of its type: its beginning is missing */
    EK_HIDES_WEAK, /* what is not whole: it is of a solid type */
    EK_HIDES_PLAIN /* what anything may look like: its length alone bounds it */
} EkHides;

EkHides ek_found_hides(const EkFound *found);

/* Bytes of its beginning that are proved to be its own: nothing else begins in them. */
EkByte ek_found_held(const EkFound *found);

/* Where the search works. */
typedef struct {
    EkReader *reader;
    const GArray *ground; /* EkRange, in order, apart: where files may lie */
    const guint8 *wanted; /* one a type of ek_carve_types: 0 leaves it out; NULL: all */
    guint threads;        /* 0: as many as there are processors */
    gboolean nested;      /* parts of other files too */
    EkByte grid;          /* pieces begin on multiples of this, in bytes; 0: 4096 */
} EkCarveOrder;

/* Receives what is found, in order of position, from the thread that carves. `searched` tells what
 * ground is done with by now, and how many beginnings in it are not told of, as they lie in a crowd
 * of others. Each returns FALSE to stop the work, with *error. */
typedef struct {
    void *data;
    gboolean (*found)(void *data, const EkFound *found, GError **error);
    gboolean (*searched)(void *data, EkRange range, guint64 crowded, GError **error);
    /* What may be a block of numbers of ext2 or ext3, before `searched`. NULL: nobody wants it. */
    gboolean (*listed)(void *data, EkListed listed, GError **error);
} EkCarveSink;

typedef struct EkCarve EkCarve;

/* All that is named must live as long. The caller frees. */
EkCarve *ek_carve_new(const EkCarveOrder *order, const EkCarveSink *sink, const gint *cancel);
void ek_carve_free(EkCarve *carve);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCarve, ek_carve_free)

/* Ground (EkRange) that files found before hold: nothing that begins there is looked at, and
 * nothing is joined over it. Before ek_carve_scan. */
void ek_carve_hold(EkCarve *carve, EkRange range);

/* A file found before that hides what begins in its range. */
void ek_carve_pass(EkCarve *carve, EkRange range, const char *type, EkHides hides);

/* A block of numbers that was seen before, in the order in which they were. */
void ek_carve_list(EkCarve *carve, EkListed listed);

/* Searches these ranges (EkRange, in order, within the ground). FALSE with EK_ERROR_CANCELLED when
 * it was asked to end: what was handed on stays right. */
gboolean ek_carve_scan(EkCarve *carve, const GArray *ranges, GError **error);

/* What was found to be the rest of a file does not hold its ground any more: it may be joined to
 * its beginning. After ek_carve_scan. */
void ek_carve_release_rests(EkCarve *carve);

/* Where files begin (EkByte, in order): tells how blocks of numbers that were seen are counted.
 * Once, after ek_carve_scan. Is anything known of that? */
gboolean ek_carve_settle(EkCarve *carve, const GArray *firsts);

#define EK_CARVE_TRIES 4000u

/* A file that broke, and what it came to: NULL where that is no more than there was; the caller
 * frees. */
typedef struct {
    const EkCarveType *type; /* NULL: nothing is tried */
    EkByte first;
    gboolean only_listed; /* nothing is tried but what blocks of numbers say */
    EkFound *joined;
} EkJoinTask;

/* Tries to go on with files that broke, over ground that nothing holds, each at so many places at
 * most (EK_CARVE_TRIES is plenty). Returns how many of them are done, from the first on: what one
 * came to holds its ground, and those behind it are to be given again. What they come to does not
 * depend on how many are given. None when it was asked to end. */
guint ek_carve_join_many(EkCarve *carve, EkJoinTask *tasks, guint count, guint tries);

/* From any thread. */
EkScanProgress ek_carve_progress(EkCarve *carve);

#endif

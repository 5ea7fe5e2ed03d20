/* SPDX-License-Identifier: MIT */
/* The search by content as a job on a case. */
#ifndef EK_WORK_CONTENTS_H
#define EK_WORK_CONTENTS_H

#include "case/contentstore.h"
#include "work/view.h"

/* Where to look. */
typedef enum {
    EK_SEARCH_UNCLAIMED, /* what no healthy file of a volume holds */
    EK_SEARCH_FREE,      /* what one volume calls free */
    EK_SEARCH_ALL
} EkSearchGround;

typedef struct {
    EkSearchGround ground;
    guint64 volume;       /* of EK_SEARCH_FREE */
    EkByte first;         /* nothing before this */
    EkByte end;           /* and nothing from this on; 0: to the end */
    const guint8 *wanted; /* one a type of ek_carve_types: 0 leaves it out; NULL: all */
    guint threads;        /* 0: one a processor */
    gboolean nested;      /* parts of other files too */
    guint64 seconds;      /* that it may take; 0: as long as it takes */
} EkSearchOrder;

/* What was found so far, by type. */
typedef struct {
    guint64 count[EK_CONTENT_STATES];
    EkByte bytes;
} EkSearchCount;

typedef struct {
    EkByte done;
    EkByte total;
    EkByte position;
    gboolean is_joining; /* the ground is searched: files that end early are tried to be joined */
    guint joins;         /* tried so far */
} EkSearchProgress;

typedef struct EkSearch EkSearch;

/* Opens the case; `order` is copied but for `wanted`. The caller frees. */
EkSearch *ek_search_new(const char *folder, const char *options, const EkSearchOrder *order,
                        const gint *cancel, GError **error);
void ek_search_free(EkSearch *search);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkSearch, ek_search_free)

/* Called with each file that is added, while it runs, from the thread that runs. */
typedef void (*EkSearchFound)(void *data, const EkFound *found);
void ek_search_watch(EkSearch *search, EkSearchFound tell, void *data);

/* Searches what was not searched yet, then joins. FALSE with EK_ERROR_CANCELLED when interrupted:
 * what was found is kept. *is_over is FALSE when the time was up before. */
gboolean ek_search_run(EkSearch *search, gboolean *is_over, GError **error);

EkSearchProgress ek_search_progress(EkSearch *search);

/* Files that are not listed because a volume has the same. */
guint64 ek_search_copies(EkSearch *search);

/* Beginnings that are not listed because they lie in a crowd of others. */
guint64 ek_search_crowded(EkSearch *search);

/* Of the type `index` of ek_carve_types, all that the catalogue has of it. From any thread. */
EkSearchCount ek_search_count(EkSearch *search, guint index);

/* What of the ground was not read. */
EkKnown ek_search_known(EkSearch *search);

#endif

/* SPDX-License-Identifier: MIT */
/* Does a file open, and what is it by its content? The helper program says so of pictures, archives
 * and text, the types that are searched for by content of what else there is. What was found out is
 * kept in the case, so that it is asked once. */
#ifndef EK_WORK_JUDGING_H
#define EK_WORK_JUDGING_H

#include "files/peeker.h"
#include "work/indexing.h"

typedef struct {
    EkOpens opens;
    EkKind kind;
    gboolean is_known; /* FALSE: what tells its kind was not read from the drive */
    char *why;         /* of `opens` */
} EkJudgement;

void ek_judgement_clear(EkJudgement *judgement);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(EkJudgement, ek_judgement_clear)

typedef struct EkJudging EkJudging;

/* `peeker` (with a canvas, which may be empty) and `indexing` must live as long. */
EkJudging *ek_judging_new(EkIndexing *indexing, EkPeeker *peeker);

/* What was found out is kept by then. */
void ek_judging_free(EkJudging *judging);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkJudging, ek_judging_free)

/* Judges a file. The caller clears, also after FALSE: content cannot be looked into at all, or
 * *cancel (atomic) is not 0. */
gboolean ek_judging_ask(EkJudging *judging, const EkItem *item, const gint *cancel,
                        EkJudgement *judgement, GError **error);

/* Where the helper could not judge a file, its type is followed to its end: changes what `peek`
 * says of whether it opens. */
void ek_judging_complete(EkIndexing *indexing, const EkItem *item, const gint *cancel,
                         EkPeek *peek);

/* "yes", "no", "unknown". */
const char *ek_opens_name(EkOpens opens);

#endif

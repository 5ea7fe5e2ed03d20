/* SPDX-License-Identifier: MIT */
/* What is said of a case and of its volumes, as structs: text, JSON and a report render the same
 * ones. Nothing here writes. */
#ifndef EK_WORK_SUMMARY_H
#define EK_WORK_SUMMARY_H

#include "case/applications.h"
#include "case/healthstore.h"
#include "case/inventory.h"
#include "case/mapstore.h"
#include "work/view.h"

/* --- a case ------------------------------------------------------------------------------------
 */

typedef struct {
    EkCase *opened; /* not its own */
    EkKeptState state;
    GPtrArray *volumes;      /* EkCaseVolume* */
    GPtrArray *applications; /* EkApplication* */
    GPtrArray *health;       /* EkKeptHealth*, in order */
    EkSector left;           /* sectors not yet read: untouched or set aside */
    EkSector left_stretches;
    EkByte good_bytes;
    gboolean hunted; /* all that is good by now */
    gboolean has_plan;
    gboolean plan_is_old; /* something was hunted since */
    gboolean applied;     /* to anything, and not undone */
    gboolean cloned;
    gboolean asked;     /* imaging stopped to put a decision */
    gboolean vanished;  /* the drive did, when it was last imaged */
    gboolean has_image; /* it is where the case has it */
    gint64 imaging_pid; /* 0: nobody is imaging now */
    char *next;         /* the next sensible command, with the folder as it was named */
    char *why;          /* of it, in a sentence without a full stop */
} EkCaseSummary;

/* `folder` is the case's as the user named it. FALSE when the case cannot be read. */
gboolean ek_case_summary(EkCase *opened, const char *folder, EkCaseSummary *summary,
                         GError **error);
void ek_case_summary_clear(EkCaseSummary *summary);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(EkCaseSummary, ek_case_summary_clear)

/* --- volumes ---------------------------------------------------------------------------------- */

typedef struct {
    const EkCaseVolume *entry; /* of the list it was made from */
    gboolean is_lower;         /* remains, or nested: there can be hundreds */
    gboolean is_shown;         /* without being asked for all */
    gboolean has_files;        /* its files were listed, and the list is as the drive was read */
    EkInventoryTotals files;
} EkVolumeSummary;

/* Of volumes (EkCaseVolume*, in order of place): EkVolumeSummary*, one each. `view` NULL: the image
 * cannot be read, so that nothing is told of files. Those that stand are shown, and the largest of
 * the lower ones. The caller unrefs; `volumes` must live as long. */
GPtrArray *ek_volume_summaries(EkView *view, const GPtrArray *volumes);

/* How many of them are not shown. */
guint ek_volume_summaries_left_out(const GPtrArray *summaries);

/* What it means that a volume was not cleanly unmounted; NULL: it was, or that is not known. The
 * caller frees. */
char *ek_volume_unclean(EkView *view, const EkVolume *volume);

/* The transactions (EkMoment) that the volume's journal leads back to, in order; NULL: none. The
 * caller unrefs. */
GArray *ek_volume_moments(EkView *view, const EkVolume *volume);

#endif

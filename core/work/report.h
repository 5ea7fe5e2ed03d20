/* SPDX-License-Identifier: MIT */
/* All that is to be said of a case when it is handed over, as structs: a page and JSON render the
 * same ones. */
#ifndef EK_WORK_REPORT_H
#define EK_WORK_REPORT_H

#include "case/planstore.h"
#include "work/indexing.h"
#include "work/summary.h"
#include "work/tally.h"

/* What of a volume, or of the contents that were found, there is to recover. */
typedef struct {
    const EkCaseVolume *entry; /* NULL: the contents */
    gboolean is_listed;        /* its files could be listed */
    char *why_not;             /* else; NULL */
    gboolean is_counted;       /* in the totals of the case: it is no earlier volume */
    EkTally *present;          /* files that are not deleted */
    EkCount deleted;
    guint64 by_condition[EK_CONDITIONS]; /* of those present */
} EkReportVolume;

/* A file of which something is missing. */
typedef struct {
    guint volume; /* EK_CONTENTS: none */
    char *path;
    guint64 size;
    EkDamage damage;
    EkKnown parts[8]; /* of its eighths, what is missing */
} EkReportFile;

#define EK_REPORT_FILES_MOST 500u  /* of those that are incomplete, that are kept */
#define EK_REPORT_FOLDERS_MOST 40u /* of a volume; the others become one, the last */

typedef struct {
    EkView *view; /* not its own */
    EkCaseSummary summary;
    char *notes[EK_NOTES]; /* NULL: none */
    GPtrArray *volumes;    /* EkReportVolume */
    GPtrArray *incomplete; /* EkReportFile: of volumes that are counted */
    guint64 incomplete_count;
    EkCount all;       /* of the volumes that are counted */
    GPtrArray *events; /* EkEvent */
    EkPlan *plan;      /* NULL: none */
    gint64 made;       /* when, Unix time */
} EkReport;

/* Told each file, deleted ones too, with the volume it is of; FALSE stops it. NULL: nobody. */
typedef gboolean (*EkReportSink)(void *data, EkIndexing *indexing, const char *path,
                                 const EkItem *item);

/* Gathers it, in memory that does not depend on how many files there are. `open` opens a volume
 * with its inventory taken, or NULL with *error, and is given `data` as the sink is. The caller
 * clears it, before the view is closed. */
typedef struct {
    EkIndexing *(*open)(void *data, guint64 number, GError **error);
    EkReportSink file;
    void *data;
    const gint *cancel;
} EkReportOrder;

gboolean ek_report_gather(EkView *view, const char *folder, const EkReportOrder *order,
                          EkReport *report, GError **error);
void ek_report_clear(EkReport *report);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(EkReport, ek_report_clear)

/* "186 of 191 files are complete; 5 are incomplete." The caller frees. */
char *ek_report_answer(const EkReport *report);

/* What is wrong with a file, in words that its owner understands. The caller frees. */
char *ek_report_gap(const EkReportFile *file);

#endif

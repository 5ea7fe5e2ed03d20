/* SPDX-License-Identifier: MIT */
/* What a report says, in order, to whatever writes it down: HTML and PDF are two such. */
#ifndef EK_CLI_REPORTPAGE_H
#define EK_CLI_REPORTPAGE_H

#include "canvas.h"
#include "contactsheet.h"
#include "work/report.h"

/* Whom it is for: how deep it goes. */
typedef enum { EK_REPORT_CLIENT, EK_REPORT_BENCH, EK_REPORT_RECORD } EkReportDepth;

typedef struct {
    const char *title;
    guint share;    /* of the width, in percent */
    gboolean right; /* numbers */
} EkReportColumn;

/* All that a report is written from. */
typedef struct {
    const EkReport *report;
    EkReportDepth depth;
    const GPtrArray *sheet; /* EkSheetPicture*: small pictures of what was found; NULL: none */
} EkReportPage;

/* What stands in a cell of a table: a text, or which eighths of a file are there. */
typedef struct {
    const char *text;
    const EkReportFile *strip; /* NULL: the text */
} EkReportCell;

/* Who writes it down. All texts are UTF-8 of any origin: the writer makes them harmless. */
typedef struct {
    void *data;
    void (*begin)(void *data, const char *title, const char *when);
    void (*answer)(void *data, const char *text, gboolean has_gaps);
    void (*heading)(void *data, const char *title, guint level); /* 1: a part, 2: below one */
    void (*term)(void *data, const char *name, const char *value);
    void (*text)(void *data, const char *text, gboolean is_small);
    void (*item)(void *data, const char *text, gboolean is_numbered); /* of a list */
    void (*table)(void *data, const EkReportColumn *columns, guint count);
    void (*row)(void *data, const EkReportCell *cells); /* of the last table */
    gboolean (*picture)(void *data, const char *what, int height, EkCanvasDraw draw,
                        const void *drawn, GError **error);
    gboolean (*sheet)(void *data, const GPtrArray *pictures, GError **error);
    void (*end)(void *data, const char *text);
} EkReportWriter;

/* Says all of it. FALSE with *error where a picture cannot be drawn. */
gboolean ek_report_write(const EkReportPage *page, const EkReportWriter *writer, GError **error);

/* How much of an eighth of a file is there: 0 nothing, 1 some, 2 all. */
guint ek_report_part(const EkReportFile *file, guint part);

/* What a step of the log did, without the folders of this machine. The caller frees. */
char *ek_report_step(const EkEvent *event);

#endif

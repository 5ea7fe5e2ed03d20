/* SPDX-License-Identifier: MIT */
/* A report as PDF pages (A4), with what the page in HTML says. */
#ifndef EK_CLI_REPORTPDF_H
#define EK_CLI_REPORTPDF_H

#include "reportpage.h"

/* The file. NULL with *error. The caller unrefs. */
GByteArray *ek_report_pdf(const EkReportPage *page, GError **error);

#endif

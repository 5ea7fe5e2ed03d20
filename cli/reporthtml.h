/* SPDX-License-Identifier: MIT */
/* A report as a page: one HTML file that needs nothing else, for a screen, a phone and paper. */
#ifndef EK_CLI_REPORTHTML_H
#define EK_CLI_REPORTHTML_H

#include "reportpage.h"

/* The page. NULL with *error. The caller unrefs. */
GByteArray *ek_report_html(const EkReportPage *page, GError **error);

#endif

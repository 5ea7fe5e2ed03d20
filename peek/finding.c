/* SPDX-License-Identifier: MIT */
/* What was found out about a file's content. */
#include "peek.h"

void finding_says(Finding *finding, const char *opens, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    finding->opens = opens;
    g_free(finding->why);
    finding->why = g_strdup_vprintf(format, arguments);
    va_end(arguments);
}

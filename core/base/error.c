/* SPDX-License-Identifier: MIT */
/* One error domain for the whole library. */
#include "base/error.h"

#include <errno.h>

G_DEFINE_QUARK(ek - error - quark, ek_error)

gboolean ek_error_from_errno(GError **error, EkErrorCode code, int errnum, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *tried = g_strdup_vprintf(format, arguments);
    va_end(arguments);

    if (errnum == ENOSPC || errnum == EDQUOT)
        code = EK_ERROR_NO_SPACE;
    else if (errnum == ENOENT)
        code = EK_ERROR_ABSENT;
    g_set_error(error, EK_ERROR, (int)code, "%s: %s", tried, g_strerror(errnum));
    return FALSE;
}

gboolean ek_error_set(GError **error, EkErrorCode code, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *message = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_set_error_literal(error, EK_ERROR, (int)code, message);
    return FALSE;
}

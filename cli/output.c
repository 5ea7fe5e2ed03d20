/* SPDX-License-Identifier: MIT */
/* Files that a command writes: whole or not at all. */
#include "output.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <sys/stat.h>
#include <unistd.h>

static FILE *open_draft(const char *path, char **draft)
{
    struct stat st;
    *draft = NULL;
    if (stat(path, &st) == 0 && !S_ISREG(st.st_mode))
        return fopen(path, "we");
    g_autofree char *name = g_strconcat(path, ".XXXXXX", NULL);
    int fd = g_mkstemp_full(name, O_RDWR | O_CLOEXEC, 0666);
    if (fd < 0)
        return NULL;
    *draft = g_steal_pointer(&name);
    return fdopen(fd, "w");
}

gboolean ek_output_begin(EkOutput *output, const char *path, const char *what, GError **error)
{
    *output = (EkOutput){.path = path, .what = what};
    errno = 0;
    output->file = open_draft(path, &output->draft);
    return output->file != NULL ||
           ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write %s %s", what, path);
}

gboolean ek_output_end(EkOutput *output, gboolean keep, GError **error)
{
    if (output->file == NULL)
        return keep;
    errno = 0;
    gboolean fine = fflush(output->file) == 0 && ferror(output->file) == 0;
    fine = fclose(output->file) == 0 && fine;
    output->file = NULL;
    gboolean is_kept =
        keep && fine && (output->draft == NULL || rename(output->draft, output->path) == 0);
    int errnum = output->errnum != 0 ? output->errnum : errno != 0 ? errno : EIO;
    if (!is_kept && output->draft != NULL)
        unlink(output->draft);
    g_clear_pointer(&output->draft, g_free);
    if (keep && !is_kept)
        ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot write %s %s", output->what,
                            output->path);
    return is_kept;
}

gboolean ek_output_write(const char *path, const char *what, const GByteArray *bytes,
                         GError **error)
{
    EkOutput output;
    if (!ek_output_begin(&output, path, what, error))
        return FALSE;
    if (fwrite(bytes->data, 1, bytes->len, output.file) != bytes->len)
        output.errnum = errno;
    return ek_output_end(&output, TRUE, error);
}

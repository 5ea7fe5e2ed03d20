/* SPDX-License-Identifier: MIT */
/* The files inside a case folder. */
#include "case/folder.h"

#include "base/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define TEXT_MOST 4096u

static int open_folder(const char *folder, GError **error)
{
    int at = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (at < 0)
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the folder %s", folder);
    return at;
}

/* Is it what a case has: a file, with one name where it is to be changed? */
static gboolean check(const char *folder, const char *name, int fd, gboolean writing,
                      GError **error)
{
    struct stat st;
    if (fstat(fd, &st) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot look at %s/%s", folder,
                                   name);
    if (!S_ISREG(st.st_mode))
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s/%s is not a regular file. No case has such a file: do not use this "
                            "folder, ask for it again",
                            folder, name);
    if (writing && st.st_nlink > 1)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s/%s has a second name (a hard link) outside or inside of the case: "
                            "to change it would change that too. Copy the folder: cp -r %s NEW",
                            folder, name, folder);
    return TRUE;
}

static int fail(const char *folder, const char *name, int errnum, GError **error)
{
    if (errnum == ELOOP || errnum == EXDEV || errnum == ENOTDIR)
        ek_error_set(
            error, EK_ERROR_REFUSED,
            "%s/%s is a symbolic link, or is reached through one. No case has such a file: "
            "do not use this folder, ask for it again",
            folder, name);
    else
        ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot open %s/%s", folder, name);
    return -1;
}

int ek_folder_open(const char *folder, const char *name, int flags, GError **error)
{
    gboolean writing = (flags & O_ACCMODE) != O_RDONLY;
    int at = open_folder(folder, error);
    if (at < 0)
        return -1;
    /* A pipe in its place must not hold us up. What is there may not be cut off before it is looked
     * at. */
    int fd = ek_platform_open_beneath(at, name, (flags & ~O_TRUNC) | O_NONBLOCK);
    int errnum = errno;
    close(at);
    if (fd < 0)
        return fail(folder, name, errnum, error);
    if (check(folder, name, fd, writing, error)) {
        (void)fcntl(fd, F_SETFL, flags & O_APPEND);
        return fd;
    }
    close(fd);
    return -1;
}

gboolean ek_folder_check(const char *folder, const char *name, GError **error)
{
    int at = open_folder(folder, error);
    if (at < 0)
        return FALSE;
    int fd = ek_platform_look_beneath(at, name);
    int errnum = errno;
    close(at);
    if (fd < 0)
        return errnum == ENOENT || fail(folder, name, errnum, error) == 0;
    gboolean fine = check(folder, name, fd, TRUE, error);
    close(fd);
    return fine;
}

gboolean ek_folder_make(const char *folder, const char *name, GError **error)
{
    int at = open_folder(folder, error);
    if (at < 0)
        return FALSE;
    gboolean fine = mkdirat(at, name, 0777) == 0 || errno == EEXIST;
    int errnum = errno;
    close(at);
    return fine || ek_error_from_errno(error, EK_ERROR_FAILED, errnum,
                                       "cannot make the folder %s/%s", folder, name);
}

void ek_folder_remove(const char *folder, const char *name)
{
    int at = open_folder(folder, NULL);
    if (at < 0)
        return;
    (void)unlinkat(at, name, 0);
    close(at);
}

char *ek_folder_text(const char *folder, const char *name)
{
    int fd = ek_folder_open(folder, name, O_RDONLY, NULL);
    if (fd < 0)
        return NULL;
    char text[TEXT_MOST + 1] = {0};
    ssize_t got = read(fd, text, TEXT_MOST);
    close(fd);
    return got < 0 ? NULL : g_strdup(g_strstrip(text));
}

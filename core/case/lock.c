/* SPDX-License-Identifier: MIT */
/* One file a subject below the case's locks/ folder, locked with flock(2), its content the process
 * number of who holds it. */
#include "case/case.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <sys/file.h>
#include <unistd.h>

struct EkLock {
    int fd;
};

static const char *const subject_names[] = {
    [EK_LOCK_IMAGING] = "imaging", [EK_LOCK_HUNTING] = "hunting", [EK_LOCK_EDITS] = "edits"};

static char *lock_path(EkCase *self, const char *subject)
{
    return g_build_filename(ek_case_folder(self), "locks", subject, NULL);
}

static gint64 noted_pid(int fd)
{
    char text[32] = {0};
    ssize_t got = pread(fd, text, sizeof text - 1, 0);
    return got > 0 ? g_ascii_strtoll(text, NULL, 10) : 0;
}

static EkLock *take(EkCase *self, const char *subject, GError **error)
{
    g_autofree char *path = lock_path(self, subject);
    g_autofree char *folder = g_path_get_dirname(path);
    g_mkdir(folder, 0777);
    int fd = open(path, O_RDWR | O_CREAT | O_CLOEXEC, 0666);
    if (fd < 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open %s", path);
        return NULL;
    }
    if (flock(fd, LOCK_EX | LOCK_NB) != 0) {
        int errnum = errno;
        if (errnum == EWOULDBLOCK)
            ek_error_set(error, EK_ERROR_REFUSED,
                         "%s is locked: process %" G_GINT64_FORMAT " is at work on it (%s). Wait "
                         "for it, or stop it with Ctrl-C there",
                         ek_case_folder(self), noted_pid(fd), subject);
        else
            ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot lock %s", path);
        close(fd);
        return NULL;
    }
    char text[32];
    int length = g_snprintf(text, sizeof text, "%ld\n", (long)getpid());
    /* Only for people to read: a lock without a number still locks. */
    if (ftruncate(fd, 0) != 0 || pwrite(fd, text, (size_t)length, 0) != length)
        g_debug("the process number does not go into %s", path);
    EkLock *lock = g_new0(EkLock, 1);
    lock->fd = fd;
    return lock;
}

EkLock *ek_lock_take(EkCase *self, EkLockSubject subject, GError **error)
{
    return take(self, subject_names[subject], error);
}

EkLock *ek_lock_take_inventory(EkCase *self, guint volume, GError **error)
{
    g_autofree char *subject = g_strdup_printf("inventory-%u", volume);
    return take(self, subject, error);
}

void ek_lock_release(EkLock *lock)
{
    close(lock->fd);
    g_free(lock);
}

gint64 ek_lock_holder(EkCase *self, EkLockSubject subject)
{
    g_autofree char *path = lock_path(self, subject_names[subject]);
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0)
        return 0;
    gint64 holder = 0;
    if (flock(fd, LOCK_SH | LOCK_NB) != 0)
        holder = MAX(noted_pid(fd), 1);
    close(fd);
    return holder;
}

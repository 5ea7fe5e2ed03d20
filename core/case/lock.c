/* SPDX-License-Identifier: MIT */
/* One file a subject below the case's locks/ folder, locked with flock(2), its content the process
 * number of who holds it. */
#include "case/case.h"
#include "case/folder.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/file.h>
#include <unistd.h>

#define LOCK_MOST 32u /* bytes of a lock file */

struct EkLock {
    int fd;
};

static const char *const subject_names[] = {[EK_LOCK_IMAGING] = "imaging",
                                            [EK_LOCK_HUNTING] = "hunting",
                                            [EK_LOCK_EDITS] = "edits",
                                            [EK_LOCK_CONTENTS] = "contents"};

/* Is this the content of a lock: nothing, or a process number? */
static gboolean is_lock(int fd)
{
    char text[LOCK_MOST] = {0};
    ssize_t got = pread(fd, text, sizeof text, 0);
    return got >= 0 && (gsize)got < sizeof text && strspn(text, "0123456789\n") == (gsize)got;
}

static gint64 noted_pid(int fd)
{
    char text[LOCK_MOST] = {0};
    ssize_t got = pread(fd, text, sizeof text - 1, 0);
    return got > 0 ? g_ascii_strtoll(text, NULL, 10) : 0;
}

static EkLock *take(EkCase *self, const char *subject, GError **error)
{
    const char *folder = ek_case_folder(self);
    g_autofree char *name = g_strdup_printf("locks/%s", subject);
    if (!ek_folder_make(folder, "locks", error))
        return NULL;
    int fd = ek_folder_open(folder, name, O_RDWR | O_CREAT, error);
    if (fd < 0)
        return NULL;
    if (!is_lock(fd)) {
        ek_error_set(error, EK_ERROR_REFUSED,
                     "%s/%s is no lock file of ours. Nothing in it was changed. Look at it, and "
                     "remove it when nobody needs it",
                     folder, name);
        close(fd);
        return NULL;
    }
    if (flock(fd, LOCK_EX | LOCK_NB) != 0) {
        int errnum = errno;
        if (errnum == EWOULDBLOCK)
            ek_error_set(error, EK_ERROR_REFUSED,
                         "%s is locked: process %" G_GINT64_FORMAT " is at work on it (%s). Wait "
                         "for it, or stop it with Ctrl-C there",
                         folder, noted_pid(fd), subject);
        else
            ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot lock %s/%s", folder, name);
        close(fd);
        return NULL;
    }
    char text[LOCK_MOST];
    int length = g_snprintf(text, sizeof text, "%ld\n", (long)getpid());
    /* Only for people to read: a lock without a number still locks. */
    if (ftruncate(fd, 0) != 0 || pwrite(fd, text, (size_t)length, 0) != length)
        g_debug("the process number does not go into %s", name);
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
    g_autofree char *name = g_strdup_printf("locks/%s", subject_names[subject]);
    int fd = ek_folder_open(ek_case_folder(self), name, O_RDONLY, NULL);
    if (fd < 0)
        return 0;
    gint64 holder = 0;
    if (flock(fd, LOCK_SH | LOCK_NB) != 0)
        holder = MAX(noted_pid(fd), 1);
    close(fd);
    return holder;
}

/* SPDX-License-Identifier: MIT */
/* After the fork only calls that are safe there: threads of ours may hold any lock. */
#include "mountguard.h"

#include "base/error.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/mount.h>
#include <sys/statfs.h>
#include <sys/wait.h>
#include <unistd.h>

#define FUSE_MAGIC 0x65735546 /* linux/magic.h: FUSE_SUPER_MAGIC */
#define DISMISSED 'd'
#define FILES_MOST 65536 /* that we have open at most, by far */

/* One whose server is gone fails: ENOTCONN, or ECONNABORTED while the kernel is still closing it.
 */
static gboolean is_fuse(const char *folder)
{
    struct statfs st;
    return statfs(folder, &st) != 0 || st.f_type == FUSE_MAGIC;
}

static void unmount(const char *folder)
{
    if (!is_fuse(folder) || umount2(folder, MNT_DETACH | UMOUNT_NOFOLLOW) == 0)
        return;
    execlp("fusermount3", "fusermount3", "-u", "-z", "-q", folder, (char *)NULL);
}

/* Signals to the terminal's processes are meant for the program, which says when it has ended. */
static void watch(int program, const char *folder)
{
    char byte = 0;
    ssize_t got = 0;
    setsid();
    sigset_t all;
    sigfillset(&all);
    sigprocmask(SIG_BLOCK, &all, NULL);
    /* No file of the case stays open here, and no output that somebody waits for the end of. */
    dup2(program, 3);
    int null = open("/dev/null", O_RDWR);
    for (int i = 0; i < 3; i++)
        dup2(null, i);
    for (int i = 4, most = (int)CLAMP(sysconf(_SC_OPEN_MAX), 64, FILES_MOST); i < most; i++)
        close(i);
    do
        got = read(3, &byte, 1);
    while (got < 0 && errno == EINTR);
    if (got != 1 || byte != DISMISSED)
        unmount(folder);
    _exit(0);
}

gboolean ek_mountguard_start(EkMountGuard *guard, const char *folder, GError **error)
{
    int ends[2];
    g_autofree char *path = g_canonicalize_filename(folder, NULL);
    if (pipe2(ends, O_CLOEXEC) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "mount");
    pid_t child = fork();
    if (child < 0) {
        int number = errno;
        close(ends[0]);
        close(ends[1]);
        return ek_error_from_errno(error, EK_ERROR_FAILED, number, "mount");
    }
    if (child == 0) {
        close(ends[1]);
        watch(ends[0], path);
    }
    close(ends[0]);
    *guard = (EkMountGuard){child, ends[1]};
    return TRUE;
}

void ek_mountguard_dismiss(EkMountGuard *guard)
{
    const char byte = DISMISSED;
    ssize_t written = 0;
    do
        written = write(guard->alive, &byte, 1);
    while (written < 0 && errno == EINTR);
    close(guard->alive);
    while (waitpid(guard->child, NULL, 0) < 0 && errno == EINTR)
        ;
}

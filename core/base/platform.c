/* SPDX-License-Identifier: MIT */
/* Linux, with either C library; and what can be done without it. */
#include "base/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

#ifdef __linux__
#include <linux/fs.h>
#include <linux/openat2.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/sysmacros.h>
#endif

#include <signal.h>

#define MODE 0666

#ifndef O_PATH
#define O_PATH O_RDONLY
#endif

/* --- block devices ---------------------------------------------------------------------------- */

#ifdef __linux__

#define LOOP_MAJOR 7u
#define NBD_MAJOR 43u

/* C libraries differ in the type of a request's number, which may need all 32 bits. */
static int ask_device(int fd, unsigned long request, void *answer)
{
    return (int)syscall(SYS_ioctl, fd, request, answer);
}

int ek_platform_device_bytes(int fd, EkByte *bytes)
{
    guint64 there = 0;
    if (ask_device(fd, BLKGETSIZE64, &there) != 0)
        return -1;
    *bytes = there;
    return 0;
}

int ek_platform_sector_sizes(int fd, guint32 *logical, guint32 *physical)
{
    int size = 0;
    unsigned below = 0;
    if (ask_device(fd, BLKSSZGET, &size) != 0)
        return -1;
    if (size <= 0) {
        errno = EINVAL;
        return -1;
    }
    *logical = (guint32)size;
    *physical = ask_device(fd, BLKPBSZGET, &below) == 0 ? MAX(below, *logical) : *logical;
    return 0;
}

guint32 ek_platform_transfer_most(int fd)
{
    unsigned short most = 0; /* in units of 512 bytes */
    return ask_device(fd, BLKSECTGET, &most) == 0 ? most * 512u : 0;
}

gboolean ek_platform_is_read_only(int fd)
{
    int read_only = 0;
    return ask_device(fd, BLKROGET, &read_only) == 0 && read_only != 0;
}

int ek_platform_set_read_only(int fd, gboolean on)
{
    int value = on ? 1 : 0;
    return ask_device(fd, BLKROSET, &value);
}

int ek_platform_zero(int fd, EkByte first, EkByte bytes)
{
    guint64 range[2] = {first, bytes};
    return ask_device(fd, BLKZEROOUT, range);
}

void ek_platform_reread_table(int fd)
{
    (void)ask_device(fd, BLKRRPART, NULL);
}

gboolean ek_platform_is_lent(guint64 device_number)
{
    unsigned kind = major((dev_t)device_number);
    return kind == LOOP_MAJOR || kind == NBD_MAJOR;
}

#else

int ek_platform_device_bytes(int fd, EkByte *bytes)
{
    off_t end = lseek(fd, 0, SEEK_END);
    if (end < 0)
        return -1;
    *bytes = (EkByte)end;
    return 0;
}

int ek_platform_sector_sizes(int fd, guint32 *logical, guint32 *physical)
{
    (void)fd;
    *logical = *physical = EK_STEP;
    return 0;
}

guint32 ek_platform_transfer_most(int fd)
{
    (void)fd;
    return 0;
}

gboolean ek_platform_is_read_only(int fd)
{
    (void)fd;
    return FALSE;
}

int ek_platform_set_read_only(int fd, gboolean on)
{
    (void)fd;
    (void)on;
    errno = ENOSYS;
    return -1;
}

int ek_platform_zero(int fd, EkByte first, EkByte bytes)
{
    (void)fd;
    (void)first;
    (void)bytes;
    errno = ENOSYS;
    return -1;
}

void ek_platform_reread_table(int fd)
{
    (void)fd;
}

gboolean ek_platform_is_lent(guint64 device_number)
{
    (void)device_number;
    return FALSE;
}

#endif

/* --- files ------------------------------------------------------------------------------------ */

int ek_platform_open_direct(const char *path, int flags)
{
#ifdef O_DIRECT
    return open(path, flags | O_DIRECT);
#else
    (void)path;
    (void)flags;
    errno = EINVAL;
    return -1;
#endif
}

gboolean ek_platform_next_data(int fd, EkByte from, EkByte end, EkRange *data)
{
    if (from >= end)
        return FALSE;
    *data = (EkRange){from, end - from};
#ifdef SEEK_DATA
    off_t first = lseek(fd, (off_t)from, SEEK_DATA);
    if (first < 0 && errno == ENXIO)
        return FALSE;
    off_t hole = first < 0 ? -1 : lseek(fd, first, SEEK_HOLE);
    if (first >= 0 && hole > first)
        *data = (EkRange){(EkByte)first, (EkByte)(hole - first)};
#else
    (void)fd;
#endif
    return TRUE;
}

gint64 ek_platform_birth(const char *path)
{
#ifdef STATX_BTIME
    struct statx more;
    if (statx(AT_FDCWD, path, 0, STATX_BTIME, &more) == 0 && (more.stx_mask & STATX_BTIME) != 0)
        return more.stx_btime.tv_sec * G_GINT64_CONSTANT(1000000000) + more.stx_btime.tv_nsec;
#else
    (void)path;
#endif
    return 0;
}

int ek_platform_sync_around(int folder)
{
#ifdef __linux__
    return syncfs(folder);
#else
    sync();
    return fsync(folder);
#endif
}

/* One component after the other, for kernels that cannot do it in one call. */
static int open_step_by_step(int at, const char *name, int flags)
{
    g_auto(GStrv) parts = g_strsplit(name, "/", -1);
    int folder = dup(at);
    for (char **part = parts; folder >= 0 && *part != NULL; part++) {
        gboolean is_last = part[1] == NULL;
        int next = -1;
        errno = ELOOP;
        if (**part != '\0' && !g_str_equal(*part, ".") && !g_str_equal(*part, ".."))
            next = openat(folder, *part,
                          is_last ? flags | O_NOFOLLOW | O_CLOEXEC
                                  : O_PATH | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC,
                          MODE);
        int errnum = errno;
        close(folder);
        errno = errnum;
        folder = next;
    }
    return folder;
}

int ek_platform_open_beneath(int folder, const char *name, int flags)
{
#ifdef SYS_openat2
    struct open_how how = {.flags = (guint64)(guint)(flags | O_CLOEXEC | O_NOFOLLOW),
                           .mode = (flags & O_CREAT) != 0 ? MODE : 0,
                           .resolve = RESOLVE_BENEATH | RESOLVE_NO_SYMLINKS};
    int fd = (int)syscall(SYS_openat2, folder, name, &how, sizeof how);
    if (fd >= 0 || (errno != ENOSYS && errno != EPERM && errno != EINVAL))
        return fd;
#endif
    return open_step_by_step(folder, name, flags);
}

int ek_platform_look_beneath(int folder, const char *name)
{
    return ek_platform_open_beneath(folder, name, O_PATH);
}

int ek_platform_open_nameless(int folder)
{
#ifdef O_TMPFILE
    return openat(folder, ".", O_TMPFILE | O_WRONLY | O_CLOEXEC, MODE);
#else
    (void)folder;
    errno = EOPNOTSUPP;
    return -1;
#endif
}

int ek_platform_name(int fd, int folder, const char *name)
{
    char self[32];
    snprintf(self, sizeof self, "/proc/self/fd/%d", fd);
    return linkat(AT_FDCWD, self, folder, name, AT_SYMLINK_FOLLOW);
}

int ek_platform_rename_new(int folder, const char *from, const char *to)
{
#ifdef SYS_renameat2
    const unsigned no_replace = 1;
    if (syscall(SYS_renameat2, folder, from, folder, to, no_replace) == 0)
        return 0;
    if (errno != EINVAL && errno != ENOSYS)
        return -1;
#endif
    struct stat st;
    if (fstatat(folder, to, &st, AT_SYMLINK_NOFOLLOW) == 0) {
        errno = EEXIST;
        return -1;
    }
    return renameat(folder, from, folder, to);
}

/* --- processes -------------------------------------------------------------------------------- */

void ek_platform_close_range(unsigned first, unsigned last)
{
#ifdef SYS_close_range
    if (syscall(SYS_close_range, first, last, 0) == 0)
        return;
#endif
    long most = sysconf(_SC_OPEN_MAX);
    for (unsigned fd = first; fd <= last && (long)fd < most; fd++)
        close((int)fd);
}

void ek_platform_die_with_parent(void)
{
#ifdef __linux__
    prctl(PR_SET_PDEATHSIG, SIGKILL);
#endif
}

char *ek_platform_own_path(void)
{
    return g_file_read_link("/proc/self/exe", NULL);
}

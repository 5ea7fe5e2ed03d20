/* SPDX-License-Identifier: MIT */
/* Put before a program with LD_PRELOAD, this stands between it and its files below SHIM_ROOT:
 * every write, truncate, creation, removal, rename and sync is appended to SHIM_LOG, so that a test
 * can compose what a disk would hold had the power gone at any moment. SHIM_FAIL makes one of them
 * fail: "sync N" the Nth sync (once, with EIO), "write N" the Nth write and all after it (ENOSPC).
 * SHIM_SPEED makes monotonic time run so many times as fast, so that what is done every few seconds
 * is done often in a short run. */
#include "disklog.h"

#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static long writes;
static long syncs;

/* The function of this name that would have been called without the shim. */
static void *next(const char *name)
{
    void *function = dlsym(RTLD_NEXT, name);
    if (function == NULL)
        abort();
    return function;
}

#define NEXT(type, name) ((type)(uintptr_t)next(name))

static int is_below(const char *path)
{
    const char *root = getenv("SHIM_ROOT");
    size_t length = root != NULL ? strlen(root) : 0;
    return length > 0 && strncmp(path, root, length) == 0 &&
           (path[length] == '/' || path[length] == 0);
}

/* Whether a descriptor is a file below the root, and which. */
static int path_of(int fd, char path[PATH_MAX])
{
    char link[64];
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(link, path, PATH_MAX - 1);
    if (length <= 0)
        return 0;
    path[length] = 0;
    return is_below(path);
}

static void put(int fd, const void *data, size_t length)
{
    ssize_t (*real)(int, const void *, size_t) =
        NEXT(ssize_t(*)(int, const void *, size_t), "write");
    const char *at = data;
    while (length > 0) {
        ssize_t done = real(fd, at, length);
        if (done <= 0)
            abort();
        at += done;
        length -= (size_t)done;
    }
}

/* Called with the lock held, so that the log has the order in which things happened. */
static void record(DiskOp op, uint64_t file, const char *path, uint64_t offset, const void *data,
                   uint64_t length)
{
    static int log = -1;
    if (log < 0) {
        int (*real)(const char *, int, ...) = NEXT(int (*)(const char *, int, ...), "open64");
        log = real(getenv("SHIM_LOG"), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0666);
        if (log < 0)
            abort();
    }
    DiskRecord header = {.op = (uint32_t)op, .file = file, .offset = offset, .length = length};
    header.path_length = path != NULL ? (uint32_t)strlen(path) : 0;
    put(log, &header, sizeof header);
    if (path != NULL)
        put(log, path, header.path_length);
    if (data != NULL)
        put(log, data, length);
}

static uint64_t inode_of(int fd)
{
    struct stat st;
    return fstat(fd, &st) == 0 ? st.st_ino : 0;
}

/* Whether this is the one that is to fail. */
static int is_to_fail(const char *what, long number)
{
    const char *wanted = getenv("SHIM_FAIL");
    size_t length = strlen(what);
    if (wanted == NULL || strncmp(wanted, what, length) != 0)
        return 0;
    long from = strtol(wanted + length, NULL, 10);
    return what[0] == 'w' ? number >= from : number == from;
}

/* Does this file belong to a drive that says it has written, and has not? */
static int is_lying(const char *path)
{
    const char *name = getenv("SHIM_LIES");
    const char *last = strrchr(path, '/');
    return name != NULL && last != NULL && strcmp(last + 1, name) == 0;
}

/* --- files --- */

static ssize_t write_at(int fd, const void *data, size_t length, off64_t offset)
{
    ssize_t (*real)(int, const void *, size_t, off64_t) =
        NEXT(ssize_t(*)(int, const void *, size_t, off64_t), "pwrite64");
    char path[PATH_MAX];
    if (!path_of(fd, path) || strstr(path, "-shm") != NULL)
        return real(fd, data, length, offset);
    if (is_lying(path))
        return (ssize_t)length;
    pthread_mutex_lock(&lock);
    ssize_t done = -1;
    if (is_to_fail("write", ++writes)) {
        errno = ENOSPC;
    } else {
        done = real(fd, data, length, offset);
        if (done > 0)
            record(DISK_WRITE, inode_of(fd), NULL, (uint64_t)offset, data, (uint64_t)done);
    }
    int kept = errno;
    pthread_mutex_unlock(&lock);
    errno = kept;
    return done;
}

ssize_t pwrite64(int fd, const void *data, size_t length, off64_t offset)
{
    return write_at(fd, data, length, offset);
}

ssize_t write(int fd, const void *data, size_t length)
{
    char path[PATH_MAX];
    if (!path_of(fd, path))
        return NEXT(ssize_t(*)(int, const void *, size_t), "write")(fd, data, length);
    ssize_t done = write_at(fd, data, length, lseek64(fd, 0, SEEK_CUR));
    if (done > 0)
        lseek64(fd, done, SEEK_CUR);
    return done;
}

int ftruncate64(int fd, off64_t length)
{
    int (*real)(int, off64_t) = NEXT(int (*)(int, off64_t), "ftruncate64");
    char path[PATH_MAX];
    if (!path_of(fd, path) || strstr(path, "-shm") != NULL)
        return real(fd, length);
    pthread_mutex_lock(&lock);
    int result = real(fd, length);
    if (result == 0)
        record(DISK_TRUNCATE, inode_of(fd), NULL, (uint64_t)length, NULL, 0);
    pthread_mutex_unlock(&lock);
    return result;
}

int fallocate64(int fd, int mode, off64_t offset, off64_t length)
{
    int (*real)(int, int, off64_t, off64_t) =
        NEXT(int (*)(int, int, off64_t, off64_t), "fallocate64");
    char path[PATH_MAX];
    if (!path_of(fd, path))
        return real(fd, mode, offset, length);
    pthread_mutex_lock(&lock);
    int result = real(fd, mode, offset, length);
    if (result == 0 && (mode & FALLOC_FL_PUNCH_HOLE) != 0)
        record(DISK_PUNCH, inode_of(fd), NULL, (uint64_t)offset, NULL, (uint64_t)length);
    pthread_mutex_unlock(&lock);
    return result;
}

static int sync_file(int fd, const char *name)
{
    int (*real)(int) = NEXT(int (*)(int), name);
    char path[PATH_MAX];
    if (!path_of(fd, path))
        return real(fd);
    pthread_mutex_lock(&lock);
    int fails = is_to_fail("sync", ++syncs);
    int result = fails ? -1 : real(fd);
    struct stat st;
    int is_folder = fstat(fd, &st) == 0 && S_ISDIR(st.st_mode);
    record(fails ? DISK_SYNC_FAILED : DISK_SYNC, inode_of(fd), path, (uint64_t)is_folder, NULL, 0);
    pthread_mutex_unlock(&lock);
    if (fails)
        errno = EIO;
    return result;
}

int fsync(int fd)
{
    return sync_file(fd, "fsync");
}

int fdatasync(int fd)
{
    return sync_file(fd, "fdatasync");
}

/* --- folders --- */

int open64(const char *name, int flags, ...)
{
    int (*real)(const char *, int, ...) = NEXT(int (*)(const char *, int, ...), "open64");
    va_list more;
    va_start(more, flags);
    mode_t mode = (flags & O_CREAT) != 0 ? va_arg(more, mode_t) : 0;
    va_end(more);
    struct stat st;
    pthread_mutex_lock(&lock);
    int is_new = (flags & O_CREAT) != 0 && stat(name, &st) != 0;
    int fd = real(name, flags, mode);
    int kept = errno;
    char path[PATH_MAX];
    if (fd >= 0 && path_of(fd, path) && strstr(path, "-shm") == NULL) {
        if (is_new)
            record(DISK_CREATE, inode_of(fd), path, 0, NULL, 0);
        else if ((flags & O_TRUNC) != 0)
            record(DISK_TRUNCATE, inode_of(fd), NULL, 0, NULL, 0);
    }
    pthread_mutex_unlock(&lock);
    errno = kept;
    return fd;
}

int unlink(const char *name)
{
    int (*real)(const char *) = NEXT(int (*)(const char *), "unlink");
    char path[PATH_MAX];
    struct stat st;
    int known = realpath(name, path) != NULL && is_below(path) && lstat(path, &st) == 0;
    pthread_mutex_lock(&lock);
    int result = real(name);
    if (result == 0 && known)
        record(DISK_UNLINK, st.st_ino, path, 0, NULL, 0);
    pthread_mutex_unlock(&lock);
    return result;
}

int rename(const char *from, const char *to)
{
    int (*real)(const char *, const char *) = NEXT(int (*)(const char *, const char *), "rename");
    char path[PATH_MAX];
    char now[PATH_MAX];
    int known = realpath(from, path) != NULL && is_below(path);
    pthread_mutex_lock(&lock);
    int result = real(from, to);
    int kept = errno;
    if (result == 0 && known && realpath(to, now) != NULL)
        record(DISK_RENAME, 0, path, 0, now, strlen(now));
    pthread_mutex_unlock(&lock);
    errno = kept;
    return result;
}

/* --- time --- */

int clock_gettime(clockid_t clock, struct timespec *now)
{
    static int (*real)(clockid_t, struct timespec *);
    static long long began;
    if (real == NULL)
        real = NEXT(int (*)(clockid_t, struct timespec *), "clock_gettime");
    int result = real(clock, now);
    const char *speed = getenv("SHIM_SPEED");
    if (clock != CLOCK_MONOTONIC || result != 0 || speed == NULL)
        return result;
    long long ns = now->tv_sec * 1000000000LL + now->tv_nsec;
    if (began == 0)
        began = ns;
    ns = began + (ns - began) * atoll(speed);
    now->tv_sec = ns / 1000000000LL;
    now->tv_nsec = ns % 1000000000LL;
    return result;
}

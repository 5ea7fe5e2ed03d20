/* SPDX-License-Identifier: MIT */
/* Requests and answers go over a socket pair, the data through shared memory. Between fork and the
 * end the child calls nothing but system calls: the parent has threads. */
#include "device/childreader.h"

#include "base/platform.h"

#include <errno.h>
#include <poll.h>
#include <signal.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#define POLL_MS 50
#define GRACE_US (300 * (gint64)1000) /* for a read to end by itself, once it is called off */

struct EkChildReader {
    int fd;
    int socket; /* -1: there is no child now */
    pid_t child;
    guint8 *shared; /* the child's and ours; NULL: there is no child now */
    gsize most;
    GArray *abandoned; /* pid_t: children that hang in the kernel, and end when their read does */
};

typedef struct {
    guint64 first;
    guint64 length;
} Request;

typedef struct {
    gint64 got;
    int errnum;
} Answer;

/* What the child does until its socket ends. */
static void serve(int socket_fd, int fd, guint8 *shared)
{
    Request request;
    while (read(socket_fd, &request, sizeof request) == (ssize_t)sizeof request) {
        Answer answer = {0, 0};
        while (answer.got < (gint64)request.length) {
            ssize_t got = pread(fd, shared + answer.got, (gsize)request.length - (gsize)answer.got,
                                (off_t)(request.first + (guint64)answer.got));
            if (got < 0 && errno == EINTR)
                continue;
            answer.errnum = got < 0 ? errno : 0;
            if (got <= 0)
                break;
            answer.got += got;
        }
        if (write(socket_fd, &answer, sizeof answer) != (ssize_t)sizeof answer)
            break;
    }
    _exit(0);
}

/* Everything but the two that are needed is closed: locks are held by open files. */
static void become_child(int socket_fd, int fd, guint8 *shared)
{
    sigset_t none;
    sigemptyset(&none);
    signal(SIGINT, SIG_IGN); /* Ctrl-C reaches the whole group: the parent decides */
    signal(SIGTERM, SIG_DFL);
    signal(SIGHUP, SIG_IGN);
    signal(SIGPIPE, SIG_IGN);
    sigprocmask(SIG_SETMASK, &none, NULL);
    ek_platform_die_with_parent();
    unsigned low = (unsigned)MIN(socket_fd, fd);
    unsigned high = (unsigned)MAX(socket_fd, fd);
    if (low > 0)
        ek_platform_close_range(0, low - 1);
    if (high > low + 1)
        ek_platform_close_range(low + 1, high - 1);
    ek_platform_close_range(high + 1, ~0u);
    serve(socket_fd, fd, shared);
}

/* Takes leave of those abandoned children that have ended since. */
static void reap(EkChildReader *reader)
{
    for (guint i = reader->abandoned->len; i > 0; i--)
        if (waitpid(g_array_index(reader->abandoned, pid_t, i - 1), NULL, WNOHANG) != 0)
            g_array_remove_index_fast(reader->abandoned, i - 1);
}

static void unmap(EkChildReader *reader)
{
    if (reader->shared != NULL)
        munmap(reader->shared, reader->most);
    reader->shared = NULL;
}

/* Each child has a mapping of its own: the read of one that was abandoned may still end, and write
 * into the memory it was given. */
static gboolean start(EkChildReader *reader)
{
    int pair[2];
    reap(reader);
    void *shared =
        mmap(NULL, reader->most, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (shared == MAP_FAILED)
        return FALSE;
    reader->shared = shared;
    if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair) != 0) {
        unmap(reader);
        return FALSE;
    }
    reader->child = fork();
    if (reader->child == 0)
        become_child(pair[1], reader->fd, reader->shared);
    close(pair[1]);
    reader->socket = pair[0];
    if (reader->child > 0)
        return TRUE;
    close(pair[0]);
    reader->socket = -1;
    unmap(reader);
    return FALSE;
}

/* Leaves the child behind: one that hangs in the kernel ends when its read does. */
static void stop(EkChildReader *reader)
{
    if (reader->socket < 0)
        return;
    close(reader->socket);
    reader->socket = -1;
    unmap(reader);
    kill(reader->child, SIGKILL);
    g_array_append_val(reader->abandoned, reader->child);
    reap(reader);
}

EkChildReader *ek_child_reader_new(int fd, gsize most)
{
    EkChildReader *reader = g_new0(EkChildReader, 1);
    reader->fd = fd;
    reader->most = most;
    reader->socket = -1;
    reader->abandoned = g_array_new(FALSE, FALSE, sizeof(pid_t));
    if (start(reader))
        return reader;
    int errnum = errno;
    ek_child_reader_free(reader);
    errno = errnum;
    return NULL;
}

void ek_child_reader_free(EkChildReader *reader)
{
    stop(reader);
    /* A child that does not hang ends at once. */
    for (int i = 0; i < 20 && reader->abandoned->len > 0; i++) {
        reap(reader);
        if (reader->abandoned->len > 0)
            g_usleep(5000);
    }
    g_array_unref(reader->abandoned);
    g_free(reader);
}

/* Waits for the answer. FALSE when it is called off while it hangs. */
static gboolean wait_for_answer(const EkChildReader *reader, const gint *cancel)
{
    gint64 called_off = 0;
    for (;;) {
        struct pollfd wait = {.fd = reader->socket, .events = POLLIN};
        if (poll(&wait, 1, POLL_MS) > 0)
            return TRUE;
        if (cancel == NULL || g_atomic_int_get(cancel) == 0)
            continue;
        gint64 now = g_get_monotonic_time();
        if (called_off == 0)
            called_off = now;
        if (now - called_off > GRACE_US)
            return FALSE;
    }
}

EkChildReaderAnswer ek_child_reader_read(EkChildReader *reader, EkByte first, guint8 *buffer,
                                         gsize length, const gint *cancel)
{
    Request request = {first, length};
    Answer answer;
    g_assert(length <= reader->most);
    if (reader->socket < 0 && !start(reader))
        return (EkChildReaderAnswer){.got = -1, .errnum = errno};
    if (send(reader->socket, &request, sizeof request, MSG_NOSIGNAL) != (ssize_t)sizeof request) {
        stop(reader);
        return (EkChildReaderAnswer){.got = -1, .errnum = ECONNRESET};
    }
    if (!wait_for_answer(reader, cancel)) {
        stop(reader);
        return (EkChildReaderAnswer){.got = -1, .errnum = ETIMEDOUT, .abandoned = TRUE};
    }
    if (recv(reader->socket, &answer, sizeof answer, 0) != (ssize_t)sizeof answer) {
        stop(reader); /* somebody killed it */
        return (EkChildReaderAnswer){.got = -1, .errnum = ECONNRESET};
    }
    memcpy(buffer, reader->shared, (gsize)answer.got);
    return (EkChildReaderAnswer){.got = (gssize)answer.got, .errnum = answer.errnum};
}

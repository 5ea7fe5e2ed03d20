/* SPDX-License-Identifier: MIT */
/* Asking smartctl: one run of it, with an end to its time and to what it may print. */
#include "device/health.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define PATIENCE_US (20 * G_USEC_PER_SEC)
#define WAKE_MS 100
#define OUTPUT_MOST (4u << 20) /* bytes; that of a server's drive has 60 KiB */

/* Administration's programs are not in the path of every user. */
static char *find_smartctl(void)
{
    char *found = g_find_program_in_path("smartctl");
    if (found == NULL && g_file_test("/usr/sbin/smartctl", G_FILE_TEST_IS_EXECUTABLE))
        found = g_strdup("/usr/sbin/smartctl");
    return found;
}

static gboolean is_called_off(const gint *cancel)
{
    return cancel != NULL && g_atomic_int_get(cancel) != 0;
}

/* All that comes, until it ends. FALSE: it did not in time, or there is no end to it. */
static gboolean gather(int fd, GString *text, const gint *cancel)
{
    gint64 until = g_get_monotonic_time() + PATIENCE_US;
    struct pollfd asked = {fd, POLLIN, 0};
    char buffer[8192];
    while (g_get_monotonic_time() < until && !is_called_off(cancel) && text->len < OUTPUT_MOST) {
        if (poll(&asked, 1, WAKE_MS) <= 0)
            continue;
        ssize_t got = read(fd, buffer, sizeof buffer);
        if (got == 0)
            return TRUE;
        if (got < 0 && errno != EINTR && errno != EAGAIN)
            return FALSE;
        if (got > 0)
            g_string_append_len(text, buffer, got);
    }
    return FALSE;
}

/* One that hangs inside the kernel ends when its command does: it is not waited for. */
static void end_child(GPid pid, gboolean has_ended)
{
    if (!has_ended)
        kill(pid, SIGKILL);
    waitpid(pid, NULL, has_ended ? 0 : WNOHANG);
    g_spawn_close_pid(pid);
}

static void own_group(gpointer data)
{
    (void)data;
    setpgid(0, 0); /* Ctrl-C is for us: the question comes to its end or is called off */
}

void ek_health_ask(const char *node, gboolean asleep_is_left, const gint *cancel, EkHealth *health)
{
    g_autofree char *program = find_smartctl();
    if (program == NULL) {
        ek_health_init(health, "smartctl, which asks drives for their health, is not installed "
                               "(on Debian: apt-get install smartmontools)");
        return;
    }
    char *arguments[] = {program,
                         (char *)"--json=c",
                         (char *)"--info",
                         (char *)"--health",
                         (char *)"--attributes",
                         (char *)(asleep_is_left ? "--nocheck=standby" : "--nocheck=never"),
                         (char *)node,
                         NULL};
    int output = -1;
    GPid pid = 0;
    g_autoptr(GError) error = NULL;
    if (!g_spawn_async_with_pipes(NULL, arguments, NULL,
                                  G_SPAWN_DO_NOT_REAP_CHILD | G_SPAWN_STDERR_TO_DEV_NULL, own_group,
                                  NULL, &pid, NULL, &output, NULL, &error)) {
        ek_health_init(health, error->message);
        return;
    }
    g_autoptr(GString) text = g_string_new(NULL);
    gboolean has_ended = gather(output, text, cancel);
    close(output);
    end_child(pid, has_ended);
    ek_health_init(health, has_ended ? "smartctl gave no answer that can be read"
                                     : "the drive did not answer when asked for its health");
    if (has_ended)
        (void)ek_health_parse(text->str, text->len, health);
}

/* SPDX-License-Identifier: MIT */
/* NBD servers that lie, hang, or say nothing; and what a server gives is asked for once. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#define SOURCE "nbd+unix:///?socket=socket"

/* A request that touches a bad sector fails as a whole; every one is noted. */
static const char server_script[] =
    "case $1 in\n"
    "get_size) stat -c %s drive.img;;\n"
    "pread) f=$(($4 / 512)); l=$((f + $3 / 512)); e=ok\n"
    "  while read b; do test $b -ge $f && test $b -lt $l && e=bad; done < bad\n"
    "  echo $e $f $l >> log\n"
    "  test $e = ok || { echo EIO bad sector >&2; exit 1; }\n"
    "  dd if=drive.img bs=512 skip=$f count=$((l - f)) 2>/dev/null;;\n"
    "thread_model) echo parallel;;\n"
    "*) exit 2;;\n"
    "esac\n";

/* Starts nbdkit with these words, and waits until it listens. */
static void serve(const char *words)
{
    must("rm -f socket && PATH=$PATH:/usr/sbin nbdkit -U \"$PWD/socket\" -P \"$PWD/pid\" %s",
         words);
    must("for i in $(seq 100); do test -S socket && test -s pid && exit; sleep 0.05; done; exit 1");
}

static void stop_server(void)
{
    must("kill -9 $(cat pid); rm -f socket pid");
}

/* Runs it, sends a signal after `wait_ms`, and returns how long it then took, in ms. */
static gint64 interrupted_after(const char *command, guint wait_ms, int number, int *status)
{
    pid_t child = ektypon_start("%s", command);
    g_usleep(wait_ms * 1000);
    gint64 began = g_get_monotonic_time();
    kill(child, number);
    waitpid(child, status, 0);
    return (g_get_monotonic_time() - began) / 1000;
}

static void sizes_that_cannot_be_are_refused(void)
{
    serve("eval get_size='echo 9223372036854775807' pread='dd if=/dev/zero bs=$3 count=1'");
    g_auto(Result) made = ektypon("new bench " SOURCE);
    CHECK_STATUS(made, 1);
    CHECK_CONTAINS(made.err, "claims a size of 8.0 EiB");
    must("test ! -e bench");
    stop_server();
}

/* A server that was honest when the case was made, and is not any more. */
static void a_size_that_changes_is_told(void)
{
    must("truncate -s 4M drive.img");
    serve("file drive.img");
    done("new bench " SOURCE);
    stop_server();
    serve("eval get_size='echo 9223372036854775296' pread='dd if=/dev/zero bs=$3 count=1'");
    g_auto(Result) image = ektypon("image bench --no-wait");
    CHECK(image.status == 1);
    CHECK_CONTAINS(image.err, "claims a size");
    stop_server();
}

/* It takes the connection, and that is all. */
static void a_silent_server_is_left(void)
{
    struct sockaddr_un address = {.sun_family = AF_UNIX, .sun_path = "socket"};
    int listener = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    CHECK(bind(listener, (struct sockaddr *)&address, sizeof address) == 0 &&
          listen(listener, 5) == 0);
    static const int numbers[] = {SIGINT, SIGTERM, SIGHUP};
    for (gsize i = 0; i < G_N_ELEMENTS(numbers); i++) {
        int status = 0;
        gint64 took = interrupted_after("new bench " SOURCE, 300, numbers[i], &status);
        CHECK(took < 1000);
        CHECK(WIFEXITED(status) && WEXITSTATUS(status) == 130);
        must("test ! -e bench");
    }
    close(listener);
}

/* Where holes are is asked, and never answered; or a read is. */
static void a_hanging_question_is_called_off(void)
{
    static const char *const servers[] = {
        "sh - <<'EOF'\ncase $1 in get_size) echo 8388608;; can_extents) exit 0;; "
        "extents) sleep 100;; pread) dd if=/dev/zero bs=$3 count=1 2>/dev/null;; *) exit 2;; "
        "esac\nEOF",
        "sh - <<'EOF'\ncase $1 in get_size) echo 8388608;; pread) test $4 -lt 4194304 || sleep "
        "100; "
        "dd if=/dev/zero bs=$3 count=1 2>/dev/null;; *) exit 2;; esac\nEOF"};
    for (gsize i = 0; i < G_N_ELEMENTS(servers); i++) {
        int status = 0;
        must("rm -rf bench");
        serve(servers[i]);
        done("new bench " SOURCE);
        gint64 took = interrupted_after("image bench", 600, SIGINT, &status);
        CHECK(took < 1000);
        CHECK(WIFEXITED(status) && WEXITSTATUS(status) == 130);
        g_auto(Result) after = ektypon("map bench");
        CHECK_STATUS(after, 0);
        stop_server();
    }
}

/* Each sector that came is asked for once, however many around it failed. */
static void what_came_is_not_asked_for_again(void)
{
    gsize length = 64 << 20;
    g_autofree guint8 *drive = g_malloc(length);
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    fill_noise(drive, length, g_rand_int(random));
    write_file("drive.img", drive, length);
    g_autoptr(GString) bad = g_string_new(NULL);
    for (int i = 0; i < 12; i++)
        g_string_append_printf(bad, "%d\n", g_rand_int_range(random, 0, (gint32)(length / 512)));
    write_file("bad", bad->str, bad->len);
    write_file("server", server_script, strlen(server_script));
    must("chmod +x server && cat > wrap <<EOF\n#!/bin/sh\ncd \"$PWD\" && exec sh ./server "
         "\"\\$@\"\nEOF\n"
         "chmod +x wrap");
    serve("-t 16 sh \"$PWD/wrap\"");
    done("new bench " SOURCE);
    must("rm -f log");
    done("image bench --all-rounds");
    stop_server();
    g_auto(Result) status = ektypon("status bench --json");
    json_t *json = result_json(&status);
    g_auto(Result) failed = shell("grep -c bad log");
    CHECK_NUMBER(json_u64(json, "failed_commands"), g_ascii_strtoll(failed.out, NULL, 10));
    json_decref(json);
    g_auto(Result) twice =
        shell("awk '$1 == \"ok\" { for (i = $2; i < $3; i++) n[i]++ } "
              "END { for (i in n) if (n[i] > 1) again++; print again + 0 }' log");
    /* A few good sectors tell whether it still reads, where something failed to the last. */
    CHECK(g_ascii_strtoll(twice.out, NULL, 10) <= 4);
    g_auto(Result) map = ektypon("map bench --json");
    CHECK_CONTAINS(map.out, "\"bad\":");
    gsize image_length = 0;
    g_autofree guint8 *image = read_file("bench/image.raw", &image_length);
    guint64 differing = 0;
    for (gsize at = 0; at < length; at += 512)
        differing += memcmp(image + at, drive + at, 512) != 0;
    g_auto(Result) distinct = shell("sort -u bad | wc -l");
    CHECK_NUMBER(differing, g_ascii_strtoll(distinct.out, NULL, 10));
}

int main(void)
{
    static const Test tests[] = {
        {"sizes that cannot be are refused", sizes_that_cannot_be_are_refused},
        {"a size that changes is told", a_size_that_changes_is_told},
        {"a silent server is left", a_silent_server_is_left},
        {"a hanging question is called off", a_hanging_question_is_called_off},
        {"what came is not asked for again", what_came_is_not_asked_for_again},
    };
    return RUN_TESTS("servers", tests);
}

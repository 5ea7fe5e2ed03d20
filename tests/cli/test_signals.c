/* SPDX-License-Identifier: MIT */
/* Every command ends within a second of SIGINT, SIGTERM and SIGHUP, at whatever moment they come,
 * and what it was at can be finished afterwards as if nothing had been. */
#include "check.h"
#include "program.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/statvfs.h>
#include <sys/wait.h>
#include <unistd.h>

#define MOMENTS 1
#define LONGEST_MS 1000
#define SLOWER 5 /* times, in a build with sanitizers */
#define TRIES 3  /* a busy machine is late now and then, a command that does not end always is */
#define MEMORY "/dev/shm"
#define MEMORY_LEAST (4ull << 30)

typedef struct {
    const char *command;
    guint longest_ms;   /* a moment is drawn below that */
    const char *verify; /* after it was run to its end */
} Case;

/* Each begins with the case `ready` copied to `bench`, and the target as it was. */
static const Case cases[] = {
    {"new other drive.img", 30, "test -e other/case.db && rm -rf other"},
    {"image bench --again 1 --compare 2000", 60, "cmp bench/image.raw ready/image.raw"},
    {"image fresh --rate-limit 100M", 600, "cmp fresh/image.raw drive.img"},
    {"image bench --check", 60, "true"},
    {"image bench --sha256", 60, "true"},
    {"hunt unhunted", 80, "%s volumes unhunted > v 2>/dev/null && cmp v volumes.was"},
    {"plan bench", 40, "true"},
    {"index unhunted 1", 80, "true"},
    {"ls bench 1", 40, "true"},
    {"tree bench 1", 60, "true"},
    {"find bench 1 --sort name", 60, "true"},
    {"find bench --by-content --kind pictures", 300, "true"},
    {"peek bench \"1:f 12.txt\"", 200, "true"},
    {"extract bench 1 --to out", 400,
     "find out -type f | wc -l | grep -qx 401 && ! find out -name '.ektypon*' | grep -q . && "
     "cd out && tail -n +2 extracted.csv | tr -d '\\r\"' | awk -F, '{print $6\"  \"$4}' | sort -u "
     "| "
     "sha256sum -c --quiet"},
    {"clone bench clone.img", 250, "cmp clone.img clone.was"},
    {"apply bench target.img", 40, "cmp target.img clone.was"},
    {"undo bench applied.img", 40, "cmp applied.img drive.img"},
    {"map bench --png map.png", 300, "file map.png | grep -q PNG"},
    {"volumes bench --svg v.svg", 100, "grep -q '</svg>' v.svg"},
    {"status bench", 30, "true"},
    {"log bench", 30, "true"},
};

static void make_ready(void)
{
    must("mkdir src && for i in $(seq 400); do head -c 20000 /dev/urandom > \"src/f $i.txt\"; done "
         "&& "
         "truncate -s 40M v.img && mke2fs -q -F -t ext4 -L Catalogue -d src v.img && "
         "truncate -s 42M drive.img && dd if=v.img of=drive.img bs=1M seek=1 conv=notrunc "
         "status=none "
         "&& rm -r v.img src");
    done("new ready drive.img");
    must("cp -r ready fresh.kept");
    done("image ready");
    must("cp -r ready unhunted.kept");
    done("hunt ready");
    must("%s volumes ready > volumes.was 2>/dev/null", EKTYPON_PROGRAM_PATH);
    done("plan ready");
    done("index ready 1");
    done("clone ready clone.was");
    must("cp drive.img target.kept");
    must("cp -r ready bench && cp drive.img applied.img && %s apply bench applied.img >/dev/null "
         "2>&1 && "
         "cp applied.img applied.kept && cp -r bench applied.case",
         EKTYPON_PROGRAM_PATH);
}

static void restore(const Case *one)
{
    gboolean undoes = g_str_has_prefix(one->command, "undo");
    must("rm -rf bench out clone.img map.png v.svg fresh unhunted other .other*; "
         "cp -r %s bench; cp target.kept target.img; cp applied.kept applied.img",
         undoes ? "applied.case" : "ready");
    if (strstr(one->command, "fresh") != NULL)
        must("cp -r fresh.kept fresh");
    if (strstr(one->command, "unhunted") != NULL)
        must("cp -r unhunted.kept unhunted && { test %d = 0 || %s hunt unhunted >/dev/null 2>&1; }",
             strstr(one->command, "index") != NULL, EKTYPON_PROGRAM_PATH);
    /* The target is the same file each time: what names it for good is its inode. */
}

/* Starts the command, sends it the signal after `wait` us. How many ms it took to end. */
static gint64 end_after(const Case *one, int number, guint wait, int *status)
{
    restore(one);
    pid_t child = ektypon_start("%s", one->command);
    g_usleep(wait);
    gint64 began = g_get_monotonic_time();
    kill(child, number);
    waitpid(child, status, 0);
    return (g_get_monotonic_time() - began) / 1000;
}

static void interrupt_once(const Case *one, GRand *random)
{
    static const int numbers[] = {SIGINT, SIGTERM, SIGHUP};
    int number = numbers[g_rand_int_range(random, 0, 3)];
    guint wait = (guint)g_rand_int_range(random, 0, (gint32)one->longest_ms * 1000);
    gint64 longest = LONGEST_MS * (is_sanitized() ? SLOWER : 1);
    int status = 0;
    gint64 took = longest;
    for (int i = 0; i < TRIES && took >= longest; i++)
        took = end_after(one, number, wait, &status);
    int code = WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
    /* Before it is up the signal is the system's to handle. */
    gboolean early = WIFSIGNALED(status) && WTERMSIG(status) == number;
    guint before = CU_get_number_of_failures();
    CHECK(took < longest);
    CHECK(early || code == 130 || code == 0 || code == 3);
    /* To its end now; a target that was finished already is no longer blank. */
    g_auto(Result) again = ektypon("%s", one->command);
    gboolean done_before = code == 0 && strstr(one->command, "clone") != NULL;
    gboolean made_before = strstr(one->command, "new ") != NULL && again.status == 4;
    gboolean undone_before = code == 0 && g_str_has_prefix(one->command, "undo");
    CHECK(again.status == 0 || again.status == 3 || done_before || made_before || undone_before);
    g_autofree char *verify = NULL;
    if (strstr(one->verify, "%s") != NULL) {
        g_auto(GStrv) parts = g_strsplit(one->verify, "%s", 2);
        verify = g_strconcat(parts[0], EKTYPON_PROGRAM_PATH, parts[1], NULL);
    }
    g_auto(Result) right = shell("%s", verify != NULL ? verify : one->verify);
    CHECK_STATUS(right, 0);
    g_auto(Result) left = shell("ls -A | grep -E 'ektypon-new|\\.png\\.|\\.svg\\.'");
    CHECK_TEXT(left.out, "");
    if (CU_get_number_of_failures() != before)
        fprintf(stderr, "\nthat was: %s, signal %d after %u ms: status %d, %d ms; then %d\n%s",
                one->command, number, wait / 1000, code, (int)took, again.status, again.err);
}

static void commands_end_within_a_second(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_MOMENTS");
    int timestamps = wanted != NULL ? atoi(wanted) : MOMENTS;
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    make_ready();
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++)
        for (int k = 0; k < timestamps; k++)
            interrupt_once(&cases[i], random);
}

/* --- two of every command at once ------------------------------------------------------------ */

static void two_of_every_command_get_along(void)
{
    make_ready();
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        const Case *one = &cases[i];
        int status = 0;
        restore(one);
        pid_t child = ektypon_start("%s", one->command);
        g_auto(Result) other = ektypon("%s", one->command);
        waitpid(child, &status, 0);
        int first = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
        gboolean fine =
            (first == 0 || first == 3 || first == 4 || first == 1) &&
            (other.status == 0 || other.status == 3 || other.status == 4 || other.status == 1) &&
            (first == 0 || first == 3 || other.status == 0 || other.status == 3);
        CHECK(fine);
        g_auto(Result) again = ektypon("%s", one->command);
        CHECK(again.status < 1000);
        g_auto(GStrv) parts = g_strsplit(one->verify, "%s", 2);
        g_autofree char *verify =
            g_strconcat(parts[0], parts[1] != NULL ? EKTYPON_PROGRAM_PATH : "",
                        parts[1] != NULL ? parts[1] : "", NULL);
        g_auto(Result) right = shell("%s", verify);
        CHECK_STATUS(right, 0);
        if (!fine || right.status != 0)
            fprintf(stderr, "\nthat was: %s: %d and %d\n%s", one->command, first, other.status,
                    other.err);
    }
}

/* --- output that nobody takes ------------------------------------------------------------------
 */

static void output_that_is_lost_is_a_failure(void)
{
    static const char *const commands[] = {
        "status ready", "status ready --json", "log ready",         "volumes ready",
        "ls ready 1",   "ls ready 1 --json",   "tree ready 1",      "tree ready 1 --json",
        "find ready 1", "map ready --json",    "plan ready --show", "help",
        "drives",       "--version",           "help image"};
    make_ready();
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) full = shell("%s %s > /dev/full", EKTYPON_PROGRAM_PATH, commands[i]);
        CHECK_STATUS(full, 1);
        CHECK_CONTAINS(full.err, "could not be written");
        g_auto(Result) closed = shell("%s %s >&-", EKTYPON_PROGRAM_PATH, commands[i]);
        CHECK_STATUS(closed, 1);
        /* One end of a pipe that nobody reads. */
        g_auto(Result) pipe = shell("{ sleep 0.1; %s %s; echo $? > code; } | true; cat code",
                                    EKTYPON_PROGRAM_PATH, commands[i]);
        CHECK_TEXT(pipe.out, "1\n");
    }
    must("cp -r ready bench");
    g_auto(Result) sums = ektypon("extract bench 1 --to out --sums /dev/full");
    CHECK(sums.status != 0);
    g_auto(Result) picture = ektypon("map bench --png /dev/full");
    CHECK_STATUS(picture, 1);
}

/* Where there is room, in memory: how long a disk takes to flush is not what is measured here. */
static void work_in_memory(void)
{
    struct statvfs room;
    if (g_getenv("TMPDIR") == NULL && statvfs(MEMORY, &room) == 0 &&
        (guint64)room.f_bavail * room.f_frsize >= MEMORY_LEAST && access(MEMORY, W_OK) == 0)
        g_setenv("TMPDIR", MEMORY, TRUE);
}

int main(void)
{
    work_in_memory();
    static const Test tests[] = {
        {"commands end within a second", commands_end_within_a_second},
        {"two of every command get along", two_of_every_command_get_along},
        {"output that is lost is a failure", output_that_is_lost_is_a_failure},
    };
    return RUN_TESTS("signals", tests);
}

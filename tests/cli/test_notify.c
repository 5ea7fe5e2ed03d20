/* SPDX-License-Identifier: MIT */
/* --notify: whoever waits for a long command is told how it ended. */
#include "check.h"
#include "program.h"

#include <signal.h>
#include <string.h>
#include <sys/wait.h>

#define TELL                                                                                       \
    "--notify 'echo $EKTYPON_CASE $EKTYPON_COMMAND $EKTYPON_STATUS $EKTYPON_OUTCOME >>told; echo " \
    "heard'"

static void check_told(const char *wanted)
{
    g_auto(Result) told = shell("cat told; rm -f told");
    CHECK_TEXT(g_strchomp(told.out), wanted);
}

static void each_end_is_told(void)
{
    unpack_demo();
    done("new bench sim:drive.model");
    g_auto(Result) stopped = ektypon("image bench --failed-reads 1 " TELL);
    CHECK_STATUS(stopped, 3);
    check_told("bench image 3 stopped");
    done("image bench " TELL);
    check_told("bench image 0 done");
    g_auto(Result) hunted = ektypon("hunt bench --progress json " TELL);
    CHECK_STATUS(hunted, 0);
    check_told("bench hunt 0 done");
    done("carve bench " TELL);
    check_told("bench carve 0 done");
    g_auto(Result) extracted = ektypon("extract bench 1 --to out --json " TELL);
    CHECK_STATUS(extracted, 3);
    check_told("bench extract 3 stopped");
    /* What it prints is not in the command's own output. */
    json_t *json = result_json(&extracted);
    CHECK(json != NULL);
    json_decref(json);
    CHECK_CONTAINS(extracted.err, "heard");
    g_auto(Result) refused = ektypon("extract bench 1 --to bench/image.raw " TELL);
    CHECK(refused.status == 1 || refused.status == 4);
    check_told(refused.status == 4 ? "bench extract 4 refused" : "bench extract 1 failed");
    g_auto(Result) failed = ektypon("hunt none " TELL);
    CHECK_STATUS(failed, 1);
    check_told("none hunt 1 failed");
    /* Nothing began. */
    g_auto(Result) misused = ektypon("hunt " TELL);
    CHECK_STATUS(misused, 2);
    must("test ! -e told");
}

static void what_is_run_changes_nothing(void)
{
    must("truncate -s 4M v.img");
    done("new bench --adopt v.img");
    g_auto(Result) failing = ektypon("hunt bench --notify 'exit 7'");
    CHECK_STATUS(failing, 0);
    CHECK_CONTAINS(failing.err, "--notify: ");
    g_auto(Result) missing = ektypon("hunt bench --notify /none/such");
    CHECK_STATUS(missing, 0);
    CHECK_CONTAINS(missing.err, "--notify: ");
    /* A case whose name the shell would take for something is passed on as it is. */
    must("mv bench 'a $(touch got) b'");
    done("hunt 'a $(touch got) b' --notify 'test \"$EKTYPON_CASE\" = \"a \\$(touch got) b\" && "
         ": >right'");
    must("test -e right && test ! -e got");
}

static void an_interruption_is_told(void)
{
    must("head -c 40M /dev/urandom >drive.img");
    done("new bench drive.img");
    pid_t pid = ektypon_start("image bench --rate-limit 2M " TELL);
    g_usleep(700000);
    int status = 0;
    kill(pid, SIGINT);
    waitpid(pid, &status, 0);
    CHECK(WIFEXITED(status) && WEXITSTATUS(status) == 130);
    check_told("bench image 130 interrupted");
}

int main(void)
{
    static const Test tests[] = {
        {"each end is told", each_end_is_told},
        {"what is run changes nothing", what_is_run_changes_nothing},
        {"an interruption is told", an_interruption_is_told},
    };
    return RUN_TESTS("notify", tests);
}

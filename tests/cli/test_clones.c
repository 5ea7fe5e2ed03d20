/* SPDX-License-Identifier: MIT */
/* clone to several targets at once: each is the same, each is noted by itself, and one that fails
 * does not stop the others. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <string.h>

static void make_plan(void)
{
    hunt_demo();
    done("plan bench");
}

static void all_are_written(void)
{
    make_plan();
    done("clone bench one.raw");
    g_auto(Result) three = ektypon("clone bench two.raw three.raw four.raw");
    CHECK_STATUS(three, 0);
    CHECK_CONTAINS(three.out, "two.raw contains the image with the plan's");
    CHECK_CONTAINS(three.out, "four.raw contains the image with the plan's");
    must("cmp one.raw two.raw && cmp one.raw three.raw && cmp one.raw four.raw");
    g_auto(Result) log = ektypon("log bench");
    CHECK_CONTAINS(log.out, "two.raw written and verified; ");
    /* Each has its own way back. */
    done("undo bench three.raw");
    done("clone bench imaged.raw again.raw --as-imaged");
    must("cmp imaged.raw again.raw && cmp imaged.raw three.raw && cmp one.raw four.raw");
    g_auto(Result) status = ektypon("status bench");
    CHECK_CONTAINS(status.out, "three.raw is as it was before");
    CHECK_CONTAINS(status.out, "four.raw has the plan's edits");
    /* No image is written where the others were not read from. */
    must("test $(stat -c %%b one.raw) -lt $(($(stat -c %%s one.raw) / 512))");
}

static void one_that_fails_stops_no_other(void)
{
    make_plan();
    must("mkdir bad && truncate -s 0 log");
    for (guint i = 0; i < 2; i++) {
        static const char *const fails[] = {"write 3", "sync 1"};
        g_auto(Result) mixed =
            shell("env LD_PRELOAD=" EKTYPON_SHIM_PATH " SHIM_ROOT=$PWD/bad SHIM_LOG=$PWD/log "
                  "SHIM_FAIL='%s' %s clone bench good%u.raw bad/c%u.raw also%u.raw",
                  fails[i], EKTYPON_PROGRAM_PATH, i, i, i);
        if (is_sanitized())
            return; /* its runtime must come first */
        CHECK_STATUS(mixed, 1);
        CHECK_CONTAINS(mixed.out, "good");
        CHECK_CONTAINS(mixed.out, "also");
        CHECK(strstr(mixed.out, "bad/") == NULL);
        g_autofree char *named = g_strdup_printf("bad/c%u.raw", i);
        CHECK_CONTAINS(mixed.err, named);
        must("cmp good%u.raw also%u.raw", i, i);
        /* The same again puts it right. */
        done("clone bench bad/c%u.raw", i);
        must("cmp good%u.raw bad/c%u.raw", i, i);
    }
    g_auto(Result) log = ektypon("log bench");
    CHECK_CONTAINS(log.out, "failed in part");
}

static void targets_are_asked_about_before(void)
{
    make_plan();
    must("mkdir taken && printf x >taken/file.raw");
    static const char *const orders[] = {
        "a.raw a.raw",           "a.raw ./a.raw",    "a.raw taken/../a.raw", "a.raw taken/file.raw",
        "a.raw bench/image.raw", "a.raw none/b.raw", "a.raw drive.img"};
    for (gsize i = 0; i < G_N_ELEMENTS(orders); i++) {
        g_auto(Result) refused = ektypon("clone bench %s", orders[i]);
        if (refused.status != 4 && refused.status != 1)
            printf("%s ", orders[i]);
        CHECK(refused.status == 4 || refused.status == 1);
        must("! test -e a.raw && test $(cat taken/file.raw) = x");
    }
    g_auto(Result) none = ektypon("clone bench");
    CHECK_STATUS(none, 2);
}

int main(void)
{
    static const Test tests[] = {
        {"all are written", all_are_written},
        {"one that fails stops no other", one_that_fails_stops_no_other},
        {"targets are asked about before", targets_are_asked_about_before},
    };
    return RUN_TESTS("clones", tests);
}

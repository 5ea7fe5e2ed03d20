/* SPDX-License-Identifier: MIT */
/* Assertions that print both sides, and what every test program shares. */
#include "check.h"

#include "base/error.h"
#include "leftovers.h"

#include <CUnit/Basic.h>
#include <glib/gstdio.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/statvfs.h>
#include <sys/wait.h>
#include <unistd.h>

#define EXIT_SKIPPED 77 /* tests/CMakeLists.txt */

static void verdict(gboolean fine, const char *message, const char *file, unsigned line)
{
    if (!fine)
        fprintf(stderr, "\n%s:%u: %s\n", file, line, message);
    CU_assertImplementation(fine ? CU_TRUE : CU_FALSE, line, fine ? "fine" : message, file, "",
                            CU_FALSE);
}

void check_true(gboolean holds, const char *what, const char *file, unsigned line)
{
    verdict(holds, what, file, line);
}

void check_number(gint64 got, gint64 wanted, const char *what, const char *file, unsigned line)
{
    g_autofree char *message =
        g_strdup_printf("%s is %" G_GINT64_FORMAT ", wanted %" G_GINT64_FORMAT, what, got, wanted);
    verdict(got == wanted, message, file, line);
}

void check_text(const char *got, const char *wanted, const char *what, const char *file,
                unsigned line)
{
    g_autofree char *message =
        g_strdup_printf("%s is\n  \"%s\"\nwanted\n  \"%s\"", what, got != NULL ? got : "(none)",
                        wanted != NULL ? wanted : "(none)");
    verdict(g_strcmp0(got, wanted) == 0, message, file, line);
}

void check_contains(const char *text, const char *part, const char *file, unsigned line)
{
    g_autofree char *message =
        g_strdup_printf("\"%s\" is not in\n%s", part, text != NULL ? text : "(none)");
    verdict(text != NULL && strstr(text, part) != NULL, message, file, line);
}

void check_bytes(const void *got, const void *wanted, gsize length, const char *what,
                 const char *file, unsigned line)
{
    gsize at = 0;
    while (at < length && ((const guint8 *)got)[at] == ((const guint8 *)wanted)[at])
        at++;
    g_autofree char *message =
        at == length
            ? g_strdup("")
            : g_strdup_printf("%s differs at byte %" G_GSIZE_FORMAT ": %02x, wanted %02x", what, at,
                              ((const guint8 *)got)[at], ((const guint8 *)wanted)[at]);
    verdict(at == length, message, file, line);
}

void check_error(GError **error, int code, const char *part, const char *file, unsigned line)
{
    const char *message = *error != NULL ? (*error)->message : "no error";
    if (code < 0) {
        verdict(*error == NULL, message, file, line);
    } else {
        g_autofree char *text =
            g_strdup_printf("wanted error %d with \"%s\", got %d: %s", code, part,
                            *error != NULL ? (*error)->code : -1, message);
        verdict(g_error_matches(*error, EK_ERROR, code) && strstr(message, part) != NULL, text,
                file, line);
    }
    g_clear_error(error);
}

#define SEED 20260501u

guint32 test_seed(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_SEED");
    guint32 seed = wanted != NULL ? (guint32)g_ascii_strtoull(wanted, NULL, 10) : SEED;
    printf(" seed %u (repeat with EKTYPON_TEST_SEED=%u) ", seed, seed);
    fflush(stdout);
    return seed;
}

guint test_number(const char *name, guint otherwise)
{
    const char *text = g_getenv(name);
    return text != NULL ? (guint)g_ascii_strtoull(text, NULL, 10) : otherwise;
}

static gboolean has_skipped;

void skip(const char *why)
{
    has_skipped = TRUE;
    printf(" SKIPPED: %s ", why);
}

gboolean is_root(void)
{
    return geteuid() == 0;
}

/* --- a fresh folder for each test ------------------------------------------------------------ */

static const Test *all_tests;
static gsize test_index;

static void run_next(void)
{
    g_autofree char *before = g_get_current_dir();
    g_autofree char *folder = g_build_filename(before, "test-XXXXXX", NULL);
    if (g_mkdtemp(folder) == NULL || g_chdir(folder) != 0)
        g_error("no folder for the test");
    all_tests[test_index++].run();
    if (g_chdir(before) != 0)
        g_error("the folder the tests began in is gone");
    /* To look at what a failed test left. */
    if (g_getenv("EKTYPON_TEST_KEEP") != NULL)
        printf(" kept: %s ", folder);
    else
        leftovers_remove(folder);
}

static int run_all(const char *suite, const Test *tests, gsize count)
{
    if (CU_initialize_registry() != CUE_SUCCESS)
        return EXIT_FAILURE;
    CU_pSuite added = CU_add_suite(suite, NULL, NULL);
    for (gsize i = 0; i < count; i++)
        CU_add_test(added, tests[i].name, run_next);
    all_tests = tests;
    CU_basic_set_mode(CU_BRM_VERBOSE);
    CU_basic_run_tests();
    unsigned failed = CU_get_number_of_failures() + CU_get_number_of_tests_failed();
    CU_cleanup_registry();
    return failed > 0 ? EXIT_FAILURE : has_skipped ? EXIT_SKIPPED : EXIT_SUCCESS;
}

#define MEMORY "/dev/shm"
#define MEMORY_LEAST                                                                               \
    ((guint64)4 << 30) /* free in it; all of the tests at once take less than 1 GiB */

/* A folder in memory where there is room, and nobody wants it elsewhere: drives that are made, used
 * once and thrown away wear out a disk, and wait for it. */
static char *make_folder(void)
{
    struct statvfs memory;
    if (g_getenv("TMPDIR") == NULL && statvfs(MEMORY, &memory) == 0 &&
        (guint64)memory.f_bavail * memory.f_frsize >= MEMORY_LEAST) {
        char *folder = g_strdup(MEMORY "/ektypon-test-XXXXXX");
        if (g_mkdtemp(folder) != NULL)
            return folder;
        g_free(folder);
    }
    return g_dir_make_tmp("ektypon-test-XXXXXX", NULL);
}

/* The tests run in a process of their own: whatever ends it, nothing stays mounted or attached. */
int run_tests(const char *suite, const Test *tests, gsize count)
{
    int status = 0;
    g_autofree char *folder = make_folder();
    setvbuf(stdout, NULL, _IOLBF, 0);
    /* Names with umlauts are in the program's output as they are. */
    g_setenv("LC_ALL", "C.UTF-8", TRUE);
    /* Some tests become another user. */
    if (folder == NULL || g_chdir(folder) != 0 || g_chmod(folder, 0711) != 0)
        g_error("no folder for the tests");
    /* Valgrind tells more of the process that it was started for. */
    const char *preloaded = g_getenv("LD_PRELOAD");
    if (preloaded != NULL && strstr(preloaded, "vgpreload") != NULL) {
        status = run_all(suite, tests, count);
        leftovers_remove(folder);
        return status;
    }
    pid_t child = fork();
    if (child == 0) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        exit(run_all(suite, tests, count));
    }
    if (child < 0 || waitpid(child, &status, 0) != child)
        g_error("the tests could not be run");
    if (g_getenv("EKTYPON_TEST_KEEP") != NULL)
        leftovers_release(folder);
    else
        leftovers_remove(folder);
    if (WIFSIGNALED(status))
        fprintf(stderr, "\n%s: ended by signal %d\n", suite, WTERMSIG(status));
    return WIFEXITED(status) ? WEXITSTATUS(status) : EXIT_FAILURE;
}

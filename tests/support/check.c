/* SPDX-License-Identifier: MIT */
#include "check.h"

#include "base/error.h"

#include <CUnit/Basic.h>
#include <ftw.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

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

guint32 test_seed(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_SEED");
    guint32 seed = wanted != NULL ? (guint32)g_ascii_strtoull(wanted, NULL, 10) : g_random_int();
    printf(" seed %u (repeat with EKTYPON_TEST_SEED=%u) ", seed, seed);
    fflush(stdout);
    return seed;
}

void skip(const char *why)
{
    printf(" SKIPPED: %s ", why);
}

gboolean is_root(void)
{
    return geteuid() == 0;
}

/* --- a fresh folder for each test ------------------------------------------------------------ */

static int remove_entry(const char *path, const struct stat *st, int kind, struct FTW *walk)
{
    (void)st;
    (void)kind;
    (void)walk;
    g_chmod(path, 0700);
    return remove(path);
}

static const Test *all_tests;
static gsize test_index;

static void run_next(void)
{
    g_autofree char *before = g_get_current_dir();
    g_autofree char *folder = g_dir_make_tmp("ektypon-test-XXXXXX", NULL);
    if (folder == NULL || g_chdir(folder) != 0)
        g_error("no folder for the test");
    all_tests[test_index++].run();
    if (g_chdir(before) != 0)
        g_error("the folder the tests began in is gone");
    /* To look at what a failed test left. */
    if (g_getenv("EKTYPON_TEST_KEEP") != NULL)
        printf(" kept: %s ", folder);
    else
        nftw(folder, remove_entry, 16, FTW_DEPTH | FTW_PHYS);
}

int run_tests(const char *suite, const Test *tests, gsize count)
{
    setvbuf(stdout, NULL, _IOLBF, 0);
    if (CU_initialize_registry() != CUE_SUCCESS)
        return 1;
    CU_pSuite added = CU_add_suite(suite, NULL, NULL);
    for (gsize i = 0; i < count; i++)
        CU_add_test(added, tests[i].name, run_next);
    all_tests = tests;
    CU_basic_set_mode(CU_BRM_VERBOSE);
    CU_basic_run_tests();
    unsigned failed = CU_get_number_of_failures() + CU_get_number_of_tests_failed();
    CU_cleanup_registry();
    return failed == 0 ? 0 : 1;
}

/* SPDX-License-Identifier: MIT */
/* Assertions that print both sides, and what every test program shares. */
#ifndef EK_TESTS_CHECK_H
#define EK_TESTS_CHECK_H

#include <CUnit/CUnit.h>
#include <glib.h>

typedef struct {
    const char *name;
    void (*run)(void);
} Test;

/* Runs the tests, each in a fresh folder that is the current one, and prints CUnit's summary.
 * Returns the program's exit status. */
int run_tests(const char *suite, const Test *tests, gsize count);

#define RUN_TESTS(suite, tests) run_tests(suite, tests, G_N_ELEMENTS(tests))

/* A seed for this run: from EKTYPON_TEST_SEED, or the one that all share, so that a change is
 * judged by the same drives as the last; the soak draws others. Printed, so that a failure can be
 * repeated. */
guint32 test_seed(void);

/* A number that this variable of the environment asks for. */
guint test_number(const char *name, guint otherwise);

/* Says on stdout why (part of) a test does not run here. A program that passes with one counts as
 * skipped. */
void skip(const char *why);

gboolean is_root(void);

void check_true(gboolean holds, const char *what, const char *file, unsigned line);
void check_number(gint64 got, gint64 wanted, const char *what, const char *file, unsigned line);
void check_text(const char *got, const char *wanted, const char *what, const char *file,
                unsigned line);
void check_contains(const char *text, const char *part, const char *file, unsigned line);
void check_bytes(const void *got, const void *wanted, gsize length, const char *what,
                 const char *file, unsigned line);
void check_error(GError **error, int code, const char *part, const char *file, unsigned line);

#define CHECK(condition) check_true((condition) ? TRUE : FALSE, #condition, __FILE__, __LINE__)
#define CHECK_NUMBER(got, wanted)                                                                  \
    check_number((gint64)(got), (gint64)(wanted), #got, __FILE__, __LINE__)
#define CHECK_TEXT(got, wanted) check_text(got, wanted, #got, __FILE__, __LINE__)
#define CHECK_CONTAINS(text, part) check_contains(text, part, __FILE__, __LINE__)
#define CHECK_BYTES(got, wanted, length) check_bytes(got, wanted, length, #got, __FILE__, __LINE__)
/* *error is of this EkErrorCode, and its message contains `part`; clears it. */
#define CHECK_ERROR(error, code, part) check_error(error, code, part, __FILE__, __LINE__)
/* There is no error; prints and clears it otherwise. */
#define CHECK_FINE(error) check_error(error, -1, NULL, __FILE__, __LINE__)

#endif

/* SPDX-License-Identifier: MIT */
/* Locks the helper down: limits, and the system calls that are left. */
#include "peek.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/landlock.h>
#include <seccomp.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#define MEMORY_MOST (1ull << 30) /* bytes of address space */
#define PROCESSOR_MOST 60        /* s: a helper that used a part of it ends itself (main.c) */

#if defined(__SANITIZE_ADDRESS__)
#define SANITIZED 1
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
#define SANITIZED 1
#endif
#endif

static gboolean limit(int resource, rlim_t most)
{
    struct rlimit bound = {most, most};
    return setrlimit((__rlimit_resource_t)resource, &bound) == 0;
}

/* All that reading content, computing and answering needs. */
static const int calls[] = {
    SCMP_SYS(read),
    SCMP_SYS(readv),
    SCMP_SYS(write),
    SCMP_SYS(writev),
    SCMP_SYS(lseek),
    SCMP_SYS(close),
    SCMP_SYS(munmap),
    SCMP_SYS(mremap),
    SCMP_SYS(madvise),
    SCMP_SYS(brk),
    SCMP_SYS(futex),
    SCMP_SYS(clock_gettime),
    SCMP_SYS(gettimeofday),
    SCMP_SYS(time),
    SCMP_SYS(getrandom),
    SCMP_SYS(getpid),
    SCMP_SYS(gettid),
    SCMP_SYS(sched_yield),
    SCMP_SYS(rt_sigreturn),
    SCMP_SYS(rt_sigprocmask),
    SCMP_SYS(exit),
    SCMP_SYS(exit_group),
    SCMP_SYS(restart_syscall),
    SCMP_SYS(fstat),
    SCMP_SYS(sysinfo),
#ifdef SANITIZED
    SCMP_SYS(sigaltstack), /* its runtime asks for that before the end */
#endif
};

#ifdef EK_PEEK_PAGES
/* Where pages find the fonts that they do not bring along. */
static const char *const font_folders[] = {"/usr/share/fonts", "/usr/local/share/fonts",
                                           "/usr/share/poppler"};
static const int font_calls[] = {SCMP_SYS(newfstatat), SCMP_SYS(fcntl)};

static gboolean may_read_below(int rules, const char *folder)
{
    struct landlock_path_beneath_attr below = {
        .allowed_access = LANDLOCK_ACCESS_FS_READ_FILE,
        .parent_fd = open(folder, O_PATH | O_CLOEXEC),
    };
    if (below.parent_fd < 0)
        return errno == ENOENT;
    long added = syscall(SYS_landlock_add_rule, rules, LANDLOCK_RULE_PATH_BENEATH, &below, 0);
    close(below.parent_fd);
    return added == 0;
}

/* No file at all can be opened any more, but for fonts, to be read. FALSE: the kernel cannot do
 * that; then none is opened, and such pages have no words. */
static gboolean keep_to_fonts(void)
{
    struct landlock_ruleset_attr all = {.handled_access_fs =
                                            (LANDLOCK_ACCESS_FS_MAKE_SYM << 1) - 1};
    int rules = (int)syscall(SYS_landlock_create_ruleset, &all, sizeof all, 0);
    gboolean fine = rules >= 0 && prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0;
    for (gsize i = 0; fine && i < G_N_ELEMENTS(font_folders); i++)
        fine = may_read_below(rules, font_folders[i]);
    fine = fine && syscall(SYS_landlock_restrict_self, rules, 0) == 0;
    if (rules >= 0)
        close(rules);
    return fine;
}

static gboolean allow_fonts(scmp_filter_ctx filter)
{
    const guint64 writing = O_WRONLY | O_RDWR | O_CREAT | O_TRUNC | O_APPEND;
    gboolean fine = seccomp_rule_add(filter, SCMP_ACT_ALLOW, SCMP_SYS(openat), 1,
                                     SCMP_A2(SCMP_CMP_MASKED_EQ, writing, O_RDONLY)) == 0;
    for (gsize i = 0; fine && i < G_N_ELEMENTS(font_calls); i++)
        fine = seccomp_rule_add(filter, SCMP_ACT_ALLOW, font_calls[i], 0) == 0;
    return fine;
}
#else
static gboolean keep_to_fonts(void)
{
    return FALSE;
}

static gboolean allow_fonts(scmp_filter_ctx filter)
{
    (void)filter;
    return TRUE;
}
#endif

gboolean lock_down(void)
{
    gboolean with_fonts = keep_to_fonts();
    gboolean fine = limit(RLIMIT_CORE, 0) && limit(RLIMIT_FSIZE, 0) && limit(RLIMIT_NPROC, 0) &&
                    limit(RLIMIT_CPU, PROCESSOR_MOST);
#ifndef SANITIZED
    fine = fine && limit(RLIMIT_AS, MEMORY_MOST);
#endif
    /* Whatever else is tried fails, and what tried it sees that: a library that looks for a file
     * of its own goes on without. */
    scmp_filter_ctx filter = seccomp_init(SCMP_ACT_ERRNO(EPERM));
    if (filter == NULL)
        return FALSE;
    for (gsize i = 0; fine && i < G_N_ELEMENTS(calls); i++)
        fine = seccomp_rule_add(filter, SCMP_ACT_ALLOW, calls[i], 0) == 0;
    /* No memory can be made executable. */
    static const int mapping[] = {SCMP_SYS(mmap), SCMP_SYS(mprotect)};
    for (gsize i = 0; fine && i < G_N_ELEMENTS(mapping); i++)
        fine = seccomp_rule_add(filter, SCMP_ACT_ALLOW, mapping[i], 1,
                                SCMP_A2(SCMP_CMP_MASKED_EQ, PROT_EXEC, 0)) == 0;
    fine = fine && (!with_fonts || allow_fonts(filter));
    fine = fine && seccomp_load(filter) == 0;
    seccomp_release(filter);
    return fine;
}

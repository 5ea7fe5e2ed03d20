/* SPDX-License-Identifier: MIT */
/* Locks the helper down: limits, and the system calls that are left. */
#include "peek.h"

#include <errno.h>
#include <seccomp.h>
#include <sys/mman.h>
#include <sys/resource.h>

#define MEMORY_MOST (512ull << 20) /* bytes of address space */
#define PROCESSOR_MOST 60          /* s */

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

gboolean lock_down(void)
{
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
    fine = fine && seccomp_load(filter) == 0;
    seccomp_release(filter);
    return fine;
}

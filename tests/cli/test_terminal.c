/* SPDX-License-Identifier: MIT */
/* What is printed on a terminal: no line is wider than it, whatever its width; colours are those it
 * has; and where the locale knows no more than ASCII, ASCII is all that comes. */
#include "check.h"
#include "program.h"

#include <pty.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static const char *const commands[] = {"",
                                       "help image",
                                       "help extract",
                                       "help plan",
                                       "status bench",
                                       "volumes bench",
                                       "volumes bench 1",
                                       "volumes bench 2",
                                       "volumes bench 3",
                                       "map bench",
                                       "map bench --files",
                                       "hunt bench",
                                       "ls bench 1:",
                                       "ls bench 2:",
                                       "tree bench 1",
                                       "find bench",
                                       "find bench --condition holed",
                                       "plan bench",
                                       "plan bench --show --edit 1",
                                       "log bench",
                                       "nonsense",
                                       "plan bench --schem",
                                       "image",
                                       "drives"};

/* Runs the program on a terminal of so many columns; what it drew. The caller frees. */
static char *on_terminal(unsigned short columns, const char *type, const char *command)
{
    struct winsize size = {.ws_row = 40, .ws_col = columns};
    GString *drawn = g_string_new(NULL);
    int terminal = -1;
    pid_t child = forkpty(&terminal, NULL, NULL, &size);
    if (child == 0) {
        g_autofree char *line = g_strdup_printf("exec %s %s", EKTYPON_PROGRAM_PATH, command);
        unsetenv("COLUMNS");
        unsetenv("NO_COLOR");
        unsetenv("COLORTERM");
        unsetenv("COLORFGBG");
        setenv("TERM", type, 1);
        execl("/bin/sh", "sh", "-c", line, (char *)NULL);
        _exit(127);
    }
    char part[4096];
    for (ssize_t got; child > 0 && (got = read(terminal, part, sizeof part)) > 0;)
        g_string_append_len(drawn, part, got);
    if (child > 0) {
        close(terminal);
        waitpid(child, NULL, 0);
    }
    return g_string_free(drawn, FALSE);
}

/* Columns of the widest line: what is between a return of the carriage and the next, without the
 * codes that steer a terminal. */
static guint widest(const char *drawn)
{
    guint most = 0;
    guint columns = 0;
    for (const char *p = drawn; *p != '\0'; p = g_utf8_next_char(p)) {
        if (*p == '\033') {
            while (!g_ascii_isalpha(*p) && *p != '\0')
                p++;
            continue;
        }
        columns = *p == '\r' || *p == '\n' ? 0 : columns + 1;
        most = MAX(most, columns);
    }
    return most;
}

static void no_line_is_wider_than_the_terminal(void)
{
    static const unsigned short widths[] = {60, 80, 120, 200};
    hunt_demo();
    for (gsize w = 0; w < G_N_ELEMENTS(widths); w++)
        for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
            g_autofree char *drawn = on_terminal(widths[w], "xterm-256color", commands[i]);
            CHECK(*drawn != '\0');
            if (widest(drawn) > widths[w])
                fprintf(stderr, "\n%s at %u columns:\n%s", commands[i], widths[w], drawn);
            CHECK(widest(drawn) <= widths[w]);
        }
}

static void nothing_is_broken_that_belongs_together(void)
{
    hunt_demo();
    done("plan bench");
    g_autofree char *help = on_terminal(60, "dumb", "help image");
    CHECK_CONTAINS(help, "Usage: ektypon image CASE [OPTION");
    /* Two columns: what does not fit goes on under itself. */
    CHECK_CONTAINS(help, "\n                          ");
    g_autofree char *plan = on_terminal(60, "dumb", "plan bench --show");
    CHECK_CONTAINS(plan, "Next: ektypon clone bench TARGET");
    g_autofree char *find = on_terminal(60, "dumb", "find bench --condition holed");
    CHECK_CONTAINS(find, "…");
    CHECK_CONTAINS(find, "10.5 KiB");
}

static void colours_are_those_of_the_terminal(void)
{
    static const struct {
        const char *type;
        const char *has;
        const char *has_not;
    } cases[] = {{"xterm-256color", "\033[38;5;", "\033[94m"},
                 {"linux", "\033[94m", "\033[38;5;"},
                 {"dumb", "CONTENT", "\033["}};
    hunt_demo();
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        g_autofree char *drawn = on_terminal(80, cases[i].type, "find bench --condition holed");
        CHECK_CONTAINS(drawn, cases[i].has);
        CHECK(strstr(drawn, cases[i].has_not) == NULL);
    }
    /* A dumb terminal cannot go back to a line. */
    g_autofree char *hunted = on_terminal(80, "dumb", "hunt bench");
    CHECK(strchr(hunted, '\033') == NULL);
}

static void ascii_is_enough(void)
{
    hunt_demo();
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) result = shell("LC_ALL=C %s %s", EKTYPON_PROGRAM_PATH, commands[i]);
        CHECK(g_str_is_ascii(result.out) && g_str_is_ascii(result.err));
        CHECK(strstr(result.out, "\\xe2") == NULL);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"no line is wider than the terminal", no_line_is_wider_than_the_terminal},
        {"nothing is broken that belongs together", nothing_is_broken_that_belongs_together},
        {"colours are those of the terminal", colours_are_those_of_the_terminal},
        {"ASCII is enough", ascii_is_enough},
    };
    return RUN_TESTS("terminal", tests);
}

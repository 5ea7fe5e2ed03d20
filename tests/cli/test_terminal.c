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

/* A terminal that answers to its attributes being asked for. */
typedef struct {
    unsigned short columns;
    const char *type;
    const char *answer; /* NULL: it does not */
    const char *more;   /* NAME=VALUE in its environment; NULL: nothing */
} Terminal;

/* Runs the program on it; what it drew. The caller frees. */
static char *on(const Terminal *type, const char *command)
{
    struct winsize size = {.ws_row = 40,
                           .ws_col = type->columns,
                           .ws_xpixel = (unsigned short)(type->columns * 8),
                           .ws_ypixel = 40 * 16};
    GString *drawn = g_string_new(NULL);
    int terminal = -1;
    pid_t child = forkpty(&terminal, NULL, NULL, &size);
    if (child == 0) {
        g_autofree char *line = g_strdup_printf("exec %s %s", EKTYPON_PROGRAM_PATH, command);
        unsetenv("COLUMNS");
        unsetenv("NO_COLOR");
        unsetenv("COLORTERM");
        unsetenv("COLORFGBG");
        unsetenv("KITTY_WINDOW_ID");
        setenv("TERM", type->type, 1);
        if (type->more != NULL)
            putenv((char *)type->more);
        execl("/bin/sh", "sh", "-c", line, (char *)NULL);
        _exit(127);
    }
    char part[4096];
    gboolean has_answered = type->answer == NULL;
    for (ssize_t got; child > 0 && (got = read(terminal, part, sizeof part)) > 0;) {
        g_string_append_len(drawn, part, got);
        if (!has_answered && strstr(drawn->str, "\033[c") != NULL) {
            has_answered = TRUE;
            CHECK(write(terminal, type->answer, strlen(type->answer)) > 0);
        }
    }
    if (child > 0) {
        close(terminal);
        waitpid(child, NULL, 0);
    }
    return g_string_free(drawn, FALSE);
}

static char *on_terminal(unsigned short columns, const char *type, const char *command)
{
    const Terminal terminal = {columns, type, NULL, NULL};
    return on(&terminal, command);
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

/* --- pictures --------------------------------------------------------------------------------- */

#define PHOTO_WIDE 176
#define PHOTO_HIGH 132

/* How many dots a picture in sixels has in each of its lines; checks that it is one, and nothing
 * else. Returns what is behind it. */
static const char *read_sixels(const char *text, guint wide, guint *dots)
{
    guint x = 0;
    guint y = 0;
    g_autofree char *seen = g_malloc0((gsize)wide * 1000);
    guint wrong = 0;
    *dots = 0;
    for (; *text != '\0' && *text != '\033'; text++) {
        guint count = 1;
        if (*text == '#' || *text == '"') {
            text += 1 + strspn(text + 1, "0123456789;") - 1;
            continue;
        }
        if (*text == '$' || *text == '-') {
            y += *text == '-' ? 6 : 0;
            x = 0;
            continue;
        }
        if (*text == '!') {
            char *end = NULL;
            count = (guint)strtoul(text + 1, &end, 10);
            text = end;
        }
        wrong += *text < '?' || *text > '~' || x + count > wide || y + 6 >= 1000;
        if (wrong > 0)
            break;
        for (; count > 0 && x < wide; count--, x++)
            for (guint line = 0; line < 6; line++) {
                gboolean is_set = ((*text - '?') >> line & 1) != 0;
                /* No dot is painted twice. */
                wrong += is_set && seen[(y + line) * wide + x] != 0;
                if (is_set)
                    seen[(y + line) * wide + x] = 1;
                *dots += is_set ? 1 : 0;
            }
    }
    CHECK_NUMBER(wrong, 0);
    return text;
}

static void pictures_are_drawn_with_what_there_is(void)
{
    hunt_demo();
    guint number = 0;
    g_auto(Result) volumes = ektypon("find bench --name 'Tray 01, day 03*' --numbers");
    CHECK(sscanf(volumes.out, "%u:", &number) == 1);
    g_autofree char *command = g_strdup_printf("peek bench %s", g_strchomp(volumes.out));
    const Terminal sixels = {100, "xterm-256color", "\033[?62;1;4;6c", NULL};
    g_autofree char *drawn = on(&sixels, command);
    const char *begins = strstr(drawn, "\033P0;1q\"1;1;176;132");
    CHECK(begins != NULL);
    if (begins != NULL) {
        guint dots = 0;
        const char *rest = read_sixels(begins + strlen("\033P0;1q"), PHOTO_WIDE, &dots);
        CHECK_NUMBER(dots, PHOTO_WIDE * PHOTO_HIGH);
        CHECK(g_str_has_prefix(rest, "\033\\"));
    }
    /* One that has none, that says nothing sensible, or nothing: characters. */
    static const char *const answers[] = {"\033[?62;1;6c", "\033[?64c", "\033[?c", "junk", NULL};
    for (gsize i = 0; i < G_N_ELEMENTS(answers); i++) {
        const Terminal plain = {100, "xterm-256color", answers[i], NULL};
        g_autofree char *characters = on(&plain, command);
        CHECK(strstr(characters, "\033P") == NULL && strstr(characters, "\033_G") == NULL);
        CHECK_CONTAINS(characters, "176 x 132 pixels");
    }
    /* Pixels as they are: all of them, in messages of bounded length. */
    const Terminal direct = {100, "xterm-256color", NULL, "KITTY_WINDOW_ID=1"};
    g_autofree char *pixels = on(&direct, command);
    CHECK_CONTAINS(pixels, "\033_Ga=T,f=24,s=176,v=132,q=2,m=1;");
    gsize packed = 0;
    gboolean is_last = FALSE;
    for (const char *p = strstr(pixels, "\033_G"); p != NULL; p = strstr(p + 1, "\033_G")) {
        const char *data = strchr(p, ';');
        gsize length = data != NULL ? strcspn(data + 1, "\033") : 0;
        CHECK(data != NULL && !is_last && length <= 4096);
        is_last = data != NULL && data[-1] == '0';
        packed += length;
    }
    CHECK(is_last);
    CHECK_NUMBER(packed, (PHOTO_WIDE * PHOTO_HIGH * 3 + 2) / 3 * 4);
    /* Where nobody asks for it, no terminal is asked: text, --plain, a console. */
    const Terminal console = {100, "linux", NULL, NULL};
    g_autofree char *there = on(&console, command);
    CHECK(strstr(there, "\033[c") == NULL);
    g_autofree char *ascii = g_strdup_printf("%s --plain", command);
    g_autofree char *as_text = on(&sixels, ascii);
    CHECK(strstr(as_text, "\033[c") == NULL && strstr(as_text, "\033P") == NULL);
}

int main(void)
{
    static const Test tests[] = {
        {"pictures are drawn with what there is", pictures_are_drawn_with_what_there_is},
        {"no line is wider than the terminal", no_line_is_wider_than_the_terminal},
        {"nothing is broken that belongs together", nothing_is_broken_that_belongs_together},
        {"colours are those of the terminal", colours_are_those_of_the_terminal},
        {"ASCII is enough", ascii_is_enough},
    };
    return RUN_TESTS("terminal", tests);
}

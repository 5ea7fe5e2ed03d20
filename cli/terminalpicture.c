/* SPDX-License-Identifier: MIT */
/* Pictures in a terminal. */
#include "terminalpicture.h"

#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <termios.h>
#include <unistd.h>

#define ANSWER_MS 500
#define ANSWER_MOST 256u
#define CELL_WIDE 8u /* pixels, where the terminal does not say */
#define CELL_HIGH 16u
#define SIDE_MOST 1000u
#define CHUNK 4096u /* bytes of Base64 in one message */

/* --- what it can do --------------------------------------------------------------------------- */

/* Reads up to the end of an answer ("…c"); what else is typed meanwhile goes with it. */
static void read_answer(int terminal, char *answer, gsize room)
{
    gint64 until = g_get_monotonic_time() + ANSWER_MS * 1000;
    gsize length = 0;
    while (length + 1 < room) {
        gint64 left = (until - g_get_monotonic_time()) / 1000;
        struct pollfd asked = {terminal, POLLIN, 0};
        if (left <= 0 || poll(&asked, 1, (int)left) <= 0)
            break;
        ssize_t got = read(terminal, answer + length, 1);
        if (got <= 0)
            break;
        length++;
        answer[length] = '\0';
        if (answer[length - 1] == 'c' && strstr(answer, "\033[?") != NULL)
            break;
    }
}

/* Its device attributes (ECMA-48, DA): "\033[?62;4;6c", in which 4 is for sixels. */
static gboolean has_sixels(void)
{
    struct termios before;
    char answer[ANSWER_MOST] = "";
    int terminal = open("/dev/tty", O_RDWR | O_NOCTTY | O_CLOEXEC);
    if (terminal < 0)
        return FALSE;
    if (tcgetattr(terminal, &before) == 0) {
        struct termios raw = before;
        raw.c_lflag &= ~(tcflag_t)(ICANON | ECHO);
        raw.c_cc[VMIN] = 0;
        raw.c_cc[VTIME] = 0;
        if (tcsetattr(terminal, TCSANOW, &raw) == 0 && write(terminal, "\033[c", 3) == 3)
            read_answer(terminal, answer, sizeof answer);
        tcsetattr(terminal, TCSAFLUSH, &before);
    }
    close(terminal);
    char *attributes = strstr(answer, "\033[?");
    if (attributes == NULL)
        return FALSE;
    g_auto(GStrv) words = g_strsplit_set(attributes + 3, ";c", -1);
    return g_strv_contains((const char *const *)words, "4");
}

EkTerminalShows ek_terminal_shows(void)
{
    const char *term = g_getenv("TERM");
    if (isatty(STDOUT_FILENO) == 0 || term == NULL || g_str_equal(term, "dumb") ||
        g_str_equal(term, "linux"))
        return EK_SHOWS_CHARACTERS;
    if (g_getenv("KITTY_WINDOW_ID") != NULL || g_str_equal(term, "xterm-kitty"))
        return EK_SHOWS_PIXELS;
    return has_sixels() ? EK_SHOWS_SIXELS : EK_SHOWS_CHARACTERS;
}

void ek_terminal_room(guint columns, guint lines, guint *wide, guint *high)
{
    struct winsize size = {0};
    guint cell_wide = CELL_WIDE;
    guint cell_high = CELL_HIGH;
    if (ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_xpixel > 0 && size.ws_ypixel > 0 &&
        size.ws_col > 0 && size.ws_row > 0) {
        cell_wide = MAX(size.ws_xpixel / size.ws_col, 1u);
        cell_high = MAX(size.ws_ypixel / size.ws_row, 1u);
    }
    *wide = CLAMP(columns * cell_wide, 1, SIDE_MOST);
    *high = CLAMP(lines * cell_high, 1, SIDE_MOST);
}

/* --- sixels ----------------------------------------------------------------------------------- */

#define REDS 6u
#define GREENS 7u
#define BLUES 6u
#define COLORS (REDS * GREENS * BLUES)
#define BAND 6u

/* One of so many levels: the error goes, by a fixed pattern, now up and now down. */
static guint level_of(guint8 value, guint levels, guint x, guint y)
{
    static const guint8 pattern[4][4] = {
        {0, 8, 2, 10}, {12, 4, 14, 6}, {3, 11, 1, 9}, {15, 7, 13, 5}};
    return (value * (levels - 1) * 16u + pattern[y % 4][x % 4] * 255u + 128u) / (255u * 16u);
}

static guint8 color_of(const guint8 *pixel, guint x, guint y)
{
    guint red = MIN(level_of(pixel[0], REDS, x, y), REDS - 1);
    guint green = MIN(level_of(pixel[1], GREENS, x, y), GREENS - 1);
    guint blue = MIN(level_of(pixel[2], BLUES, x, y), BLUES - 1);
    return (guint8)((red * GREENS + green) * BLUES + blue);
}

static void put_run(GString *out, char sixel, guint count)
{
    if (count > 3)
        g_string_append_printf(out, "!%u%c", count, sixel);
    else
        for (; count > 0; count--)
            g_string_append_c(out, sixel);
}

/* One colour's part of six lines. */
static void put_color(GString *out, const guint8 *colors, guint wide, guint lines, guint color)
{
    char run = 0;
    guint count = 0;
    g_string_append_printf(out, "#%u", color);
    for (guint x = 0; x < wide; x++) {
        guint bits = 0;
        for (guint line = 0; line < lines; line++)
            bits |= (guint)(colors[line * wide + x] == color) << line;
        char sixel = (char)('?' + bits);
        if (sixel != run)
            put_run(out, run, count);
        count = sixel == run ? count + 1 : 1;
        run = sixel;
    }
    put_run(out, run, run == '?' ? 0 : count);
}

static void put_sixels(const guint8 *pixels, guint wide, guint high)
{
    g_autoptr(GString) out = g_string_new(NULL);
    g_autofree guint8 *colors = g_malloc((gsize)wide * BAND);
    g_string_printf(out, "\033P0;1q\"1;1;%u;%u", wide, high);
    for (guint i = 0; i < COLORS; i++)
        g_string_append_printf(out, "#%u;2;%u;%u;%u", i, i / (GREENS * BLUES) * 100 / (REDS - 1),
                               i / BLUES % GREENS * 100 / (GREENS - 1),
                               i % BLUES * 100 / (BLUES - 1));
    for (guint top = 0; top < high; top += BAND) {
        gboolean used[COLORS] = {FALSE};
        guint lines = MIN(BAND, high - top);
        for (guint i = 0; i < lines * wide; i++) {
            colors[i] = color_of(pixels + 3 * ((gsize)top * wide + i), i % wide, top + i / wide);
            used[colors[i]] = TRUE;
        }
        for (guint i = 0; i < COLORS; i++)
            if (used[i]) {
                put_color(out, colors, wide, lines, i);
                g_string_append_c(out, '$');
            }
        g_string_append_c(out, '-');
    }
    g_string_append(out, "\033\\");
    fwrite(out->str, 1, out->len, stdout);
}

/* --- pixels as they are ----------------------------------------------------------------------- */

static void put_pixels(const guint8 *pixels, guint wide, guint high)
{
    g_autofree char *packed = g_base64_encode(pixels, (gsize)wide * high * 3);
    gsize length = strlen(packed);
    for (gsize at = 0; at < length; at += CHUNK) {
        gsize part = MIN(CHUNK, length - at);
        fputs("\033_G", stdout);
        if (at == 0)
            fprintf(stdout, "a=T,f=24,s=%u,v=%u,q=2,", wide, high);
        fprintf(stdout, "m=%d;%.*s\033\\", at + part < length, (int)part, packed + at);
    }
    fputc('\n', stdout);
}

void ek_terminal_draw(EkTerminalShows shows, const guint8 *pixels, guint wide, guint high)
{
    if (shows == EK_SHOWS_SIXELS)
        put_sixels(pixels, wide, high);
    else
        put_pixels(pixels, wide, high);
    fputc('\n', stdout);
    fflush(stdout);
}

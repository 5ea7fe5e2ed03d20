/* SPDX-License-Identifier: MIT */
/* The colours of the program, for terminals of 16 and of 256 colours (ECMA-48, SGR). Each has a
 * contrast of at least 4.5 to 1 on the background it is for (WCAG 2.1, 1.4.3). */
#include "color.h"

#include <string.h>
#include <unistd.h>

typedef const char *Palette[EK_COLORS];

#define BOLD "\033[1m"
#define OFF "\033[0m"

static const Palette on_dark = {[EK_COLOR_PLAIN] = "",
                                [EK_COLOR_GOOD] = "\033[38;5;74m",
                                [EK_COLOR_WARN] = "\033[38;5;179m",
                                [EK_COLOR_BAD] = "\033[38;5;202m",
                                [EK_COLOR_FAINT] = "\033[38;5;245m",
                                [EK_COLOR_STRONG] = BOLD};
static const Palette on_light = {[EK_COLOR_PLAIN] = "",
                                 [EK_COLOR_GOOD] = "\033[38;5;25m",
                                 [EK_COLOR_WARN] = "\033[38;5;94m",
                                 [EK_COLOR_BAD] = "\033[38;5;160m",
                                 [EK_COLOR_FAINT] = "\033[38;5;241m",
                                 [EK_COLOR_STRONG] = BOLD};
/* What these look like is the terminal's own business. */
static const Palette of_16 = {
    [EK_COLOR_PLAIN] = "",       [EK_COLOR_GOOD] = "\033[94m", [EK_COLOR_WARN] = "\033[33m",
    [EK_COLOR_BAD] = "\033[91m", [EK_COLOR_FAINT] = "\033[2m", [EK_COLOR_STRONG] = BOLD};

gboolean ek_show_has_color(int fd)
{
    const char *no_color = g_getenv("NO_COLOR");
    const char *terminal = g_getenv("TERM");
    return isatty(fd) != 0 && (no_color == NULL || *no_color == '\0') && terminal != NULL &&
           g_strcmp0(terminal, "dumb") != 0;
}

/* "15;0": the foreground and, last, the background, by their numbers in 16 colours. */
static gboolean is_light(void)
{
    const char *colors = g_getenv("COLORFGBG");
    const char *last = colors != NULL ? strrchr(colors, ';') : NULL;
    return last != NULL && (strcmp(last, ";15") == 0 || strcmp(last, ";7") == 0);
}

static const Palette *choose_palette(void)
{
    const char *terminal = g_getenv("TERM");
    const char *depth = g_getenv("COLORTERM");
    gboolean has_256 = (terminal != NULL && (strstr(terminal, "256color") != NULL ||
                                             strstr(terminal, "direct") != NULL)) ||
                       (depth != NULL && *depth != '\0');
    return !has_256 ? &of_16 : is_light() ? &on_light : &on_dark;
}

/* Chosen once: what the environment says does not change while the program runs. */
static const Palette *palette(void)
{
    static const Palette *chosen;
    if (g_once_init_enter(&chosen))
        g_once_init_leave(&chosen, choose_palette());
    return chosen;
}

const char *ek_show_on(gboolean color, EkColor which)
{
    return color ? (*palette())[which] : "";
}

const char *ek_show_off(gboolean color)
{
    return color ? OFF : "";
}

char *ek_show_in(gboolean color, EkColor which, const char *text)
{
    return g_strconcat(ek_show_on(color, which), text, ek_show_off(color), NULL);
}

gsize ek_color_code_length(const char *text)
{
    const Palette *all[] = {&on_dark, &on_light, &of_16};
    if (*text != '\033')
        return 0;
    if (g_str_has_prefix(text, OFF))
        return strlen(OFF);
    for (gsize i = 0; i < G_N_ELEMENTS(all); i++)
        for (guint k = EK_COLOR_PLAIN + 1; k < EK_COLORS; k++)
            if (g_str_has_prefix(text, (*all[i])[k]))
                return strlen((*all[i])[k]);
    return 0;
}

/* SPDX-License-Identifier: MIT */
/* The helper program that looks into files, as the commands use it. */
#include "peeking.h"

#include "base/platform.h"
#include "base/text.h"

#include <langinfo.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define HELPER "ektypon-peek"
#define PICTURE_LINES 20u

/* Beside the program, as it is built; where it is installed, also when all of that was moved. */
static char *helper_path(void)
{
    static const char *const places[] = {".", "../libexec/ektypon"};
    g_autofree char *self = ek_platform_own_path();
    g_autofree char *folder = self != NULL ? g_path_get_dirname(self) : NULL;
    for (gsize i = 0; folder != NULL && i < G_N_ELEMENTS(places); i++) {
        g_autofree char *path = g_build_filename(folder, places[i], HELPER, NULL);
        if (access(path, X_OK) == 0)
            return g_steal_pointer(&path);
    }
    return g_build_filename(EKTYPON_LIBEXEC, HELPER, NULL);
}

EkPeeker *ek_peeking_new(const EkPeekCanvas *canvas)
{
    g_autofree char *program = helper_path();
    return ek_peeker_new(program, canvas);
}

static guint colors_of_terminal(void)
{
    const char *more = g_getenv("COLORTERM");
    const char *term = g_getenv("TERM");
    if (more != NULL && (g_str_equal(more, "truecolor") || g_str_equal(more, "24bit")))
        return 1u << 24;
    if (term != NULL && (strstr(term, "256color") != NULL || strstr(term, "direct") != NULL))
        return 256;
    return 16;
}

EkPeekCanvas ek_peeking_canvas(const EkCli *cli, gboolean plain)
{
    EkPeekCanvas canvas = {0, PICTURE_LINES, 0, TRUE};
    if (plain || isatty(STDOUT_FILENO) != 0)
        canvas.columns = (guint)MAX(cli->width - 4, 20);
    if (plain || canvas.columns == 0)
        return canvas;
    canvas.ascii = !g_str_equal(nl_langinfo(CODESET), "UTF-8");
    canvas.colors = cli->color_out ? colors_of_terminal() : 0;
    return canvas;
}

gboolean ek_peeking_judge(EkPeeker *peeker, EkIndexing *indexing, const EkItem *item, guint kinds,
                          const gint *cancel, EkVerdict *verdict, GError **error)
{
    EkPeek peek = {0};
    if (peeker == NULL || *verdict == EK_VERDICT_NO)
        return TRUE;
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(indexing), item->file.number, error);
    gboolean fine = extents != NULL && ek_peeker_look(peeker, ek_indexing_files(indexing),
                                                      &item->file, extents, cancel, &peek, error);
    if (!peek.is_known)
        *verdict = EK_VERDICT_UNKNOWN;
    else if ((kinds >> peek.kind & 1) == 0)
        *verdict = EK_VERDICT_NO;
    ek_peek_clear(&peek);
    return fine;
}

/* Bytes of a code for colours at the start of `text`; 0 when there is none. */
static gsize color_code(const char *text)
{
    if (text[0] != '\033' || text[1] != '[')
        return 0;
    gsize length = 2 + strspn(text + 2, "0123456789;");
    return text[length] == 'm' ? length + 1 : 0;
}

void ek_peeking_print_picture(const char *drawn)
{
    g_auto(GStrv) lines = g_strsplit(drawn, "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        if (**line == '\0')
            continue;
        fputs("  ", stdout);
        for (const char *at = *line; *at != '\0';) {
            gsize code = color_code(at);
            gsize text = code > 0 ? code : MAX(strcspn(at, "\033"), 1u);
            g_autofree char *part = g_strndup(at, text);
            g_autofree char *safe = code > 0 ? g_strdup(part) : ek_text_escape(part);
            /* A backslash is one of the characters that pictures are drawn with. */
            g_auto(GStrv) halves = g_strsplit(safe, "\\\\", -1);
            g_autofree char *joined = g_strjoinv("\\", halves);
            fputs(joined, stdout);
            at += text;
        }
        ek_cli_print("\n");
    }
}

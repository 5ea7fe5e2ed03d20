/* SPDX-License-Identifier: MIT */
/* The helper program that looks into files, as the commands use it. */
#include "peeking.h"

#include "helper.h"

#include "base/text.h"

#include <langinfo.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define HELPER "ektypon-peek"
#define PICTURE_LINES 20u

EkPeeker *ek_peeking_new(const EkPeekCanvas *canvas)
{
    g_autofree char *program = ek_helper_path(HELPER, X_OK);
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
    EkPeekCanvas canvas = {.lines = PICTURE_LINES, .ascii = TRUE};
    if (plain || isatty(STDOUT_FILENO) != 0)
        canvas.columns = (guint)MAX(cli->width - 4, 20);
    if (plain || canvas.columns == 0)
        return canvas;
    canvas.ascii = !g_str_equal(nl_langinfo(CODESET), "UTF-8");
    canvas.colors = cli->color_out ? colors_of_terminal() : 0;
    return canvas;
}

struct EkPeeking {
    const EkFilter *filter;
    EkPeeker *peeker;
    EkJudging *judging; /* of the volume that was judged last; NULL: none */
    EkIndexing *of;
};

EkPeeking *ek_peeking_for(const EkFilter *filter)
{
    static const EkPeekCanvas nothing = {0};
    if (!filter->by_content && filter->opens == 0)
        return NULL;
    EkPeeking *peeking = g_new0(EkPeeking, 1);
    peeking->filter = filter;
    peeking->peeker = ek_peeking_new(filter->opens != 0 ? &nothing : NULL);
    return peeking;
}

void ek_peeking_leave(EkPeeking *peeking)
{
    if (peeking != NULL)
        g_clear_pointer(&peeking->judging, ek_judging_free);
}

void ek_peeking_free(EkPeeking *peeking)
{
    ek_peeking_leave(peeking);
    ek_peeker_free(peeking->peeker);
    g_free(peeking);
}

static gboolean judge_kind(EkPeeking *peeking, EkIndexing *indexing, const EkItem *item,
                           const gint *cancel, EkJudgement *judgement, GError **error)
{
    EkPeek peek = {0};
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(indexing), item->file.number, error);
    gboolean fine = extents != NULL && ek_peeker_look(peeking->peeker, ek_indexing_files(indexing),
                                                      &item->file, extents, cancel, &peek, error);
    judgement->kind = peek.kind;
    judgement->is_known = peek.is_known;
    ek_peek_clear(&peek);
    return fine;
}

static gboolean judge_all(EkPeeking *peeking, EkIndexing *indexing, const EkItem *item,
                          const gint *cancel, EkJudgement *judgement, GError **error)
{
    if (peeking->judging == NULL || peeking->of != indexing) {
        ek_peeking_leave(peeking);
        peeking->judging = ek_judging_new(indexing, peeking->peeker);
        peeking->of = indexing;
    }
    return ek_judging_ask(peeking->judging, item, cancel, judgement, error);
}

gboolean ek_peeking_judge(EkPeeking *peeking, EkIndexing *indexing, const EkItem *item,
                          const gint *cancel, EkVerdict *verdict, GError **error)
{
    if (peeking == NULL || *verdict == EK_VERDICT_NO)
        return TRUE;
    const EkFilter *filter = peeking->filter;
    g_auto(EkJudgement) judgement = {0};
    if (filter->opens != 0 && item->file.type == EK_TYPE_FOLDER) {
        *verdict = EK_VERDICT_NO;
        return TRUE;
    }
    gboolean fine = filter->opens != 0
                        ? judge_all(peeking, indexing, item, cancel, &judgement, error)
                        : judge_kind(peeking, indexing, item, cancel, &judgement, error);
    if (filter->opens != 0 && (filter->opens >> judgement.opens & 1) == 0)
        *verdict = EK_VERDICT_NO;
    else if (filter->by_content && !judgement.is_known)
        *verdict = EK_VERDICT_UNKNOWN;
    else if (filter->by_content && (filter->kinds >> judgement.kind & 1) == 0)
        *verdict = EK_VERDICT_NO;
    return fine;
}

gboolean ek_peeking_tell(EkPeeking *peeking, EkIndexing *indexing, const EkItem *item,
                         const gint *cancel, EkJudgement *judgement)
{
    *judgement = (EkJudgement){0};
    return peeking != NULL && peeking->filter->opens != 0 &&
           judge_all(peeking, indexing, item, cancel, judgement, NULL);
}

/* Bytes of a code for colours at the start of `text`; 0 when there is none. */
static gsize color_code(const char *text)
{
    if (text[0] != '\033' || text[1] != '[')
        return 0;
    gsize length = 2 + strspn(text + 2, "0123456789;");
    return text[length] == 'm' ? length + 1 : 0;
}

void ek_peeking_print_line(const char *line)
{
    for (const char *at = line; *at != '\0';) {
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
}

guint ek_peeking_line_columns(const char *line)
{
    guint columns = 0;
    for (const char *at = line; *at != '\0';) {
        gsize code = color_code(at);
        gsize length = code > 0 ? code : (gsize)(g_utf8_next_char(at) - at);
        columns += code == 0;
        at += MIN(length, strlen(at));
    }
    return columns;
}

void ek_peeking_print_picture(const char *drawn)
{
    g_auto(GStrv) lines = g_strsplit(drawn, "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        if (**line == '\0')
            continue;
        fputs("  ", stdout);
        ek_peeking_print_line(*line);
        ek_cli_print("\n");
    }
}

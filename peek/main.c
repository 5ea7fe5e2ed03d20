/* SPDX-License-Identifier: MIT */
/* The helper program: takes content on stdin, says what it is and whether it opens. */
#include "peek.h"

#include "files/peekwire.h"

#include <errno.h>
#include <locale.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#define STATUS_USAGE 2
#define STATUS_UNLOCKED 3
#define WORKED_MOST (10 * (clock_t)CLOCKS_PER_SEC) /* of the processor, before it ends */
#define WORDS_MOST 4000u                           /* bytes of each that is told in words */

/* FALSE at the end of input. */
static gboolean take(void *bytes, gsize length)
{
    guint8 *at = bytes;
    while (length > 0) {
        ssize_t got = read(STDIN_FILENO, at, length);
        if (got < 0 && errno == EINTR)
            continue;
        if (got <= 0)
            return FALSE;
        at += got;
        length -= (gsize)got;
    }
    return TRUE;
}

static gboolean give(const void *bytes, gsize length)
{
    const guint8 *at = bytes;
    while (length > 0) {
        ssize_t put = write(STDOUT_FILENO, at, length);
        if (put < 0 && errno == EINTR)
            continue;
        if (put <= 0)
            return FALSE;
        at += put;
        length -= (gsize)put;
    }
    return TRUE;
}

static void set(GKeyFile *keys, const char *key, const char *text)
{
    g_autofree char *valid = g_utf8_make_valid(text != NULL ? text : "", -1);
    g_key_file_set_string(keys, EK_PEEK_GROUP, key, valid);
}

static char *compose(const Finding *finding, gboolean is_last, gsize *length)
{
    g_autoptr(GKeyFile) keys = g_key_file_new();
    set(keys, EK_PEEK_TYPE, finding->type);
    set(keys, EK_PEEK_MIME, finding->mime);
    set(keys, EK_PEEK_OPENS, finding->opens);
    set(keys, EK_PEEK_WHY, finding->why);
    set(keys, EK_PEEK_LOOK, finding->look);
    set(keys, EK_PEEK_SHOWN, finding->shown->str);
    set(keys, EK_PEEK_LAST, is_last ? "yes" : "no");
    return g_key_file_to_data(keys, length, NULL);
}

static void shorten(char *text, gsize most)
{
    if (text != NULL && strlen(text) > most)
        text[most] = '\0';
}

/* What is too long to be told is cut: the beginning says as much. */
static gboolean answer(const Finding *finding, gboolean is_last)
{
    gsize length = 0;
    shorten(finding->type, WORDS_MOST);
    shorten(finding->mime, WORDS_MOST);
    shorten(finding->why, WORDS_MOST);
    g_autofree char *text = compose(finding, is_last, &length);
    while (length > EK_PEEK_ANSWER && finding->shown->len > 0) {
        g_string_truncate(finding->shown, finding->shown->len / 2);
        const char *line = g_strrstr_len(finding->shown->str, -1, "\n");
        if (line != NULL)
            g_string_truncate(finding->shown, (gsize)(line - finding->shown->str) + 1);
        g_free(text);
        text = compose(finding, is_last, &length);
    }
    guint32 told = (guint32)length;
    return length <= EK_PEEK_ANSWER && give(&told, sizeof told) && give(text, length);
}

static void judge(const Content *content, const Canvas *canvas, Finding *finding)
{
    type_find(content, finding);
    finding_says(finding, "unchecked", "this version cannot judge such files");
    if (content->size == 0)
        finding_says(finding, "unchecked", "it is empty");
    else if (canvas != NULL && !picture_judge(content, canvas, finding) &&
             !film_judge(content, canvas, finding) && !archive_judge(content, canvas, finding))
        text_judge(content, canvas, finding);
    if (canvas != NULL)
        page_show(content, canvas, finding);
    if (canvas != NULL)
        embedded_show(content, canvas, finding);
}

static gboolean serve(const EkPeekRequest *request, const Canvas *canvas)
{
    gsize length = (gsize)request->sent + request->sent_of_end;
    g_autofree guint8 *bytes = g_malloc(MAX(length, 1u));
    if (!take(bytes, length))
        return FALSE;
    Content content = {bytes, request->sent, request->size, request->sent_of_end};
    Finding finding = {.opens = "unchecked", .look = "none", .shown = g_string_new(NULL)};
    judge(&content, canvas, &finding);
    /* The time that the next one needs may not be left. */
    gboolean is_last = clock() > WORKED_MOST;
    gboolean fine = answer(&finding, is_last) && !is_last;
    g_free(finding.type);
    g_free(finding.mime);
    g_free(finding.why);
    g_string_free(finding.shown, TRUE);
    return fine;
}

static guint number(const char *text, guint most)
{
    guint64 value = 0;
    return g_ascii_string_to_unsigned(text, 10, 0, most, &value, NULL) ? (guint)value : 0;
}

int main(int argc, char **argv)
{
    gboolean kinds_only = argc == 2 && strcmp(argv[1], "kinds") == 0;
    if (!kinds_only && argc != 6) {
        fputs("ektypon-peek is started by ektypon, when it looks into files.\n", stderr);
        return STATUS_USAGE;
    }
    Canvas canvas = {0};
    if (!kinds_only)
        canvas = (Canvas){number(argv[1], 1000),          number(argv[2], 1000),
                          number(argv[3], 1u << 24),      strcmp(argv[4], "ascii") == 0,
                          strcmp(argv[4], "pixels") == 0, strcmp(argv[5], "look") == 0};
    setlocale(LC_ALL, "");
    gboolean ready =
        type_prepare() && (kinds_only || (picture_prepare() && text_prepare() &&
                                          archive_prepare() && film_prepare() && page_prepare()));
    if (!ready || !lock_down())
        return STATUS_UNLOCKED;
    EkPeekRequest request;
    while (take(&request, sizeof request)) {
        if (request.magic != EK_PEEK_MAGIC || request.sent > EK_PEEK_MOST ||
            request.sent_of_end > EK_PEEK_MOST - request.sent ||
            (guint64)request.sent + request.sent_of_end > request.size)
            _exit(STATUS_USAGE);
        if (!serve(&request, kinds_only ? NULL : &canvas))
            break;
    }
    /* Nothing that the libraries left for the end is run on what content made of them. */
    _exit(EXIT_SUCCESS);
}

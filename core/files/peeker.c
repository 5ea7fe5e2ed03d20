/* SPDX-License-Identifier: MIT */
/* What a file is by its content, whether it opens, and a look at it. */
#include "files/peeker.h"

#include "base/error.h"
#include "files/access.h"
#include "files/peekwire.h"

#include <errno.h>
#include <poll.h>
#include <signal.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#define PIECE (256u << 10)
#define PART_OF_LONG (48u << 20) /* of its beginning, and of its end */
#define TELLING 4096u            /* bytes that tell a type */
#define PATIENCE_MS (150 * 1000) /* its own limits end it sooner */
#define STEP_MS 200
#define END_MS 1000 /* for the helper to end by itself */
#define END_STEP_MS 2
#define LEAST_BLANK 64u /* bytes: shorter ones may well repeat */

struct EkPeeker {
    char *program;
    EkPeekCanvas canvas;
    gboolean is_full;
    GPid pid; /* 0: not running */
    int fd;
};

void ek_peek_clear(EkPeek *peek)
{
    g_clear_pointer(&peek->type, g_free);
    g_clear_pointer(&peek->mime, g_free);
    g_clear_pointer(&peek->why, g_free);
    g_clear_pointer(&peek->shown, g_free);
    g_clear_pointer(&peek->pixels, g_free);
}

EkPeeker *ek_peeker_new(const char *program, const EkPeekCanvas *canvas)
{
    EkPeeker *peeker = g_new0(EkPeeker, 1);
    peeker->program = g_strdup(program);
    peeker->is_full = canvas != NULL;
    if (canvas != NULL)
        peeker->canvas = *canvas;
    peeker->fd = -1;
    return peeker;
}

/* Ends the helper; returns how it ended. Without its socket it ends by itself, unless it hangs. */
static int stop(EkPeeker *peeker)
{
    int status = 0;
    if (peeker->pid == 0)
        return 0;
    close(peeker->fd);
    for (guint waited = 0; waitpid(peeker->pid, &status, WNOHANG) == 0; waited += END_STEP_MS) {
        if (waited >= END_MS)
            kill(peeker->pid, SIGKILL);
        g_usleep(END_STEP_MS * 1000);
    }
    peeker->pid = 0;
    peeker->fd = -1;
    return status;
}

void ek_peeker_free(EkPeeker *peeker)
{
    stop(peeker);
    g_free(peeker->program);
    g_free(peeker);
}

static gboolean start(EkPeeker *peeker, GError **error)
{
    int pair[2];
    if (peeker->pid != 0)
        return TRUE;
    if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, pair) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot start %s",
                                   peeker->program);
    const EkPeekCanvas *canvas = &peeker->canvas;
    g_autofree char *columns = g_strdup_printf("%u", canvas->columns);
    g_autofree char *lines = g_strdup_printf("%u", canvas->lines);
    g_autofree char *colors = g_strdup_printf("%u", canvas->colors);
    const char *with = canvas->pixels ? "pixels" : canvas->ascii ? "ascii" : "any";
    const char *how = canvas->look_only ? "look" : "judge";
    char *argv[] = {peeker->program, columns, lines, colors, (char *)with, (char *)how, NULL};
    char *kinds[] = {peeker->program, "kinds", NULL};
    char *envp[] = {"LC_ALL=C.UTF-8", "PATH=/nonexistent", NULL};
    GError *failure = NULL;
    /* What decoders print is as hostile as what they decode. */
    gboolean fine =
        g_spawn_async_with_fds(NULL, peeker->is_full ? argv : kinds, envp,
                               G_SPAWN_DO_NOT_REAP_CHILD | G_SPAWN_STDERR_TO_DEV_NULL, NULL, NULL,
                               &peeker->pid, pair[1], pair[1], -1, &failure);
    close(pair[1]);
    if (fine) {
        peeker->fd = pair[0];
        return TRUE;
    }
    close(pair[0]);
    peeker->pid = 0;
    ek_error_set(error, EK_ERROR_UNSUPPORTED,
                 "cannot start the preview helper (%s). It must be installed next to ektypon",
                 failure->message);
    g_error_free(failure);
    return FALSE;
}

/* --- content -------------------------------------------------------------------------------- */

typedef struct {
    EkPeeker *peeker;
    EkPeek *peek;
    const gint *cancel;
    guint64 left; /* of what is sent */
    EkByte at;
    gboolean any;    /* bytes that were read */
    gboolean broken; /* the helper takes no more */
} Sending;

static gboolean send_all(Sending *sending, const void *bytes, gsize length)
{
    const guint8 *at = bytes;
    while (length > 0 && !sending->broken) {
        ssize_t put = send(sending->peeker->fd, at, length, MSG_NOSIGNAL);
        if (put < 0 && errno == EINTR)
            continue;
        sending->broken = put < 0;
        at += MAX(put, 0);
        length -= (gsize)MAX(put, 0);
    }
    return !sending->broken;
}

static gboolean is_one_byte(const guint8 *bytes, gsize length, guint8 value)
{
    return length == 0 || (bytes[0] == value && memcmp(bytes, bytes + 1, length - 1) == 0);
}

static void note(Sending *sending, const guint8 *bytes, gsize length)
{
    EkPeek *peek = sending->peek;
    if (bytes == NULL) {
        peek->is_known = peek->is_known && sending->at >= TELLING;
        return;
    }
    if (!sending->any) {
        peek->blank = bytes[0];
        peek->is_blank = TRUE;
    }
    sending->any = TRUE;
    peek->is_blank = peek->is_blank && is_one_byte(bytes, length, peek->blank);
}

static gboolean send_piece(void *data, const guint8 *bytes, gsize length)
{
    static const guint8 zeros[PIECE];
    Sending *sending = data;
    EkPeek *peek = sending->peek;
    gsize rest = (gsize)MIN(length, sending->left);
    note(sending, bytes, rest);
    for (gsize done = 0; done < rest && g_atomic_int_get(sending->cancel) == 0;) {
        gsize part = MIN(rest - done, PIECE);
        const guint8 *piece = bytes != NULL ? bytes + done : zeros;
        if (peek->start_bytes < sizeof peek->start) {
            gsize take = MIN(part, sizeof peek->start - peek->start_bytes);
            memcpy(peek->start + peek->start_bytes, piece, take);
            peek->start_bytes += take;
        }
        if (!send_all(sending, piece, part))
            return FALSE;
        done += part;
    }
    sending->at += rest;
    sending->left -= rest;
    return sending->left > 0 && g_atomic_int_get(sending->cancel) == 0;
}

/* --- answers -------------------------------------------------------------------------------- */

/* FALSE at the end of the helper, or of patience. */
static gboolean receive(EkPeeker *peeker, void *bytes, gsize length, const gint *cancel)
{
    guint8 *at = bytes;
    for (int waited = 0; length > 0;) {
        struct pollfd waiting = {.fd = peeker->fd, .events = POLLIN};
        int ready = poll(&waiting, 1, STEP_MS);
        if (ready < 0 && errno != EINTR)
            return FALSE;
        if (g_atomic_int_get(cancel) != 0 || waited > PATIENCE_MS)
            return FALSE;
        waited += STEP_MS;
        if (ready <= 0)
            continue;
        ssize_t got = read(peeker->fd, at, length);
        if (got < 0 && errno == EINTR)
            continue;
        if (got <= 0)
            return FALSE;
        at += got;
        length -= (gsize)got;
    }
    return TRUE;
}

static char *text_of(GKeyFile *keys, const char *key)
{
    char *text = g_key_file_get_string(keys, EK_PEEK_GROUP, key, NULL);
    return text != NULL ? text : g_strdup("");
}

static guint word_of(GKeyFile *keys, const char *key, const char *const *words)
{
    g_autofree char *text = text_of(keys, key);
    guint found = 0;
    for (guint i = 0; words[i] != NULL; i++)
        if (g_str_equal(text, words[i]))
            found = i;
    return found;
}

/* Takes them out of what is shown. FALSE: they are not what the canvas has room for. */
static gboolean take_pixels(const EkPeekCanvas *canvas, EkPeek *peek)
{
    gsize length = 0;
    char *end = NULL;
    guint64 wide = g_ascii_strtoull(peek->shown, &end, 10);
    guint64 high = g_ascii_strtoull(end, &end, 10);
    if (wide == 0 || high == 0 || wide > canvas->columns || high > canvas->lines || *end != ' ')
        return FALSE;
    peek->pixels = g_base64_decode(end + 1, &length);
    peek->wide = (guint)wide;
    peek->high = (guint)high;
    return length == wide * high * EK_PEEK_PIXEL_BYTES;
}

static gboolean take_answer(EkPeeker *peeker, EkPeek *peek, const char *text, gsize length)
{
    static const char *const opens[] = {"unchecked", "yes", "no", NULL};
    static const char *const looks[] = {"none", "text", "list", "picture", "pixels", NULL};
    g_autoptr(GKeyFile) keys = g_key_file_new();
    if (!g_key_file_load_from_data(keys, text, length, G_KEY_FILE_NONE, NULL))
        return FALSE;
    peek->type = text_of(keys, EK_PEEK_TYPE);
    peek->mime = text_of(keys, EK_PEEK_MIME);
    peek->why = text_of(keys, EK_PEEK_WHY);
    peek->shown = text_of(keys, EK_PEEK_SHOWN);
    peek->opens = (EkOpens)word_of(keys, EK_PEEK_OPENS, opens);
    peek->look = (EkLook)word_of(keys, EK_PEEK_LOOK, looks);
    peek->kind = ek_kind_of_mime(peek->mime);
    g_autofree char *last = text_of(keys, EK_PEEK_LAST);
    if (g_str_equal(last, "yes"))
        stop(peeker);
    if (peek->look != EK_LOOK_PIXELS)
        return TRUE;
    gboolean fine = take_pixels(&peeker->canvas, peek);
    g_clear_pointer(&peek->shown, g_free);
    peek->shown = g_strdup("");
    if (!fine)
        g_clear_pointer(&peek->pixels, g_free);
    peek->look = fine ? EK_LOOK_PIXELS : EK_LOOK_NONE;
    return TRUE;
}

/* The helper is gone: its limits ended it, or the content did. */
static gboolean take_end(EkPeeker *peeker, EkPeek *peek, GError **error)
{
    int status = stop(peeker);
    if (WIFEXITED(status) && WEXITSTATUS(status) == 0)
        return ek_error_set(error, EK_ERROR_FAILED, "%s gave no answer", peeker->program);
    if (WIFEXITED(status) && WEXITSTATUS(status) == 3)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "file preview is disabled: this system cannot sandbox the preview "
                            "helper (seccomp is required)");
    peek->type = g_strdup("");
    peek->mime = g_strdup("");
    peek->shown = g_strdup("");
    peek->kind = EK_KIND_OTHER;
    peek->is_known = FALSE;
    peek->opens = EK_OPENS_UNCHECKED;
    peek->why =
        g_strdup(WIFSIGNALED(status) && WTERMSIG(status) == SIGXCPU   ? "decoding took too long"
                 : WIFSIGNALED(status) && WTERMSIG(status) == SIGKILL ? "decoding it came to no end"
                 /* So GLib ends a program that gets no more memory. */
                 : WIFSIGNALED(status) && WTERMSIG(status) == SIGTRAP
                     ? "decoding it needs too much memory"
                     : "the decoder crashed on this file. Do not open it in other programs");
    return TRUE;
}

/* The end of a file goes behind its beginning; holes are zeros, as there. */
static void send_end(Sending *sending, EkFiles *files, const EkFile *file, const GArray *extents,
                     guint32 length)
{
    g_autofree guint8 *bytes = g_malloc0(MAX(length, 1u));
    g_autoptr(EkAccess) access =
        ek_access_new(files->reader, NULL, file, g_array_copy((GArray *)extents), NULL);
    gsize done = 0;
    if (access != NULL)
        ek_access_read_on(access, TRUE, file->size - length, bytes, length, &done);
    send_all(sending, bytes, length);
}

/* Sends the file, or its beginning and its end, and takes the answer. FALSE: the helper is gone. */
static gboolean ask(EkPeeker *peeker, EkFiles *files, const EkFile *file, const GArray *extents,
                    guint32 beginning, guint32 end, const gint *cancel, EkPeek *peek)
{
    EkPeekRequest request = {EK_PEEK_MAGIC, beginning, file->size, end, 0};
    Sending sending = {peeker, peek, cancel, beginning, 0, FALSE, FALSE};
    *peek = (EkPeek){.is_known = TRUE};
    send_all(&sending, &request, sizeof request);
    if (beginning > 0)
        ek_files_read(files, file, extents, send_piece, &sending);
    /* Content that ends before its size does is made up with zeros. */
    while (sending.left > 0 && !sending.broken && g_atomic_int_get(cancel) == 0)
        send_piece(&sending, NULL, (gsize)sending.left);
    if (end > 0 && !sending.broken && g_atomic_int_get(cancel) == 0)
        send_end(&sending, files, file, extents, end);
    peek->is_blank = peek->is_blank && sending.at >= LEAST_BLANK;
    guint32 length = 0;
    if (!receive(peeker, &length, sizeof length, cancel) || length > EK_PEEK_ANSWER)
        return FALSE;
    g_autofree char *answer = g_malloc((gsize)length + 1);
    return receive(peeker, answer, length, cancel) && take_answer(peeker, peek, answer, length);
}

/* Of a long film the beginning and the end may tell where its frames are. */
static gboolean needs_end(const EkPeeker *peeker, const EkFile *file, const GArray *extents,
                          const EkPeek *peek)
{
    return peeker->is_full && file->size > EK_PEEK_MOST && peek->look == EK_LOOK_NONE &&
           peeker->canvas.columns > 0 && peek->kind == EK_KIND_VIDEO &&
           !ek_access_is_packed(file, extents);
}

gboolean ek_peeker_look(EkPeeker *peeker, EkFiles *files, const EkFile *file, const GArray *extents,
                        const gint *cancel, EkPeek *peek, GError **error)
{
    *peek = (EkPeek){.is_known = TRUE};
    gboolean is_all = peeker->is_full && file->size <= EK_PEEK_MOST;
    guint32 beginning = (guint32)(is_all ? file->size : MIN(file->size, PIECE));
    if (!start(peeker, error))
        return FALSE;
    gboolean fine = ask(peeker, files, file, extents, beginning, 0, cancel, peek);
    if (fine && needs_end(peeker, file, extents, peek) && g_atomic_int_get(cancel) == 0) {
        ek_peek_clear(peek);
        if (!start(peeker, error))
            return FALSE;
        fine = ask(peeker, files, file, extents, PART_OF_LONG, PART_OF_LONG, cancel, peek);
    }
    if (g_atomic_int_get(cancel) != 0) {
        stop(peeker);
        return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    }
    if (fine && peek->is_blank) {
        peek->opens = EK_OPENS_NO;
        g_free(peek->why);
        peek->why = g_strdup("it is blank");
    }
    return fine || take_end(peeker, peek, error);
}

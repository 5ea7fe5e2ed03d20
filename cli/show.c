/* SPDX-License-Identifier: MIT */
/* Showing things in a terminal or a pipe. */
#include "show.h"

#include "base/text.h"
#include "wrap.h"

#include <libsmartcols.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#define REDRAW_EVERY (200 * 1000)        /* µs, on a terminal */
#define LEAST_CUT 8u                     /* columns that are left of a cell */
#define LINE_EVERY (10 * G_USEC_PER_SEC) /* in a pipe */

struct EkShowTable {
    EkColumn *columns;
    guint count;
    GPtrArray *rows; /* char **, a cell for each column */
};

struct EkProgress {
    gboolean terminal;
    EkProgressDraw draw;
    void *data;
    GThread *thread;
    GMutex lock;
    GCond ending;
    gboolean ended;
    guint drawn; /* lines that stand on the terminal now */
};

/* 0: not known. */
static int columns_of(int fd)
{
    struct winsize size = {0};
    return ioctl(fd, TIOCGWINSZ, &size) == 0 ? size.ws_col : 0;
}

int ek_show_width(void)
{
    const char *columns = g_getenv("COLUMNS");
    int wanted = columns != NULL ? (int)g_ascii_strtoll(columns, NULL, 10) : 0;
    if (wanted == 0)
        wanted = columns_of(STDOUT_FILENO);
    return wanted >= 40 && wanted <= 1000 ? wanted : 80;
}

/* Nothing but what any terminal shows as it is: nearly all that is printed. */
static gboolean is_plain(const char *text)
{
    while ((*text >= ' ' && *text <= '~') || *text == '\n')
        text++;
    return *text == '\0';
}

/* Without characters that steer a terminal; in ASCII where the locale has no more. */
static char *printable(const char *text, gboolean keeps_lines)
{
    char *safe = ek_text_printable(text, keeps_lines);
    if (is_plain(safe) || g_get_charset(NULL))
        return safe;
    char *ascii = ek_wrap_ascii(safe);
    g_free(safe);
    return ascii;
}

void ek_show_put(FILE *stream, const char *text)
{
    if (is_plain(text)) {
        fputs(text, stream);
        return;
    }
    while (*text != '\0') {
        gsize code = ek_color_code_length(text);
        gsize length = code > 0 ? code : MAX(strcspn(text, "\033"), 1u);
        g_autofree char *part = g_strndup(text, length);
        g_autofree char *safe = code > 0 ? NULL : printable(part, TRUE);
        fputs(safe != NULL ? safe : part, stream);
        text += length;
    }
}

void ek_show_lines(const char *text)
{
    const char *last = strrchr(text, '\n');
    if (last == NULL || isatty(STDOUT_FILENO) == 0) {
        ek_show_put(stdout, text);
        return;
    }
    g_autofree char *whole = g_strndup(text, (gsize)(last - text));
    g_autofree char *lines = ek_wrap(whole, (guint)ek_show_width(), 0, 2);
    ek_show_put(stdout, lines);
    ek_show_put(stdout, last);
}

char *ek_show_clipped(const char *text, guint most)
{
    if (ek_show_columns(text) <= most)
        return g_strdup(text);
    GString *clipped = g_string_new(NULL);
    guint columns = 0;
    gboolean has_code = FALSE;
    while (*text != '\0') {
        gsize code = ek_color_code_length(text);
        gsize length = code > 0 ? code : (gsize)(g_utf8_next_char(text) - text);
        g_autofree char *part = g_strndup(text, length);
        guint wide = code > 0 ? 0 : ek_show_columns(part);
        if (columns + wide + 1 > most)
            break;
        g_string_append(clipped, part);
        has_code |= code > 0;
        columns += wide;
        text += strlen(part);
    }
    if (most > 0)
        g_string_append(clipped, g_get_charset(NULL) ? "…" : "~");
    if (has_code)
        g_string_append(clipped, ek_show_off(TRUE));
    return g_string_free(clipped, FALSE);
}

char *ek_show_clipped_middle(const char *text, guint most)
{
    guint columns = ek_show_columns(text);
    if (columns <= most || most < 3)
        return ek_show_clipped(text, most);
    guint behind = (most - 1) / 2;
    g_autofree char *front = ek_show_clipped(text, most - behind);
    const char *rest = text;
    while (*rest != '\0' && ek_show_columns(rest) > behind)
        rest = g_utf8_next_char(rest);
    return g_strconcat(front, rest, NULL);
}

EkShowTable *ek_show_table_new(const EkColumn *columns, guint count)
{
    EkShowTable *show = g_new0(EkShowTable, 1);
    show->columns = g_memdup2(columns, count * sizeof *columns);
    show->count = count;
    show->rows = g_ptr_array_new_with_free_func((GDestroyNotify)g_strfreev);
    return show;
}

void ek_show_table_row(EkShowTable *show, const char *const *cells)
{
    char **row = g_new0(char *, show->count + 1);
    for (guint i = 0; i < show->count; i++)
        row[i] = printable(cells[i] != NULL ? cells[i] : "", FALSE);
    g_ptr_array_add(show->rows, row);
}

#define SEPARATOR "  "

static guint wide_of(const EkShowTable *show, guint column)
{
    /* The library gives an empty column one cell. */
    guint most = MAX(ek_show_columns(show->columns[column].header), 1);
    for (guint i = 0; i < show->rows->len; i++)
        most = MAX(most, ek_show_columns(((char **)show->rows->pdata[i])[column]));
    return most;
}

/* The columns that all of them take. */
static guint wide_of_all(const EkShowTable *show, const gboolean *is_dropped)
{
    guint all = 0;
    for (guint i = 0; i < show->count; i++)
        if (!is_dropped[i])
            all += wide_of(show, i) + (guint)strlen(SEPARATOR);
    return all > 0 ? all - (guint)strlen(SEPARATOR) : 0;
}

/* Drops columns in their order until the rest fits, then cuts what may be cut, with a mark. */
static void fit(EkShowTable *show, guint width, gboolean *is_dropped)
{
    for (guint order = 1; order <= show->count && wide_of_all(show, is_dropped) > width; order++)
        for (guint i = 0; i < show->count; i++)
            is_dropped[i] |= show->columns[i].drop == order;
    guint all = wide_of_all(show, is_dropped);
    for (guint i = 0; i < show->count && all > width; i++) {
        if (!show->columns[i].cut || is_dropped[i])
            continue;
        guint wide = wide_of(show, i);
        guint least = MAX(ek_show_columns(show->columns[i].header), LEAST_CUT);
        guint most = wide - MIN(all - width, wide - MIN(least, wide));
        for (guint k = 0; k < show->rows->len; k++) {
            char **cell = &((char **)show->rows->pdata[k])[i];
            char *clipped = ek_show_clipped(*cell, most);
            g_free(*cell);
            *cell = clipped;
        }
        all = wide_of_all(show, is_dropped);
    }
}

void ek_show_table_print(EkShowTable *show, int width)
{
    g_autofree gboolean *is_dropped = g_new0(gboolean, show->count);
    gboolean is_terminal = isatty(STDOUT_FILENO) != 0;
    scols_init_debug(0);
    struct libscols_table *table = scols_new_table();
    scols_table_set_column_separator(table, SEPARATOR);
    /* Nothing is cut in a pipe. */
    if (is_terminal)
        fit(show, (guint)width, is_dropped);
    for (guint i = 0; i < show->count; i++) {
        if (is_dropped[i])
            continue;
        struct libscols_column *column = scols_table_new_column(
            table, show->columns[i].header, 0, show->columns[i].right ? SCOLS_FL_RIGHT : 0);
        /* Names are escaped before: a backslash is one already. */
        scols_column_set_safechars(column, "\\");
        scols_cell_set_color(scols_column_get_header(column), ek_show_on(TRUE, EK_COLOR_STRONG));
    }
    for (guint k = 0; k < show->rows->len; k++) {
        struct libscols_line *line = scols_table_new_line(table, NULL);
        for (guint i = 0, shown = 0; i < show->count; i++)
            if (!is_dropped[i])
                scols_line_set_data(line, shown++, ((char **)show->rows->pdata[k])[i]);
    }
    fflush(stdout);
    scols_table_set_stream(table, stdout);
    scols_table_enable_colors(table, ek_show_has_color(STDOUT_FILENO));
    scols_table_set_termforce(table, SCOLS_TERMFORCE_NEVER);
    scols_print_table(table);
    scols_unref_table(table);
    g_ptr_array_unref(show->rows);
    g_free(show->columns);
    g_free(show);
}

char *ek_show_time_left(guint64 left, double rate)
{
    if (left == 0)
        return g_strdup("0 s");
    return rate >= 1 ? ek_text_duration((double)left / rate) : g_strdup("unknown");
}

void ek_show_sentence(FILE *stream, const char *mark, guint indent, const char *text)
{
    gboolean is_terminal = isatty(fileno(stream)) != 0;
    g_autofree char *lines =
        is_terminal ? ek_wrap(text, (guint)ek_show_width(), indent, indent) : g_strdup(text);
    ek_show_put(stream, mark);
    ek_show_put(stream, lines);
    fputc('\n', stream);
}

char *ek_show_bar(guint64 part, guint64 whole, guint width)
{
    static const char *const eighths[] = {"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"};
    GString *bar = g_string_new(NULL);
    double share = whole > 0 ? (double)part / (double)whole : 1;
    guint cells = (guint)(share * width * 8);
    for (guint i = 0; i < cells / 8; i++)
        g_string_append(bar, "█");
    g_string_append(bar, eighths[cells % 8]);
    for (guint i = cells / 8 + (cells % 8 != 0); i < width; i++)
        g_string_append(bar, "·");
    return g_string_free(bar, FALSE);
}

static void draw_once(EkProgress *progress)
{
    GString *lines[EK_PROGRESS_LINES];
    for (guint i = 0; i < EK_PROGRESS_LINES; i++)
        lines[i] = g_string_new(NULL);
    progress->draw(progress->data, lines);
    if (progress->terminal) {
        /* A line that wraps would be two, and the next frame would begin in the wrong one. */
        int width = columns_of(STDERR_FILENO);
        guint most = width > 0 ? (guint)width : (guint)ek_show_width();
        g_autoptr(GString) out = g_string_new("\r");
        if (progress->drawn > 1)
            g_string_append_printf(out, "\033[%uA", progress->drawn - 1);
        progress->drawn = 0;
        for (guint i = 0; i < EK_PROGRESS_LINES && lines[i]->len > 0; i++) {
            g_string_append(out, i > 0 ? "\n\033[K" : "\033[K");
            fputs(out->str, stderr);
            g_autofree char *line = ek_show_clipped(lines[i]->str, most);
            ek_show_put(stderr, line);
            g_string_truncate(out, 0);
            progress->drawn++;
        }
        fflush(stderr);
    } else {
        ek_show_put(stderr, lines[0]->str);
        fputc('\n', stderr);
        progress->drawn = 1;
    }
    for (guint i = 0; i < EK_PROGRESS_LINES; i++)
        g_string_free(lines[i], TRUE);
}

static gpointer show_progress(gpointer data)
{
    EkProgress *progress = data;
    gint64 every = progress->terminal ? REDRAW_EVERY : LINE_EVERY;
    g_mutex_lock(&progress->lock);
    while (!progress->ended) {
        if (progress->terminal)
            draw_once(progress);
        gint64 until = g_get_monotonic_time() + every;
        while (!progress->ended && g_cond_wait_until(&progress->ending, &progress->lock, until))
            continue;
        if (!progress->ended && !progress->terminal)
            draw_once(progress);
    }
    g_mutex_unlock(&progress->lock);
    return NULL;
}

EkProgress *ek_progress_begin(gboolean terminal, EkProgressDraw draw, void *data)
{
    EkProgress *progress = g_new0(EkProgress, 1);
    /* A dumb terminal cannot move its cursor: it gets lines, as a pipe does. */
    progress->terminal = terminal && g_strcmp0(g_getenv("TERM"), "dumb") != 0;
    progress->draw = draw;
    progress->data = data;
    g_mutex_init(&progress->lock);
    g_cond_init(&progress->ending);
    progress->thread = g_thread_new("progress", show_progress, progress);
    return progress;
}

static void erase_frame(EkProgress *progress)
{
    if (progress->drawn > 1)
        fprintf(stderr, "\033[%uA", progress->drawn - 1);
    fputs("\r\033[J", stderr);
    progress->drawn = 0;
}

void ek_progress_note(EkProgress *progress, const char *text)
{
    g_mutex_lock(&progress->lock);
    if (progress->terminal) {
        erase_frame(progress);
        ek_show_put(stderr, text);
        fputc('\n', stderr);
        draw_once(progress);
    } else {
        ek_show_put(stderr, text);
        fputc('\n', stderr);
    }
    g_mutex_unlock(&progress->lock);
}

void ek_progress_end(EkProgress *progress)
{
    g_mutex_lock(&progress->lock);
    progress->ended = TRUE;
    g_cond_signal(&progress->ending);
    g_mutex_unlock(&progress->lock);
    g_thread_join(progress->thread);
    if (progress->terminal)
        erase_frame(progress);
    else if (progress->drawn > 0)
        draw_once(progress);
    g_mutex_clear(&progress->lock);
    g_cond_clear(&progress->ending);
    g_free(progress);
}

char *ek_show_legend(const char *const *meanings, const gboolean *occurs, guint count)
{
    g_autoptr(GString) line = g_string_new(NULL);
    for (guint i = 0; i < count; i++)
        if (occurs[i] && meanings[i] != NULL)
            g_string_append_printf(line, "%s%s", line->len > 0 ? "; " : "", meanings[i]);
    if (line->len > 0)
        g_string_append_c(line, '\n');
    return g_strdup(line->str);
}

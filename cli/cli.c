/* SPDX-License-Identifier: MIT */
/* What the commands share. */
#include "cli.h"

#include "base/text.h"
#include "files/filter.h"
#include "nearest.h"
#include "show.h"
#include "work/indexing.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#define DEADLINE_NS 900000000
#define CONTENTS "carved" /* names the catalogue of contents where a volume number stands */

/* The only mutable variables of the program outside of a function: a signal handler can reach
 * nothing else. */
static gint cancel_flag;
static timer_t deadline;

/* The work was asked to end and has not: something in it hangs. What was saved stays, and whatever
 * was under way is written such that it can be cut off at any moment. */
static void on_deadline(int number)
{
    static const char text[] =
        "\ninterrupted while something did not answer; everything saved so far is kept\n";
    (void)number;
    ssize_t put = write(STDERR_FILENO, text, sizeof text - 1);
    (void)put;
    _exit(EK_EXIT_INTERRUPTED);
}

static void on_signal(int number)
{
    struct itimerspec in = {.it_value = {.tv_nsec = DEADLINE_NS}};
    (void)number;
    g_atomic_int_set(&cancel_flag, 1);
    (void)timer_settime(deadline, 0, &in, NULL);
}

/* Before a command has begun anything, or where it only looks. */
static void on_signal_at_once(int number)
{
    (void)number;
    _exit(EK_EXIT_INTERRUPTED);
}

static void handle(void (*handler)(int), int flags)
{
    static const int numbers[] = {SIGINT, SIGTERM, SIGHUP};
    struct sigaction action = {.sa_handler = handler, .sa_flags = flags};
    sigemptyset(&action.sa_mask);
    for (gsize i = 0; i < G_N_ELEMENTS(numbers); i++) {
        struct sigaction now;
        /* One that whoever started us had us ignore (nohup) stays ignored. */
        if (sigaction(numbers[i], NULL, &now) == 0 && now.sa_handler != SIG_IGN)
            sigaction(numbers[i], &action, NULL);
    }
}

void ek_cli_expect_signals(void)
{
    signal(SIGPIPE, SIG_IGN); /* output that nobody takes is a failure like others */
    handle(on_signal_at_once, 0);
}

const gint *ek_cli_watch_signals(void)
{
    static gsize ready;
    if (g_once_init_enter(&ready)) {
        struct sigevent event = {.sigev_notify = SIGEV_SIGNAL, .sigev_signo = SIGALRM};
        struct sigaction action = {.sa_handler = on_deadline};
        sigemptyset(&action.sa_mask);
        sigaction(SIGALRM, &action, NULL);
        if (timer_create(CLOCK_MONOTONIC, &event, &deadline) == 0)
            handle(on_signal, (int)SA_RESETHAND);
        g_once_init_leave(&ready, 1);
    }
    return &cancel_flag;
}

void ek_cli_await_end(void)
{
    static const struct itimerspec never = {0};
    (void)ek_cli_watch_signals();
    (void)timer_settime(deadline, 0, &never, NULL);
}

static int explain_usage(EkCli *cli, const char *what)
{
    g_autofree char *safe = ek_text_printable(what, FALSE);
    g_autofree char *text =
        g_strdup_printf("%s: %s\nUsage: ektypon %s%s%s\nHelp: ektypon help %s", cli->command->name,
                        safe, cli->command->name, *cli->command->arguments != '\0' ? " " : "",
                        cli->command->arguments, cli->command->name);
    ek_show_sentence(stderr, "", 0, text);
    return EK_EXIT_USAGE;
}

int ek_cli_misused(EkCli *cli, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *what = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    return explain_usage(cli, what);
}

/* The name of a positional argument, as the usage has it: "SOURCE". The caller frees. */
static char *operand_name(const EkCommand *command, gsize index)
{
    g_auto(GStrv) words = g_strsplit_set(command->arguments, " []", -1);
    for (char **word = words; *word != NULL; word++)
        if (**word != '\0' && index-- == 0)
            return g_strdup(*word);
    return g_strdup("");
}

/* The option that is nearest to the first one that there is not. */
static const char *nearest_option(const EkCli *cli, const GOptionEntry *entries)
{
    g_autoptr(GPtrArray) names = g_ptr_array_new();
    for (const GOptionEntry *entry = entries; entry != NULL && entry->long_name != NULL; entry++)
        g_ptr_array_add(names, (gpointer)entry->long_name);
    g_ptr_array_add(names, NULL);
    for (int i = 1; i < cli->argc; i++) {
        if (!g_str_has_prefix(cli->argv[i], "--") || cli->argv[i][2] == '\0')
            continue;
        g_autofree char *word = g_strndup(cli->argv[i] + 2, strcspn(cli->argv[i] + 2, "="));
        const char *nearest = ek_nearest(word, (const char *const *)names->pdata);
        if (!g_strv_contains((const char *const *)names->pdata, word))
            return nearest;
    }
    return NULL;
}

/* Takes what --as-of names. NULL: it is fine; otherwise what is wrong with it. */
static const char *take_as_of(EkCli *cli)
{
    guint64 transaction = 0;
    EkBound bound;
    g_autofree char *text = g_steal_pointer(&cli->as_of_text);
    if (text == NULL)
        return NULL;
    if (cli->without_journal)
        return "--as-of reads the journal: it cannot be given with --without-journal";
    /* As volumes prints them. */
    const char *zone = g_str_has_suffix(text, " UTC") ? " UTC" : "Z";
    gboolean is_utc = g_str_has_suffix(text, zone);
    if (is_utc)
        text[strlen(text) - strlen(zone)] = '\0';
    if (g_ascii_string_to_unsigned(text, 10, 0, G_MAXUINT32, &transaction, NULL))
        cli->as_of = (EkAsOf){EK_AS_OF_TRANSACTION, (gint64)transaction};
    else if (ek_filter_bound(text, &bound))
        cli->as_of = (EkAsOf){EK_AS_OF_TIME, is_utc ? bound.wall : bound.utc};
    else
        return "--as-of takes a time as \"2025-03-01 14:05:30 UTC\", local without UTC, or the "
               "number of a transaction";
    return NULL;
}

gboolean ek_cli_parse(EkCli *cli, const GOptionEntry *entries, int *status)
{
    gboolean help = FALSE;
    if (cli->describe != NULL) {
        *status = cli->describe(cli, entries);
        return FALSE;
    }
    const GOptionEntry own[] = {
        {"help", 0, G_OPTION_FLAG_HIDDEN, G_OPTION_ARG_NONE, &help, NULL, NULL},
        G_OPTION_ENTRY_NULL,
    };
    g_autoptr(GOptionContext) context = g_option_context_new(NULL);
    g_autoptr(GError) error = NULL;
    g_option_context_set_help_enabled(context, FALSE);
    GOptionGroup *group = g_option_group_new(NULL, NULL, NULL, cli->option_data, NULL);
    if (entries != NULL)
        g_option_group_add_entries(group, entries);
    g_option_group_add_entries(group, own);
    g_option_context_set_main_group(context, group);
    if (!g_option_context_parse(context, &cli->argc, &cli->argv, &error)) {
        const char *nearest = nearest_option(cli, entries);
        g_autofree char *what =
            nearest != NULL && g_error_matches(error, G_OPTION_ERROR, G_OPTION_ERROR_UNKNOWN_OPTION)
                ? g_strdup_printf("%s. The nearest one: --%s", error->message, nearest)
                : g_strdup(error->message);
        *status = explain_usage(cli, what);
        return FALSE;
    }
    if (help) {
        *status = cli->help(cli, entries);
        return FALSE;
    }
    /* "--" ends the options, for names that begin with a dash. */
    char **operands = cli->argv + 1;
    gsize count = (gsize)cli->argc - 1;
    if (count > 0 && strcmp(operands[0], "--") == 0) {
        operands++;
        count--;
    }
    cli->operands = operands;
    if (count < cli->command->least || count > cli->command->most) {
        g_autofree char *missing = operand_name(cli->command, count);
        g_autofree char *what =
            count < cli->command->least
                ? g_strdup_printf("missing argument: %s", missing)
                : g_strdup_printf("unexpected argument: %s", operands[cli->command->most]);
        *status = explain_usage(cli, what);
        return FALSE;
    }
    const char *wrong = take_as_of(cli);
    if (wrong != NULL)
        *status = explain_usage(cli, wrong);
    return wrong == NULL;
}

gboolean ek_cli_parse_json(EkCli *cli, gboolean *json, int *status)
{
    const GOptionEntry entries[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    *json = FALSE;
    return ek_cli_parse(cli, entries, status);
}

int ek_cli_fail(EkCli *cli, GError *error)
{
    fflush(stdout);
    /* A message may hold names from a disk, and those anything. */
    g_autofree char *safe = ek_text_printable(error->message, FALSE);
    g_autofree char *text = g_strdup_printf("%s: %s", cli->command->name, safe);
    ek_show_sentence(stderr, "", 2, text);
    int status = EK_EXIT_FAILED;
    if (g_error_matches(error, EK_ERROR, EK_ERROR_REFUSED))
        status = EK_EXIT_REFUSED;
    else if (g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED))
        status = EK_EXIT_INTERRUPTED;
    g_error_free(error);
    return status;
}

void ek_cli_advise(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    fflush(stdout);
    ek_show_sentence(stderr, "", 0, text);
}

void ek_cli_print(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    ek_show_lines(text);
}

int ek_cli_dump_json(json_t *row, gboolean indented)
{
    /* A terminal acts on some characters that JSON leaves as they are. */
    gsize flags = JSON_PRESERVE_ORDER | (isatty(STDOUT_FILENO) != 0 ? JSON_ENSURE_ASCII : 0);
    int done = json_dumpf(row, stdout, flags | (indented ? JSON_INDENT(2) : 0));
    json_decref(row);
    return done;
}

int ek_cli_print_json(json_t *root)
{
    int done = ek_cli_dump_json(root, TRUE);
    return done == 0 && putchar('\n') != EOF && fflush(stdout) == 0 ? EK_EXIT_DONE : EK_EXIT_FAILED;
}

json_t *ek_json_text(const char *text)
{
    if (text == NULL)
        return json_null();
    json_t *value = json_string(text);
    if (value != NULL)
        return value;
    /* Not UTF-8: shown as it would be on a terminal. */
    g_autofree char *safe = ek_text_escape(text);
    return json_string(safe);
}

json_t *ek_json_u64(guint64 value)
{
    return json_integer((json_int_t)value);
}

json_t *ek_json_whole(guint64 value, guint64 unit)
{
    return value % unit == 0 ? ek_json_u64(value / unit) : json_null();
}

gboolean ek_cli_parse_place(const char *operand, guint64 *volume, const char **path)
{
    const char *colon = strchr(operand, ':');
    g_autofree char *number =
        colon != NULL ? g_strndup(operand, (gsize)(colon - operand)) : g_strdup(operand);
    *path = colon != NULL ? colon + 1 : "";
    if (g_str_equal(number, CONTENTS)) {
        *volume = EK_CONTENTS;
        return TRUE;
    }
    return ek_text_parse_u64(number, volume) && *volume > 0;
}

void ek_cli_print_unsearched(EkCli *cli, guint64 bad, guint64 unread)
{
    g_autofree char *bad_size = ek_text_size(bad);
    g_autofree char *unread_size = ek_text_size(unread);
    ek_cli_print("Not searched: %s bad", bad_size);
    if (unread > 0)
        ek_cli_print(", %s not read yet. After further imaging, run %s again: only the new data is "
                     "searched",
                     unread_size, cli->command->name);
    ek_cli_print(".\n");
}

char *ek_cli_place_word(guint volume)
{
    return volume == EK_CONTENTS ? g_strdup(CONTENTS) : g_strdup_printf("%u", volume);
}

int ek_cli_take_place(EkCli *cli, const char *operand, guint64 *volume, const char **path)
{
    if (ek_cli_parse_place(operand, volume, path))
        return EK_EXIT_DONE;
    return ek_cli_misused(cli, "\"%s\" is not VOLUME or VOLUME:PATH, as 2:Photos, nor carved",
                          operand);
}

/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/text.h"
#include "show.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>

/* The only mutable variable of the program outside of a function: a signal handler can reach
 * nothing else. */
static gint cancel_flag;

static void on_signal(int number)
{
    (void)number;
    g_atomic_int_set(&cancel_flag, 1);
}

const gint *ek_cli_watch_signals(void)
{
    struct sigaction action = {.sa_handler = on_signal, .sa_flags = (int)SA_RESETHAND};
    sigemptyset(&action.sa_mask);
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    sigaction(SIGHUP, &action, NULL);
    return &cancel_flag;
}

static void print_options(const GOptionEntry *entries)
{
    puts("\nOptions:");
    for (const GOptionEntry *entry = entries; entry != NULL && entry->long_name != NULL; entry++) {
        if ((entry->flags & G_OPTION_FLAG_HIDDEN) != 0)
            continue;
        g_autofree char *name =
            g_strdup_printf("--%s%s%s", entry->long_name, entry->arg_description != NULL ? " " : "",
                            entry->arg_description != NULL ? entry->arg_description : "");
        printf("  %-22s %s\n", name, entry->description);
    }
    printf("  %-22s %s\n", "--help", "this page");
}

static void print_help(const EkCommand *command, const GOptionEntry *entries)
{
    printf("ektypon %s%s%s\n\n%s\n", command->name, *command->arguments != '\0' ? " " : "",
           command->arguments, command->summary);
    if (command->details != NULL)
        printf("\n%s\n", command->details);
    print_options(entries);
    if (command->example != NULL)
        printf("\nExample:\n  %s\n", command->example);
}

static int explain_usage(EkCli *cli, const char *what)
{
    fprintf(stderr, "%s: %s\nUsage: ektypon %s%s%s\nAll of it: ektypon help %s\n",
            cli->command->name, what, cli->command->name,
            *cli->command->arguments != '\0' ? " " : "", cli->command->arguments,
            cli->command->name);
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

gboolean ek_cli_parse(EkCli *cli, const GOptionEntry *entries, int *status)
{
    gboolean help = FALSE;
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
        *status = explain_usage(cli, error->message);
        return FALSE;
    }
    if (help) {
        print_help(cli->command, entries);
        *status = EK_EXIT_DONE;
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
        *status = explain_usage(cli, count < cli->command->least ? "something is missing"
                                                                 : "too many arguments");
        return FALSE;
    }
    return TRUE;
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
    g_autofree char *text = g_strdup_printf("%s: %s", cli->command->name, error->message);
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

int ek_cli_print_json(json_t *root)
{
    int done = json_dumpf(root, stdout, JSON_INDENT(2) | JSON_PRESERVE_ORDER);
    json_decref(root);
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
    return ek_text_parse_u64(number, volume) && *volume > 0;
}

int ek_cli_take_place(EkCli *cli, const char *operand, guint64 *volume, const char **path)
{
    if (ek_cli_parse_place(operand, volume, path))
        return EK_EXIT_DONE;
    return ek_cli_misused(cli, "\"%s\" is not VOLUME or VOLUME:PATH, as 2:Photos", operand);
}

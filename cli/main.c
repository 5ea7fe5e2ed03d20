/* SPDX-License-Identifier: MIT */
/* Dispatches to the commands. */
#include "cli.h"
#include "helppage.h"
#include "nearest.h"
#include "notify.h"

#include "case/case.h"
#include "show.h"

#include <errno.h>
#include <fcntl.h>
#include <locale.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

static const EkCommand *find_command(const char *name)
{
    for (const EkCommand *command = ek_commands; command->name != NULL; command++)
        if (strcmp(command->name, name) == 0)
            return command;
    return NULL;
}

static char *join_options(int argc, char **argv)
{
    g_autoptr(GString) text = g_string_new(NULL);
    for (int i = 1; i < argc; i++) {
        g_autofree char *quoted = g_shell_quote(argv[i]);
        gboolean plain = strpbrk(argv[i], " \t\n'\"\\$`*?[]();&|<>~#!") == NULL && *argv[i] != '\0';
        g_string_append_printf(text, "%s%s", i > 1 ? " " : "", plain ? argv[i] : quoted);
    }
    return g_strdup(text->str);
}

static const char *nearest_command(const char *word)
{
    g_autoptr(GPtrArray) names = g_ptr_array_new();
    for (const EkCommand *command = ek_commands; command->name != NULL; command++)
        g_ptr_array_add(names, (gpointer)command->name);
    g_ptr_array_add(names, NULL);
    return ek_nearest(word, (const char *const *)names->pdata);
}

/* A file that is opened must not become what others take for our output. */
static void hold_standard_streams(void)
{
    for (int fd = STDIN_FILENO; fd <= STDERR_FILENO; fd++)
        if (fcntl(fd, F_GETFD) < 0 && open("/dev/null", O_RDONLY) != fd)
            _exit(EK_EXIT_FAILED);
}

/* What nobody could read was not done. */
static int check_output(int status)
{
    errno = 0;
    if (fflush(stdout) == 0 && ferror(stdout) == 0)
        return status;
    if (errno != EPIPE)
        ek_cli_advise("ektypon: the output could not be written%s%s", errno != 0 ? ": " : "",
                      errno != 0 ? g_strerror(errno) : "");
    return status == EK_EXIT_DONE || status == EK_EXIT_LEFT ? EK_EXIT_FAILED : status;
}

int main(int argc, char **argv)
{
    hold_standard_streams();
    ek_cli_expect_signals();
    setlocale(LC_ALL, "");
    if (argc >= 2 && strcmp(argv[1], "--version") == 0) {
        ek_cli_print("ektypon " EKTYPON_VERSION "\n");
        return check_output(EK_EXIT_DONE);
    }
    gboolean wants_help = argc < 2 || strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "-h") == 0;
    const EkCommand *command = find_command(wants_help ? "help" : argv[1]);
    if (command == NULL) {
        const char *nearest = nearest_command(argv[1]);
        ek_cli_advise("ektypon: there is no command \"%s\".%s%s%s All commands: ektypon help",
                      argv[1], nearest != NULL ? " The nearest one: ektypon " : "",
                      nearest != NULL ? nearest : "", nearest != NULL ? "." : "");
        return EK_EXIT_USAGE;
    }
    g_autoptr(EkSystem) system = ek_system_new(g_getenv("EKTYPON_SYSTEM_ROOT"));
    /* The option parser takes out of the array what it has understood. */
    int count = wants_help ? 1 : argc - 1;
    g_autofree char **rest = g_new0(char *, (gsize)count + 1);
    memcpy(rest, wants_help ? argv : argv + 1, (gsize)count * sizeof *rest);
    g_autofree char *options = join_options(count, rest);
    EkCli cli = {
        .commands = ek_commands,
        .command = command,
        .help = ek_help_page,
        .argc = count,
        .argv = rest,
        .options = options,
        .system = system,
        .color_out = ek_show_has_color(STDOUT_FILENO),
        .color_err = ek_show_has_color(STDERR_FILENO),
        .terminal_err = isatty(STDERR_FILENO) != 0,
        .width = ek_show_width(),
    };
    int status = command->run(&cli);
    status = check_output(status);
    ek_notify(&cli, status);
    g_free(cli.notify);
    return wants_help && argc < 2 ? EK_EXIT_USAGE : status;
}

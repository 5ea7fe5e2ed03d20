/* SPDX-License-Identifier: MIT */
/* What the commands share: arguments, exit status, showing things. */
#ifndef EK_CLI_CLI_H
#define EK_CLI_CLI_H

#include "base/error.h"
#include "device/system.h"
#include "volume/volume.h"

#include <glib.h>
#include <jansson.h>

/* The exit status of every command (docs/design.md). */
enum {
    EK_EXIT_DONE = 0,
    EK_EXIT_FAILED = 1,
    EK_EXIT_USAGE = 2,
    EK_EXIT_LEFT = 3, /* stopped in order with work left, or done with losses */
    EK_EXIT_REFUSED = 4,
    EK_EXIT_INTERRUPTED = 130
};

typedef struct EkCli EkCli;

typedef struct {
    const char *name;
    const char *arguments; /* "CASE SOURCE" */
    const char *summary;   /* one line */
    const char *details;   /* of the help page */
    const char *example;
    gsize least; /* positional arguments */
    gsize most;
    int (*run)(EkCli *cli);
} EkCommand;

/* All state of the program, passed to whoever needs it. */
struct EkCli {
    const EkCommand *commands; /* all of them; the last has no name */
    const EkCommand *command;
    int argc;
    char **argv;       /* argv[0] is the command's name */
    char **operands;   /* positional arguments, set by ek_cli_parse; NULL at the end */
    char *options;     /* the command line after the command, for the log */
    void *option_data; /* for callbacks of options; NULL where a command has none */
    /* NULL, or receives the command's options in place of their being parsed (help); its answer is
     * the command's status. */
    int (*describe)(EkCli *cli, const GOptionEntry *entries);
    int (*help)(EkCli *cli, const GOptionEntry *entries); /* as describe, for --help */
    void *describe_data;
    EkSystem *system;
    gboolean without_journal; /* of commands that read files */
    gboolean lost_content;    /* of those that list them */
    char *as_of_text;         /* the same, until it is parsed */
    EkAsOf as_of;             /* what that means */
    char *notify;             /* of commands that take long: what to run at their end */
    gboolean color_out;
    gboolean color_err;
    gboolean terminal_err;
    int width; /* columns of stdout's terminal, or 80 */
};

/* Every command, in the order of the work; the last has no name. */
extern const EkCommand ek_commands[];

/* Parses options and positional arguments. FALSE when the command is over: *status says how (help
 * was asked for, or the usage was wrong and has been explained). */
gboolean ek_cli_parse(EkCli *cli, const GOptionEntry *entries, int *status);

/* As ek_cli_parse, for commands whose only option is --json. */
gboolean ek_cli_parse_json(EkCli *cli, gboolean *json, int *status);

/* Says what failed, on stderr, and what that means for the exit status. Takes the error. */
int ek_cli_fail(EkCli *cli, GError *error);

/* As ek_cli_fail, for wrong usage that the option parser cannot see. */
int ek_cli_misused(EkCli *cli, const char *format, ...) G_GNUC_PRINTF(2, 3);

/* Advice: what to do next, what to mind. On stderr, after what stands on stdout so far. */
void ek_cli_advise(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* Prints to stdout what people read: see ek_show_put. */
void ek_cli_print(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* Prints JSON as it is, in one line or indented; takes `row`. Not 0 when that failed. */
int ek_cli_dump_json(json_t *row, gboolean indented);

/* Prints JSON and a newline; takes `root`. */
int ek_cli_print_json(json_t *root);

/* A string, or null for NULL. */
json_t *ek_json_text(const char *text);
json_t *ek_json_u64(guint64 value);
/* value / unit, or null where that is not whole. */
json_t *ek_json_whole(guint64 value, guint64 unit);

/* From the start: Ctrl-C, SIGTERM and SIGHUP end the program at once, with EK_EXIT_INTERRUPTED. */
void ek_cli_expect_signals(void);

/* From now on they ask the work to end in order: atomic, not 0 once one came. Work that has not
 * ended within a second, and a second signal, end at once. */
const gint *ek_cli_watch_signals(void);

/* The command has noticed that it shall end, and is only waiting for the system: that may take
 * longer than work that hangs is waited for. A second signal still ends it at once. */
void ek_cli_await_end(void);

/* "VOLUME" or "VOLUME:PATH": *path points into `operand`, "" when there is none. */
/* What could not be searched, in bytes, and that the command can be run again. */
void ek_cli_print_unsearched(EkCli *cli, guint64 bad, guint64 unread);

/* The first part of a place: the number of a volume, or "carved". The caller frees. */
char *ek_cli_place_word(guint volume);

gboolean ek_cli_parse_place(const char *operand, guint64 *volume, const char **path);
/* The same, and tells of a misuse: EK_EXIT_DONE or EK_EXIT_USAGE. */
int ek_cli_take_place(EkCli *cli, const char *operand, guint64 *volume, const char **path);

int ek_command_drives(EkCli *cli);
int ek_command_new(EkCli *cli);
int ek_command_image(EkCli *cli);
int ek_command_map(EkCli *cli);
int ek_command_hunt(EkCli *cli);
int ek_command_volumes(EkCli *cli);
int ek_command_carve(EkCli *cli);
int ek_command_ls(EkCli *cli);
int ek_command_tree(EkCli *cli);
int ek_command_find(EkCli *cli);
int ek_command_index(EkCli *cli);
int ek_command_peek(EkCli *cli);
int ek_command_extract(EkCli *cli);
int ek_command_mount(EkCli *cli);
int ek_command_plan(EkCli *cli);
int ek_command_clone(EkCli *cli);
int ek_command_apply(EkCli *cli);
int ek_command_undo(EkCli *cli);
int ek_command_serve(EkCli *cli);
int ek_command_note(EkCli *cli);
int ek_command_report(EkCli *cli);
int ek_command_set(EkCli *cli);
int ek_command_status(EkCli *cli);
int ek_command_log(EkCli *cli);
int ek_command_help(EkCli *cli);

#endif

/* SPDX-License-Identifier: MIT */
/* The help of a command: as text in two columns, and as a man page (man(7) macros). */
#include "helppage.h"

#include "show.h"
#include "wrap.h"

#include <stdio.h>
#include <string.h>

#define MOST_COLUMNS 100u /* longer lines are hard to read */
#define OPTION_COLUMNS 26u

static const GOptionEntry help_entry = {"help",           0,   0, G_OPTION_ARG_NONE, NULL,
                                        "show this page", NULL};

/* "--want WHAT". The caller frees. */
static char *option_words(const GOptionEntry *entry)
{
    if (entry->arg_description == NULL)
        return g_strconcat("--", entry->long_name, NULL);
    gboolean is_optional = (entry->flags & G_OPTION_FLAG_OPTIONAL_ARG) != 0;
    return g_strdup_printf(is_optional ? "--%s[=%s]" : "--%s %s", entry->long_name,
                           entry->arg_description);
}

static guint page_width(void)
{
    return MIN((guint)ek_show_width(), MOST_COLUMNS);
}

static void print_wrapped(const char *text, guint indent)
{
    g_autofree char *lines = ek_wrap(text, page_width(), indent, indent);
    ek_cli_print("%*s%s\n", (int)indent, "", lines);
}

static void print_option(const GOptionEntry *entry)
{
    g_autofree char *name = option_words(entry);
    guint columns = 2 + ek_show_columns(name);
    if (columns + 2 > OPTION_COLUMNS)
        ek_cli_print("  %s\n%*s", name, (int)OPTION_COLUMNS, "");
    else
        ek_cli_print("  %s%*s", name, (int)(OPTION_COLUMNS - columns), "");
    g_autofree char *lines =
        ek_wrap(entry->description, page_width(), OPTION_COLUMNS, OPTION_COLUMNS);
    ek_cli_print("%s\n", lines);
}

static gboolean is_shown(const GOptionEntry *entry)
{
    return (entry->flags & G_OPTION_FLAG_HIDDEN) == 0;
}

int ek_help_page(EkCli *cli, const GOptionEntry *entries)
{
    const EkCommand *command = cli->command;
    g_autofree char *usage =
        g_strdup_printf("Usage: ektypon %s%s%s [OPTION…]", command->name,
                        *command->arguments != '\0' ? " " : "", command->arguments);
    print_wrapped(command->summary, 0);
    ek_cli_print("\n");
    print_wrapped(usage, 0);
    if (command->details != NULL) {
        ek_cli_print("\n");
        print_wrapped(command->details, 0);
    }
    ek_cli_print("\nOptions:\n");
    for (const GOptionEntry *entry = entries; entry != NULL && entry->long_name != NULL; entry++)
        if (is_shown(entry))
            print_option(entry);
    print_option(&help_entry);
    if (command->example != NULL)
        ek_cli_print("\nExample:\n  %s\n", command->example);
    return EK_EXIT_DONE;
}

/* --- man pages ------------------------------------------------------------------------------ */

/* Text in which nothing is a request or an escape of roff. */
static void put_roff(const char *text)
{
    g_autoptr(GString) out = g_string_new(NULL);
    for (const char *p = text; *p != '\0'; p++) {
        gboolean begins = p == text || p[-1] == '\n';
        if (*p == '\\')
            g_string_append(out, "\\e");
        else if (*p == '-')
            g_string_append(out, "\\-");
        else if ((*p == '.' || *p == '\'') && begins)
            g_string_append_printf(out, "\\&%c", *p);
        else if (g_str_has_prefix(p, "…")) {
            g_string_append(out, "\\&...");
            p += strlen("…") - 1;
        } else
            g_string_append_c(out, *p);
    }
    fputs(out->str, stdout);
}

static void put_section(const char *name)
{
    printf(".SH %s\n", name);
}

static void put_title(const char *name)
{
    g_autofree char *upper = g_ascii_strup(name, -1);
    printf(".\\\" SPDX-License-Identifier: MIT\n.TH %s 1 \"\" \"Ektypon " EKTYPON_VERSION
           "\" \"User Commands\"\n",
           upper);
}

static void put_man_option(const GOptionEntry *entry)
{
    printf(".TP\n.B ");
    g_autofree char *name = g_strconcat("--", entry->long_name, NULL);
    put_roff(name);
    if (entry->arg_description != NULL) {
        gboolean is_optional = (entry->flags & G_OPTION_FLAG_OPTIONAL_ARG) != 0;
        printf(is_optional ? "\\fR[=\\fI" : " \\fI");
        put_roff(entry->arg_description);
        printf(is_optional ? "\\fR]" : "\\fR");
    }
    putchar('\n');
    put_roff(entry->description);
    putchar('\n');
}

int ek_help_man(EkCli *cli, const GOptionEntry *entries)
{
    const EkCommand *command = cli->command;
    g_autofree char *page = g_strconcat("ektypon-", command->name, NULL);
    g_autofree char *summary = g_strdup(command->summary);
    if (g_str_has_suffix(summary, "."))
        summary[strlen(summary) - 1] = '\0';
    put_title(page);
    put_section("NAME");
    put_roff(page);
    printf(" \\- ");
    *summary = g_ascii_tolower(*summary);
    put_roff(summary);
    putchar('\n');
    put_section("SYNOPSIS");
    printf(".B ektypon %s\n", command->name);
    put_roff(command->arguments);
    printf(" [OPTION\\&...]\n");
    put_section("DESCRIPTION");
    put_roff(command->details != NULL ? command->details : command->summary);
    putchar('\n');
    put_section("OPTIONS");
    for (const GOptionEntry *entry = entries; entry != NULL && entry->long_name != NULL; entry++)
        if (is_shown(entry))
            put_man_option(entry);
    put_man_option(&help_entry);
    if (command->example != NULL) {
        put_section("EXAMPLE");
        printf(".EX\n");
        put_roff(command->example);
        printf("\n.EE\n");
    }
    put_section("EXIT STATUS");
    printf("See\n.BR ektypon (1).\n");
    put_section("SEE ALSO");
    printf(".BR ektypon (1)\n");
    return EK_EXIT_DONE;
}

void ek_help_man_commands(const EkCli *cli)
{
    for (const EkCommand *command = cli->commands; command->name != NULL; command++) {
        printf(".TP\n.BR ektypon\\-%s (1)\n", command->name);
        put_roff(command->summary);
        putchar('\n');
    }
}

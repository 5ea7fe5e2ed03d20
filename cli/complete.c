/* SPDX-License-Identifier: MIT */
/* Completion of a command line. The scripts of the shells (completion/) only ask `ektypon help
 * --complete`; what there is to complete comes from the table of commands, the options that each
 * command parses, and the case that the command line names. */
#include "complete.h"

#include "case/case.h"
#include "case/volumestore.h"
#include "kind/kind.h"
#include "show.h"
#include "work/indexing.h"

#include <stdio.h>
#include <string.h>

#define MOST_NAMES 500u /* of a folder */

typedef struct {
    char **words;       /* those before the one to complete */
    const char *typed;  /* the one to complete */
    const char *folder; /* the case, NULL where none was named yet */
} Completion;

/* The shells take a candidate for a line of text: one that is none could not be typed either. */
static void offer(Completion *completion, const char *before, const char *candidate,
                  const char *behind)
{
    g_autofree char *whole = g_strconcat(before, candidate, behind, NULL);
    if (!g_str_has_prefix(whole, completion->typed) || !g_utf8_validate(whole, -1, NULL))
        return;
    for (const char *p = whole; *p != '\0'; p = g_utf8_next_char(p))
        if (!g_unichar_isprint(g_utf8_get_char(p)))
            return;
    printf("%s\n", whole);
}

/* Folders that hold a case, below the folder that was typed so far; and folders to go down. */
static void offer_cases(Completion *completion)
{
    const char *slash = strrchr(completion->typed, '/');
    g_autofree char *front =
        slash != NULL ? g_strndup(completion->typed, (gsize)(slash + 1 - completion->typed))
                      : g_strdup("");
    g_autoptr(GDir) dir = g_dir_open(*front != '\0' ? front : ".", 0, NULL);
    const char *name;
    while (dir != NULL && (name = g_dir_read_name(dir)) != NULL) {
        g_autofree char *path = g_strconcat(front, name, NULL);
        if (!g_file_test(path, G_FILE_TEST_IS_DIR) || *name == '.')
            continue;
        offer(completion, path, "", ek_case_is_at(path) ? "" : "/");
    }
}

typedef struct {
    Completion *completion;
    const char *front; /* "2:Field recordings/" */
    guint left;
} Names;

static gboolean offer_name(void *data, const char *path, const EkItem *item)
{
    Names *names = data;
    (void)path;
    offer(names->completion, names->front, item->name,
          item->file.type == EK_TYPE_FOLDER ? "/" : "");
    return --names->left > 0;
}

/* Names of the folder that was typed so far, where the volume's file index is there. */
static void offer_paths(Completion *completion, guint64 number, const char *path)
{
    EkView view;
    EkInventoryTotals totals;
    if (!ek_view_open(&view, completion->folder, FALSE, NULL))
        return;
    const EkCaseVolume *entry = NULL;
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view.opened, NULL);
    if (volumes != NULL)
        entry = ek_volumestore_find(volumes, number, NULL);
    EkIndexing *indexing = entry != NULL && ek_indexing_known(&view, entry, &totals)
                               ? ek_indexing_new(&view, number, NULL)
                               : NULL;
    if (indexing != NULL) {
        const char *slash = strrchr(path, '/');
        g_autofree char *folder =
            slash != NULL ? g_strndup(path, (gsize)(slash - path)) : g_strdup("");
        g_autofree char *front =
            g_strdup_printf("%" G_GUINT64_FORMAT ":%s%s", number, folder, slash != NULL ? "/" : "");
        Names names = {completion, front, MOST_NAMES};
        guint64 at = 0;
        EkInventory *inventory = ek_indexing_inventory(indexing);
        if (ek_inventory_find(inventory, folder, &at, NULL))
            ek_inventory_walk(inventory, at, 0, offer_name, &names, NULL);
        ek_indexing_free(indexing);
    }
    ek_view_close(&view);
}

/* Volume numbers; once one was typed with its colon, what is on it. `before`: "used:". */
static void offer_volumes(Completion *completion, const char *before, gboolean has_path)
{
    guint64 number = 0;
    const char *path = NULL;
    if (completion->folder == NULL)
        return;
    if (has_path && strchr(completion->typed, ':') != NULL) {
        if (ek_cli_parse_place(completion->typed, &number, &path))
            offer_paths(completion, number, path);
        return;
    }
    g_autoptr(EkCase) opened = ek_case_open(completion->folder, FALSE, NULL);
    g_autoptr(GPtrArray) volumes = opened != NULL ? ek_volumestore_list(opened, NULL) : NULL;
    for (guint i = 0; volumes != NULL && i < volumes->len; i++) {
        char text[32];
        g_snprintf(text, sizeof text, "%u", ((EkCaseVolume *)volumes->pdata[i])->number);
        offer(completion, before, text, "");
    }
}

/* "2,3": each of a list is completed. The caller frees. */
static char *front_of_list(const char *typed)
{
    const char *comma = strrchr(typed, ',');
    return comma != NULL ? g_strndup(typed, (gsize)(comma + 1 - typed)) : g_strdup("");
}

/* The values of an option, by the name of its argument. `before` is "--name=" or "". */
static void offer_values(Completion *completion, const GOptionEntry *entry, const char *before)
{
    const char *argument = entry->arg_description;
    const char *typed = completion->typed + strlen(before);
    g_autofree char *listed = front_of_list(typed);
    g_autofree char *in_list = g_strconcat(before, listed, NULL);
    if (g_str_has_prefix(argument, "FILE") || g_str_equal(argument, "SOURCE")) {
        printf(":files\n");
    } else if (g_str_has_prefix(argument, "DIR")) {
        printf(":folders\n");
    } else if (g_str_has_prefix(argument, "KIND")) {
        for (guint i = 0; i < EK_KINDS; i++)
            offer(completion, in_list, ek_kind_name((EkKind)i), "");
    } else if (g_str_has_prefix(argument, "CONDITION")) {
        for (guint i = 0; i < EK_CONDITIONS; i++)
            offer(completion, in_list, ek_condition_name((EkCondition)i), "");
    } else if (g_str_has_prefix(argument, "VOLUME")) {
        offer_volumes(completion, in_list, FALSE);
    } else if (g_str_equal(argument, "WHAT")) {
        offer(completion, before, "structures", "");
        offer_volumes(completion, "used:", FALSE);
        offer_volumes(completion, "free:", FALSE);
        offer_volumes(completion, before, TRUE);
        printf(":files\n");
    } else {
        /* "zeros|skip|stop": lower-case words are the values themselves. */
        g_auto(GStrv) values = g_strsplit(argument, "|", -1);
        for (char **value = values; *value != NULL; value++)
            if (g_ascii_islower(**value))
                offer(completion, before, *value, "");
    }
}

static void offer_options(Completion *completion, const GOptionEntry *entries)
{
    for (const GOptionEntry *entry = entries; entry != NULL && entry->long_name != NULL; entry++)
        if ((entry->flags & G_OPTION_FLAG_HIDDEN) == 0)
            offer(completion, "--", entry->long_name, "");
    offer(completion, "--", "help", "");
}

static const GOptionEntry *option_of(const GOptionEntry *entries, const char *word)
{
    gsize length = strcspn(word, "=");
    for (const GOptionEntry *entry = entries; entry != NULL && entry->long_name != NULL; entry++)
        if (length == strlen(entry->long_name) + 2 && g_str_has_prefix(word, "--") &&
            strncmp(word + 2, entry->long_name, length - 2) == 0)
            return entry;
    return NULL;
}

static gboolean takes_next(const GOptionEntry *entry)
{
    return entry != NULL && entry->arg_description != NULL &&
           (entry->flags & G_OPTION_FLAG_OPTIONAL_ARG) == 0;
}

/* By the name of the positional argument: "CASE", "[VOLUME[:PATH]", "TARGET". */
static void offer_operand(Completion *completion, const EkCli *cli, guint index)
{
    g_auto(GStrv) names = g_strsplit(cli->command->arguments, " ", -1);
    const char *name = NULL;
    for (guint i = 0; names[i] != NULL && i <= index; i++)
        if (*names[i] != '|' && !g_str_has_prefix(names[i], "--") && strstr(names[i], "…") == NULL)
            name = names[i] + (*names[i] == '[');
    if (name == NULL)
        return;
    if (g_str_has_prefix(name, "CASE") && index == 0 && !g_str_equal(cli->command->name, "new"))
        offer_cases(completion);
    else if (g_str_has_prefix(name, "VOLUME"))
        offer_volumes(completion, "", strstr(name, "PATH") != NULL);
    else if (g_str_has_prefix(name, "NUMBER"))
        offer_volumes(completion, "", FALSE);
    else if (g_str_has_prefix(name, "COMMAND"))
        for (const EkCommand *other = cli->commands; other->name != NULL; other++)
            offer(completion, "", other->name, "");
    else
        printf(":files\n");
}

/* What EkCli.describe is while completing: the options are those of the command that was typed. */
static int complete_arguments(EkCli *cli, const GOptionEntry *entries)
{
    Completion *completion = cli->describe_data;
    guint operands = 0;
    const GOptionEntry *open_option = NULL;
    for (char **word = completion->words; *word != NULL; word++) {
        gboolean is_value = takes_next(open_option);
        open_option = is_value || strchr(*word, '=') != NULL ? NULL : option_of(entries, *word);
        if (is_value || **word == '-')
            continue;
        completion->folder = operands++ == 0 ? *word : completion->folder;
    }
    const GOptionEntry *typed = option_of(entries, completion->typed);
    const char *equals = strchr(completion->typed, '=');
    if (takes_next(open_option))
        offer_values(completion, open_option, "");
    else if (typed != NULL && equals != NULL && typed->arg_description != NULL) {
        g_autofree char *before =
            g_strndup(completion->typed, (gsize)(equals + 1 - completion->typed));
        offer_values(completion, typed, before);
    } else if (*completion->typed == '-')
        offer_options(completion, entries);
    else
        offer_operand(completion, cli, operands);
    return EK_EXIT_DONE;
}

void ek_complete_words(EkCli *cli, char **words)
{
    guint count = g_strv_length(words);
    g_autofree char *typed = g_strdup(count > 0 ? words[count - 1] : "");
    if (count > 0)
        words[count - 1] = NULL;
    Completion completion = {.words = words, .typed = typed};
    for (const EkCommand *command = cli->commands; command->name != NULL; command++) {
        if (count < 2) {
            offer(&completion, "", command->name, "");
            continue;
        }
        if (!g_str_equal(command->name, words[0]))
            continue;
        completion.words = words + 1;
        EkCli asked = *cli;
        asked.command = command;
        asked.describe = complete_arguments;
        asked.describe_data = &completion;
        command->run(&asked);
    }
}

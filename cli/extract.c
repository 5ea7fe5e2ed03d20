/* SPDX-License-Identifier: MIT */
/* extract: writes files of volumes below a folder. */
#include "extract.h"

#include "filerow.h"
#include "filters.h"
#include "notify.h"
#include "taking.h"

int ek_extract_contents(EkCli *cli, const char *to, EkTelling telling, EkExtractSum *sum)
{
    char carved[] = "carved";
    char *operands[] = {cli->operands[0], carved, NULL};
    g_autofree char *folder = g_strdup(to);
    EkCli inner = *cli;
    inner.operands = operands;
    EkTakeOrder order = {.to = folder, .telling = telling, .sum = sum};
    order.filter.conditions = 1u << EK_CONDITION_WHOLE;
    return ek_taking_run(&inner, &order);
}

/* --- the command ---------------------------------------------------------------------------- */

static gboolean choose(const char *word, const char *const *words, guint count, guint *choice)
{
    for (guint i = 0; i < count; i++)
        if (word == NULL || g_str_equal(word, words[i])) {
            *choice = i;
            return TRUE;
        }
    return FALSE;
}

static gboolean check_words(EkCli *cli, EkTakeOrder *order, int *status)
{
    static const char *const holes[] = {"zeros", "skip", "stop"};
    static const char *const exists[] = {"keep", "replace", "rename"};
    guint choice = 0;
    *status = EK_EXIT_DONE;
    if (order->to == NULL && !order->dry_run)
        *status = ek_cli_misused(cli, "--to DIR is required");
    else if (cli->operands[1] == NULL && order->list == NULL)
        *status =
            ek_cli_misused(cli, "specify what to extract: VOLUME, VOLUME:PATH or --from-list FILE");
    if (*status == EK_EXIT_DONE && !choose(order->holes_word, holes, 3, &choice))
        *status =
            ek_cli_misused(cli, "--holes takes zeros, skip or stop, not \"%s\"", order->holes_word);
    order->holes = (EkHoles)choice;
    if (*status == EK_EXIT_DONE && !choose(order->exists_word, exists, 3, &choice))
        *status = ek_cli_misused(cli, "--if-exists takes keep, replace or rename, not \"%s\"",
                                 order->exists_word);
    order->if_exists = (EkIfExists)choice;
    static const char *const names[] = {"original", "portable"};
    if (*status == EK_EXIT_DONE && !choose(order->names_word, names, 2, &choice))
        *status = ek_cli_misused(cli, "--names takes original or portable, not \"%s\"",
                                 order->names_word);
    order->portable = choice == 1;
    if (*status == EK_EXIT_DONE && order->flat &&
        (order->list != NULL || cli->operands[1] == NULL || cli->operands[2] != NULL))
        *status = ek_cli_misused(cli, "--flat takes one VOLUME:PATH, and no --from-list");
    guint64 number = 0;
    const char *path = NULL;
    for (char **operand = cli->operands + 1; *status == EK_EXIT_DONE && *operand != NULL; operand++)
        *status = ek_cli_take_place(cli, *operand, &number, &path);
    return *status == EK_EXIT_DONE;
}

int ek_command_extract(EkCli *cli)
{
    EkTakeOrder order = {0};
    EkFilterWords words = {0};
    const GOptionEntry entries[] = {
        {"to", 0, 0, G_OPTION_ARG_FILENAME, &order.to, "destination folder (created if needed)",
         "DIR"},
        EK_FILTER_ENTRIES(words),
        {"from-list", 0, 0, G_OPTION_ARG_FILENAME, &order.list,
         "extract the items listed in FILE (VOLUME:@NUMBER or VOLUME:PATH, one per line)", "FILE"},
        {"holes", 0, 0, G_OPTION_ARG_STRING, &order.holes_word,
         "incomplete files: fill with zeros (default), skip, or stop", "zeros|skip|stop"},
        {"incomplete-to", 0, 0, G_OPTION_ARG_FILENAME, &order.incomplete_to,
         "write incomplete files to this folder", "DIR"},
        {"if-exists", 0, 0, G_OPTION_ARG_STRING, &order.exists_word,
         "if the file exists: keep it (default), replace it, or rename the new one",
         "keep|replace|rename"},
        {"names", 0, 0, G_OPTION_ARG_STRING, &order.names_word,
         "portable: write names that every system takes (default: only where the target needs "
         "them)",
         "original|portable"},
        {"flat", 0, 0, G_OPTION_ARG_NONE, &order.flat,
         "write one VOLUME:PATH straight into DIR, without a folder for its volume", NULL},
        {"streams", 0, 0, G_OPTION_ARG_NONE, &order.streams,
         "include alternate data streams, written as FILE:STREAM", NULL},
        {"sums", 0, 0, G_OPTION_ARG_FILENAME, &order.sums,
         "write SHA-256 sums to FILE in sha256sum format", "FILE"},
        {"dry-run", 0, 0, G_OPTION_ARG_NONE, &order.dry_run,
         "write nothing; print the totals by kind and by folder", NULL},
        EK_OPTIONS_OF_JOURNAL(cli),
        EK_OPTION_NOTIFY(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &order.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (ek_cli_parse(cli, entries, &status) &&
        ek_filters_take(cli, &words, &order.filter, &status)) {
        if (check_words(cli, &order, &status))
            status = ek_taking_run(cli, &order);
        ek_filter_clear(&order.filter);
    }
    char *texts[] = {order.to,         order.incomplete_to, order.sums,      order.list,
                     order.holes_word, order.exists_word,   order.names_word};
    for (gsize i = 0; i < G_N_ELEMENTS(texts); i++)
        g_free(texts[i]);
    return status;
}

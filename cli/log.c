/* SPDX-License-Identifier: MIT */
/* log: shows the history of a case. */
#include "cli.h"

#include "base/text.h"
#include "case/case.h"
#include "show.h"

#include <signal.h>
#include <stdio.h>

/* An event without an end is running, or was cut off by a kill or a power cut. */
static const char *outcome_of(const EkEvent *event)
{
    if (event->outcome != NULL)
        return event->outcome;
    return kill((pid_t)event->pid, 0) == 0 ? "running" : "cut off";
}

static int print_json(GPtrArray *events)
{
    json_t *list = json_array();
    for (guint i = 0; i < events->len; i++) {
        const EkEvent *event = events->pdata[i];
        json_t *row = json_object();
        json_object_set_new(row, "id", json_integer(event->id));
        json_object_set_new(row, "command", ek_json_text(event->command));
        json_object_set_new(row, "options", ek_json_text(event->options));
        json_object_set_new(row, "began", json_integer(event->began));
        json_object_set_new(row, "ended",
                            event->ended != 0 ? json_integer(event->ended) : json_null());
        json_object_set_new(row, "outcome", ek_json_text(outcome_of(event)));
        json_object_set_new(row, "detail", ek_json_text(event->detail));
        json_array_append_new(list, row);
    }
    return ek_cli_print_json(json_pack("{s:o}", "events", list));
}

static void print_event(EkCli *cli, const EkEvent *event)
{
    g_autofree char *began = ek_text_time(event->began);
    g_autofree char *took = ek_text_duration((double)(event->ended - event->began));
    g_autofree char *options = ek_text_escape(event->options);
    g_autofree char *detail = ek_text_escape(event->detail != NULL ? event->detail : "");
    gboolean fine = g_strcmp0(event->outcome, "done") == 0;
    g_autofree char *outcome =
        ek_show_in(cli->color_out && !fine, EK_COLOR_WARN, outcome_of(event));
    ek_cli_print("%4" G_GINT64_FORMAT "  %s  %s %s\n", event->id, began, event->command, options);
    g_autofree char *line =
        g_strconcat(outcome, event->ended != 0 ? " after " : "", event->ended != 0 ? took : "",
                    *detail != '\0' ? ": " : "", detail, NULL);
    ek_show_sentence(stdout, "      ", 6, line);
}

int ek_command_log(EkCli *cli)
{
    gboolean json = FALSE;
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse_json(cli, &json, &status))
        return status;
    GError *error = NULL;
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    g_autoptr(GPtrArray) events = opened != NULL ? ek_event_list(opened, &error) : NULL;
    if (events == NULL)
        return ek_cli_fail(cli, error);
    if (json)
        return print_json(events);
    for (guint i = 0; i < events->len; i++)
        print_event(cli, events->pdata[i]);
    return EK_EXIT_DONE;
}

/* SPDX-License-Identifier: MIT */
/* note: what the report says of the client, kept in the case. */
#include "cli.h"

#include "base/text.h"
#include "case/case.h"

static int print_notes(EkCase *opened, gboolean json)
{
    static const char *const titles[] = {"Client", "Reference", "Note"};
    json_t *root = json_object();
    for (guint i = 0; i < EK_NOTES; i++) {
        g_autofree char *text = ek_case_note(opened, (EkNote)i);
        g_autofree char *safe = text != NULL ? ek_text_printable(text, FALSE) : g_strdup("-");
        json_object_set_new(root, ek_note_name((EkNote)i), ek_json_text(text));
        if (!json)
            ek_cli_print("%-10s %s\n", titles[i], safe);
    }
    if (json)
        return ek_cli_print_json(root);
    json_decref(root);
    return EK_EXIT_DONE;
}

int ek_command_note(EkCli *cli)
{
    char *texts[EK_NOTES] = {NULL};
    gboolean json = FALSE;
    int status = EK_EXIT_DONE;
    const GOptionEntry entries[] = {
        {"client", 0, 0, G_OPTION_ARG_STRING, &texts[EK_NOTE_CLIENT], "whose drive it is", "TEXT"},
        {"reference", 0, 0, G_OPTION_ARG_STRING, &texts[EK_NOTE_REFERENCE],
         "the number of the job in your books", "TEXT"},
        {"note", 0, 0, G_OPTION_ARG_STRING, &texts[EK_NOTE_TEXT], "any other text for the report",
         "TEXT"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    GError *error = NULL;
    gboolean changes = FALSE;
    for (guint i = 0; i < EK_NOTES; i++)
        changes |= texts[i] != NULL;
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], changes, &error);
    gboolean fine = opened != NULL;
    for (guint i = 0; fine && i < EK_NOTES; i++)
        fine = texts[i] == NULL || ek_case_set_note(opened, (EkNote)i, texts[i], &error);
    status = fine ? print_notes(opened, json) : ek_cli_fail(cli, error);
    for (guint i = 0; i < EK_NOTES; i++)
        g_free(texts[i]);
    return status;
}

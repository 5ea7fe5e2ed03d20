/* SPDX-License-Identifier: MIT */
/* set: tells the case where its image is now. */
#include "cli.h"

#include "work/ownimage.h"

int ek_command_set(EkCli *cli)
{
    g_autofree char *image = NULL;
    g_autofree char *confirmed = NULL;
    int status = EK_EXIT_DONE;
    const GOptionEntry entries[] = {
        {"image", 0, 0, G_OPTION_ARG_FILENAME, &image, "where the image of the case is now",
         "FILE"},
        {"confirm", 0, 0, G_OPTION_ARG_STRING, &confirmed,
         "of an adopted image, of which no data is vouched for: its file name", "NAME"},
        G_OPTION_ENTRY_NULL,
    };
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (image == NULL)
        return ek_cli_misused(cli, "missing option: --image FILE");
    GError *error = NULL;
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], TRUE, &error);
    gint64 event = opened != NULL ? ek_event_begin(opened, "set", cli->options, &error) : 0;
    if (event == 0)
        return ek_cli_fail(cli, error);
    gboolean fine = ek_ownimage_move(opened, image, confirmed, &error);
    ek_event_end(opened, event, fine ? "done" : "refused", NULL, NULL);
    if (!fine)
        return ek_cli_fail(cli, error);
    ek_cli_print("The image of %s is %s.\n", cli->operands[0], ek_case_info(opened)->image);
    ek_cli_advise("Next: ektypon status %s", cli->operands[0]);
    return EK_EXIT_DONE;
}

/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/text.h"
#include "work/opening.h"

#include <stdio.h>

static void warn_of_adapter(EkCli *cli, const EkCaseInfo *info)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(cli->system, info->path);
    if (drive != NULL && drive->buffered)
        ek_cli_advise("new: %s is a loop device that goes through the page cache: one bad sector "
                      "takes its whole page with it. Make it with direct I/O: losetup "
                      "--direct-io=on",
                      info->path);
}

static void advise(const EkCaseInfo *info, const char *folder)
{
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *binary = ek_text_size(info->bytes);
    g_autofree char *model = ek_text_escape(info->model != NULL ? info->model : "unknown model");
    g_autofree char *serial = ek_text_escape(info->serial != NULL ? info->serial : "unknown");
    printf("%s: %s, serial %s, %s (%s), %" G_GUINT64_FORMAT " sectors of %u\n", info->source, model,
           serial, label, binary, info->sectors, info->sector_size);
    printf("Case %s is open; the image will be %s\n", folder, info->image);
    ek_cli_advise(
        "Until it is imaged: do not format it, do not mount it, not even to look, and let no "
        "repair tool at the original. Keep discard (TRIM) off. Keep the drive cool, and "
        "leave it switched on while it reads.");
    ek_cli_advise("Next: ektypon image %s", folder);
}

int ek_command_new(EkCli *cli)
{
    EkOpening opening = {0};
    gint sector_size = 0;
    g_autofree char *image = NULL;
    g_autofree char *short_space = NULL;
    const GOptionEntry entries[] = {
        {"image", 0, 0, G_OPTION_ARG_FILENAME, &image, "put the image there", "FILE"},
        {"sector-size", 0, 0, G_OPTION_ARG_INT, &sector_size,
         "sectors to count a file in (512 unless said)", "BYTES"},
        {"partition", 0, 0, G_OPTION_ARG_NONE, &opening.allow_partition,
         "take a partition alone, without the drive around it", NULL},
        {"short-space", 0, 0, G_OPTION_ARG_STRING, &short_space,
         "what to do when the image may not fit: go-on", "go-on"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (short_space != NULL && !g_str_equal(short_space, "go-on"))
        return ek_cli_misused(cli, "--short-space takes go-on, not \"%s\"", short_space);
    if (sector_size < 0)
        return ek_cli_misused(cli, "--sector-size %d is not a size", sector_size);
    opening.folder = cli->operands[0];
    opening.source = cli->operands[1];
    opening.image = image;
    opening.sector_size = (guint32)sector_size;
    opening.allow_short_space = short_space != NULL;

    GError *error = NULL;
    g_autoptr(EkCase) made = ek_opening_make(cli->system, &opening, &error);
    if (made == NULL)
        return ek_cli_fail(cli, error);
    gint64 event = ek_event_begin(made, "new", cli->options, &error);
    if (event == 0 || !ek_event_end(made, event, "done", NULL, &error))
        return ek_cli_fail(cli, error);
    warn_of_adapter(cli, ek_case_info(made));
    advise(ek_case_info(made), opening.folder);
    return EK_EXIT_DONE;
}

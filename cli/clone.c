/* SPDX-License-Identifier: MIT */
/* clone: writes the image with the plan applied to a target. */
#include "cli.h"

#include "base/text.h"
#include "show.h"
#include "target.h"
#include "work/cloning.h"

#include <stdio.h>

typedef struct {
    EkCloning *cloning;
    gboolean color;
    gint64 started;
} Show;

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Show *show = data;
    EkCloneProgress now = ek_cloning_progress(show->cloning);
    double seconds = (double)(g_get_monotonic_time() - show->started) / 1e6;
    double rate = seconds > 0 ? (double)now.done / seconds : 0;
    g_autofree char *bar = ek_show_bar(now.done, now.total, 24);
    g_autofree char *share = ek_text_share(now.done, now.total);
    g_autofree char *speed = ek_text_size((guint64)rate);
    g_autofree char *remaining = ek_show_time_left(now.total - now.done, rate);
    g_string_printf(lines[0], "%s%s%s %s  %s  %s/s  left %s",
                    ek_show_on(show->color, EK_COLOR_GOOD), bar, ek_show_off(show->color), share,
                    now.verifying ? "verifying" : "writing", speed, remaining);
}

int ek_command_clone(EkCli *cli)
{
    EkCloneOrder order = {0};
    g_autofree char *confirmed = NULL;
    const GOptionEntry entries[] = {
        {"as-imaged", 0, 0, G_OPTION_ARG_NONE, &order.as_imaged,
         "write the image as read, without the plan", NULL},
        {"skip-tail", 0, 0, G_OPTION_ARG_NONE, &order.skip_tail,
         "for a smaller target: skip everything after the last planned partition", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_target_parse(cli, entries, &confirmed, &status))
        return status;
    order.folder = cli->operands[0];
    order.target = cli->operands[1];
    order.options = cli->options;
    order.confirmed = confirmed;

    GError *error = NULL;
    const gint *cancel = ek_cli_watch_signals();
    g_autoptr(EkCloning) cloning = ek_cloning_new(cli->system, &order, cancel, &error);
    if (cloning == NULL)
        return ek_cli_fail(cli, error);
    Show show = {cloning, cli->color_err, g_get_monotonic_time()};
    if (ek_cloning_begun(cloning) > 0) {
        g_autofree char *begun = ek_text_size(ek_cloning_begun(cloning));
        ek_cli_advise("Resuming: %s already written", begun);
    }
    EkProgress *progress = ek_progress_begin(cli->terminal_err, draw, &show);
    gboolean done = ek_cloning_run(cloning, &error);
    ek_progress_end(progress);
    if (!done) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        status = ek_cli_fail(cli, error);
        if (interrupted)
            ek_cli_advise("%s is incomplete. Run the same command again to resume", order.target);
        return status;
    }
    guint edits = ek_cloning_edits(cloning);
    g_autofree char *laid = ek_text_count(edits, "edit", "edits");
    ek_cli_print("%s contains the image%s%s%s; written and verified.\n", order.target,
                 order.as_imaged ? " as it was read" : " with the plan's ",
                 order.as_imaged ? "" : laid, order.as_imaged ? "" : " applied");
    if (ek_cloning_left_out(cloning) > 0) {
        g_autofree char *rest = ek_text_size(ek_cloning_left_out(cloning));
        ek_cli_print("The target is smaller than the image: the last %s was not copied%s.\n", rest,
                     ek_cloning_is_extended(cloning) ? "; the backup GPT is at its end" : "");
    } else if (ek_cloning_is_extended(cloning)) {
        ek_cli_print("The target is larger than the image: the backup GPT was moved to its end. No "
                     "file system was resized.\n");
    }
    if (ek_cloning_unread(cloning) > 0) {
        g_autofree char *unread = ek_text_size(ek_cloning_unread(cloning));
        ek_cli_print("%s could not be read from the drive and is filled with zeros.\n", unread);
    }
    if (edits > 0)
        ek_cli_advise("To undo the edits on the clone: ektypon undo %s %s", order.folder,
                      order.target);
    ek_cli_advise("Run file-system checks on the clone only, never on the original.");
    return EK_EXIT_DONE;
}

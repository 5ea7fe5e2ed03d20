/* SPDX-License-Identifier: MIT */
/* clone: writes the image with the plan applied to a target. */
#include "cli.h"

#include "base/text.h"
#include "device/device.h"
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

/* The words that were given go to the devices in their order; those that are missing are asked for
 * on a terminal: one for each target, NULL where there is none. The caller unrefs. */
static GPtrArray *confirm_all(EkCli *cli, char **targets, char **words)
{
    guint count = g_strv_length(targets);
    GPtrArray *confirmed = g_ptr_array_new_with_free_func(g_free);
    char **word = words;
    for (guint i = 0; i < count; i++) {
        gboolean is_device = ek_device_is_at(targets[i]);
        if (word != NULL && *word != NULL && (is_device || count == 1))
            g_ptr_array_add(confirmed, g_strdup(*word++));
        else
            g_ptr_array_add(confirmed, ek_target_ask(cli, targets[i]));
    }
    return confirmed;
}

static void print_target(const EkCloneOrder *order, const EkCloning *cloning, guint index)
{
    const char *target = order->targets[index];
    const GError *failure = ek_cloning_failure(cloning, index);
    if (failure != NULL) {
        ek_cli_advise("clone: %s", failure->message);
        return;
    }
    guint edits = ek_cloning_edits(cloning, index);
    g_autofree char *laid = ek_text_count(edits, "edit", "edits");
    ek_cli_print("%s contains the image%s%s%s; written and verified.\n", target,
                 order->as_imaged ? " as it was read" : " with the plan's ",
                 order->as_imaged ? "" : laid, order->as_imaged ? "" : " applied");
    if (ek_cloning_left_out(cloning, index) > 0) {
        g_autofree char *rest = ek_text_size(ek_cloning_left_out(cloning, index));
        ek_cli_print("The target is smaller than the image: the last %s was not copied%s.\n", rest,
                     ek_cloning_is_extended(cloning, index) ? "; the backup GPT is at its end"
                                                            : "");
    } else if (ek_cloning_is_extended(cloning, index)) {
        ek_cli_print("The target is larger than the image: the backup GPT was moved to its end. No "
                     "file system was resized.\n");
    }
    if (ek_cloning_unread(cloning, index) > 0) {
        g_autofree char *unread = ek_text_size(ek_cloning_unread(cloning, index));
        ek_cli_print("%s could not be read from the drive and is filled with zeros.\n", unread);
    }
    if (edits > 0)
        ek_cli_advise("To undo the edits on the clone: ektypon undo %s %s", order->folder, target);
}

static int write_all(EkCli *cli, const EkCloneOrder *order)
{
    GError *error = NULL;
    g_autoptr(EkCloning) cloning =
        ek_cloning_new(cli->system, order, ek_cli_watch_signals(), &error);
    if (cloning == NULL)
        return ek_cli_fail(cli, error);
    Show show = {cloning, cli->color_err, g_get_monotonic_time()};
    guint count = g_strv_length(order->targets);
    for (guint i = 0; i < count; i++) {
        if (ek_cloning_begun(cloning, i) == 0)
            continue;
        g_autofree char *begun = ek_text_size(ek_cloning_begun(cloning, i));
        ek_cli_advise("Resuming: %s already written%s%s", begun, count > 1 ? " to " : "",
                      count > 1 ? order->targets[i] : "");
    }
    EkProgress *progress = ek_progress_begin(cli->terminal_err, draw, &show);
    gboolean done = ek_cloning_run(cloning, &error);
    ek_progress_end(progress);
    if (error != NULL && (count == 1 || g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED))) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        int status = ek_cli_fail(cli, error);
        if (interrupted)
            ek_cli_advise("%s %s incomplete. Run the same command again to resume",
                          count == 1 ? order->targets[0] : "The clones", count == 1 ? "is" : "are");
        return status;
    }
    for (guint i = 0; i < count; i++)
        print_target(order, cloning, i);
    g_clear_error(&error);
    ek_cli_advise("Run file-system checks on the clone only, never on the original.");
    return done ? EK_EXIT_DONE : EK_EXIT_FAILED;
}

int ek_command_clone(EkCli *cli)
{
    EkCloneOrder order = {0};
    g_auto(GStrv) words = NULL;
    const GOptionEntry entries[] = {
        {"as-imaged", 0, 0, G_OPTION_ARG_NONE, &order.as_imaged,
         "write the image as read, without the plan", NULL},
        {"skip-tail", 0, 0, G_OPTION_ARG_NONE, &order.skip_tail,
         "for a smaller target: skip everything after the last planned partition", NULL},
        {"confirm", 0, 0, G_OPTION_ARG_STRING_ARRAY, &words,
         "confirm a device by the last four characters of its serial; once for each device, in "
         "their order",
         "WORD"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    order.folder = cli->operands[0];
    order.targets = cli->operands + 1;
    order.options = cli->options;
    g_autoptr(GPtrArray) confirmed = confirm_all(cli, order.targets, words);
    order.confirmed = (char **)confirmed->pdata;
    return write_all(cli, &order);
}

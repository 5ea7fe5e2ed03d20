/* SPDX-License-Identifier: MIT */
/* mount: shows the files of a case as folders, to any program. */
#include "filerow.h"
#include "mountfs.h"

#include "base/text.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* Adds a volume; one that cannot be listed is named and left out. FALSE: nothing more can be done.
 */
static gboolean add(EkCli *cli, EkView *view, EkCaseTree *tree, guint64 number, GError **error)
{
    GError *failure = NULL;
    EkIndexing *indexing = ek_filerow_open(cli, view, number, &failure);
    if (indexing != NULL)
        return ek_case_tree_add(tree, indexing, error);
    if (!g_error_matches(failure, EK_ERROR, EK_ERROR_DAMAGED) &&
        !g_error_matches(failure, EK_ERROR, EK_ERROR_ABSENT)) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    if (number != EK_CONTENTS)
        ek_cli_advise("mount: volume %" G_GUINT64_FORMAT ": %s", number, failure->message);
    g_error_free(failure);
    return TRUE;
}

static gboolean add_all(EkCli *cli, EkView *view, EkCaseTree *tree, GError **error)
{
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view->opened, error);
    if (volumes == NULL)
        return FALSE;
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (entry->standing == EK_STANDING_NESTED)
            continue;
        if (entry->volume->format->open == NULL)
            ek_cli_advise("mount: volume %u (%s) left out: this version cannot list its files",
                          entry->number, entry->volume->filesystem);
        else if (!add(cli, view, tree, entry->number, error))
            return FALSE;
    }
    if (!add(cli, view, tree, EK_CONTENTS, error))
        return FALSE;
    return ek_case_tree_parts(tree) > 0 ||
           ek_error_set(error, EK_ERROR_ABSENT,
                        "no volume with files is known. What was searched, and what may still "
                        "help: ektypon volumes %s",
                        cli->operands[0]);
}

/* What is mounted over an empty folder hides nothing. One that is not there is made: *made. */
static gboolean prepare_folder(const char *folder, gboolean *made, GError **error)
{
    struct stat st;
    *made = FALSE;
    if (stat(folder, &st) != 0 && errno == ENOTCONN)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s: an earlier mount ended badly there. Remove it: umount -l %s",
                            folder, folder);
    if (stat(folder, &st) != 0) {
        if (errno != ENOENT || g_mkdir(folder, 0700) != 0)
            return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "%s", folder);
        *made = TRUE;
        return TRUE;
    }
    if (!S_ISDIR(st.st_mode))
        return ek_error_set(error, EK_ERROR_REFUSED, "%s: not a folder", folder);
    GDir *dir = g_dir_open(folder, 0, error);
    if (dir == NULL)
        return FALSE;
    gboolean is_empty = g_dir_read_name(dir) == NULL;
    g_dir_close(dir);
    return is_empty || ek_error_set(error, EK_ERROR_REFUSED,
                                    "%s: not empty: its content would be hidden. Name an empty "
                                    "folder, or one that does not exist yet",
                                    folder);
}

typedef struct {
    const char *folder;
    const EkCaseTree *tree;
    gboolean zeros;
} Mounted;

static void tell_mounted(void *data)
{
    const Mounted *mounted = data;
    guint parts = ek_case_tree_parts(mounted->tree);
    ek_cli_print("Mounted read-only at %s: %u %s at the top.\n", mounted->folder, parts,
                 parts == 1 ? "folder" : "folders");
    ek_cli_print("%s\n", mounted->zeros
                             ? "Missing bytes read as zeros."
                             : "Missing bytes give an I/O error; --zeros gives zeros instead.");
    ek_cli_advise("To unmount: Ctrl-C, or umount %s", mounted->folder);
}

static int run(EkCli *cli, const EkMountOrder *order, EkView *view)
{
    GError *error = NULL;
    gboolean made = FALSE;
    const gint *cancel = ek_cli_watch_signals();
    g_autoptr(EkCaseTree) tree = ek_case_tree_new();
    gboolean fine =
        prepare_folder(order->folder, &made, &error) && add_all(cli, view, tree, &error);
    Mounted mounted = {order->folder, tree, order->zeros};
    fine = fine && ek_mountfs_run(tree, order, tell_mounted, &mounted, cancel, &error);
    if (made)
        g_rmdir(order->folder);
    if (!fine)
        return ek_cli_fail(cli, error);
    ek_cli_print("Unmounted.\n");
    return EK_EXIT_DONE;
}

int ek_command_mount(EkCli *cli)
{
    EkMountOrder order = {0};
    EkView view;
    GError *error = NULL;
    int status = EK_EXIT_DONE;
    const GOptionEntry entries[] = {
        {"zeros", 0, 0, G_OPTION_ARG_NONE, &order.zeros,
         "missing bytes read as zeros, not as I/O errors", NULL},
        {"all-users", 0, 0, G_OPTION_ARG_NONE, &order.for_all,
         "other users may read it too (needs root, or user_allow_other in /etc/fuse.conf)", NULL},
        EK_OPTIONS_OF_JOURNAL(cli),
        G_OPTION_ENTRY_NULL,
    };
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    g_autofree char *name = g_path_get_basename(cli->operands[0]);
    order.folder = cli->operands[1];
    order.name = name;
    order.bytes = ek_reader_bytes(view.reader);
    status = run(cli, &order, &view);
    ek_view_close(&view);
    return status;
}

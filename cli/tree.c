/* SPDX-License-Identifier: MIT */
/* tree: the folders of a volume with what is below them. */
#include "filerow.h"

#include "base/text.h"
#include "show.h"

/* Two walks: the first counts what is below each folder and keeps that in the inventory's store,
 * the second prints each folder with its counts. So memory holds one path, however many folders
 * there are.
 */
typedef struct {
    EkCli *cli;
    EkInventory *inventory;
    const gint *cancel;
    guint depth; /* that is shown; 0: all */
    gboolean json;
    GArray *levels;  /* EkBelow: of the folders on the path, while they are counted */
    GArray *numbers; /* guint64: of the folders on the path, while they are printed */
    GString *lines;  /* that lead down to the folder that is printed */
    GArray *lengths; /* gsize: of `lines`, one a level */
    guint64 printed;
    GError *error;
} Tree;

/* --- counting ------------------------------------------------------------------------------- */

static EkBelow *top(Tree *tree)
{
    return &g_array_index(tree->levels, EkBelow, tree->levels->len - 1);
}

static gboolean goes_on(const Tree *tree)
{
    return tree->error == NULL && g_atomic_int_get(tree->cancel) == 0;
}

static gboolean count_item(void *data, const char *path, const EkItem *item)
{
    Tree *tree = data;
    EkBelow *below = top(tree);
    (void)path;
    if (item->file.type == EK_TYPE_FOLDER)
        return goes_on(tree);
    below->files++;
    below->bytes += item->file.size;
    below->hurt += item->damage.condition != EK_CONDITION_WHOLE ? 1 : 0;
    below->doubtful += item->damage.condition == EK_CONDITION_DOUBTFUL ? 1 : 0;
    below->deleted += (item->file.flags & EK_FILE_DELETED) != 0 ? 1 : 0;
    return goes_on(tree);
}

static gboolean count_enter(void *data, const EkEntered *entered)
{
    Tree *tree = data;
    EkBelow below = {0};
    (void)entered;
    g_array_append_val(tree->levels, below);
    return TRUE;
}

/* What is below a folder counts for the one above. */
static void count_leave(void *data, guint64 folder)
{
    Tree *tree = data;
    EkBelow below = *top(tree);
    g_array_set_size(tree->levels, tree->levels->len - 1);
    if (tree->error == NULL)
        ek_inventory_put_below(tree->inventory, folder, &below, &tree->error);
    if (tree->levels->len == 0)
        return;
    EkBelow *above = top(tree);
    above->folders += below.folders + 1;
    above->files += below.files;
    above->bytes += below.bytes;
    above->hurt += below.hurt;
    above->doubtful += below.doubtful;
    above->deleted += below.deleted;
}

/* --- printing ------------------------------------------------------------------------------- */

static void print_folder(const Tree *tree, const EkEntered *folder, const EkBelow *below,
                         const char *lines)
{
    g_autofree char *size = ek_text_size(below->bytes);
    g_autofree char *name = ek_text_escape(folder->name);
    gboolean color = tree->cli->color_out;
    ek_cli_print("%10s  %8" G_GUINT64_FORMAT "  %s%s/", size, below->files, lines, name);
    if (below->hurt > below->doubtful)
        ek_cli_print("  %s[%" G_GUINT64_FORMAT " incomplete]%s", ek_show_on(color, EK_COLOR_BAD),
                     below->hurt - below->doubtful, ek_show_off(color));
    if (below->doubtful > 0)
        ek_cli_print("  %s[%" G_GUINT64_FORMAT " doubtful]%s", ek_show_on(color, EK_COLOR_WARN),
                     below->doubtful, ek_show_off(color));
    if (folder->is_deleted)
        ek_cli_print("  %s[deleted]%s", ek_show_on(color, EK_COLOR_FAINT), ek_show_off(color));
    ek_cli_print("\n");
}

static void print_folder_json(Tree *tree, const EkEntered *folder, const EkBelow *below)
{
    json_t *row = json_object();
    guint64 parent =
        folder->depth > 0 ? g_array_index(tree->numbers, guint64, folder->depth - 1) : 0;
    json_object_set_new(row, "number", ek_json_u64(folder->number));
    json_object_set_new(row, "parent", folder->depth > 0 ? ek_json_u64(parent) : json_null());
    json_object_set_new(row, "name", ek_json_text(folder->name));
    json_object_set_new(row, "depth", ek_json_u64(folder->depth));
    json_object_set_new(row, "folders", ek_json_u64(below->folders));
    json_object_set_new(row, "files", ek_json_u64(below->files));
    json_object_set_new(row, "bytes", ek_json_u64(below->bytes));
    json_object_set_new(row, "not_whole", ek_json_u64(below->hurt));
    json_object_set_new(row, "doubtful", ek_json_u64(below->doubtful));
    json_object_set_new(row, "deleted", ek_json_u64(below->deleted));
    fputs(tree->printed++ == 0 ? "\n" : ",\n", stdout);
    ek_cli_dump_json(row, FALSE);
}

static gboolean print_enter(void *data, const EkEntered *folder)
{
    Tree *tree = data;
    EkBelow below;
    if (!goes_on(tree) || ferror(stdout) != 0 ||
        (tree->depth != 0 && folder->depth > tree->depth) ||
        !ek_inventory_get_below(tree->inventory, folder->number, &below, &tree->error))
        return FALSE;
    g_array_set_size(tree->numbers, folder->depth);
    g_array_append_val(tree->numbers, folder->number);
    if (tree->json) {
        print_folder_json(tree, folder, &below);
        return TRUE;
    }
    /* The lines of the folders above stay, this one's end here or go on. */
    if (folder->depth == 0) {
        print_folder(tree, folder, &below, "");
        return TRUE;
    }
    g_array_set_size(tree->lengths, folder->depth);
    g_string_truncate(tree->lines, g_array_index(tree->lengths, gsize, folder->depth - 1));
    g_autofree char *lines =
        g_strdup_printf("%s%s", tree->lines->str, folder->is_last ? "└─ " : "├─ ");
    print_folder(tree, folder, &below, lines);
    g_string_append(tree->lines, folder->is_last ? "   " : "│  ");
    g_array_append_val(tree->lengths, tree->lines->len);
    return TRUE;
}

static gboolean walk_twice(Tree *tree, const EkPlace *place, guint with, GError **error)
{
    EkBelow below = {0};
    gsize none = 0;
    EkWalk counting = {tree, count_item, count_enter, count_leave};
    EkWalk printing = {tree, NULL, print_enter, NULL};
    EkEntered start = {place->number, place->path, FALSE, TRUE, 0};
    g_array_append_val(tree->levels, below);
    g_array_append_val(tree->lengths, none);
    gboolean fine = ek_inventory_walk_with(tree->inventory, place->number, EK_WITH_BELOW | with,
                                           &counting, error);
    if (fine && tree->error == NULL && g_atomic_int_get(tree->cancel) == 0) {
        if (tree->json)
            fputs("{\"folders\": [", stdout);
        else
            ek_cli_print("%s      SIZE     FILES  FOLDER%s\n",
                         ek_show_on(tree->cli->color_out, EK_COLOR_STRONG),
                         ek_show_off(tree->cli->color_out));
        print_enter(tree, &start);
        fine = ek_inventory_walk_with(tree->inventory, place->number, EK_WITH_BELOW | with,
                                      &printing, error);
        if (tree->json)
            ek_cli_print("\n]}\n");
    }
    if (!fine)
        return FALSE;
    if (tree->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&tree->error));
        return FALSE;
    }
    return g_atomic_int_get(tree->cancel) == 0 ||
           ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
}

static int show_place(EkCli *cli, const EkPlace *place, guint depth, guint with, gboolean json)
{
    g_autoptr(GArray) levels = g_array_new(FALSE, FALSE, sizeof(EkBelow));
    g_autoptr(GArray) numbers = g_array_new(FALSE, FALSE, sizeof(guint64));
    g_autoptr(GArray) lengths = g_array_new(FALSE, FALSE, sizeof(gsize));
    Tree tree = {.cli = cli,
                 .inventory = ek_indexing_inventory(place->indexing),
                 .cancel = ek_cli_watch_signals(),
                 .depth = depth,
                 .json = json,
                 .levels = levels,
                 .numbers = numbers,
                 .lines = g_string_new(NULL),
                 .lengths = lengths};
    GError *error = NULL;
    gboolean fine = walk_twice(&tree, place, with, &error);
    g_string_free(tree.lines, TRUE);
    guint64 named =
        fine && (with & EK_WITH_LOST) == 0 ? ek_inventory_totals(tree.inventory).named : 0;
    g_autofree char *text = ek_text_count(named, "more file is", "more files are");
    if (named > 0)
        ek_cli_advise("%s known by name only: to list them, add --lost-content", text);
    return fine ? EK_EXIT_DONE : ek_cli_fail(cli, error);
}

int ek_command_tree(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean deleted = FALSE;
    gint depth = 0;
    const GOptionEntry entries[] = {
        {"depth", 0, 0, G_OPTION_ARG_INT, &depth, "limit the depth", "N"},
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &deleted, "include deleted files", NULL},
        EK_OPTION_LOST_CONTENT(cli),
        EK_OPTIONS_OF_JOURNAL(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    EkPlace place;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (depth < 0)
        return ek_cli_misused(cli, "--depth %d is less than 0", depth);
    status = ek_filerow_open_place(cli, &place);
    if (status != EK_EXIT_DONE)
        return status;
    status =
        show_place(cli, &place, (guint)depth,
                   (deleted ? EK_WITH_DELETED : 0) | (cli->lost_content ? EK_WITH_LOST : 0), json);
    ek_filerow_close_place(&place);
    return status;
}

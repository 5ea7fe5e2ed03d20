/* SPDX-License-Identifier: MIT */
#include "filerow.h"

#include "base/text.h"
#include "show.h"

/* A folder with all that is below it. Its children come after it. */
typedef struct {
    guint64 number;
    guint parent; /* index */
    guint first_child;
    guint last_child;
    guint next; /* of its parent's children; 0: none */
    guint depth;
    char *name;
    guint64 folders;
    guint64 files;
    guint64 bytes;
    guint64 hurt; /* files that are not whole */
    guint64 deleted;
    gboolean is_deleted;
} Branch;

typedef struct {
    EkCli *cli;
    GArray *branches;    /* Branch; the first is where the walk began */
    GHashTable *indices; /* of folders, by number */
    guint depth;         /* that is shown; 0: all */
} Tree;

static Branch *branch_at(Tree *tree, guint index)
{
    return &g_array_index(tree->branches, Branch, index);
}

static guint index_of(Tree *tree, guint64 number)
{
    return GPOINTER_TO_UINT(g_hash_table_lookup(tree->indices, &number));
}

static void add_branch(Tree *tree, guint64 number, guint parent, const char *name,
                       gboolean is_deleted)
{
    guint index = tree->branches->len;
    Branch branch = {.number = number,
                     .parent = parent,
                     .name = g_strdup(name),
                     .is_deleted = is_deleted,
                     .depth = index > 0 ? branch_at(tree, parent)->depth + 1 : 0};
    g_array_append_val(tree->branches, branch);
    g_hash_table_insert(tree->indices, g_memdup2(&number, sizeof number), GUINT_TO_POINTER(index));
    if (index == 0)
        return;
    Branch *above = branch_at(tree, parent);
    if (above->last_child != 0)
        branch_at(tree, above->last_child)->next = index;
    else
        above->first_child = index;
    above->last_child = index;
}

static gboolean take_item(void *data, const char *path, const EkItem *item)
{
    Tree *tree = data;
    guint parent = index_of(tree, item->parent);
    gboolean is_deleted = (item->file.flags & EK_FILE_DELETED) != 0;
    (void)path;
    if (item->file.type == EK_TYPE_FOLDER) {
        add_branch(tree, item->file.number, parent, item->name, is_deleted);
        return TRUE;
    }
    Branch *branch = branch_at(tree, parent);
    branch->files++;
    branch->bytes += item->file.size;
    branch->hurt += item->damage.condition != EK_CONDITION_WHOLE ? 1 : 0;
    branch->deleted += is_deleted ? 1 : 0;
    return TRUE;
}

/* What is below a folder counts for it. */
static void add_up(Tree *tree)
{
    for (guint i = tree->branches->len; i > 1; i--) {
        const Branch *branch = branch_at(tree, i - 1);
        Branch *above = branch_at(tree, branch->parent);
        above->folders += branch->folders + 1;
        above->files += branch->files;
        above->bytes += branch->bytes;
        above->hurt += branch->hurt;
        above->deleted += branch->deleted;
    }
}

static void print_branch(Tree *tree, const Branch *branch, const char *lines)
{
    g_autofree char *size = ek_text_size(branch->bytes);
    g_autofree char *name = ek_text_escape(branch->name);
    gboolean color = tree->cli->color_out;
    printf("%10s  %8" G_GUINT64_FORMAT "  %s%s/", size, branch->files, lines, name);
    if (branch->hurt > 0)
        printf("  %s[%" G_GUINT64_FORMAT " not whole]%s", ek_show_on(color, EK_COLOR_BAD),
               branch->hurt, ek_show_off(color));
    if (branch->is_deleted)
        printf("  %s[deleted]%s", ek_show_on(color, EK_COLOR_FAINT), ek_show_off(color));
    puts("");
}

/* Each folder before what is in it; no recursion, whatever the depth. */
static void print_tree(Tree *tree)
{
    g_autoptr(GString) lines = g_string_new(NULL);
    g_autoptr(GArray) lengths = g_array_new(FALSE, FALSE, sizeof(gsize));
    puts("      SIZE     FILES  FOLDER");
    for (guint at = 0;;) {
        Branch *branch = branch_at(tree, at);
        g_autofree char *prefix = NULL;
        gboolean is_last = branch->next == 0;
        if (at != 0)
            prefix = g_strdup_printf("%s%s", lines->str, is_last ? "└─ " : "├─ ");
        print_branch(tree, branch, prefix != NULL ? prefix : "");
        if (branch->first_child != 0 && (tree->depth == 0 || branch->depth < tree->depth)) {
            g_array_append_val(lengths, lines->len);
            if (at != 0)
                g_string_append(lines, is_last ? "   " : "│  ");
            at = branch->first_child;
            continue;
        }
        while (at != 0 && branch_at(tree, at)->next == 0) {
            at = branch_at(tree, at)->parent;
            if (lengths->len > 0) {
                g_string_truncate(lines, g_array_index(lengths, gsize, lengths->len - 1));
                g_array_set_size(lengths, lengths->len - 1);
            }
        }
        if (at == 0)
            return;
        at = branch_at(tree, at)->next;
    }
}

static void print_json(Tree *tree)
{
    fputs("{\"folders\": [", stdout);
    for (guint i = 0; i < tree->branches->len; i++) {
        const Branch *branch = branch_at(tree, i);
        json_t *row = json_object();
        json_object_set_new(row, "number", ek_json_u64(branch->number));
        json_object_set_new(row, "parent",
                            i > 0 ? ek_json_u64(branch_at(tree, branch->parent)->number)
                                  : json_null());
        json_object_set_new(row, "name", ek_json_text(branch->name));
        json_object_set_new(row, "depth", ek_json_u64(branch->depth));
        json_object_set_new(row, "folders", ek_json_u64(branch->folders));
        json_object_set_new(row, "files", ek_json_u64(branch->files));
        json_object_set_new(row, "bytes", ek_json_u64(branch->bytes));
        json_object_set_new(row, "not_whole", ek_json_u64(branch->hurt));
        json_object_set_new(row, "deleted", ek_json_u64(branch->deleted));
        if (tree->depth == 0 || branch->depth <= tree->depth) {
            fputs(i == 0 ? "\n" : ",\n", stdout);
            json_dumpf(row, stdout, JSON_PRESERVE_ORDER);
        }
        json_decref(row);
    }
    puts("\n]}");
}

static int show_place(EkCli *cli, const EkPlace *place, guint depth, guint with, gboolean json)
{
    g_autoptr(GArray) branches = g_array_new(FALSE, FALSE, sizeof(Branch));
    g_autoptr(GHashTable) indices =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    Tree tree = {cli, branches, indices, depth};
    EkInventory *inventory = ek_indexing_inventory(place->indexing);
    GError *error = NULL;
    add_branch(&tree, place->number, 0, place->path, FALSE);
    gboolean fine =
        ek_inventory_walk(inventory, place->number, EK_WITH_BELOW | with, take_item, &tree, &error);
    add_up(&tree);
    if (fine && json)
        print_json(&tree);
    else if (fine)
        print_tree(&tree);
    for (guint i = 0; i < branches->len; i++)
        g_free(branch_at(&tree, i)->name);
    return fine ? EK_EXIT_DONE : ek_cli_fail(cli, error);
}

int ek_command_tree(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean deleted = FALSE;
    gint depth = 0;
    const GOptionEntry entries[] = {
        {"depth", 0, 0, G_OPTION_ARG_INT, &depth, "folders down to this depth", "N"},
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &deleted, "also what was deleted", NULL},
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
    status = show_place(cli, &place, (guint)depth, deleted ? EK_WITH_DELETED : 0, json);
    ek_filerow_close_place(&place);
    return status;
}

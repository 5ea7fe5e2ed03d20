/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/field.h"
#include "base/text.h"
#include "case/planstore.h"
#include "show.h"
#include "work/rebuilding.h"

#include <stdio.h>
#include <string.h>

#define HEX_SHOWN 8u /* bytes of a field on one line */

/* The bytes of a field, HEX_SHOWN on a line; a run of one value that goes on to its end is told by
 * its length. */
static char *hex_of(const guint8 *data, gsize length)
{
    GString *text = g_string_new(NULL);
    gsize tail = length;
    while (tail > 0 && data[tail - 1] == data[length - 1])
        tail--;
    tail = (tail + HEX_SHOWN - 1) / HEX_SHOWN * HEX_SHOWN;
    if (length <= HEX_SHOWN || length - MIN(tail, length) <= HEX_SHOWN)
        tail = length;
    for (gsize at = 0; at < tail; at += HEX_SHOWN) {
        g_autofree char *line = ek_text_hex(data + at, MIN(HEX_SHOWN, tail - at), ' ');
        g_string_append_printf(text, "%s%s", at > 0 ? "\n" : "", line);
    }
    if (tail < length)
        g_string_append_printf(text, "%s%02x, %" G_GSIZE_FORMAT " times", tail > 0 ? "\n" : "",
                               data[length - 1], length - tail);
    return g_string_free(text, FALSE);
}

static void print_field(EkCli *cli, const EkEdit *edit, const EkField *before, const EkField *after)
{
    const guint8 *old = edit->before + before->offset;
    const guint8 *new = edit->after + before->offset;
    g_autofree char *old_hex = hex_of(old, before->length);
    g_autofree char *new_hex = hex_of(new, before->length);
    g_auto(GStrv) old_lines = g_strsplit(old_hex, "\n", -1);
    g_auto(GStrv) new_lines = g_strsplit(new_hex, "\n", -1);
    guint lines = MAX(g_strv_length(old_lines), g_strv_length(new_lines));
    gboolean changed = memcmp(old, new, before->length) != 0;
    char **left = old_lines;
    char **right = new_lines;
    for (guint i = 0; i < lines; i++) {
        const char *l = *left != NULL ? *left++ : "";
        const char *r = *right != NULL ? *right++ : "";
        g_autofree char *place =
            i == 0 ? g_strdup_printf("%03x", (guint)(edit->first_byte % EK_STEP + before->offset))
                   : g_strdup("");
        printf("   %c %-3s  %-23s  %s%-23s%s  %s%s%s\n", changed && i == 0 ? '*' : ' ', place, l,
               ek_show_on(cli->color_out && changed, EK_COLOR_GOOD), r,
               ek_show_off(cli->color_out && changed), i == 0 ? before->name : "",
               i == 0 && *after->meaning != '\0' ? ": " : "", i == 0 ? after->meaning : "");
    }
}

static void print_edit(EkCli *cli, guint number, const EkEdit *edit, guint32 sector_size)
{
    g_autoptr(GPtrArray) before = ek_edit_fields(edit, sector_size, FALSE);
    g_autoptr(GPtrArray) after = ek_edit_fields(edit, sector_size, TRUE);
    g_autofree char *count = ek_text_count(edit->length, "byte", "bytes");
    printf("\nEdit %u: %s\n  sector %" G_GUINT64_FORMAT ", from byte %" G_GUINT64_FORMAT
           " of it, %s\n",
           number, edit->why, edit->first_byte / sector_size, edit->first_byte % sector_size,
           count);
    g_autofree char *head =
        ek_show_in(cli->color_out, EK_COLOR_FAINT,
                   "     at   before                   after                    meaning after");
    puts(head);
    /* Both sides are the same structure, so they have the same fields. */
    for (guint i = 0; i < MIN(before->len, after->len); i++)
        print_field(cli, edit, before->pdata[i], after->pdata[i]);
}

static void print_partitions(EkCli *cli, const EkPlan *plan, guint32 sector_size)
{
    static const EkColumn columns[] = {
        {"PARTITION", TRUE, FALSE}, {"FIRST SECTOR", TRUE, FALSE}, {"SECTORS", TRUE, FALSE},
        {"SIZE", TRUE, FALSE},      {"TYPE", FALSE, FALSE},        {"ACTIVE", FALSE, FALSE},
        {"FROM", FALSE, FALSE},
    };
    if (plan->partitions->len == 0)
        return;
    EkShowTable *table = ek_show_table_new(columns, G_N_ELEMENTS(columns));
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        g_autofree char *index = g_strdup_printf("%u", partition->index + 1);
        g_autofree char *first =
            g_strdup_printf("%" G_GUINT64_FORMAT, partition->range.first / sector_size);
        g_autofree char *count =
            g_strdup_printf("%" G_GUINT64_FORMAT, partition->range.bytes / sector_size);
        g_autofree char *size = ek_text_size(partition->range.bytes);
        g_autofree char *type =
            g_strdup_printf("%02x %s", partition->type, ek_mbr_type_name(partition->type));
        g_autofree char *from = partition->volume != 0
                                    ? g_strdup_printf("volume %u", partition->volume)
                                    : g_strdup("the old table");
        const char *cells[] = {index, first, count, size, type, partition->active ? "yes" : "no",
                               from};
        ek_show_table_row(table, cells);
    }
    ek_show_table_print(table, cli->width);
}

static void print_plan(EkCli *cli, const EkPlan *plan, guint32 sector_size)
{
    if (g_str_equal(plan->scheme, "none") && plan->edits->len == 0)
        puts("No table is planned, and no repair is needed.");
    else if (plan->partitions->len == 0 && plan->edits->len == 0)
        puts("There is nothing to plan for: no volume is believed enough to stand in a table.");
    else if (plan->edits->len == 0)
        puts("The table and the boot sectors are right as they are: the plan is empty.");
    print_partitions(cli, plan, sector_size);
    for (guint i = 0; i < plan->repairs->len; i++) {
        const EkPlanRepair *repair = plan->repairs->pdata[i];
        printf("Repair: %s of volume %u, from %s\n", repair->what, repair->volume, repair->from);
    }
    if (plan->warnings->len > 0)
        puts("");
    for (guint i = 0; i < plan->warnings->len; i++) {
        g_autofree char *mark = ek_show_in(cli->color_out, EK_COLOR_WARN, "! ");
        g_autofree char *safe = ek_text_escape(plan->warnings->pdata[i]);
        ek_show_sentence(stdout, mark, 2, safe);
    }
    for (guint i = 0; i < plan->edits->len; i++)
        print_edit(cli, i + 1, plan->edits->pdata[i], sector_size);
    if (plan->partitions->len > 0 || plan->repairs->len > 0)
        printf("\nChecked through the plan: %s\n",
               plan->opens ? "every planned volume opens."
                           : "not every planned volume opens, see above.");
    if (plan->edits->len > 0)
        ek_cli_advise("Nothing is written yet. Next: ektypon clone %s TARGET", cli->operands[0]);
}

static json_t *partitions_json(const EkPlan *plan, guint32 sector_size)
{
    json_t *list = json_array();
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        g_autofree char *type = g_strdup_printf("%02x", partition->type);
        json_t *row = json_object();
        json_object_set_new(row, "index", json_integer(partition->index + 1));
        json_object_set_new(row, "volume",
                            partition->volume != 0 ? json_integer(partition->volume) : json_null());
        json_object_set_new(row, "first_byte", ek_json_u64(partition->range.first));
        json_object_set_new(row, "bytes", ek_json_u64(partition->range.bytes));
        json_object_set_new(row, "first_sector",
                            ek_json_whole(partition->range.first, sector_size));
        json_object_set_new(row, "sectors", ek_json_whole(partition->range.bytes, sector_size));
        json_object_set_new(row, "type", ek_json_text(type));
        json_object_set_new(row, "name", json_null());
        json_object_set_new(row, "uuid", json_null());
        json_object_set_new(row, "active", json_boolean(partition->active));
        json_object_set_new(row, "logical", json_false());
        json_array_append_new(list, row);
    }
    return list;
}

static json_t *edits_json(const EkPlan *plan)
{
    json_t *list = json_array();
    for (guint i = 0; i < plan->edits->len; i++) {
        const EkEdit *edit = plan->edits->pdata[i];
        g_autofree char *before = ek_text_hex(edit->before, edit->length, '\0');
        g_autofree char *after = ek_text_hex(edit->after, edit->length, '\0');
        json_t *row = json_object();
        json_object_set_new(row, "first_byte", ek_json_u64(edit->first_byte));
        json_object_set_new(row, "bytes", ek_json_u64(edit->length));
        json_object_set_new(row, "why", ek_json_text(edit->why));
        json_object_set_new(row, "before", ek_json_text(before));
        json_object_set_new(row, "after", ek_json_text(after));
        json_array_append_new(list, row);
    }
    return list;
}

static int print_json(const EkPlan *plan, guint32 sector_size)
{
    json_t *repairs = json_array();
    json_t *warnings = json_array();
    for (guint i = 0; i < plan->repairs->len; i++) {
        const EkPlanRepair *repair = plan->repairs->pdata[i];
        json_array_append_new(repairs, json_pack("{s:i,s:o,s:o}", "volume", (int)repair->volume,
                                                 "what", ek_json_text(repair->what), "from",
                                                 ek_json_text(repair->from)));
    }
    for (guint i = 0; i < plan->warnings->len; i++)
        json_array_append_new(warnings, ek_json_text(plan->warnings->pdata[i]));
    json_t *root = json_object();
    json_object_set_new(root, "scheme", ek_json_text(plan->scheme));
    json_object_set_new(root, "sector_size", json_integer(sector_size));
    json_object_set_new(root, "opens", json_boolean(plan->opens));
    json_object_set_new(root, "partitions", partitions_json(plan, sector_size));
    json_object_set_new(root, "repairs", repairs);
    json_object_set_new(root, "edits", edits_json(plan));
    json_object_set_new(root, "alternatives", json_array());
    json_object_set_new(root, "warnings", warnings);
    return ek_cli_print_json(root);
}

static EkPlan *stored_plan(EkCli *cli, GError **error)
{
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, error);
    return opened != NULL ? ek_planstore_load(opened, error) : NULL;
}

static guint32 sector_size_of(EkCli *cli)
{
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, NULL);
    return opened != NULL ? ek_case_info(opened)->sector_size : EK_STEP;
}

int ek_command_plan(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean show = FALSE;
    const GOptionEntry entries[] = {
        {"show", 0, 0, G_OPTION_ARG_NONE, &show, "show the plan that was made, make no new one",
         NULL},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    GError *error = NULL;
    g_autoptr(EkPlan) plan = show ? stored_plan(cli, &error)
                                  : ek_rebuilding_plan(cli->operands[0], cli->options, &error);
    if (plan == NULL)
        return ek_cli_fail(cli, error);
    guint32 sector_size = sector_size_of(cli);
    if (json)
        return print_json(plan, sector_size);
    print_plan(cli, plan, sector_size);
    return EK_EXIT_DONE;
}

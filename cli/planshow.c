/* SPDX-License-Identifier: MIT */
/* A plan for people: the table, the edits, one edit byte by byte. */
#include "planshow.h"

#include "base/field.h"
#include "base/text.h"
#include "show.h"

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
        ek_cli_print("   %c %-3s  %-23s  %s%-23s%s  %s%s%s\n", changed && i == 0 ? '*' : ' ', place,
                     l, ek_show_on(cli->color_out && changed, EK_COLOR_GOOD), r,
                     ek_show_off(cli->color_out && changed), i == 0 ? before->name : "",
                     i == 0 && *after->meaning != '\0' ? ": " : "", i == 0 ? after->meaning : "");
    }
}

static void print_edit(EkCli *cli, guint number, const EkEdit *edit, guint32 sector_size)
{
    g_autoptr(GPtrArray) before = ek_edit_fields(edit, sector_size, FALSE);
    g_autoptr(GPtrArray) after = ek_edit_fields(edit, sector_size, TRUE);
    g_autofree char *count = ek_text_count(edit->length, "byte", "bytes");
    ek_cli_print(
        "\nEdit %u: %s\n  sector %" G_GUINT64_FORMAT ", offset %" G_GUINT64_FORMAT ", %s\n", number,
        edit->why, edit->first_byte / sector_size, edit->first_byte % sector_size, count);
    g_autofree char *head = ek_show_in(
        cli->color_out, EK_COLOR_STRONG,
        " offset   before                   after                    field and new value");
    ek_cli_print("%s\n", head);
    /* Both sides are the same structure, so they have the same fields. */
    for (guint i = 0; i < MIN(before->len, after->len); i++)
        print_field(cli, edit, before->pdata[i], after->pdata[i]);
}

void ek_plan_show_edit(EkCli *cli, const EkPlan *plan, guint number, guint32 sector_size)
{
    print_edit(cli, number, plan->edits->pdata[number - 1], sector_size);
}

/* --- the table ------------------------------------------------------------------------------ */

#define LEAST_COLUMNS 20u
#define STRIP_TITLE 9u

/* The partition that begins next at or behind a place; NULL: none. */
static const EkTableEntry *next_from(const EkTableEntry *const *entries, guint count, EkByte from)
{
    const EkTableEntry *next = NULL;
    for (guint i = 0; i < count; i++)
        if (!entries[i]->extended && entries[i]->range.first >= from &&
            (next == NULL || entries[i]->range.first < next->range.first))
            next = entries[i];
    return next;
}

/* The drive as a line: the partitions of a table, by their numbers; dots for what is outside. */
static void print_strip(EkCli *cli, const char *title, const EkTableEntry *const *entries,
                        guint count, EkByte bytes)
{
    guint columns = (guint)MAX(cli->width, (int)(LEAST_COLUMNS + STRIP_TITLE)) - STRIP_TITLE;
    g_autoptr(GString) line = g_string_new(NULL);
    const EkTableEntry *next = NULL;
    guint at = 0;
    for (EkByte from = 0; (next = next_from(entries, count, from)) != NULL;) {
        EkRange range = next->range;
        guint first = (guint)((double)range.first / (double)bytes * columns + 0.5);
        guint end = (guint)((double)ek_range_end(range) / (double)bytes * columns + 0.5);
        for (; at < MIN(first, columns); at++)
            g_string_append(line, "·");
        end = MIN(MAX(end, at + 1), columns);
        g_autofree char *number = g_strdup_printf("%u", next->index + 1);
        guint length = (guint)strlen(number);
        gboolean fits = at + length + 2 <= end;
        g_string_append(
            line, ek_show_on(cli->color_out, next->logical ? EK_COLOR_PLAIN : EK_COLOR_STRONG));
        if (fits)
            g_string_append_printf(line, "┣%s", number);
        for (at += fits ? length + 1 : 0; at < end; at++)
            g_string_append(line, at + 1 == end ? (fits ? "┫" : "┃") : "━");
        g_string_append(line, ek_show_off(cli->color_out));
        from = range.first + 1;
    }
    for (; at < columns; at++)
        g_string_append(line, "·");
    ek_cli_print("%-*s%s\n", (int)STRIP_TITLE, title, line->str);
}

/* The drive as its table has it now, and as it is planned. */
static void print_strips(EkCli *cli, const EkPlan *plan, EkByte bytes)
{
    g_autofree const EkTableEntry **entries =
        g_new(const EkTableEntry *, plan->current->len + plan->partitions->len);
    for (guint i = 0; i < plan->current->len; i++)
        entries[i] = &g_array_index(plan->current, EkTableEntry, i);
    print_strip(cli, "now", entries, plan->current->len, bytes);
    for (guint i = 0; i < plan->partitions->len; i++)
        entries[i] = &((const EkPlanPartition *)plan->partitions->pdata[i])->entry;
    print_strip(cli, "planned", entries, plan->partitions->len, bytes);
}

static char *type_of(const EkTableEntry *entry)
{
    const char *name = ek_gpt_type_name(entry->type_uuid);
    if (*entry->type_text != '\0')
        return ek_text_escape(entry->type_text);
    if (ek_bytes_are_zero(entry->type_uuid, sizeof entry->type_uuid))
        return g_strdup_printf("%02x %s", entry->type, ek_mbr_type_name(entry->type));
    return *name != '\0' ? g_strdup(name) : ek_gpt_uuid(entry->type_uuid);
}

static const char *role_of(const EkTableEntry *entry)
{
    return entry->extended  ? "extended"
           : entry->logical ? "logical"
           : entry->active  ? "active"
                            : "";
}

/* --- the rows ------------------------------------------------------------------------------- */

enum {
    COLUMN_PART,
    COLUMN_VOLUME,
    COLUMN_FIRST,
    COLUMN_LAST,
    COLUMN_SIZE,
    COLUMN_TYPE,
    COLUMN_NAME, /* only where the table keeps them */
    COLUMN_ROLE, /* only where one has one */
    COLUMN_FILES,
    COLUMN_DAMAGED,
    COLUMN_CHECK,
    COLUMN_OPENS,
    COLUMN_NOW,
    COLUMNS
};

static const EkColumn all_columns[COLUMNS] = {
    [COLUMN_PART] = {"PART", TRUE, FALSE, 0},
    [COLUMN_VOLUME] = {"VOLUME", FALSE, TRUE, 0},
    [COLUMN_FIRST] = {"FIRST SECTOR", TRUE, FALSE, 5},
    [COLUMN_LAST] = {"LAST SECTOR", TRUE, FALSE, 1},
    [COLUMN_SIZE] = {"SIZE", TRUE, FALSE, 0},
    [COLUMN_TYPE] = {"TYPE", FALSE, TRUE, 0},
    [COLUMN_NAME] = {"NAME", FALSE, TRUE, 6},
    [COLUMN_ROLE] = {"ROLE", FALSE, FALSE, 2},
    [COLUMN_FILES] = {"FILES", TRUE, FALSE, 0},
    [COLUMN_DAMAGED] = {"DAMAGED", TRUE, FALSE, 0},
    [COLUMN_CHECK] = {"TYPE CHECK", FALSE, FALSE, 4},
    [COLUMN_OPENS] = {"OPENS", FALSE, FALSE, 0},
    [COLUMN_NOW] = {"CURRENT TABLE", FALSE, FALSE, 3},
};

/* The volume with its label, or where the partition comes from. The caller frees. */
static char *volume_of(const EkPlanPartition *partition)
{
    if (partition->volume == 0)
        return ek_text_escape(partition->note);
    g_autofree char *label =
        partition->label != NULL ? ek_text_escape(partition->label) : g_strdup("");
    return g_strdup_printf("%u%s%s", partition->volume, *label != '\0' ? " " : "", label);
}

static void print_row(EkShowTable *table, const EkPlanPartition *partition, guint32 sector_size,
                      const guint *shown, guint count)
{
    static const char *const opens[] = {"NO", "yes", "not tested"};
    const EkTableEntry *entry = &partition->entry;
    const EkPlanContents *contents = &partition->contents;
    gboolean is_open = *partition->check != '\0' && partition->opens == EK_PLAN_OPENS;
    g_autofree char *index = g_strdup_printf("%u", entry->index + 1);
    g_autofree char *volume = volume_of(partition);
    g_autofree char *first =
        g_strdup_printf("%" G_GUINT64_FORMAT, entry->range.first / sector_size);
    g_autofree char *last =
        g_strdup_printf("%" G_GUINT64_FORMAT, ek_range_end(entry->range) / sector_size - 1);
    g_autofree char *size = ek_text_size(entry->range.bytes);
    g_autofree char *type = type_of(entry);
    g_autofree char *name = ek_text_escape(entry->name);
    g_autofree char *files =
        g_strdup_printf("%s%" G_GUINT64_FORMAT, contents->is_cut ? "≥ " : "", contents->files);
    g_autofree char *damaged = g_strdup_printf("%" G_GUINT64_FORMAT, contents->damaged);
    g_autofree char *check = g_strdup_printf("%u of %u", contents->matching, contents->sampled);
    const char *all[COLUMNS] = {
        [COLUMN_PART] = index,
        [COLUMN_VOLUME] = volume,
        [COLUMN_FIRST] = first,
        [COLUMN_LAST] = last,
        [COLUMN_SIZE] = size,
        [COLUMN_TYPE] = type,
        [COLUMN_NAME] = name,
        [COLUMN_ROLE] = role_of(entry),
        [COLUMN_FILES] = is_open ? files : "",
        [COLUMN_DAMAGED] = is_open ? damaged : "",
        [COLUMN_CHECK] = contents->sampled > 0 ? check : "",
        [COLUMN_OPENS] = *partition->check != '\0' ? opens[partition->opens] : "",
        [COLUMN_NOW] = partition->now,
    };
    const char *cells[COLUMNS];
    for (guint i = 0; i < count; i++)
        cells[i] = all[shown[i]];
    ek_show_table_row(table, cells);
}

/* What a row alone does not say: why a volume does not open, or was not tested, and files that are
 * not what their names say. */
static void print_checks(EkCli *cli, const EkPlan *plan)
{
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        const EkPlanContents *contents = &partition->contents;
        gboolean is_fine =
            partition->opens == EK_PLAN_OPENS && contents->matching == contents->sampled;
        if (*partition->check == '\0' || is_fine)
            continue;
        g_autofree char *mark = partition->opens == EK_PLAN_FAILS
                                    ? ek_show_in(cli->color_out, EK_COLOR_BAD, "! ")
                                    : g_strdup("  ");
        g_autofree char *line =
            g_strdup_printf("partition %u (volume %u) %s", partition->entry.index + 1,
                            partition->volume, partition->check);
        ek_show_sentence(stdout, mark, 2, line);
    }
}

static void print_partitions(EkCli *cli, const EkPlan *plan, EkByte bytes, guint32 sector_size)
{
    gboolean has_role = FALSE;
    guint shown[COLUMNS];
    EkColumn columns[COLUMNS];
    guint count = 0;
    if (plan->partitions->len == 0)
        return;
    for (guint i = 0; i < plan->partitions->len; i++)
        has_role |= *role_of(&((const EkPlanPartition *)plan->partitions->pdata[i])->entry) != '\0';
    ek_cli_print("Current table: %s. Planned table: %s.\n",
                 ek_table_scheme_words(plan->current_scheme), ek_table_scheme_words(plan->scheme));
    print_strips(cli, plan, bytes);
    for (guint i = 0; i < COLUMNS; i++) {
        if ((i == COLUMN_NAME && plan->scheme == EK_SCHEME_MBR) || (i == COLUMN_ROLE && !has_role))
            continue;
        shown[count] = i;
        columns[count++] = all_columns[i];
    }
    EkShowTable *table = ek_show_table_new(columns, count);
    for (guint i = 0; i < plan->partitions->len; i++)
        print_row(table, plan->partitions->pdata[i], sector_size, shown, count);
    ek_show_table_print(table, cli->width);
    print_checks(cli, plan);
}

/* --- the edits ------------------------------------------------------------------------------ */

/* What the edits of a group have in common: "the partition table" of "partition 1 of the partition
 * table". Of a single one all. */
static const char *common_words(const EkEdit *first, const EkEdit *last)
{
    const char *end = strstr(first->why, " of ");
    const char *other = strstr(last->why, " of ");
    if (first == last || end == NULL || other == NULL || !g_str_equal(end, other))
        return first->why;
    return end + strlen(" of ");
}

static gboolean are_grouped(const EkEdit *a, const EkEdit *b, guint32 sector_size)
{
    return g_str_equal(a->structure, b->structure) &&
           a->first_byte / sector_size == b->first_byte / sector_size &&
           !g_str_equal(common_words(a, b), a->why);
}

/* The edits, those of one structure on one line. */
static void print_edit_lines(const EkPlan *plan, guint32 sector_size)
{
    if (plan->edits->len > 0)
        ek_cli_print("\n");
    for (guint i = 0, next = 0; i < plan->edits->len; i = next) {
        const EkEdit *first = plan->edits->pdata[i];
        gsize bytes = 0;
        for (next = i; next < plan->edits->len &&
                       (next == i || are_grouped(first, plan->edits->pdata[next], sector_size));
             next++)
            bytes += ((const EkEdit *)plan->edits->pdata[next])->length;
        g_autofree char *numbers =
            next > i + 1 ? g_strdup_printf("%u-%u", i + 1, next) : g_strdup_printf("%u", i + 1);
        g_autofree char *count = ek_text_count(bytes, "byte", "bytes");
        g_autofree char *why = ek_text_escape(common_words(first, plan->edits->pdata[next - 1]));
        ek_cli_print("Edit %s: %s in sector %" G_GUINT64_FORMAT ": %s\n", numbers, count,
                     first->first_byte / sector_size, why);
    }
}

static void print_alternatives(const EkPlan *plan)
{
    if (plan->alternatives->len > 0)
        ek_cli_print("Other layouts:\n");
    for (guint i = 0; i < plan->alternatives->len; i++) {
        const EkPlanAlternative *alternative = plan->alternatives->pdata[i];
        g_autofree char *safe = ek_text_escape(alternative->text);
        g_autofree char *line = g_strdup_printf("--alternative %u: %s", i + 1, safe);
        ek_show_sentence(stdout, "  ", 4, line);
    }
    if (plan->layers > 1)
        ek_cli_print("The drive has %u layers of volumes, from different times. To plan an older "
                     "one: --layer 2%s\n",
                     plan->layers, plan->layers > 2 ? " and so on" : "");
}

/* The worst of the checks decides on the last line. */
static void print_worst(const EkPlan *plan)
{
    guint count[] = {0, 0, 0};
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        if (*partition->check != '\0')
            count[partition->opens]++;
    }
    if (plan->partitions->len == 0 && plan->repairs->len == 0)
        return;
    const char *tested = "\nTested with the edits in place:";
    if (!plan->opens)
        ek_cli_print("%s at least one planned volume cannot be opened (see above).\n", tested);
    else if (count[EK_PLAN_NOT_OPENED] > 0)
        ek_cli_print("%s %u of %u planned volumes could not be opened, see above.\n", tested,
                     count[EK_PLAN_NOT_OPENED], count[EK_PLAN_NOT_OPENED] + count[EK_PLAN_OPENS]);
    else
        ek_cli_print("%s every planned volume opens.\n", tested);
}

void ek_plan_show(EkCli *cli, const EkPlan *plan, EkByte bytes, guint32 sector_size)
{
    if (plan->scheme == EK_SCHEME_NONE && plan->edits->len == 0)
        ek_cli_print("No table is planned, and no repair is needed.\n");
    else if (plan->partitions->len == 0 && plan->edits->len == 0)
        ek_cli_print(
            "No table is planned: no volume was found that belongs in a partition table.\n");
    else if (plan->edits->len == 0)
        ek_cli_print(
            "The partition table and boot sectors are already correct. The plan is empty.\n");
    print_partitions(cli, plan, bytes, sector_size);
    if (plan->warnings->len > 0)
        ek_cli_print("\n");
    for (guint i = 0; i < plan->warnings->len; i++) {
        g_autofree char *mark = ek_show_in(cli->color_out, EK_COLOR_WARN, "! ");
        g_autofree char *safe = ek_text_escape(plan->warnings->pdata[i]);
        ek_show_sentence(stdout, mark, 2, safe);
    }
    print_alternatives(plan);
    print_edit_lines(plan, sector_size);
    print_worst(plan);
    if (plan->edits->len > 0)
        ek_cli_advise("To see an edit byte by byte: ektypon plan %s --show --edit NUMBER",
                      cli->operands[0]);
    if (plan->edits->len > 0)
        ek_cli_advise("Nothing has been written. Next: ektypon clone %s TARGET", cli->operands[0]);
}

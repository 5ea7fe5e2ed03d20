/* SPDX-License-Identifier: MIT */
#include "filerow.h"

#include "base/text.h"

#include <stdio.h>

json_t *ek_filerow_holes_json(const EkDamage *damage)
{
    json_t *holes = json_array();
    for (guint i = 0; damage->holes != NULL && i < damage->holes->len; i++) {
        const EkHole *hole = &g_array_index(damage->holes, EkHole, i);
        json_array_append_new(holes, json_pack("{s:o,s:o}", "offset", ek_json_u64(hole->offset),
                                               "length", ek_json_u64(hole->bytes)));
    }
    return holes;
}

json_t *ek_filerow_json(guint64 volume, const char *path, const EkEntry *entry,
                        const EkDamage *damage)
{
    g_autofree char *modified = ek_moment_text(&entry->modified);
    json_t *row = json_object();
    json_object_set_new(row, "volume", ek_json_u64(volume));
    json_object_set_new(row, "number", ek_json_u64(entry->number));
    json_object_set_new(row, "path", ek_json_text(path));
    if (entry->name_is_escaped) {
        g_autofree char *hex = ek_text_hex(entry->name_bytes, entry->name_length, '\0');
        json_object_set_new(row, "name_bytes", ek_json_text(hex));
    }
    json_object_set_new(row, "type", ek_json_text(entry->is_folder ? "folder" : "file"));
    json_object_set_new(row, "size", ek_json_u64(entry->size));
    json_object_set_new(row, "modified", ek_json_text(modified));
    json_object_set_new(row, "deleted", json_false());
    json_object_set_new(row, "condition", ek_json_text(ek_condition_name(damage->condition)));
    json_object_set_new(row, "bad_bytes", ek_json_u64(damage->bad_bytes));
    json_object_set_new(row, "unread_bytes", ek_json_u64(damage->unread_bytes));
    json_object_set_new(row, "holes", ek_filerow_holes_json(damage));
    return row;
}

char *ek_filerow_condition(const EkDamage *damage)
{
    g_autoptr(GString) text = g_string_new(ek_condition_name(damage->condition));
    const struct {
        EkByte bytes;
        const char *word;
    } parts[] = {{damage->bad_bytes, "bad"},
                 {damage->unread_bytes, "unread"},
                 {damage->unplaced_bytes, "not placed"}};
    const char *separator = ": ";
    for (gsize i = 0; i < G_N_ELEMENTS(parts); i++) {
        if (parts[i].bytes == 0)
            continue;
        g_autofree char *size = ek_text_size(parts[i].bytes);
        g_string_append_printf(text, "%s%s %s", separator, size, parts[i].word);
        separator = ", ";
    }
    return g_strdup(text->str);
}

void ek_filerow_count(EkFileTotals *totals, const EkEntry *entry, const EkDamage *damage)
{
    if (entry->is_folder) {
        totals->folders++;
        return;
    }
    totals->files++;
    totals->bytes += entry->size;
    totals->by_condition[damage->condition]++;
}

json_t *ek_filerow_totals_json(const EkFileTotals *totals)
{
    return json_pack("{s:o,s:o,s:o,s:o,s:o,s:o}", "files", ek_json_u64(totals->files), "folders",
                     ek_json_u64(totals->folders), "bytes", ek_json_u64(totals->bytes), "whole",
                     ek_json_u64(totals->by_condition[EK_CONDITION_WHOLE]), "holed",
                     ek_json_u64(totals->by_condition[EK_CONDITION_HOLED]), "unplaced",
                     ek_json_u64(totals->by_condition[EK_CONDITION_UNPLACED]));
}

void ek_filerow_warn(EkCli *cli, const EkFolderDamage *damage, guint cut)
{
    if (damage->bad_bytes + damage->unread_bytes > 0) {
        g_autofree char *bad = ek_text_size(damage->bad_bytes);
        g_autofree char *unread = ek_text_size(damage->unread_bytes);
        fprintf(stderr,
                "%s: folders have holes (%s bad, %s unread): names that stood there are missing\n",
                cli->command->name, bad, unread);
    }
    if (damage->cut_short)
        fprintf(stderr, "%s: a folder's chain of clusters is broken: names may be missing\n",
                cli->command->name);
    if (cut > 0)
        fprintf(stderr, "%s: %u folders lead back to a folder above, or too deep: not entered\n",
                cli->command->name, cut);
}

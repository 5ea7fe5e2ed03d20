/* SPDX-License-Identifier: MIT */
/* Files by kind and by folder, as the commands show them. */
#include "tallyshow.h"

#include "base/text.h"
#include "show.h"

void ek_tallyshow_add(EkTally *tally, EkIndexing *indexing, const char *path, const EkItem *item)
{
    g_autofree char *place = ek_cli_place_word(ek_indexing_volume(indexing)->number);
    g_autofree char *prefix = g_strconcat(place, ":", NULL);
    ek_tally_add(tally, prefix, path, item);
}

static void put_row(EkShowTable *table, const char *name, const EkCount *counted)
{
    char files[24];
    char whole[24];
    g_autofree char *size = ek_text_size(counted->bytes);
    g_snprintf(files, sizeof files, "%" G_GUINT64_FORMAT, counted->files);
    g_snprintf(whole, sizeof whole, "%" G_GUINT64_FORMAT, counted->whole);
    const char *const row[] = {size, files, whole, name};
    ek_show_table_row(table, row);
}

void ek_tallyshow_print(const EkTally *tally, const EkCli *cli)
{
    static const EkColumn by_kind[] = {{.header = "SIZE", .right = TRUE},
                                       {.header = "FILES", .right = TRUE},
                                       {.header = "WHOLE", .right = TRUE},
                                       {.header = "KIND"}};
    static const EkColumn by_folder[] = {{.header = "SIZE", .right = TRUE},
                                         {.header = "FILES", .right = TRUE},
                                         {.header = "WHOLE", .right = TRUE},
                                         {.header = "FOLDER", .cut = TRUE}};
    g_autofree char *files = ek_text_count(tally->all.files, "file", "files");
    g_autofree char *size = ek_text_size(tally->all.bytes);
    if (tally->all.files > 0) {
        EkShowTable *kinds = ek_show_table_new(by_kind, G_N_ELEMENTS(by_kind));
        for (guint i = 0; i < EK_KINDS; i++)
            if (tally->kinds[i].files > 0)
                put_row(kinds, ek_kind_name((EkKind)i), &tally->kinds[i]);
        ek_show_table_print(kinds, cli->width);
        ek_cli_print("\n");
        EkShowTable *folders = ek_show_table_new(by_folder, G_N_ELEMENTS(by_folder));
        for (guint i = 0; i < tally->folders->len; i++) {
            const EkTallyFolder *folder = tally->folders->pdata[i];
            g_autofree char *safe = ek_text_escape(folder->name);
            put_row(folders, safe, &folder->count);
        }
        ek_show_table_print(folders, cli->width);
        ek_cli_print("\n");
    }
    ek_cli_print("%s, %s: %" G_GUINT64_FORMAT " whole\n", files, size, tally->all.whole);
}

json_t *ek_tallyshow_count_json(const EkCount *count)
{
    return json_pack("{s:o,s:o,s:o}", "files", ek_json_u64(count->files), "bytes",
                     ek_json_u64(count->bytes), "whole", ek_json_u64(count->whole));
}

json_t *ek_tallyshow_kinds_json(const EkTally *tally)
{
    json_t *kinds = json_object();
    for (guint i = 0; i < EK_KINDS; i++)
        if (tally->kinds[i].files > 0)
            json_object_set_new(kinds, ek_kind_name((EkKind)i),
                                ek_tallyshow_count_json(&tally->kinds[i]));
    return kinds;
}

json_t *ek_tallyshow_folders_json(const EkTally *tally, const char *key)
{
    json_t *folders = json_array();
    for (guint i = 0; i < tally->folders->len; i++) {
        const EkTallyFolder *folder = tally->folders->pdata[i];
        json_t *row = ek_tallyshow_count_json(&folder->count);
        json_object_set_new(row, key, ek_json_text(folder->name));
        json_array_append_new(folders, row);
    }
    return folders;
}

json_t *ek_tallyshow_json(const EkTally *tally)
{
    return json_pack("{s:o,s:o,s:o}", "kinds", ek_tallyshow_kinds_json(tally), "folders",
                     ek_tallyshow_folders_json(tally, "folder"), "totals",
                     ek_tallyshow_count_json(&tally->all));
}

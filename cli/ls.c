/* SPDX-License-Identifier: MIT */
#include "filerow.h"

#include "base/text.h"
#include "show.h"
#include "work/view.h"

typedef struct {
    EkCli *cli;
    EkFiles *files;
    guint64 volume;
    gboolean json;
    gboolean first;
    gboolean local_times;
    EkFileTotals totals;
    GError *error;
} Listing;

static void print_entry(Listing *listing, const EkEntry *entry, const EkDamage *damage)
{
    g_autofree char *size = entry->is_folder ? g_strdup("folder") : ek_text_size(entry->size);
    g_autofree char *modified = ek_moment_text(&entry->modified);
    g_autofree char *name = ek_text_escape(entry->name);
    g_autofree char *condition = ek_filerow_condition(damage);
    gboolean hurt = damage->condition != EK_CONDITION_WHOLE;
    if (modified != NULL)
        modified[10] = ' ';
    printf("%10s  %-19s  @%-9" G_GUINT64_FORMAT "  %s%s%s%s%s%s%s\n", size,
           modified != NULL ? modified : "-", entry->number, name, entry->is_folder ? "/" : "",
           hurt ? "  " : "", ek_show_on(hurt && listing->cli->color_out, EK_COLOR_BAD),
           hurt ? "[" : "", hurt ? condition : "", hurt ? "]" : "");
    if (hurt)
        fputs(ek_show_off(listing->cli->color_out), stdout);
}

static gboolean list_entry(void *data, const char *path, const EkEntry *entry)
{
    Listing *listing = data;
    EkDamage damage;
    if (!ek_files_assess(listing->files, entry, &damage, &listing->error))
        return FALSE;
    ek_filerow_count(&listing->totals, entry, &damage);
    listing->local_times = listing->local_times || entry->modified.is_local;
    if (listing->json) {
        json_t *row = ek_filerow_json(listing->volume, path, entry, &damage);
        fputs(listing->first ? "\n" : ",\n", stdout);
        json_dumpf(row, stdout, JSON_PRESERVE_ORDER);
        json_decref(row);
    } else {
        print_entry(listing, entry, &damage);
    }
    listing->first = FALSE;
    ek_damage_clear(&damage);
    return TRUE;
}

static void print_end(Listing *listing)
{
    if (listing->json) {
        json_t *totals = ek_filerow_totals_json(&listing->totals);
        fputs("\n], \"totals\": ", stdout);
        json_dumpf(totals, stdout, JSON_PRESERVE_ORDER);
        puts("}");
        json_decref(totals);
        return;
    }
    g_autofree char *files = ek_text_count(listing->totals.files, "file", "files");
    g_autofree char *folders = ek_text_count(listing->totals.folders, "folder", "folders");
    g_autofree char *size = ek_text_size(listing->totals.bytes);
    printf("%s, %s, %s", folders, files, size);
    guint64 hurt = listing->totals.files - listing->totals.by_condition[EK_CONDITION_WHOLE];
    if (hurt > 0)
        printf("; %" G_GUINT64_FORMAT " not whole", hurt);
    puts("");
    if (listing->local_times)
        ek_cli_advise("Times are in the clock of whoever wrote the files: FAT keeps no time zone.");
}

static int list_place(EkCli *cli, EkFiles *files, guint64 volume, const char *path, gboolean json)
{
    Listing listing = {.cli = cli, .files = files, .volume = volume, .json = json, .first = TRUE};
    g_autofree char *full = NULL;
    EkFolderDamage damage = {0};
    guint cut = 0;
    g_autoptr(EkEntry) entry = ek_files_find(files, path, &full, &listing.error);
    if (entry == NULL)
        return ek_cli_fail(cli, listing.error);
    if (json)
        fputs("{\"files\": [", stdout);
    if (entry->is_folder)
        ek_files_walk(files, full, entry, FALSE, list_entry, &listing, &damage, &cut,
                      &listing.error);
    else
        list_entry(&listing, full, entry);
    if (listing.error != NULL)
        return ek_cli_fail(cli, listing.error);
    print_end(&listing);
    ek_filerow_warn(cli, &damage, cut);
    return EK_EXIT_DONE;
}

int ek_command_ls(EkCli *cli)
{
    gboolean json = FALSE;
    int status = EK_EXIT_DONE;
    guint64 number = 0;
    const char *path = NULL;
    if (!ek_cli_parse_json(cli, &json, &status))
        return status;
    if (!ek_cli_parse_place(cli->operands[1], &number, &path))
        return ek_cli_misused(cli, "\"%s\" is not VOLUME or VOLUME:PATH, as 2:Photos",
                              cli->operands[1]);
    GError *error = NULL;
    EkView view;
    EkFiles files = {0};
    g_autoptr(GPtrArray) volumes = NULL;
    if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    if (ek_view_open_volume(&view, number, &volumes, &files, &error)) {
        status = list_place(cli, &files, number, path, json);
        ek_files_close(&files);
    } else {
        status = ek_cli_fail(cli, error);
    }
    ek_view_close(&view);
    return status;
}

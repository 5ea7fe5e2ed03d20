/* SPDX-License-Identifier: MIT */
/* What the sectors that were not read belong to. */
#include "maphits.h"

#include "base/text.h"
#include "filerow.h"
#include "show.h"
#include "work/hits.h"

#define SHOWN 200u

/* All volumes whose files can be read, with their inventories. */
static gboolean open_all(EkCli *cli, EkView *view, GPtrArray *indexings, GError **error)
{
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view->opened, error);
    for (guint i = 0; volumes != NULL && i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        GError *failure = NULL;
        if (entry->volume->format->open == NULL || entry->standing == EK_STANDING_NESTED ||
            entry->standing == EK_STANDING_REMAINS)
            continue;
        EkIndexing *indexing = ek_filerow_open(cli, view, entry->number, &failure);
        if (indexing != NULL) {
            g_ptr_array_add(indexings, indexing);
        } else if (g_error_matches(failure, EK_ERROR, EK_ERROR_DAMAGED)) {
            ek_cli_advise("map: volume %u: %s", entry->number, failure->message);
            g_error_free(failure);
        } else {
            g_propagate_error(error, failure);
            return FALSE;
        }
    }
    return volumes != NULL;
}

static const char *what_of(const EkHit *hit)
{
    if (hit->path != NULL)
        return hit->is_own ? "structure" : "file";
    if (hit->volume == 0)
        return "none";
    return hit->usage == EK_USAGE_FREE   ? "free"
           : hit->usage == EK_USAGE_USED ? "structure"
                                         : "unknown";
}

static char *words_for(const EkHit *hit)
{
    if (hit->path != NULL) {
        g_autofree char *safe = ek_text_escape(hit->path);
        return g_strdup_printf(*safe != '\0' ? "%u:%s" : "%u: its root folder", hit->volume, safe);
    }
    if (hit->volume == 0)
        return g_strdup("outside all volumes");
    return g_strdup_printf(hit->usage == EK_USAGE_FREE ? "free space of volume %u"
                           : hit->usage == EK_USAGE_USED
                               ? "volume %u: metadata, or a file that is no longer listed"
                               : "volume %u: allocation unknown",
                           hit->volume);
}

static void print_json(const EkHits *hits, guint32 sector_size)
{
    ek_cli_print("{\"sector_size\": %u, \"hits\": [", sector_size);
    for (guint i = 0; i < hits->hits->len; i++) {
        const EkHit *hit = &g_array_index(hits->hits, EkHit, i);
        json_t *row = json_object();
        json_object_set_new(row, "first_byte", ek_json_u64(hit->region.first));
        json_object_set_new(row, "bytes", ek_json_u64(hit->region.bytes));
        json_object_set_new(row, "state", ek_json_text(hit->is_bad ? "bad" : "unread"));
        json_object_set_new(row, "what", ek_json_text(what_of(hit)));
        json_object_set_new(row, "volume",
                            hit->volume != 0 ? ek_json_u64(hit->volume) : json_null());
        json_object_set_new(row, "number",
                            hit->path != NULL ? ek_json_u64(hit->number) : json_null());
        json_object_set_new(row, "path", ek_json_text(hit->path));
        fputs(i == 0 ? "\n" : ",\n", stdout);
        ek_cli_dump_json(row, FALSE);
    }
    ek_cli_print("\n], \"not_looked_at\": %" G_GUINT64_FORMAT "}\n", hits->not_looked);
}

static void print_row(EkCli *cli, const EkHit *hit, guint32 sector_size)
{
    g_autofree char *words = words_for(hit);
    g_autofree char *size = ek_text_size(hit->region.bytes);
    EkColor color = hit->path == NULL || hit->is_own ? EK_COLOR_FAINT
                    : hit->is_bad                    ? EK_COLOR_BAD
                                                     : EK_COLOR_WARN;
    ek_cli_print("%14" G_GUINT64_FORMAT "  %10s  %-6s  %s%s%s\n", hit->region.first / sector_size,
                 size, hit->is_bad ? "bad" : "unread", ek_show_on(cli->color_out, color), words,
                 ek_show_off(cli->color_out));
}

static void print_sums(const EkHits *hits)
{
    EkByte bytes[4] = {0};
    guint64 files = 0;
    const char *last = NULL;
    for (guint i = 0; i < hits->hits->len; i++) {
        const EkHit *hit = &g_array_index(hits->hits, EkHit, i);
        gboolean is_file = hit->path != NULL && !hit->is_own;
        guint kind = is_file                                            ? 0
                     : hit->volume == 0                                 ? 3
                     : hit->usage == EK_USAGE_FREE && hit->path == NULL ? 2
                                                                        : 1;
        bytes[kind] += hit->region.bytes;
        files += is_file && g_strcmp0(last, hit->path) != 0 ? 1 : 0;
        last = is_file ? hit->path : last;
    }
    g_autofree char *in_files = ek_text_size(bytes[0]);
    g_autofree char *in_own = ek_text_size(bytes[1]);
    g_autofree char *in_free = ek_text_size(bytes[2]);
    g_autofree char *outside = ek_text_size(bytes[3]);
    g_autofree char *count = ek_text_count(files, "file", "files");
    ek_cli_print("%s in %s, %s in file-system metadata, %s in free space, %s outside volumes\n",
                 in_files, count, in_own, in_free, outside);
}

static int show(EkCli *cli, EkView *view, const GPtrArray *indexings, gboolean json)
{
    g_auto(EkHits) hits = {0};
    GError *error = NULL;
    guint32 sector_size = ek_case_info(view->opened)->sector_size;
    if (!ek_hits_find(view, indexings, &hits, &error))
        return ek_cli_fail(cli, error);
    if (json) {
        print_json(&hits, sector_size);
        return EK_EXIT_DONE;
    }
    if (hits.hits->len == 0) {
        ek_cli_print("Everything was read. No file is affected.\n");
        return EK_EXIT_DONE;
    }
    ek_cli_print("        SECTOR        SIZE  STATE   AFFECTED\n");
    for (guint i = 0; i < MIN(hits.hits->len, SHOWN); i++)
        print_row(cli, &g_array_index(hits.hits, EkHit, i), sector_size);
    if (hits.hits->len > SHOWN)
        ek_cli_print("… and %u more; --json lists all of them\n", hits.hits->len - SHOWN);
    print_sums(&hits);
    if (hits.not_looked > 0) {
        g_autofree char *size = ek_text_size(hits.not_looked);
        ek_cli_advise("map: another %s was not analysed (too many separate stretches)", size);
    }
    ek_cli_advise("To list the affected files: ektypon find %s --condition holed",
                  cli->operands[0]);
    return EK_EXIT_DONE;
}

int ek_map_show_hits(EkCli *cli, gboolean json)
{
    GError *error = NULL;
    EkView view;
    if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    g_autoptr(GPtrArray) indexings =
        g_ptr_array_new_with_free_func((GDestroyNotify)ek_indexing_free);
    int status = open_all(cli, &view, indexings, &error) ? show(cli, &view, indexings, json)
                                                         : ek_cli_fail(cli, error);
    g_ptr_array_set_size(indexings, 0);
    ek_view_close(&view);
    return status;
}

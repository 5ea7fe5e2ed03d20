/* SPDX-License-Identifier: MIT */
/* The report, part by part. */
#include "reportpage.h"

#include "base/text.h"
#include "layoutpicture.h"
#include "picture.h"
#include "signs.h"
#include "volume/standing.h"

#include <stdarg.h>
#include <string.h>

static void say(const EkReportWriter *writer, gboolean is_small, const char *format, ...)
    G_GNUC_PRINTF(3, 4);

static void say(const EkReportWriter *writer, gboolean is_small, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    writer->text(writer->data, text, is_small);
}

/* "3 Catalogue (ntfs)". The caller frees. */
static char *volume_name(const EkReportVolume *volume)
{
    if (volume->entry == NULL)
        return g_strdup("Found by content");
    const char *label = volume->entry->volume->label;
    return g_strdup_printf("%u %s (%s)", volume->entry->number,
                           label != NULL ? label : "without a label",
                           volume->entry->volume->filesystem);
}

/* --- parts ----------------------------------------------------------------------------------- */

static void write_head(const EkReport *report, const EkReportWriter *writer)
{
    const char *name = report->notes[EK_NOTE_REFERENCE];
    g_autofree char *own = g_path_get_basename(ek_case_folder(report->view->opened));
    g_autofree char *made = ek_text_time(report->made);
    g_autofree char *title = g_strdup_printf("Recovery report: %s", name != NULL ? name : own);
    g_autofree char *answer = ek_report_answer(report);
    g_autofree char *left = ek_text_size(report->summary.left *
                                         (EkByte)ek_case_info(report->view->opened)->sector_size);
    g_autofree char *unread =
        g_strdup_printf(" %s of the drive has not been read yet: more may follow.", left);
    g_autofree char *all =
        g_strconcat(answer, report->incomplete_count > 0 ? " They are named below." : "",
                    report->summary.left > 0 ? unread : "", NULL);
    writer->begin(writer->data, title, made);
    writer->answer(writer->data, all,
                   report->all.whole < report->all.files || report->all.files == 0);
}

/* A client is told the word, everybody else the numbers too. */
static void write_health(const EkReport *report, EkReportDepth depth, const EkReportWriter *writer)
{
    const EkKeptHealth *first = ek_kept_health_first(report->summary.health);
    const EkKeptHealth *last = ek_kept_health_last(report->summary.health);
    if (first == NULL)
        return;
    g_autofree char *line = depth == EK_REPORT_CLIENT
                                ? g_strdup(ek_health_word_name(ek_health_word(&last->health)))
                                : ek_signs_line(&last->health);
    g_autofree char *taken = ek_text_time(last->taken);
    g_autoptr(GPtrArray) worse = ek_health_worse(&first->health, &last->health);
    g_autoptr(GString) text = g_string_new(NULL);
    g_string_printf(text, "%s, as the drive itself reported on %s", line, taken);
    for (guint i = 0; i < worse->len; i++)
        g_string_append_printf(text, "; %s%s", i == 0 ? "it got worse during imaging: " : "",
                               (const char *)worse->pdata[i]);
    writer->term(writer->data, "Health of the drive", text->str);
}

static void write_case(const EkReport *report, EkReportDepth depth, const EkReportWriter *writer)
{
    static const char *const titles[] = {"Client", "Reference", "Note"};
    const EkCaseInfo *info = ek_case_info(report->view->opened);
    const EkSector *totals = report->summary.state.totals;
    g_autofree char *created = ek_text_time(info->created);
    g_autofree char *label = ek_text_label_size(info->bytes);
    g_autofree char *good = ek_text_share(totals[EK_STATE_GOOD], info->sectors);
    g_autofree char *bad = ek_text_size(totals[EK_STATE_BAD] * (EkByte)info->sector_size);
    g_autofree char *read = g_strdup_printf("%s; %s could not be read%s", good, bad,
                                            info->verified ? "" : " (image made elsewhere)");
    writer->heading(writer->data, "The case and the drive", 1);
    for (guint i = 0; i < EK_NOTES; i++)
        if (report->notes[i] != NULL)
            writer->term(writer->data, titles[i], report->notes[i]);
    writer->term(writer->data, "Case opened", created);
    writer->term(writer->data, "Drive", info->model != NULL ? info->model : "unknown model");
    if (info->serial != NULL)
        writer->term(writer->data, "Serial number", info->serial);
    writer->term(writer->data, "Size", label);
    write_health(report, depth, writer);
    writer->term(writer->data, "Read", read);
}

static gboolean write_pictures(const EkReport *report, EkReportDepth depth,
                               const EkReportWriter *writer, GError **error)
{
    const EkCaseInfo *info = ek_case_info(report->view->opened);
    g_autofree char *name = g_path_get_basename(ek_case_folder(report->view->opened));
    g_autoptr(GPtrArray) summaries = ek_volume_summaries(report->view, report->summary.volumes);
    g_autoptr(GPtrArray) shown = g_ptr_array_new();
    for (guint i = 0; i < summaries->len; i++) {
        const EkVolumeSummary *one = summaries->pdata[i];
        if (one->is_shown)
            g_ptr_array_add(shown, (gpointer)one->entry);
    }
    EkLayoutPicture layout = {name, info, report->view->map, shown,
                              ek_volume_summaries_left_out(summaries)};
    EkPicture map = {name, info, report->view->map, {0, info->sectors}};
    if (shown->len > 0 &&
        !writer->picture(writer->data, "The drive with its volumes",
                         ek_layout_picture_height(&layout), ek_layout_picture_draw, &layout, error))
        return FALSE;
    return depth == EK_REPORT_CLIENT ||
           writer->picture(writer->data, "Which parts of the drive were read", EK_PICTURE_HEIGHT,
                           ek_picture_draw, &map, error);
}

static void write_count(const EkReportWriter *writer, const char *name, const EkCount *count)
{
    g_autofree char *files = g_strdup_printf("%" G_GUINT64_FORMAT, count->files);
    g_autofree char *whole = g_strdup_printf("%" G_GUINT64_FORMAT, count->whole);
    g_autofree char *rest = g_strdup_printf("%" G_GUINT64_FORMAT, count->files - count->whole);
    g_autofree char *size = ek_text_size(count->bytes);
    EkReportCell cells[] = {{name, NULL}, {files, NULL}, {whole, NULL}, {rest, NULL}, {size, NULL}};
    writer->row(writer->data, cells);
}

static void begin_counts(const EkReportWriter *writer, const char *what)
{
    const EkReportColumn columns[] = {{what, 44, FALSE},
                                      {"Files", 13, TRUE},
                                      {"Complete", 14, TRUE},
                                      {"Incomplete", 15, TRUE},
                                      {"Size", 14, TRUE}};
    writer->table(writer->data, columns, G_N_ELEMENTS(columns));
}

static void write_volume(const EkReportVolume *volume, EkReportDepth depth,
                         const EkReportWriter *writer)
{
    g_autofree char *name = volume_name(volume);
    g_autofree char *files = ek_text_count(volume->present->all.files, "file", "files");
    g_autofree char *size = ek_text_size(volume->present->all.bytes);
    g_autofree char *deleted = g_strdup_printf(". Deleted files: %" G_GUINT64_FORMAT
                                               ", of these %" G_GUINT64_FORMAT " complete",
                                               volume->deleted.files, volume->deleted.whole);
    writer->heading(writer->data, name, 2);
    say(writer, FALSE, "%s, %s: %" G_GUINT64_FORMAT " complete%s%s%s.", files, size,
        volume->present->all.whole, volume->deleted.files > 0 ? deleted : "",
        !volume->is_counted && volume->entry != NULL
            ? ". This is an earlier volume, partly overwritten by a newer one"
            : "",
        volume->entry == NULL ? ". Found without folders: named by content and sector" : "");
    if (volume->present->all.files == 0)
        return;
    begin_counts(writer, "Kind");
    for (guint i = 0; i < EK_KINDS; i++)
        if (volume->present->kinds[i].files > 0)
            write_count(writer, ek_kind_name((EkKind)i), &volume->present->kinds[i]);
    if (depth == EK_REPORT_CLIENT)
        return;
    begin_counts(writer, "Folder");
    for (guint i = 0; i < volume->present->folders->len; i++) {
        const EkTallyFolder *folder = volume->present->folders->pdata[i];
        write_count(writer, *folder->name != '\0' ? folder->name : "(not in a folder)",
                    &folder->count);
    }
}

static void write_incomplete(const EkReport *report, const EkReportWriter *writer)
{
    static const EkReportColumn columns[] = {
        {"File", 48, FALSE}, {"Parts", 14, FALSE}, {"Missing", 38, FALSE}};
    if (report->incomplete_count == 0)
        return;
    writer->heading(writer->data, "Incomplete files", 1);
    writer->table(writer->data, columns, G_N_ELEMENTS(columns));
    for (guint i = 0; i < report->incomplete->len; i++) {
        const EkReportFile *file = report->incomplete->pdata[i];
        g_autofree char *gap = ek_report_gap(file);
        g_autofree char *path = g_strdup_printf("%u: %s", file->volume, file->path);
        EkReportCell cells[] = {{path, NULL}, {"", file}, {gap, NULL}};
        writer->row(writer->data, cells);
    }
    if (report->incomplete_count > report->incomplete->len)
        say(writer, FALSE,
            "%" G_GUINT64_FORMAT " more are incomplete. All are in the list of files (--files).",
            report->incomplete_count - report->incomplete->len);
    say(writer, TRUE,
        "Each cell is an eighth of the file: full: complete; half: partly missing; empty: "
        "missing.");
}

static void write_not_recovered(const EkReport *report, const EkReportWriter *writer)
{
    gboolean is_begun = FALSE;
    for (guint i = 0; i < report->volumes->len; i++) {
        const EkReportVolume *volume = report->volumes->pdata[i];
        if (volume->why_not == NULL)
            continue;
        if (!is_begun)
            writer->heading(writer->data, "Not recovered", 1);
        is_begun = TRUE;
        g_autofree char *name = volume_name(volume);
        g_autofree char *text = g_strdup_printf("%s: %s", name, volume->why_not);
        writer->item(writer->data, text, FALSE);
    }
}

static void write_evidence(const EkReport *report, const EkReportWriter *writer)
{
    writer->heading(writer->data, "Evidence for the volumes", 1);
    for (guint i = 0; i < report->volumes->len; i++) {
        const EkReportVolume *volume = report->volumes->pdata[i];
        if (volume->entry == NULL)
            continue;
        const EkVolume *found = volume->entry->volume;
        g_autofree char *name = volume_name(volume);
        g_autofree char *size = ek_text_size(found->bytes);
        writer->heading(writer->data, name, 2);
        say(writer, FALSE, "%s from byte %" G_GUINT64_FORMAT " on, %s, confidence %d.", size,
            found->first_byte, ek_standing_name(volume->entry->standing), found->confidence);
        for (guint k = 0; k < found->reasons->len; k++) {
            const EkEvidence *reason = found->reasons->pdata[k];
            g_autofree char *text = g_strdup_printf("%+d: %s", reason->points, reason->text);
            writer->item(writer->data, text, FALSE);
        }
    }
}

static void write_plan(const EkReport *report, EkReportDepth depth, const EkReportWriter *writer)
{
    static const EkReportColumn columns[] = {{"Partition", 16, FALSE},
                                             {"First byte", 24, TRUE},
                                             {"Size", 16, TRUE},
                                             {"From", 44, FALSE}};
    const EkPlan *plan = report->plan;
    if (plan == NULL)
        return;
    writer->heading(writer->data, "The plan for the partition table", 1);
    say(writer, FALSE, "%u partitions, %u edits. The steps below list every write to a drive.",
        plan->partitions->len, plan->edits->len);
    writer->table(writer->data, columns, G_N_ELEMENTS(columns));
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        g_autofree char *number = g_strdup_printf("%u", i + 1);
        g_autofree char *first =
            g_strdup_printf("%" G_GUINT64_FORMAT, partition->entry.range.first);
        g_autofree char *size = ek_text_size(partition->entry.range.bytes);
        EkReportCell cells[] = {{number, NULL},
                                {first, NULL},
                                {size, NULL},
                                {partition->note != NULL ? partition->note : "", NULL}};
        writer->row(writer->data, cells);
    }
    for (guint i = 0; depth == EK_REPORT_RECORD && i < plan->edits->len; i++) {
        const EkEdit *edit = plan->edits->pdata[i];
        g_autofree char *text =
            g_strdup_printf("byte %" G_GUINT64_FORMAT ", %zu bytes (%s): %s", edit->first_byte,
                            edit->length, edit->structure, edit->why);
        writer->item(writer->data, text, FALSE);
    }
}

static void write_steps(const EkReport *report, const EkReportWriter *writer)
{
    writer->heading(writer->data, "Steps", 1);
    for (guint i = 0; i < report->events->len; i++) {
        const EkEvent *event = report->events->pdata[i];
        g_autofree char *began = ek_text_time(event->began);
        g_autofree char *step = ek_report_step(event);
        g_autofree char *text = g_strdup_printf("%s  %s", began, step);
        writer->item(writer->data, text, TRUE);
    }
}

/* --- all of it ------------------------------------------------------------------------------- */

guint ek_report_part(const EkReportFile *file, guint part)
{
    EkByte missing = file->parts[part].bad + file->parts[part].unread;
    return missing == 0 ? 2 : missing >= file->size / G_N_ELEMENTS(file->parts) ? 0 : 1;
}

char *ek_report_step(const EkEvent *event)
{
    g_auto(GStrv) words = g_strsplit(event->options != NULL ? event->options : "", " ", -1);
    GString *step = g_string_new(event->command);
    for (char **word = words; *word != NULL; word++) {
        const char *slash = strrchr(*word, '/');
        g_string_append_printf(step, " %s", slash != NULL ? slash + 1 : *word);
    }
    g_string_append_printf(step, ": %s",
                           event->outcome != NULL ? event->outcome : "not ended in order");
    g_auto(GStrv) details = g_strsplit(event->detail != NULL ? event->detail : "", " ", -1);
    for (char **word = details; *word != NULL && event->detail != NULL; word++) {
        const char *slash = strrchr(*word, '/');
        g_string_append_printf(step, "%s%s", word == details ? "; " : " ",
                               slash != NULL && **word == '/' ? slash + 1 : *word);
    }
    return g_string_free(step, FALSE);
}

static gboolean write_sheet(const GPtrArray *sheet, const EkReportWriter *writer, GError **error)
{
    if (sheet == NULL || sheet->len == 0)
        return TRUE;
    writer->heading(writer->data, "A look at some of the files", 1);
    return writer->sheet(writer->data, sheet, error);
}

gboolean ek_report_write(const EkReportPage *page, const EkReportWriter *writer, GError **error)
{
    const EkReport *report = page->report;
    EkReportDepth depth = page->depth;
    write_head(report, writer);
    write_case(report, depth, writer);
    if (!write_pictures(report, depth, writer, error))
        return FALSE;
    writer->heading(writer->data, "Recoverable files", 1);
    for (guint i = 0; i < report->volumes->len; i++) {
        const EkReportVolume *volume = report->volumes->pdata[i];
        if (volume->is_listed && volume->present->all.files + volume->deleted.files > 0)
            write_volume(volume, depth, writer);
    }
    if (!write_sheet(page->sheet, writer, error))
        return FALSE;
    write_incomplete(report, writer);
    write_not_recovered(report, writer);
    if (depth == EK_REPORT_RECORD)
        write_evidence(report, writer);
    if (depth != EK_REPORT_CLIENT) {
        write_plan(report, depth, writer);
        write_steps(report, writer);
    }
    writer->end(writer->data, "Made by Ektypon " EKTYPON_VERSION ".");
    return TRUE;
}

/* SPDX-License-Identifier: MIT */
/* The planned volumes, tested with the edits in place: does each open, and what is in it? */
#include "rebuild/planner.h"
#include "rebuild/sample.h"

#include "base/text.h"

#define FILES_MOST 200000u /* that are counted: a plan is no inventory */

typedef struct {
    EkReader *reader;
    guint64 root;
    guint64 files;
    guint64 folders;
    guint64 holed;
    guint64 number; /* of the file that is being handed on */
    gboolean is_counted;
    gboolean is_holed;
    gboolean has_root;     /* the root folder was handed on, or a name in it */
    gboolean root_is_lost; /* some of the root folder was not read */
    gboolean is_cut;       /* there are more */
    EkSample *sample;
    gboolean boots; /* a boot loader stands in its root folder */
} Count;

static void end_file(Count *count)
{
    count->holed += count->is_holed ? 1 : 0;
    count->is_holed = FALSE;
}

static gboolean count_file(void *data, const EkFile *file)
{
    Count *count = data;
    end_file(count);
    count->number = file->number;
    count->is_counted = (file->flags & (EK_FILE_DELETED | EK_FILE_OWN)) == 0;
    count->has_root |= file->number == count->root;
    if (!count->is_counted || file->number == count->root)
        return TRUE;
    count->folders += file->type == EK_TYPE_FOLDER ? 1 : 0;
    count->files += file->type == EK_TYPE_FILE || file->type == EK_TYPE_LINK ? 1 : 0;
    count->is_cut = count->files + count->folders >= FILES_MOST;
    return !count->is_cut;
}

/* What a boot sector of these systems loads from the active partition. */
static gboolean is_loader(const char *name)
{
    static const char *const loaders[] = {"bootmgr", "ntldr", "io.sys", "kernel.sys"};
    for (gsize i = 0; i < G_N_ELEMENTS(loaders); i++)
        if (g_ascii_strcasecmp(name, loaders[i]) == 0)
            return TRUE;
    return FALSE;
}

static gboolean count_name(void *data, const EkFileName *name)
{
    Count *count = data;
    if (!name->is_deleted)
        ek_sample_name(count->sample, name->file, name->text);
    count->has_root |= name->parent == count->root && !name->is_deleted;
    count->boots |= name->parent == count->root && !name->is_deleted && is_loader(name->text);
    return TRUE;
}

static gboolean count_extent(void *data, guint64 file, const EkExtent *extent)
{
    Count *count = data;
    if (!count->is_counted || file != count->number || extent->stored == 0)
        return TRUE;
    /* What is packed begins with something else. */
    if (extent->offset == 0 && extent->stored == extent->bytes && !extent->is_packed)
        ek_sample_place(count->sample, file, ek_extent_place(extent));
    EkKnown known = ek_reader_known(count->reader, ek_extent_place(extent), extent->stored);
    count->is_holed |= known.bad + known.unread > 0;
    return TRUE;
}

static gboolean count_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    Count *count = data;
    count->root_is_lost |= folder == count->root && damage->cut_short;
    return TRUE;
}

static gboolean count_mark(void *data, guint64 mark, guint64 done, guint64 total)
{
    (void)data;
    (void)mark;
    (void)done;
    (void)total;
    return TRUE;
}

/* Do files begin as their names say? In words. */
static char *describe_sample(guint fit, guint all)
{
    if (all == 0)
        return g_strdup("");
    if (all == 1 && fit == 1)
        return g_strdup("; file type check: the one checked matches its name");
    if (fit == all)
        return g_strdup_printf("; file type check: %u match their names", all);
    return g_strdup_printf("; file type check: only %u of %u match their names", fit, all);
}

/* What is in it, or why it does not open, in words. */
static char *count_files(EkReader *reader, const EkVolume *volume, gboolean *boots,
                         EkPlanOpens *opens, EkPlanContents *contents)
{
    const EkFileSystem *format = volume->format;
    g_autoptr(GError) failure = NULL;
    EkOpened *opened = format->open(reader, volume, &failure);
    *opens = EK_PLAN_FAILS;
    if (opened == NULL)
        return g_strdup_printf("does not open: %s", failure->message);
    g_autoptr(EkSample) sample = ek_sample_new();
    Count count = {.reader = reader, .root = format->root(opened), .sample = sample};
    EkFileSink sink = {.data = &count,
                       .file = count_file,
                       .name = count_name,
                       .extent = count_extent,
                       .damage = count_damage,
                       .mark = count_mark};
    format->walk(opened, 0, &sink);
    end_file(&count);
    format->close(opened);
    *boots = count.boots;
    /* A format whose root has no number of its own is one whose root folder may be empty. */
    if (volume->root_is_lost || (!count.has_root && (count.root != 0 || count.root_is_lost)))
        return g_strdup("does not open: its root folder was not found");
    *opens = EK_PLAN_OPENS;
    *contents = (EkPlanContents){.files = count.files,
                                 .damaged = count.holed,
                                 .folders = count.folders,
                                 .is_cut = count.is_cut};
    ek_sample_check(sample, reader, &contents->matching, &contents->sampled);
    g_autofree char *files = ek_text_count(count.files, "file", "files");
    g_autofree char *folders = ek_text_count(count.folders, "folder", "folders");
    g_autofree char *holed =
        count.holed == 0
            ? g_strdup("")
            : g_strdup_printf("; %" G_GUINT64_FORMAT " with missing sectors", count.holed);
    g_autofree char *looked = describe_sample(contents->matching, contents->sampled);
    return g_strdup_printf("opens; %s%s in %s%s%s", count.is_cut ? "more than " : "", files,
                           folders, holed, looked);
}

/* Its header must stand where the volume begins, through the plan, and say the same. */
static EkVolume *measure_through(EkReader *reader, const EkVolume *volume)
{
    EkCandidate candidate = {volume->first_byte, volume->first_byte + volume->format->header_offset,
                             EK_ROLE_PRIMARY};
    if (volume->format->repair == NULL) {
        /* Not repaired: it opens when it did before, by its own first header. */
        candidate.header_byte = volume->header_byte;
        if (volume->by_backup)
            return NULL;
    }
    EkVolume *seen = ek_volume_measure(volume->format, reader, &candidate, NULL);
    if (seen != NULL && seen->is_confirmed && g_str_equal(seen->filesystem, volume->filesystem) &&
        (seen->bytes == volume->bytes || (volume->length_is_least && seen->bytes > volume->bytes)))
        return seen;
    g_clear_pointer(&seen, ek_volume_free);
    return NULL;
}

/* What opening it gave, in words. */
static char *open_through(EkReader *reader, const EkVolume *volume, gboolean *boots,
                          EkPlanOpens *opens, EkPlanContents *contents)
{
    g_autoptr(EkVolume) seen = measure_through(reader, volume);
    *opens = EK_PLAN_FAILS;
    if (seen == NULL)
        return g_strdup("does not open: its first header would not be right");
    if (seen->format->open != NULL)
        return count_files(reader, seen, boots, opens, contents);
    *opens = EK_PLAN_NOT_OPENED;
    return g_strdup_printf("its header is right, but it was not opened: this version does not "
                           "read the files of %s",
                           seen->filesystem);
}

static void note_check(EkPlanner *planner, const EkChosen *chosen, const char *check,
                       EkPlanOpens opens, const EkPlanContents *contents)
{
    for (guint i = 0; i < planner->plan->partitions->len; i++) {
        EkPlanPartition *partition = planner->plan->partitions->pdata[i];
        if (partition->volume != chosen->number)
            continue;
        partition->label = g_strdup(chosen->volume->label);
        partition->contents = *contents;
        g_free(partition->check);
        partition->check = g_strdup(check);
        partition->opens = opens;
    }
}

/* With no table left that says so, the one primary partition that holds a boot loader is active. */
static void set_active(EkPlanner *planner, guint volume)
{
    EkPlanPartition *boot = NULL;
    for (guint i = 0; i < planner->plan->partitions->len; i++) {
        EkPlanPartition *partition = planner->plan->partitions->pdata[i];
        if (partition->entry.active)
            return;
        if (partition->volume == volume && !partition->entry.logical)
            boot = partition;
    }
    if (boot == NULL || planner->has_current || planner->plan->scheme != EK_SCHEME_MBR)
        return;
    EkByte place = ek_mbr_entry_offset(boot->entry.index);
    for (guint i = 0; i < planner->plan->edits->len; i++) {
        EkEdit *edit = planner->plan->edits->pdata[i];
        if (edit->first_byte != place || !g_str_equal(edit->structure, "mbr"))
            continue;
        edit->after[0] = EK_MBR_ACTIVE;
        boot->entry.active = TRUE;
        ek_planner_warn(planner,
                        "partition %u is marked active: it is the only one with a boot loader, and "
                        "no old table says otherwise",
                        boot->entry.index + 1);
    }
}

/* Would the planned table be read as it is meant? By our own reader, and for a GPT by the rules of
 * its specification, which firmware keeps to. NULL: it would. */
static char *why_not_read(const EkPlanner *planner, EkReader *repaired)
{
    const EkPlan *plan = planner->plan;
    g_autofree EkTable *table = g_new0(EkTable, 1);
    gboolean unread = FALSE;
    if (!ek_table_current(repaired, planner->table_size, table, &unread) ||
        table->scheme != plan->scheme)
        return g_strdup("no system would find it");
    if (table->scheme == EK_SCHEME_GPT && !ek_gpt_is_lawful(table, planner->bytes))
        return g_strdup("its header breaks the rules of a GPT");
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkTableEntry *planned = &((const EkPlanPartition *)plan->partitions->pdata[i])->entry;
        gboolean is_there = planned->extended;
        for (guint k = 0; k < table->count && !is_there; k++)
            is_there = !table->entries[k].extended &&
                       table->entries[k].range.first == planned->range.first &&
                       table->entries[k].range.bytes == planned->range.bytes;
        if (!is_there)
            return g_strdup_printf("partition %u would not be read", planned->index + 1);
    }
    return NULL;
}

static void check_table(EkPlanner *planner, EkReader *repaired)
{
    if (planner->plan->partitions->len == 0)
        return;
    g_autofree char *why = why_not_read(planner, repaired);
    if (why == NULL)
        return;
    planner->plan->opens = FALSE;
    ek_planner_warn(planner, "the planned table is not right: %s. Choose another: --scheme", why);
}

void ek_planner_check(EkPlanner *planner)
{
    g_autoptr(EkOverlay) overlay = ek_plan_overlay(planner->plan->edits);
    EkImageReaderParts parts = planner->input->parts;
    parts.repairs = overlay;
    g_autoptr(EkReader) repaired = ek_image_reader_new(&parts, EK_FACE_AS_REPAIRED);
    planner->plan->opens = TRUE;
    check_table(planner, repaired);
    guint loaders = 0;
    guint loader = 0;
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkChosen *chosen = &g_array_index(planner->chosen, EkChosen, i);
        if (chosen->volume == NULL)
            continue;
        g_autofree char *unclean = chosen->volume->format->unclean != NULL
                                       ? chosen->volume->format->unclean(repaired, chosen->volume)
                                       : NULL;
        if (unclean != NULL)
            ek_planner_warn(planner,
                            "volume %u (%s) was not cleanly unmounted. %s The plan does not "
                            "repair this; the system does when it mounts or checks the volume",
                            chosen->number, chosen->filesystem, unclean);
        gboolean boots = FALSE;
        EkPlanOpens opens = EK_PLAN_FAILS;
        EkPlanContents contents = {0};
        g_autofree char *check = open_through(repaired, chosen->volume, &boots, &opens, &contents);
        loaders += boots ? 1 : 0;
        loader = boots ? chosen->number : loader;
        note_check(planner, chosen, check, opens, &contents);
        if (opens != EK_PLAN_FAILS)
            continue;
        planner->plan->opens = FALSE;
        ek_planner_warn(planner, "volume %u (%s) does not open with this plan", chosen->number,
                        chosen->filesystem);
    }
    if (loaders == 1)
        set_active(planner, loader);
}

/* SPDX-License-Identifier: MIT */
/* Tests of core/rebuild. */
#include "check.h"
#include "fixture.h"
#include "rebuild/apply.h"
#include "rebuild/plan.h"
#include "rebuild/stack.h"
#include "volume/fat/fat.h"
#include "volume/formats.h"
#include "volume/ntfs/ntfs.h"

#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define DRIVE (60u << 20)
#define NTFS_AT (2048u * 512)
#define FAT_AT (30000u * 512)

typedef struct {
    Bench bench;
    guint8 *drive;
    EkVolume *ntfs;
    EkVolume *fat;
    EkPlanVolume volumes[2];
} Rig;

static EkVolume *measure(Rig *rig, const EkFileSystem *format, EkByte first, EkByte header)
{
    EkCandidate candidate = {first, header, EK_ROLE_PRIMARY};
    EkVolume *volume = ek_volume_measure(format, rig->bench.reader, &candidate, NULL);
    CHECK(volume->is_confirmed);
    return volume;
}

static void rig_open(Rig *rig)
{
    gsize length = 0;
    rig->drive = g_malloc0(DRIVE);
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 2048, &length);
    memcpy(rig->drive + NTFS_AT, ntfs, length);
    g_autoptr(FatVolume) fat = fat_volume_new(16, 30000);
    memcpy(rig->drive + FAT_AT, fat->data, fat->length);
}

static void rig_measure(Rig *rig)
{
    bench_open(&rig->bench, rig->drive, DRIVE);
    rig->ntfs = measure(rig, &ek_fs_ntfs, NTFS_AT, NTFS_AT + 16000 * 512);
    rig->fat = measure(rig, &ek_fs_fat, FAT_AT, FAT_AT);
    rig->volumes[0] = (EkPlanVolume){1, rig->ntfs, EK_STANDING_LOST};
    rig->volumes[1] = (EkPlanVolume){2, rig->fat, EK_STANDING_LOST};
}

static void rig_close(Rig *rig)
{
    ek_volume_free(rig->ntfs);
    ek_volume_free(rig->fat);
    bench_close(&rig->bench);
    g_free(rig->drive);
}

static EkPlan *make(Rig *rig)
{
    GError *error = NULL;
    EkPlanInput input = {.parts = {rig->bench.image, rig->bench.map, 512, NULL, NULL},
                         .case_id = "0123",
                         .volumes = rig->volumes,
                         .volume_count = 2};
    EkPlan *plan = ek_plan_make(&input, &error);
    CHECK_FINE(&error);
    return plan;
}

static char *warnings_of(const EkPlan *plan)
{
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < plan->warnings->len; i++)
        g_string_append_printf(text, "%s\n", (char *)plan->warnings->pdata[i]);
    return g_string_free(text, FALSE);
}

static void a_wiped_table_is_composed(void)
{
    Rig rig;
    rig_open(&rig);
    fill_noise(rig.drive, 440, 9); /* boot code, which is not ours */
    memset(rig.drive + 45u * 1048576, 'x', 100);
    rig_measure(&rig);
    g_autoptr(EkPlan) plan = make(&rig);
    g_autofree char *warnings = warnings_of(plan);
    CHECK_NUMBER(plan->scheme, EK_SCHEME_MBR);
    CHECK_NUMBER(plan->partitions->len, 2);
    const EkPlanPartition *first = plan->partitions->pdata[0];
    /* Four records of its file table are all there is of it: no root folder among them. */
    CHECK(!plan->opens);
    CHECK_NUMBER(first->opens, EK_PLAN_FAILS);
    CHECK_TEXT(first->check, "does not open: its root folder was not found");
    CHECK_NUMBER(((const EkPlanPartition *)plan->partitions->pdata[1])->opens, EK_PLAN_OPENS);
    CHECK_NUMBER(first->entry.range.first, NTFS_AT);
    CHECK_NUMBER(first->entry.range.bytes, 16001 * 512);
    CHECK_NUMBER(first->entry.type, 0x07);
    CHECK_CONTAINS(warnings, "contain unrecognised data from sector 92160 on");
    EkTable table;
    guint8 sector[512];
    memcpy(sector, rig.drive, 512);
    g_autoptr(EkOverlay) overlay = ek_plan_overlay(plan->edits);
    ek_overlay_lay(overlay, 0, sector, 512);
    CHECK(ek_table_mbr.read((EkSpan){sector, 512}, 512, &table));
    CHECK_BYTES(sector, rig.drive, 440);
    CHECK(table.disk_signature != 0);
    g_autoptr(EkPlan) again = make(&rig);
    CHECK_NUMBER(again->edits->len, plan->edits->len);
    for (guint i = 0; i < plan->edits->len; i++) {
        const EkEdit *a = plan->edits->pdata[i];
        const EkEdit *b = again->edits->pdata[i];
        CHECK_BYTES(a->after, b->after, a->length); /* what is made derives from the case */
        g_autoptr(GPtrArray) fields = ek_edit_fields(a, 512, TRUE);
        CHECK_NUMBER(fields->len, 1);
    }
    rig_close(&rig);
}

static void a_healthy_drive_gets_an_empty_plan(void)
{
    Rig rig;
    rig_open(&rig);
    mbr_put(rig.drive, 0, 0x07, 2048, 16001);
    mbr_put(rig.drive, 3, 0x06, 30000, 6100);
    rig_measure(&rig);
    g_autoptr(EkPlan) plan = make(&rig);
    CHECK_NUMBER(plan->edits->len, 0);
    CHECK_NUMBER(plan->repairs->len, 0);
    CHECK_NUMBER(plan->partitions->len, 2);
    const EkPlanPartition *kept = plan->partitions->pdata[1];
    CHECK_NUMBER(kept->entry.index, 3);
    CHECK_NUMBER(kept->entry.type, 0x06);
    CHECK_NUMBER(kept->entry.range.bytes, 6100 * 512); /* a little longer than the volume: kept */
    rig_close(&rig);
}

static void old_entries_that_contradict_nothing_stay(void)
{
    Rig rig;
    rig_open(&rig);
    mbr_put(rig.drive, 0, 0x83, 60000, 9000);
    mbr_put(rig.drive, 1, 0x07, 2049, 16000); /* a sector late */
    rig_measure(&rig);
    g_autoptr(EkPlan) plan = make(&rig);
    CHECK_NUMBER(plan->partitions->len, 3);
    const EkPlanPartition *linux_one = plan->partitions->pdata[0];
    CHECK_NUMBER(linux_one->volume, 0);
    CHECK_NUMBER(linux_one->entry.type, 0x83);
    const EkPlanPartition *moved = plan->partitions->pdata[1];
    CHECK_NUMBER(moved->entry.index, 1);
    CHECK_NUMBER(moved->entry.range.first, NTFS_AT);
    rig_close(&rig);
}

/* What protects a GPT is left, and nothing of the GPT: it is made again, by what was found. */
static void a_protected_drive_gets_a_gpt(void)
{
    Rig rig;
    rig_open(&rig);
    mbr_put(rig.drive, 0, 0xee, 1, DRIVE / 512 - 1);
    rig_measure(&rig);
    g_autoptr(EkPlan) plan = make(&rig);
    CHECK_NUMBER(plan->scheme, EK_SCHEME_GPT);
    CHECK_NUMBER(plan->partitions->len, 2);
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        CHECK_NUMBER(partition->entry.index, i);
        CHECK_TEXT(ek_gpt_type_name(partition->entry.type_uuid), "Microsoft basic data");
        CHECK(!ek_bytes_are_zero(partition->entry.uuid, 16));
    }
    g_autoptr(EkPlan) again = make(&rig);
    CHECK_NUMBER(again->edits->len, plan->edits->len);
    for (guint i = 0; i < MIN(plan->edits->len, again->edits->len); i++) {
        const EkEdit *a = plan->edits->pdata[i];
        const EkEdit *b = again->edits->pdata[i];
        CHECK_BYTES(a->after, b->after, a->length); /* what is made derives from the case */
    }
    rig_close(&rig);
}

/* A volume where a GPT itself would stand: only an MBR can name it. */
static void what_a_gpt_has_no_room_for_gets_an_mbr(void)
{
    Rig rig;
    rig_open(&rig);
    mbr_put(rig.drive, 0, 0xee, 1, DRIVE / 512 - 1);
    rig_measure(&rig);
    rig.ntfs->confidence = 10;
    rig.fat->bytes = DRIVE - FAT_AT; /* to the drive's very end */
    g_autoptr(EkPlan) plan = make(&rig);
    g_autofree char *warnings = warnings_of(plan);
    CHECK_NUMBER(plan->scheme, EK_SCHEME_MBR);
    CHECK_CONTAINS(warnings, "leaves no room for the GPT itself");
    CHECK_CONTAINS(warnings, "Planned instead: an MBR");
    CHECK_NUMBER(plan->partitions->len, 1);
    rig_close(&rig);
}

static EkEdit *some_edit(EkByte first, const char *before, const char *after)
{
    return ek_edit_new("mbr", first, (const guint8 *)before, (const guint8 *)after, strlen(before),
                       "a test");
}

static void check_edit(const GPtrArray *edits, guint index, EkByte first, const char *before,
                       const char *after)
{
    const EkEdit *edit = index < edits->len ? edits->pdata[index] : NULL;
    CHECK(edit != NULL);
    if (edit == NULL)
        return;
    CHECK_NUMBER(edit->first_byte, first);
    CHECK_NUMBER(edit->length, strlen(before));
    CHECK_BYTES(edit->before, before, strlen(before));
    CHECK_BYTES(edit->after, after, strlen(after));
}

/* What was read is lower case; the plans write upper case and digits. */
static void a_plan_on_top_of_another_leaves_itself_only(void)
{
    g_autoptr(GPtrArray) plan = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    g_autoptr(GPtrArray) applied =
        g_ptr_array_new_with_free_func((GDestroyNotify)g_ptr_array_unref);
    for (guint i = 0; i < 2; i++)
        g_ptr_array_add(applied, g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free));
    g_ptr_array_add(applied->pdata[0], some_edit(510, "abcd", "ABCD")); /* over two steps */
    g_ptr_array_add(applied->pdata[0], some_edit(2000, "gh", "GH"));
    g_ptr_array_add(applied->pdata[1], some_edit(511, "BC", "12"));
    g_ptr_array_add(plan, some_edit(512, "cdef", "3456"));
    g_ptr_array_add(plan, some_edit(4000, "xy", "XY"));
    g_autoptr(GPtrArray) edits = ek_stack_edits(plan, applied);
    CHECK_NUMBER(edits->len, 4);
    check_edit(edits, 0, 510, "A1", "ab");
    check_edit(edits, 1, 512, "2Def", "3456");
    check_edit(edits, 2, 2000, "GH", "gh");
    check_edit(edits, 3, 4000, "xy", "XY");
    /* The same plan again: nothing is left to write. */
    g_ptr_array_set_size(applied, 0);
    g_ptr_array_add(applied, g_ptr_array_ref(plan));
    g_autoptr(GPtrArray) none = ek_stack_edits(plan, applied);
    CHECK_NUMBER(none->len, 0);
}

/* A dynamic disk rules itself: an MBR would hide it. */
static void a_dynamic_disk_is_left_alone(void)
{
    Rig rig;
    rig_open(&rig);
    mbr_put(rig.drive, 0, 0x42, 63, DRIVE / 512 - 64);
    rig_measure(&rig);
    g_autoptr(EkPlan) plan = make(&rig);
    g_autofree char *warnings = warnings_of(plan);
    CHECK_NUMBER(plan->scheme, EK_SCHEME_NONE);
    CHECK_NUMBER(plan->partitions->len, 0);
    CHECK_CONTAINS(warnings, "the drive uses a dynamic disk");
    rig_close(&rig);
}

static void a_lost_boot_sector_is_repaired_from_its_backup(void)
{
    Rig rig;
    rig_open(&rig);
    rig_measure(&rig);
    bench_hole(&rig.bench, 2048, 4, EK_STATE_BAD);
    g_autoptr(EkPlan) plan = make(&rig);
    CHECK_NUMBER(plan->repairs->len, 1);
    const EkPlanRepair *repair = plan->repairs->pdata[0];
    CHECK_NUMBER(repair->volume, 1);
    CHECK_TEXT(repair->what, "boot sector");
    CHECK_TEXT(repair->from, "the backup copy at sector 18048");
    const EkEdit *edit = plan->edits->pdata[plan->edits->len - 1];
    CHECK_NUMBER(edit->first_byte, NTFS_AT);
    CHECK_BYTES(edit->after, rig.drive + NTFS_AT, 512);
    CHECK(ek_bytes_are_zero(edit->before, 512));
    rig_close(&rig);
}

static void two_on_one_region_are_not_both_taken(void)
{
    Rig rig;
    rig_open(&rig);
    rig_measure(&rig);
    rig.fat->first_byte = NTFS_AT + 512;
    rig.fat->confidence = 60;
    g_autoptr(EkPlan) plan = make(&rig);
    g_autofree char *warnings = warnings_of(plan);
    CHECK_NUMBER(plan->partitions->len, 1);
    CHECK_CONTAINS(warnings, "volume 2 (fat16) is not in the plan: it overlaps volume 1 (ntfs)");
    rig.fat->confidence = 34;
    g_autoptr(EkPlan) doubtful = make(&rig);
    g_autofree char *more = warnings_of(doubtful);
    CHECK_CONTAINS(more, "its confidence (34) is below the limit (35)");
    rig_close(&rig);
}

/* --- applying --------------------------------------------------------------------------------- */

typedef struct {
    EkApplicationState state;
    guint begun;
    gint die_at; /* call of the journal at which the process is killed; 0: never */
    gint calls;
    gboolean fails;
} Journal;

static void maybe_die(Journal *journal)
{
    if (++journal->calls == journal->die_at)
        _exit(9);
}

static gboolean begin(void *data, const GPtrArray *edits, gint64 *id, GError **error)
{
    Journal *journal = data;
    (void)edits;
    *id = 1;
    if (journal->fails)
        return ek_error_set(error, EK_ERROR_NO_SPACE, "the record does not fit");
    journal->begun++;
    journal->state = EK_APPLICATION_WRITING;
    maybe_die(journal);
    return TRUE;
}

static gboolean set_state(void *data, gint64 id, EkApplicationState state, GError **error)
{
    Journal *journal = data;
    (void)id;
    (void)error;
    maybe_die(journal);
    journal->state = state;
    return TRUE;
}

static GPtrArray *three_edits(void)
{
    GPtrArray *edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    guint8 before[600];
    guint8 after[600];
    memset(before, 'o', sizeof before);
    memset(after, 'n', sizeof after);
    g_ptr_array_add(edits, ek_edit_new("", 10, before, after, 4, "first"));
    g_ptr_array_add(edits, ek_edit_new("", 500, before, after, 600, "second"));
    g_ptr_array_add(edits, ek_edit_new("", 4095, before, after, 1, "third"));
    return edits;
}

static void make_target(void)
{
    guint8 data[4096];
    memset(data, 'o', sizeof data);
    write_file("target", data, sizeof data);
}

static gboolean target_is(char at_edits)
{
    gsize length = 0;
    g_autofree guint8 *data = read_file("target", &length);
    for (gsize i = 0; i < length; i++) {
        gboolean inside = (i >= 10 && i < 14) || (i >= 500 && i < 1100) || i == 4095;
        if (data[i] != (inside ? at_edits : 'o'))
            return FALSE;
    }
    return length == 4096;
}

static void all_edits_or_none(void)
{
    GError *error = NULL;
    Journal record = {0};
    EkJournal journal = {&record, begin, set_state};
    g_autoptr(GPtrArray) edits = three_edits();
    make_target();
    g_autoptr(EkTarget) target = ek_target_open("target", &error);
    CHECK(ek_apply(target, edits, &journal, &error));
    CHECK_FINE(&error);
    CHECK(target_is('n'));
    CHECK_NUMBER(record.state, EK_APPLICATION_APPLIED);
    CHECK(!ek_apply(target, edits, &journal, &error));
    CHECK_ERROR(&error, EK_ERROR_REFUSED, "contains 6e 6e 6e 6e at byte 10");
    CHECK_NUMBER(record.begun, 1);
    CHECK(ek_apply_undo(target, 1, edits, &journal, &error));
    CHECK(target_is('o'));
    CHECK_NUMBER(record.state, EK_APPLICATION_UNDONE);
    CHECK(!ek_apply_undo(target, 1, edits, &journal, &error));
    g_clear_error(&error);
    record.fails = TRUE;
    CHECK(!ek_apply(target, edits, &journal, &error));
    CHECK_ERROR(&error, EK_ERROR_NO_SPACE, "does not fit");
    CHECK(target_is('o'));
    /* Too small a target: nothing is written. */
    ((EkEdit *)edits->pdata[2])->first_byte = 4096;
    record.fails = FALSE;
    CHECK(!ek_apply(target, edits, &journal, &error));
    CHECK_ERROR(&error, EK_ERROR_REFUSED, "too small");
    CHECK(target_is('o'));
}

/* Killed inside the journal: before anything is written, and when all is but nobody says so. */
static void a_kill_is_rolled_back(void)
{
    for (int die_at = 1; die_at <= 2; die_at++) {
        GError *error = NULL;
        Journal record = {.die_at = die_at};
        EkJournal journal = {&record, begin, set_state};
        g_autoptr(GPtrArray) edits = three_edits();
        make_target();
        pid_t child = fork();
        if (child == 0) {
            EkTarget *target = ek_target_open("target", NULL);
            ek_apply(target, edits, &journal, NULL);
            _exit(0);
        }
        int status = 0;
        waitpid(child, &status, 0);
        CHECK_NUMBER(WEXITSTATUS(status), 9);
        record.die_at = 0; /* this process lives on */
        CHECK(target_is(die_at == 1 ? 'o' : 'n'));
        g_autoptr(EkTarget) target = ek_target_open("target", &error);
        CHECK(ek_apply_recover(target, 1, edits, EK_APPLICATION_WRITING, &journal, &error));
        CHECK_FINE(&error);
        CHECK(target_is('o'));
        CHECK_NUMBER(record.state, EK_APPLICATION_ROLLED_BACK);
    }
}

/* A write that was torn anywhere: some bytes as before, some as after. */
static void a_torn_write_is_rolled_back(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    for (int round = 0; round < 50; round++) {
        GError *error = NULL;
        Journal record = {0};
        EkJournal journal = {&record, begin, set_state};
        g_autoptr(GPtrArray) edits = three_edits();
        make_target();
        g_autoptr(EkTarget) target = ek_target_open("target", &error);
        for (guint i = 0; i < edits->len; i++) {
            const EkEdit *edit = edits->pdata[i];
            gsize from = (gsize)g_rand_int_range(random, 0, (gint32)edit->length);
            gsize count = (gsize)g_rand_int_range(random, 0, (gint32)(edit->length - from) + 1);
            ek_target_write(target, edit->first_byte + from, edit->after + from, count, NULL);
        }
        CHECK(ek_apply_recover(target, 1, edits,
                               round % 2 == 0 ? EK_APPLICATION_WRITING : EK_APPLICATION_UNDOING,
                               &journal, &error));
        CHECK_FINE(&error);
        CHECK(target_is('o'));
        CHECK_NUMBER(record.state,
                     round % 2 == 0 ? EK_APPLICATION_ROLLED_BACK : EK_APPLICATION_UNDONE);
    }
}

static void what_somebody_else_wrote_is_left_alone(void)
{
    GError *error = NULL;
    Journal record = {0};
    EkJournal journal = {&record, begin, set_state};
    g_autoptr(GPtrArray) edits = three_edits();
    make_target();
    g_autoptr(EkTarget) target = ek_target_open("target", &error);
    ek_target_write(target, 700, (const guint8 *)"stranger", 8, &error);
    CHECK(!ek_apply_recover(target, 1, edits, EK_APPLICATION_WRITING, &journal, &error));
    CHECK_ERROR(&error, EK_ERROR_REFUSED, "at byte 700");
    CHECK(!ek_apply(target, edits, &journal, &error));
    CHECK_ERROR(&error, EK_ERROR_REFUSED, "at byte 700");
    gsize length = 0;
    g_autofree guint8 *data = read_file("target", &length);
    CHECK_BYTES(data + 700, "stranger", 8);
}

int main(void)
{
    static const Test tests[] = {
        {"a wiped table is composed", a_wiped_table_is_composed},
        {"a healthy drive gets an empty plan", a_healthy_drive_gets_an_empty_plan},
        {"old entries that contradict nothing stay", old_entries_that_contradict_nothing_stay},
        {"a protected drive gets a GPT", a_protected_drive_gets_a_gpt},
        {"what a GPT has no room for gets an MBR", what_a_gpt_has_no_room_for_gets_an_mbr},
        {"a plan on top of another leaves itself only",
         a_plan_on_top_of_another_leaves_itself_only},
        {"a dynamic disk is left alone", a_dynamic_disk_is_left_alone},
        {"a lost boot sector is repaired from its backup",
         a_lost_boot_sector_is_repaired_from_its_backup},
        {"two on one ground are not both taken", two_on_one_region_are_not_both_taken},
        {"all edits or none", all_edits_or_none},
        {"a kill is rolled back", a_kill_is_rolled_back},
        {"a torn write is rolled back", a_torn_write_is_rolled_back},
        {"what somebody else wrote is left alone", what_somebody_else_wrote_is_left_alone},
    };
    return RUN_TESTS("rebuild", tests);
}

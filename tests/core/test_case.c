/* SPDX-License-Identifier: MIT */
/* Tests of core/case. */
#include "case/applications.h"
#include "case/case.h"
#include "case/mapstore.h"
#include "case/planstore.h"
#include "case/schema.h"
#include "case/volumestore.h"
#include "check.h"
#include "fixture.h"

#include <glib/gstdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static EkCase *make_case(const char *folder)
{
    GError *error = NULL;
    EkCaseInfo info = {.source = (char *)"/dev/fen",
                       .kind = (char *)"block",
                       .path = (char *)"/dev/fen",
                       .model = (char *)"Corvane R2",
                       .image = (char *)"case/image.raw",
                       .verified = TRUE,
                       .sector_size = 512,
                       .physical_sector_size = 4096,
                       .bytes = 100 * 512 + 7,
                       .sectors = 101};
    EkCase *made = ek_case_create(folder, &info, "a machine", &error);
    CHECK_FINE(&error);
    return made;
}

static void a_case_is_opened_again(void)
{
    GError *error = NULL;
    ek_case_close(make_case("case"));
    g_autoptr(EkCase) opened = ek_case_open("case", TRUE, &error);
    CHECK_FINE(&error);
    const EkCaseInfo *info = ek_case_info(opened);
    CHECK_TEXT(info->source, "/dev/fen");
    CHECK_TEXT(info->model, "Corvane R2");
    CHECK_TEXT(info->serial, NULL);
    CHECK_NUMBER(info->sectors, 101);
    CHECK_NUMBER(info->bytes, 100 * 512 + 7);
    CHECK_NUMBER(strlen(info->id), 32);
    CHECK(info->verified);
    CHECK(g_str_has_suffix(info->image, "/case/image.raw"));
    CHECK(!ek_case_check_absent("case", &error));
    CHECK_ERROR(&error, EK_ERROR_REFUSED, "already is a case");
    CHECK(ek_case_open("nowhere", FALSE, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "there is no such folder");
}

static void a_case_can_be_moved(void)
{
    GError *error = NULL;
    ek_case_close(make_case("case"));
    CHECK(g_rename("case", "moved") == 0);
    g_autoptr(EkCase) opened = ek_case_open("moved", FALSE, &error);
    CHECK_FINE(&error);
    CHECK(g_str_has_suffix(ek_case_info(opened)->image, "/moved/image.raw"));
}

static void damage_and_newer_schemas_are_told_apart(void)
{
    GError *error = NULL;
    EkCase *made = make_case("case");
    CHECK(ek_sql_run(ek_case_store(made), "PRAGMA user_version=99", &error));
    ek_case_close(made);
    CHECK(ek_case_open("case", TRUE, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "newer Ektypon (schema 99");
    CHECK(ek_case_open("case", FALSE, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "newer Ektypon (schema 99");
    write_file("case/case.db", "not a store at all, by any means whatever", 41);
    CHECK(ek_case_open("case", TRUE, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, "case.db is damaged");
}

static void stores_are_brought_up_to_date(void)
{
    static const char *const versions[] = {"CREATE TABLE seed (name TEXT)",
                                           "ALTER TABLE seed ADD COLUMN year INTEGER",
                                           "INSERT INTO seed VALUES ('Briza',2004); broken"};
    GError *error = NULL;
    sqlite3 *store = ek_sql_open(".", "old.db", TRUE, TRUE, &error);
    CHECK(ek_sql_migrate(store, versions, 1, &error));
    CHECK_NUMBER(ek_sql_version(store, &error), 1);
    CHECK(ek_sql_run(store, "INSERT INTO seed VALUES ('Lotus')", &error));
    CHECK(ek_sql_migrate(store, versions, 2, &error));
    CHECK_NUMBER(ek_sql_version(store, &error), 2);
    CHECK_FINE(&error);
    /* One that fails changes nothing. */
    CHECK(!ek_sql_migrate(store, versions, 3, &error));
    g_clear_error(&error);
    CHECK_NUMBER(ek_sql_version(store, &error), 2);
    sqlite3_stmt *row = ek_sql_prepare(store, &error, "SELECT COUNT(*), MAX(year) FROM seed", "");
    CHECK_NUMBER(ek_sql_step(store, row, &error), 1);
    CHECK_NUMBER(sqlite3_column_int(row, 0), 1);
    sqlite3_finalize(row);
    sqlite3_close(store);
}

/* Puts a map as version 2 had it in the place of the case's own. */
static void put_old_map(const char *rows)
{
    GError *error = NULL;
    g_unlink("case/map.db");
    g_autoptr(sqlite3) store = ek_sql_open("case", "map.db", TRUE, TRUE, &error);
    CHECK(ek_sql_migrate(store, ek_map_schema, 2, &error));
    CHECK(ek_sql_run(store, rows, &error));
    CHECK_FINE(&error);
}

static void a_map_of_an_older_version_says_the_same(void)
{
    GError *error = NULL;
    ek_case_close(make_case("case"));
    put_old_map("INSERT INTO boundary VALUES (0,1,0,0,7),(40,3,2,900,4000000000),(41,2,5,0,9)");
    CHECK(ek_case_open("case", FALSE, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "made by an older Ektypon");
    g_autoptr(EkCase) opened = ek_case_open("case", TRUE, &error);
    g_autoptr(EkReadMap) map = ek_mapstore_load(opened, &error);
    CHECK_FINE(&error);
    EkMark good = ek_read_map_at(map, 0).mark;
    CHECK(good.state == EK_STATE_GOOD && good.reason == EK_REASON_NONE && good.event == 7);
    EkStretch bad = ek_read_map_at(map, 40);
    CHECK(bad.count == 1 && bad.mark.state == EK_STATE_BAD);
    CHECK(bad.mark.reason == EK_REASON_TIMEOUT && bad.mark.attempts == 255);
    CHECK_NUMBER(bad.mark.event, 4000000000u);
    EkMark skipped = ek_read_map_at(map, 100).mark;
    CHECK(skipped.state == EK_STATE_SET_ASIDE && skipped.reason == EK_REASON_SKIPPED);
}

static void an_older_map_that_is_damaged_stays_so(void)
{
    GError *error = NULL;
    ek_case_close(make_case("case"));
    put_old_map("INSERT INTO boundary VALUES (0,1,0,0,7),(40,17,0,0,7)");
    g_autoptr(EkCase) opened = ek_case_open("case", TRUE, &error);
    CHECK_FINE(&error);
    CHECK(ek_mapstore_load(opened, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, "speaks of sector 40 of 101");
}

static void a_second_writer_is_told_who_the_first_is(void)
{
    GError *error = NULL;
    int ready[2];
    ek_case_close(make_case("case"));
    CHECK(pipe(ready) == 0);
    pid_t child = fork();
    if (child == 0) {
        EkCase *opened = ek_case_open("case", TRUE, NULL);
        EkLock *lock = ek_lock_take(opened, EK_LOCK_IMAGING, NULL);
        if (write(ready[1], lock != NULL ? "y" : "n", 1) == 1)
            pause();
        _exit(0);
    }
    char answer = 0;
    CHECK(read(ready[0], &answer, 1) == 1);
    g_autofree char *number = g_strdup_printf("process %d is at work", (int)child);
    EkCase *opened = ek_case_open("case", TRUE, &error);
    CHECK(ek_lock_take(opened, EK_LOCK_IMAGING, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_REFUSED, number);
    CHECK_NUMBER(ek_lock_holder(opened, EK_LOCK_IMAGING), child);
    /* Another subject is free. */
    EkLock *other = ek_lock_take(opened, EK_LOCK_HUNTING, &error);
    CHECK(other != NULL);
    ek_lock_release(other);
    kill(child, SIGKILL);
    waitpid(child, NULL, 0);
    EkLock *lock = ek_lock_take(opened, EK_LOCK_IMAGING, &error);
    CHECK(lock != NULL);
    CHECK_FINE(&error);
    ek_lock_release(lock);
    ek_case_close(opened);
    close(ready[0]);
    close(ready[1]);
}

static void the_log_keeps_what_was_cut_off(void)
{
    GError *error = NULL;
    g_autoptr(EkCase) made = make_case("case");
    gint64 first = ek_event_begin(made, "image", "case --if-short continue", &error);
    gint64 second = ek_event_begin(made, "hunt", "case", &error);
    CHECK(ek_event_end(made, second, "done", "nothing found", &error));
    g_autoptr(GPtrArray) events = ek_event_list(made, &error);
    CHECK_NUMBER(events->len, 2);
    const EkEvent *cut = events->pdata[0];
    CHECK_NUMBER(cut->id, first);
    CHECK_NUMBER(cut->ended, 0);
    CHECK_TEXT(cut->outcome, NULL);
    CHECK_TEXT(cut->options, "case --if-short continue");
    CHECK_TEXT(((const EkEvent *)events->pdata[1])->detail, "nothing found");
}

static void the_map_comes_back_as_it_was(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    GError *error = NULL;
    EkCase *made = make_case("case");
    g_autoptr(EkReadMap) map = ek_mapstore_load(made, &error);
    for (int commit = 0; commit < 40; commit++) {
        EkImageWriterSink sink = ek_mapstore_sink(made);
        EkKeptState state = {.device_clock = commit, .failed_commands = 3, .round = 2};
        EkBlockSum sum = {0, (guint64)commit * 0x123456789abcdefu};
        for (int i = 0; i < 4; i++)
            ek_read_map_set(
                map, (EkSector)g_rand_int_range(random, 0, 101),
                (EkSector)g_rand_int_range(random, 1, 30),
                (EkMark){(EkState)g_rand_int_range(random, 0, 4), EK_REASON_MEDIUM, 1, 1});
        for (int i = 0; i < EK_STATES; i++)
            state.totals[i] = ek_read_map_total(map, (EkState)i);
        g_autoptr(GPtrArray) changes = ek_read_map_take_changes(map);
        CHECK(sink.commit(sink.data, changes, &sum, 1, &state, &error));
    }
    ek_case_close(made);
    g_autoptr(EkCase) opened = ek_case_open("case", FALSE, &error);
    g_autoptr(EkReadMap) back = ek_mapstore_load(opened, &error);
    guint wrong = 0;
    for (EkSector at = 0; at < 101; at++) {
        EkStretch a = ek_read_map_at(map, at);
        EkStretch b = ek_read_map_at(back, at);
        wrong += a.first != b.first || a.count != b.count || a.mark.state != b.mark.state;
    }
    CHECK_NUMBER(wrong, 0);
    EkKeptState state;
    guint64 sum = 0;
    CHECK(ek_mapstore_state(opened, &state, &error));
    CHECK_NUMBER(state.device_clock, 39);
    CHECK_NUMBER(state.totals[EK_STATE_BAD], ek_read_map_total(map, EK_STATE_BAD));
    CHECK(ek_mapstore_block_sum(opened, 0, &sum, &error));
    CHECK(sum == 39u * 0x123456789abcdefu);
    CHECK(!ek_mapstore_block_sum(opened, 1, &sum, &error));
    CHECK_FINE(&error);
}

static EkFinding *finding_at(EkByte first, const char *uuid, int confidence)
{
    EkFinding *finding = g_new0(EkFinding, 1);
    finding->volume = ek_volume_new(ek_file_system_for("fat32"), "fat32");
    finding->volume->first_byte = first;
    finding->volume->bytes = 4096;
    finding->volume->own_sector_size = 512;
    finding->volume->uuid = g_strdup(uuid);
    ek_volume_reason(finding->volume, confidence, "for the test");
    return finding;
}

static void finding_drop(gpointer data)
{
    EkFinding *finding = data;
    ek_volume_free(finding->volume);
    g_free(finding);
}

static void volumes_keep_their_numbers(void)
{
    GError *error = NULL;
    g_autoptr(EkCase) made = make_case("case");
    gint64 event = ek_event_begin(made, "hunt", "", &error);
    g_autoptr(GPtrArray) first = g_ptr_array_new_with_free_func(finding_drop);
    g_ptr_array_add(first, finding_at(8192, "AAAA-0001", 60));
    g_ptr_array_add(first, finding_at(16384, NULL, 70));
    CHECK(ek_volumestore_put(made, event, first, &error));
    g_autoptr(GPtrArray) second = g_ptr_array_new_with_free_func(finding_drop);
    g_ptr_array_add(second, finding_at(4096, "BBBB-0002", 90));
    g_ptr_array_add(second, finding_at(16384, NULL, 80));
    CHECK(ek_volumestore_put(made, event, second, &error));
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(made, &error);
    CHECK_NUMBER(volumes->len, 2); /* the one that no longer stands is not shown */
    const EkCaseVolume *newest = volumes->pdata[0];
    CHECK_NUMBER(newest->number, 3);
    const EkCaseVolume *same = volumes->pdata[1];
    CHECK_NUMBER(same->number, 2);
    CHECK_NUMBER(same->volume->confidence, 80);
    CHECK_NUMBER(same->volume->reasons->len, 1);
    CHECK(ek_volumestore_find(volumes, 1, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "no such volume: 1");
}

static void hunted_ranges_are_joined(void)
{
    GError *error = NULL;
    g_autoptr(EkCase) made = make_case("case");
    gint64 event = ek_event_begin(made, "hunt", "", &error);
    g_autoptr(EkHuntStore) store = ek_huntstore_new(made, event, "set;1");
    EkHuntSink sink = ek_huntstore_sink(store);
    CHECK(sink.hunted(sink.data, (EkRange){0, 512}, &error));
    CHECK(sink.hunted(sink.data, (EkRange){512, 512}, &error));
    CHECK(ek_huntstore_flush(store, &error));
    CHECK(sink.hunted(sink.data, (EkRange){1024, 1024}, &error));
    CHECK(sink.hunted(sink.data, (EkRange){4096, 512}, &error));
    CHECK(ek_huntstore_flush(store, &error));
    g_autoptr(GArray) hunted = ek_volumestore_hunted(made, "set;1", &error);
    CHECK_NUMBER(hunted->len, 2);
    CHECK_NUMBER(g_array_index(hunted, EkRange, 0).bytes, 2048);
    g_autoptr(GArray) other = ek_volumestore_hunted(made, "set;2", &error);
    CHECK_NUMBER(other->len, 0);
}

/* Edits in the image file: the case still has the image as read, also when a sector under an edit
 * is imaged later. */
static void the_image_as_read_survives_edits(void)
{
    GError *error = NULL;
    g_autoptr(EkCase) made = make_case("case");
    gint64 event = ek_event_begin(made, "apply", "", &error);
    EkJournalTarget target = {made, event, "case/image.raw", "image", TRUE};
    EkJournal journal = ek_applications_journal(&target);
    gint64 ids[2] = {0};
    const char *before[] = {"oooo", "nnoo"};
    const char *after[] = {"nnnn", "mmmm"};
    EkByte places[] = {100, 102};
    for (int i = 0; i < 2; i++) {
        g_autoptr(GPtrArray) edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
        g_ptr_array_add(edits, ek_edit_new("", places[i], (const guint8 *)before[i],
                                           (const guint8 *)after[i], 4, "for the test"));
        CHECK(journal.begin(journal.data, edits, &ids[i], &error));
        CHECK(journal.set_state(journal.data, ids[i], EK_APPLICATION_APPLIED, &error));
    }
    guint8 file[8] = "nnmmmm";
    g_autoptr(EkOverlay) kept = ek_applications_kept(made, &error);
    ek_overlay_lay(kept, 100, file, 6);
    CHECK_BYTES(file, "oooooo", 6);
    /* Bytes 98 to 107 come from the drive now: the lowest edit over each byte is corrected. */
    CHECK(ek_applications_correct(made, 98, (const guint8 *)"98ABCDEF67", 10, &error));
    CHECK_FINE(&error);
    g_autoptr(GPtrArray) first = ek_applications_edits(made, ids[0], &error);
    g_autoptr(GPtrArray) second = ek_applications_edits(made, ids[1], &error);
    CHECK_BYTES(((const EkEdit *)first->pdata[0])->before, "ABCD", 4);
    CHECK_BYTES(((const EkEdit *)second->pdata[0])->before, "nnEF", 4);
    CHECK(journal.set_state(journal.data, ids[1], EK_APPLICATION_UNDONE, &error));
    CHECK(journal.set_state(journal.data, ids[0], EK_APPLICATION_ROLLED_BACK, &error));
    g_autoptr(EkOverlay) nothing = ek_applications_kept(made, &error);
    CHECK(ek_overlay_is_empty(nothing));
}

static void a_plan_comes_back_as_it_was(void)
{
    GError *error = NULL;
    g_autoptr(EkCase) made = make_case("case");
    gint64 event = ek_event_begin(made, "plan", "", &error);
    CHECK(ek_planstore_load(made, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "has no plan yet");
    g_autoptr(EkPlan) plan = ek_plan_new();
    plan->scheme = EK_SCHEME_MBR;
    plan->opens = TRUE;
    plan->layers = 2;
    EkPlanPartition *partition = g_new0(EkPlanPartition, 1);
    *partition = (EkPlanPartition){.entry = {.index = 2,
                                             .range = {1 << 20, 1ull << 41},
                                             .type = 0x0c,
                                             .active = TRUE,
                                             .uuid = {9, 8},
                                             .type_text = "Apple_HFS",
                                             .name = "Größe"},
                                   .volume = 5,
                                   .note = g_strdup("found"),
                                   .now = g_strdup("not listed"),
                                   .check = g_strdup("opens"),
                                   .opens = TRUE};
    g_ptr_array_add(plan->partitions, partition);
    EkTableEntry standing = {.index = 1, .range = {512, 1 << 20}, .logical = TRUE};
    plan->current_scheme = EK_SCHEME_MBR;
    g_array_append_val(plan->current, standing);
    EkPlanAlternative *alternative = g_new0(EkPlanAlternative, 1);
    *alternative = (EkPlanAlternative){3, g_strdup("an older one")};
    g_ptr_array_add(plan->alternatives, alternative);
    g_ptr_array_add(plan->warnings, g_strdup("mind the gap"));
    g_ptr_array_add(plan->edits, ek_edit_new("mbr", 446, (const guint8 *)"a\0b",
                                             (const guint8 *)"\0\0\1", 3, "an entry"));
    for (int i = 0; i < 2; i++)
        CHECK(ek_planstore_put(made, event, plan, &error));
    g_autoptr(EkPlan) back = ek_planstore_load(made, &error);
    CHECK_FINE(&error);
    CHECK_NUMBER(back->partitions->len, 1);
    const EkPlanPartition *same = back->partitions->pdata[0];
    CHECK_NUMBER(same->entry.index, 2);
    CHECK(same->entry.range.bytes == 1ull << 41);
    CHECK(same->entry.active);
    CHECK_BYTES(same->entry.uuid, partition->entry.uuid, 16);
    CHECK_TEXT(same->entry.name, "Größe");
    CHECK_TEXT(same->entry.type_text, "Apple_HFS");
    CHECK_TEXT(same->check, "opens");
    CHECK_NUMBER(back->current_scheme, EK_SCHEME_MBR);
    CHECK_NUMBER(back->current->len, 1);
    CHECK_NUMBER(g_array_index(back->current, EkTableEntry, 0).range.bytes, 1 << 20);
    CHECK(g_array_index(back->current, EkTableEntry, 0).logical);
    CHECK_NUMBER(back->layers, 2);
    CHECK_NUMBER(((EkPlanAlternative *)back->alternatives->pdata[0])->volume, 3);
    CHECK_TEXT(back->warnings->pdata[0], "mind the gap");
    const EkEdit *edit = back->edits->pdata[0];
    CHECK_NUMBER(edit->length, 3);
    CHECK_BYTES(edit->before, "a\0b", 3);
    CHECK_BYTES(edit->after, "\0\0\1", 3);
    CHECK_TEXT(edit->why, "an entry");
}

/* What is compared at once must be what the migrations make; and nothing else passes for it. */
static void schemas_have_the_sums_that_are_kept(void)
{
    GError *error = NULL;
    g_autoptr(EkCase) made = make_case("case");
    g_autofree char *store = ek_sql_schema_sum(ek_case_store(made), &error);
    g_autofree char *map = ek_sql_schema_sum(ek_case_map(made), &error);
    CHECK_TEXT(store, EK_CASE_SCHEMA_SUM);
    CHECK_TEXT(map, EK_MAP_SCHEMA_SUM);
    CHECK(ek_sql_run(ek_case_store(made), "CREATE INDEX more ON event (pid)", &error));
    CHECK(!ek_sql_check_schema(ek_case_store(made), ek_case_schema, EK_CASE_SCHEMA_VERSIONS,
                               EK_CASE_SCHEMA_SUM, &error));
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, "its tables are not those");
    CHECK(ek_sql_check_schema(ek_case_map(made), ek_map_schema, EK_MAP_SCHEMA_VERSIONS, NULL,
                              &error));
    CHECK_FINE(&error);
    /* Long statements end when they are called off. */
    gint cancel = 1;
    ek_sql_watch(ek_case_store(made), &cancel);
    CHECK(!ek_sql_run(ek_case_store(made),
                      "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n) "
                      "SELECT sum(i) FROM n",
                      &error));
    CHECK_ERROR(&error, EK_ERROR_CANCELLED, "interrupted");
}

int main(void)
{
    static const Test tests[] = {
        {"a case is opened again", a_case_is_opened_again},
        {"schemas have the sums that are kept", schemas_have_the_sums_that_are_kept},
        {"a case can be moved", a_case_can_be_moved},
        {"damage and newer schemas are told apart", damage_and_newer_schemas_are_told_apart},
        {"stores are brought up to date", stores_are_brought_up_to_date},
        {"a map of an older version says the same", a_map_of_an_older_version_says_the_same},
        {"an older map that is damaged stays so", an_older_map_that_is_damaged_stays_so},
        {"a second writer is told who the first is", a_second_writer_is_told_who_the_first_is},
        {"the log keeps what was cut off", the_log_keeps_what_was_cut_off},
        {"the map comes back as it was", the_map_comes_back_as_it_was},
        {"volumes keep their numbers", volumes_keep_their_numbers},
        {"hunted ranges are joined", hunted_ranges_are_joined},
        {"the image as read survives edits", the_image_as_read_survives_edits},
        {"a plan comes back as it was", a_plan_comes_back_as_it_was},
    };
    return RUN_TESTS("case", tests);
}

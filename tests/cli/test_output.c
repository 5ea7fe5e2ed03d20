/* SPDX-License-Identifier: MIT */
/* What comes out: the shapes of JSON that docs/json.md promises, names from a disk, colour, pipes.
 */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>

/* Every key of `keys` (words) is there, and no other. */
static void check_keys(json_t *object, const char *what, const char *keys)
{
    g_auto(GStrv) wanted = g_strsplit(keys, " ", -1);
    const char *key = NULL;
    json_t *value = NULL;
    for (char **word = wanted; *word != NULL; word++)
        if (json_object_get(object, *word) == NULL)
            CHECK_TEXT(what, *word);
    json_object_foreach(object, key, value) if (!g_strv_contains((const char *const *)wanted, key))
        CHECK_TEXT(key, what);
}

static json_t *json_of(const char *line, int status)
{
    g_auto(Result) result = ektypon("%s", line);
    CHECK_STATUS(result, status);
    return result_json(&result);
}

static json_t *first_of(json_t *root, const char *list)
{
    json_t *first = json_array_get(json_object_get(root, list), 0);
    if (first == NULL)
        g_error("%s is empty", list);
    return first;
}

static void make_demo_case(void)
{
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench");
    done("hunt bench");
    done("plan bench");
}

static void a_report_has_the_shape_that_is_promised(void)
{
    make_demo_case();
    json_t *report = json_of("report bench --json", 0);
    check_keys(report, "report",
               "answer client reference note made drive present volumes incomplete "
               "incomplete_total partitions_planned edits_planned steps version");
    check_keys(json_object_get(report, "drive"), "its drive",
               "model serial bytes sector_size verified health good_bytes bad_bytes unread_bytes");
    check_keys(first_of(report, "volumes"), "its volume",
               "volume filesystem label standing listed why_not counted present deleted kinds "
               "conditions folders");
    check_keys(json_object_get(first_of(report, "volumes"), "present"), "a count",
               "files bytes whole");
    check_keys(first_of(report, "incomplete"), "an incomplete file",
               "volume path size condition bad_bytes unread_bytes missing");
    check_keys(first_of(report, "steps"), "a step", "began step");
    json_decref(report);
    json_t *note = json_of("note bench --json", 0);
    check_keys(note, "note", "client reference note");
    json_decref(note);
}

static void json_has_the_shapes_that_are_promised(void)
{
    make_demo_case();
    json_t *drives = json_of("drives sim:drive.model --json", 0);
    check_keys(drives, "drives", "drives");
    check_keys(first_of(drives, "drives"), "a drive",
               "name path bytes sector_size physical_sector_size model serial bus table filesystem "
               "read_only removable can_discard buffered state command_timeout_seconds errors "
               "uses partitions looked scheduler queue_depth write_cache power health warnings");
    json_decref(drives);
    json_t *status = json_of("status bench --json", 0);
    check_keys(status, "status",
               "source image sector_size sectors device_seconds failed_commands "
               "round health finished next");
    check_keys(json_object_get(status, "source"), "source",
               "kind path model serial kernel_read_only");
    check_keys(json_object_get(status, "image"), "image", "path verified");
    json_decref(status);
    json_t *map = json_of("map bench --json", 0);
    check_keys(map, "map", "sector_size sectors totals extents");
    check_keys(json_object_get(map, "totals"), "totals", "untouched good set_aside bad");
    check_keys(first_of(map, "extents"), "an extent", "first count state reason");
    json_decref(map);
    g_auto(Result) hunted = ektypon("hunt bench --progress json");
    g_auto(GStrv) lines = g_strsplit(g_strchomp(hunted.err), "\n", -1);
    json_t *line = json_loads(lines[0], 0, NULL);
    check_keys(line, "a line", "done total position volumes headers tables records by_format");
    json_decref(line);
    json_t *volumes = json_of("volumes bench --json", 0);
    check_keys(volumes, "volumes", "sector_size volumes");
    check_keys(first_of(volumes, "volumes"), "a volume",
               "number filesystem first_byte bytes first_sector sectors own_sector_size label uuid "
               "standing confidence reasons length_is_least by_backup earlier created used host "
               "files overwritten_bytes geometry");
    check_keys(first_of(first_of(volumes, "volumes"), "reasons"), "a reason", "points text");
    json_decref(volumes);
    json_t *ls = json_of("ls bench 2 --json", 0);
    check_keys(ls, "ls", "files totals");
    check_keys(first_of(ls, "files"), "a file",
               "volume number path type size created modified accessed attributes deleted guessed "
               "encrypted condition bad_bytes unread_bytes overwritten_bytes holes");
    check_keys(json_object_get(ls, "totals"), "totals",
               "files folders bytes deleted whole holed overwritten unplaced doubtful cut");
    json_decref(ls);
    json_t *peek = json_of("peek bench 2:LABELS.TXT --json", 0);
    check_keys(peek, "peek", "file extents content");
    check_keys(first_of(peek, "extents"), "an extent", "offset bytes first_byte");
    check_keys(json_object_get(peek, "content"), "content",
               "type mime kind blank opens why look shown");
    json_decref(peek);
    json_t *tree = json_of("tree bench 2 --json", 0);
    check_keys(first_of(tree, "folders"), "a folder",
               "number parent name depth folders files bytes not_whole doubtful deleted");
    json_decref(tree);
    json_t *index = json_of("index bench 2 --json", 0);
    check_keys(index, "index",
               "volume files folders bytes deleted hurt_folders whole holed overwritten unplaced "
               "doubtful cut");
    json_decref(index);
    json_t *extract = json_of("extract bench 2:LABELS.TXT --to out --json", 0);
    check_keys(first_of(extract, "files"), "an extracted file",
               "volume number path written_as outcome size sha256 condition bad_bytes unread_bytes "
               "holes");
    json_decref(extract);
    json_t *plan = json_of("plan bench --show --json", 0);
    check_keys(
        plan, "plan",
        "scheme sector_size opens layers current partitions repairs edits alternatives warnings");
    check_keys(first_of(plan, "partitions"), "a partition",
               "index volume first_byte bytes first_sector sectors type name uuid active logical "
               "extended from now check label files damaged opens state");
    check_keys(first_of(plan, "repairs"), "a repair", "volume what from");
    check_keys(first_of(plan, "edits"), "an edit", "first_byte bytes why before after");
    json_decref(plan);
    json_t *log = json_of("log bench --json", 0);
    check_keys(first_of(log, "events"), "an event",
               "id command options began ended outcome detail");
    json_decref(log);
}

/* A name that would clear the screen, one that turns the line round, one that is no text. */
static void names_from_a_disk_are_tamed(void)
{
    g_autofree guint8 *drive = g_malloc0(8 << 20);
    g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
    FatFolder root = fat_root(fat);
    fat_add(fat, &root, "CLEAR   TXT", "clear\033[2Jscreen.txt", 0x20, 0, 0);
    fat_add(fat, &root, "TURN    TXT",
            "photo\xe2\x80\xae"
            "gpj.exe",
            0x20, 0, 0);
    fat_add(fat, &root, "A/B     TXT", NULL, 0x20, 0, 0);
    memcpy(drive, fat->data, fat->length);
    write_file("drive.img", drive, 8 << 20);
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    g_auto(Result) listed = ektypon("ls bench 1");
    CHECK_STATUS(listed, 0);
    CHECK(strchr(listed.out, '\033') == NULL);
    CHECK_CONTAINS(listed.out, "clear\\x1B[2Jscreen.txt");
    CHECK_CONTAINS(listed.out, "photo\\u202Egpj.exe");
    CHECK_CONTAINS(listed.out, "A\\\\x2FB.TXT");
    json_t *json = json_of("ls bench 1 --json", 0);
    json_t *tamed = first_of(json, "files");
    CHECK_TEXT(json_text(tamed, "path"), "A\\x2FB.TXT");
    CHECK_TEXT(json_text(tamed, "name_bytes"), "412f422020202020545854");
    json_decref(json);
    done("extract bench 1 --to out --flat");
    g_auto(Result) files = shell("ls -b out | head -1; ls out | wc -l");
    CHECK_CONTAINS(files.out, "A\\\\x2FB.TXT");
    CHECK_CONTAINS(files.out, "4"); /* with the table of them */
}

static void a_drive_without_a_table_needs_none(void)
{
    g_autoptr(FatVolume) fat = fat_volume_new(32, 0);
    write_file("drive.img", fat->data, fat->length);
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_STATUS(plan, 0);
    CHECK_CONTAINS(plan.out, "No table is planned");
    CHECK_CONTAINS(plan.out, "starts at sector 0, so no partition table is needed");
    done("clone bench clone.raw");
    must("cmp clone.raw drive.img");
    g_auto(Result) nothing = ektypon("apply bench clone.raw");
    CHECK_STATUS(nothing, 0);
    CHECK_CONTAINS(nothing.out, "Nothing was written");
}

/* Colour and moving lines on a terminal only, and not where they are not wanted. */
static void colour_stays_on_terminals(void)
{
    make_demo_case();
    g_auto(Result) piped = ektypon("map bench");
    CHECK(strchr(piped.out, '\033') == NULL);
    g_auto(Result) terminal =
        shell("TERM=xterm script -qec '%s map bench' /dev/null", EKTYPON_PROGRAM_PATH);
    CHECK(strchr(terminal.out, '\033') != NULL);
    g_auto(Result) plain =
        shell("NO_COLOR=1 TERM=xterm script -qec '%s map bench' /dev/null", EKTYPON_PROGRAM_PATH);
    CHECK(strchr(plain.out, '\033') == NULL);
    CHECK_CONTAINS(plain.out, "×"); /* what is bad is told by its mark too */
    CHECK_CONTAINS(plain.out, "none  █");
    g_auto(Result) narrow = shell("COLUMNS=60 %s map bench", EKTYPON_PROGRAM_PATH);
    g_auto(GStrv) lines = g_strsplit(narrow.out, "\n", -1);
    CHECK(g_utf8_strlen(lines[0], -1) < 60);
}

/* A label is escaped, and that once: in a table, in a sentence, in what a name says of it. */
static void labels_are_escaped_once(void)
{
    must("mkdir src && printf x > 'src/a\\b' && truncate -s 8M v.img && "
         "mke2fs -q -F -t ext4 -L \"$(printf 'q\\\\r\\033[3')\" -d src v.img");
    done("new bench v.img");
    done("image bench");
    g_auto(Result) hunt = ektypon("hunt bench");
    g_auto(Result) table = ektypon("volumes bench");
    g_auto(Result) one = ektypon("volumes bench 1");
    const char *texts[] = {hunt.err, table.out, one.out};
    for (gsize i = 0; i < G_N_ELEMENTS(texts); i++) {
        CHECK_CONTAINS(texts[i], "q\\\\r\\x1B[3");
        CHECK(strchr(texts[i], '\033') == NULL);
    }
    g_auto(Result) listed = ektypon("ls bench 1");
    CHECK_CONTAINS(listed.out, "a\\\\b\n");
    /* Names in errors, too, and on what is no case. */
    g_auto(Result) none =
        shell("%s ls bench \"1:$(printf '\\033[31mred')\"; "
              "%s status \"$(printf 'no\\033[31mcase')\"; %s \"$(printf '\\033[31m')\"",
              EKTYPON_PROGRAM_PATH, EKTYPON_PROGRAM_PATH, EKTYPON_PROGRAM_PATH);
    CHECK(strchr(none.err, '\033') == NULL);
    CHECK_CONTAINS(none.err, "\\x1B[31m");
}

/* Until the case tells of so many runs of a command. */
static void wait_for_runs(const char *command, guint runs)
{
    for (guint i = 0; i < 300; i++) {
        g_auto(Result) log = ektypon("log bench");
        guint seen = 0;
        for (const char *at = log.out; (at = strstr(at, command)) != NULL; at++)
            seen++;
        if (seen >= runs)
            return;
        g_usleep(100000);
    }
}

static void a_killed_command_is_told_as_cut_off(void)
{
    unpack_demo();
    must("echo realtime=true > slow; sed -e '/^seed=/r slow' drive.model > slow.model");
    done("new bench sim:slow.model");
    pid_t child = ektypon_start("image bench");
    wait_for_runs("image bench", 1);
    kill(child, SIGKILL);
    waitpid(child, NULL, 0);
    g_auto(Result) log = ektypon("log bench");
    CHECK_CONTAINS(log.out, "cut off");
    child = ektypon_start("image bench");
    wait_for_runs("image bench", 2);
    kill(child, SIGTERM);
    int status = 0;
    waitpid(child, &status, 0);
    CHECK_NUMBER(WEXITSTATUS(status), 130);
    g_auto(Result) after = ektypon("log bench");
    CHECK_CONTAINS(after.out, "interrupted");
}

/* Its clock is kept in the case: a drive that died does not come back to life. */
static void a_simulated_drive_lives_once(void)
{
    unpack_demo();
    must("echo lifetime=0.5 > end; sed -e '/^seed=/r end' drive.model > short.model");
    done("new bench sim:short.model");
    g_auto(Result) first = ektypon("image bench");
    CHECK_STATUS(first, 1);
    CHECK_CONTAINS(first.err, "disconnected at sector");
    CHECK_CONTAINS(first.err, "then run: ektypon image bench");
    g_auto(Result) map = ektypon("map bench --json");
    g_auto(Result) second = ektypon("image bench");
    CHECK_STATUS(second, 1);
    g_auto(Result) same = ektypon("map bench --json");
    CHECK_TEXT(same.out, map.out);
}

/* Columns that a line takes, without what steers a terminal. */
static glong columns_of(const char *line)
{
    g_autoptr(GString) plain = g_string_new(NULL);
    for (const char *at = line; *at != '\0'; at++) {
        if (*at == '\033')
            at += strcspn(at, "mKJA");
        else
            g_string_append_c(plain, *at);
    }
    return g_utf8_strlen(plain->str, -1);
}

/* A line of the view that wraps would be two, and what is drawn next would fill the terminal. */
static void the_view_fits_the_terminal(void)
{
    static const guint widths[] = {30, 60, 80, 200};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        unpack_demo();
        must("rm -rf bench");
        done("new bench sim:drive.model");
        g_auto(Result) seen = shell("script -qec 'stty cols %u rows 24; env -u COLUMNS TERM=xterm "
                                    "%s image bench' /dev/null </dev/null",
                                    widths[i], EKTYPON_PROGRAM_PATH);
        g_strdelimit(seen.out, "\r", '\n');
        g_auto(GStrv) lines = g_strsplit(seen.out, "\n", -1);
        guint frames = 0;
        for (char **line = lines; *line != NULL; line++) {
            if (strstr(*line, "\033[K") == NULL)
                continue;
            frames++;
            CHECK(columns_of(*line) <= widths[i]);
        }
        CHECK(frames >= 5);
    }
}

/* Tables drop columns where the terminal is narrow, and cut labels with a mark. */
static void tables_fit_the_terminal(void)
{
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench");
    done("hunt bench");
    static const guint widths[] = {60, 80, 120};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        g_auto(Result) seen = shell("script -qec 'stty cols %u; env -u COLUMNS TERM=xterm %s "
                                    "volumes bench' /dev/null </dev/null",
                                    widths[i], EKTYPON_PROGRAM_PATH);
        g_strdelimit(seen.out, "\r", '\n');
        g_auto(GStrv) lines = g_strsplit(seen.out, "\n", -1);
        for (char **line = lines; *line != NULL; line++)
            CHECK(columns_of(*line) <= widths[i]);
        CHECK((strstr(seen.out, "LAST SECTOR") != NULL) == (widths[i] >= 100));
        CHECK((strstr(seen.out, "Catalogue") != NULL) || strstr(seen.out, "…") != NULL);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"a report has the shape that is promised", a_report_has_the_shape_that_is_promised},
        {"JSON has the shapes that are promised", json_has_the_shapes_that_are_promised},
        {"names from a disk are tamed", names_from_a_disk_are_tamed},
        {"a drive without a table needs none", a_drive_without_a_table_needs_none},
        {"colour stays on terminals", colour_stays_on_terminals},
        {"labels are escaped once", labels_are_escaped_once},
        {"a killed command is told as cut off", a_killed_command_is_told_as_cut_off},
        {"a simulated drive lives once", a_simulated_drive_lives_once},
        {"the view fits the terminal", the_view_fits_the_terminal},
        {"tables fit the terminal", tables_fit_the_terminal},
    };
    return RUN_TESTS("output", tests);
}

/* SPDX-License-Identifier: MIT */
/* The program is killed at random moments: what the map calls good is right, and the end is that of
 * a run that was left alone. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <math.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define KILLS 16 /* unless EKTYPON_TEST_KILLS says otherwise, which takes larger drives too */
#define KILLS_A_DRIVE 8

static char *map_of(const char *folder)
{
    g_auto(Result) result = ektypon("map %s --json", folder);
    CHECK_STATUS(result, 0);
    return g_strdup(result.out);
}

/* Every sector that is called good holds in the image what stands on the drive. */
static void check_good(const char *folder, const guint8 *drive)
{
    g_autofree char *text = map_of(folder);
    Result result = {.out = text};
    json_t *json = result_json(&result);
    json_t *extents = json_object_get(json, "extents");
    g_autofree char *path = g_build_filename(folder, "image.raw", NULL);
    FILE *image = fopen(path, "rb");
    guint8 *piece = g_malloc(1 << 20);
    for (size_t i = 0; i < json_array_size(extents); i++) {
        json_t *extent = json_array_get(extents, i);
        gsize at = json_u64(extent, "first") * 512;
        gsize end = at + json_u64(extent, "count") * 512;
        if (!g_str_equal(json_text(extent, "state"), "good"))
            continue;
        fseek(image, (long)at, SEEK_SET);
        for (; at < end; at += 1 << 20) {
            gsize length = MIN(1u << 20, end - at);
            if (fread(piece, 1, length, image) != length || memcmp(piece, drive + at, length) != 0)
                CHECK_NUMBER(at, -1);
        }
    }
    g_free(piece);
    fclose(image);
    json_decref(json);
}

/* A drive of noise with some damage, in real time so that a run takes a second or two. The end of
 * an undisturbed run is left in `undisturbed`. */
static guint8 *make_slow_drive(GRand *random, double most_mib)
{
    double mib = exp(g_rand_double_range(random, 0, log(most_mib)));
    gsize sectors = (gsize)(mib * 2048) + 7;
    guint8 *drive = g_malloc(sectors * 512);
    fill_noise(drive, sectors * 512, g_rand_int(random));
    write_file("drive.img", drive, sectors * 512);
    GString *model = g_string_new(NULL);
    g_string_append_printf(model,
                           "[drive]\nbacking=drive.img\nerror-time=15\nseek-time=1\n"
                           "read-rate=%.1f\nmax-transfer=64\n",
                           MAX(mib, 1));
    for (int i = 0; i < 8; i++)
        g_string_append_printf(model, "[fault f%d]\nkind=unreadable\nfirst=%d\ncount=%d\n", i,
                               g_rand_int_range(random, 0, (gint32)sectors - 80),
                               g_rand_int_range(random, 1, i < 5 ? 3 : 80));
    write_file("drive.model", model->str, model->len);
    must("sed 's/^backing=/realtime=true\\n&/' drive.model > slow.model");
    g_string_free(model, TRUE);
    must("rm -rf undisturbed");
    done("new undisturbed sim:drive.model");
    done("image undisturbed --all-rounds");
    return drive;
}

static gboolean kill_once(GRand *random)
{
    pid_t child = ektypon_start("image bench --all-rounds");
    g_usleep((gulong)g_rand_int_range(random, 1000, 900000));
    kill(child, SIGKILL);
    int status = 0;
    waitpid(child, &status, 0);
    return WIFSIGNALED(status);
}

static int kills_wanted(int usual)
{
    const char *asked = g_getenv("EKTYPON_TEST_KILLS");
    return asked != NULL ? atoi(asked) : usual;
}

static void imaging_survives_kills(void)
{
    const char *asked = g_getenv("EKTYPON_TEST_KILLS");
    int wanted = kills_wanted(KILLS);
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    int kills = 0;
    while (kills < wanted) {
        g_autofree guint8 *drive = make_slow_drive(random, asked != NULL ? 512 : 32);
        done("new bench sim:slow.model");
        for (int i = 0; i < KILLS_A_DRIVE && kills < wanted && kill_once(random); i++, kills++)
            check_good("bench", drive);
        done("image bench --all-rounds");
        g_autofree char *map = map_of("bench");
        g_autofree char *map_wanted = map_of("undisturbed");
        CHECK_TEXT(map, map_wanted);
        must("cmp bench/image.raw undisturbed/image.raw");
        must("rm -r bench");
    }
}

static void hunting_survives_kills(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench");
    must("cp -r bench quiet");
    done("hunt quiet");
    for (int i = 0; i < 10; i++) {
        pid_t child = ektypon_start("hunt bench");
        g_usleep((gulong)g_rand_int_range(random, 500, 40000));
        kill(child, SIGKILL);
        waitpid(child, NULL, 0);
    }
    done("hunt bench");
    g_auto(Result) wanted = ektypon("volumes quiet --json");
    g_auto(Result) got = ektypon("volumes bench --json");
    CHECK_TEXT(got.out, wanted.out);
}

/* Whenever apply or undo is killed, the target holds all edits or none once it is named again. */
static void applying_survives_kills(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench");
    done("hunt bench");
    done("plan bench");
    done("clone bench plain.raw --as-imaged");
    must("head -c 2M plain.raw > before");
    done("apply bench plain.raw");
    must("head -c 2M plain.raw > after");
    done("undo bench plain.raw");
    for (int i = 0; i < kills_wanted(KILLS); i++) {
        const char *command = i % 2 == 0 ? "apply" : "undo";
        pid_t child = ektypon_start("%s bench plain.raw", command);
        g_usleep((gulong)g_rand_int_range(random, 500, 20000));
        kill(child, SIGKILL);
        waitpid(child, NULL, 0);
        /* Naming the target again rolls back what was cut off; then it is one or the other. */
        g_auto(Result) named = ektypon("%s bench plain.raw", i % 3 == 0 ? "apply" : "undo");
        CHECK(named.status == 0 || strstr(named.err, "nothing to undo") != NULL);
        g_auto(Result) state = shell("head -c 2M plain.raw > now; cmp -s now before || "
                                     "cmp -s now after");
        CHECK_STATUS(state, 0);
    }
    g_auto(Result) last = ektypon("undo bench plain.raw");
    CHECK(last.status == 0 || strstr(last.err, "nothing to undo") != NULL);
    must("cmp plain.raw bench/image.raw");
}

/* Killed again and again, it goes on from what is safe, and ends as it would have. */
static void cloning_survives_kills(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench");
    for (int i = 0; i < kills_wanted(KILLS_A_DRIVE); i++) {
        pid_t child = ektypon_start("clone bench clone.raw --as-imaged");
        g_usleep((gulong)g_rand_int_range(random, 500, 150000));
        kill(child, SIGKILL);
        waitpid(child, NULL, 0);
        g_auto(Result) finished =
            shell("sqlite3 bench/case.db 'SELECT max(finished) FROM clone' | grep -q 1");
        if (finished.status != 0)
            continue;
        must("cmp clone.raw bench/image.raw && rm clone.raw && "
             "sqlite3 bench/case.db 'DELETE FROM clone'");
    }
    must("rm -f clone.raw"); /* it may have been finished */
    pid_t child = ektypon_start("clone bench clone.raw --as-imaged");
    for (int i = 0; i < 500 && access("clone.raw", F_OK) != 0; i++)
        g_usleep(200);
    kill(child, SIGKILL);
    waitpid(child, NULL, 0);
    g_auto(Result) again = ektypon("clone bench clone.raw --as-imaged");
    CHECK(again.status == 0 || strstr(again.err, "clone.raw already exists") != NULL);
    if (again.status == 0)
        must("cmp clone.raw bench/image.raw");
    /* Finished, it is not written over. */
    g_auto(Result) third = ektypon("clone bench clone.raw --as-imaged");
    CHECK_STATUS(third, 4);
}

/* A file that stands where a cut-off clone stood is somebody's own, also when it got the inode. */
static void a_file_in_the_place_of_a_clone_is_not_ours(void)
{
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench");
    done("clone bench clone.raw --as-imaged");
    must("sqlite3 bench/case.db 'UPDATE clone SET finished=0'");
    /* As if the new file had got the old one's inode, which nobody can order. */
    must("old=$(sqlite3 bench/case.db 'SELECT identity FROM clone'); sleep 0.1; rm clone.raw; "
         "truncate -s 200M clone.raw; echo mine | dd of=clone.raw conv=notrunc status=none; "
         "case $old in file:*:*:*) birth=:${old##*:} ;; *) birth= ;; esac; "
         "sqlite3 bench/case.db \"UPDATE clone SET identity='$(stat -c file:%%d:%%i "
         "clone.raw)$birth'\"");
    g_auto(Result) refused = ektypon("clone bench clone.raw --as-imaged");
    CHECK_STATUS(refused, 4);
    CHECK_CONTAINS(refused.err, "clone.raw already exists");
    must("test \"$(head -c 4 clone.raw)\" = mine");
}

int main(void)
{
    static const Test tests[] = {
        {"imaging survives kills", imaging_survives_kills},
        {"hunting survives kills", hunting_survives_kills},
        {"applying survives kills", applying_survives_kills},
        {"cloning survives kills", cloning_survives_kills},
        {"a file in the place of a clone is not ours", a_file_in_the_place_of_a_clone_is_not_ours},
    };
    return RUN_TESTS("kill", tests);
}

/* SPDX-License-Identifier: MIT */
/* What `image` and `new` are asked for and answer: decisions, limits, returning drives, doubts. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define SECTORS 40000u

/* A drive of noise, and a model over it with these lines. */
static void make_drive(const char *drive, const char *faults)
{
    g_autofree guint8 *data = g_malloc(SECTORS * 512);
    g_autofree char *model = g_strdup_printf("[drive]\nbacking=drive.img\n%s\n%s", drive, faults);
    fill_noise(data, SECTORS * 512, 5);
    write_file("drive.img", data, SECTORS * 512);
    write_file("drive.model", model, strlen(model));
}

static guint64 total(const char *state)
{
    g_auto(Result) map = ektypon("map bench --json");
    json_t *json = result_json(&map);
    guint64 value = json_u64(json_object_get(json, "totals"), state);
    json_decref(json);
    return value;
}

/* The good sectors of the image are the drive's. */
static void check_good_bytes(void)
{
    gsize length = 0;
    g_autofree guint8 *truth = read_file("drive.img", &length);
    g_autofree guint8 *image = read_file("bench/image.raw", &length);
    g_auto(Result) map = ektypon("map bench --json");
    json_t *json = result_json(&map);
    gsize index;
    json_t *extent;
    json_array_foreach(json_object_get(json, "extents"), index, extent)
    {
        if (g_str_equal(json_text(extent, "state"), "good"))
            CHECK_BYTES(image + json_u64(extent, "first") * 512,
                        truth + json_u64(extent, "first") * 512, json_u64(extent, "count") * 512);
    }
    json_decref(json);
}

static void what_takes_long_is_put_as_a_question(void)
{
    make_drive("", "[fault scratch]\nkind=unreadable\nfirst=9000\ncount=3000");
    done("new bench sim:drive.model");
    g_auto(Result) asked = ektypon("image bench");
    CHECK_STATUS(asked, 3);
    CHECK_CONTAINS(asked.err, "--all-rounds");
    CHECK_CONTAINS(asked.err, "sectors");
    CHECK_NUMBER(total("good"), SECTORS - 3000);
    g_auto(Result) status = ektypon("status bench --json");
    json_t *json = result_json(&status);
    CHECK_TEXT(json_text(json, "next"), "ektypon hunt bench");
    CHECK_TEXT(json_text(json, "round"), "narrow");
    json_decref(json);
    g_auto(Result) again = ektypon("image bench");
    CHECK_STATUS(again, 3);
    CHECK_NUMBER(total("good"), SECTORS - 3000);
    g_auto(Result) all = ektypon("image bench --all-rounds");
    CHECK_STATUS(all, 0);
    CHECK_NUMBER(total("bad"), 3000);
    CHECK_NUMBER(total("set_aside"), 0);
    check_good_bytes();
}

static void limits_end_it_in_order(void)
{
    static const char *const limits[] = {"--for 2s", "--failed-reads 3", "--first 100 --last 0x7ff",
                                         "--last 20000"};
    make_drive("read-rate=5", "[fault a]\nkind=unreadable\nfirst=9000\ncount=30");
    for (gsize i = 0; i < G_N_ELEMENTS(limits); i++) {
        done("new bench sim:drive.model");
        g_auto(Result) result = ektypon("image bench --all-rounds %s", limits[i]);
        CHECK_STATUS(result, 3);
        CHECK_CONTAINS(result.err, "ektypon image bench");
        CHECK(total("untouched") + total("set_aside") > 0);
        if (i == 2)
            CHECK_NUMBER(total("good"), 0x7ff - 100 + 1);
        check_good_bytes();
        g_auto(Result) rest = ektypon("image bench --all-rounds");
        CHECK_STATUS(rest, 0);
        CHECK_NUMBER(total("good"), SECTORS - 30);
        CHECK_NUMBER(total("bad"), 30);
        must("rm -r bench");
    }
    /* A slower rate takes the drive longer. */
    done("new bench sim:drive.model");
    done("image bench --all-rounds --rate-limit 1M --backwards --block 64K --patience 10");
    g_auto(Result) status = ektypon("status bench --json");
    json_t *json = result_json(&status);
    CHECK(json_real_value(json_object_get(json, "device_seconds")) >= 19);
    json_decref(json);
    CHECK_NUMBER(total("good"), SECTORS - 30);
}

static void what_is_wanted_comes_first(void)
{
    make_drive("", "");
    must("printf '# catalogue\\n30000 1000\\n0x1000 16\\n' >want.txt");
    done("new bench sim:drive.model");
    g_auto(Result) result = ektypon("image bench --want want.txt --for 1s --rate-limit 300K");
    CHECK_STATUS(result, 3);
    g_auto(Result) first = ektypon("map bench --json --first 30000 --last 30100");
    CHECK_CONTAINS(first.out, "{\"first\": 30000, \"count\": 101, \"state\": \"good\"");
    CHECK(total("untouched") > SECTORS - 4000);
    must("printf '30000\\n' >want.txt");
    g_auto(Result) wrong = ektypon("image bench --want want.txt");
    CHECK_STATUS(wrong, 2);
    CHECK_CONTAINS(wrong.err, "want.txt:1");
}

static void wrong_usage_is_told(void)
{
    static const char *const options[] = {
        "--for soon",    "--for 1s2h",     "--rate-limit 0",     "--block x",
        "--patience 1",  "--first twelve", "--first 9 --last 8", "--reopen never",
        "--again -1",    "--progress xml", "--wait --no-wait",   "--failed-reads -2",
        "--if-short no", "--want absent"};
    make_drive("", "");
    done("new bench sim:drive.model");
    for (gsize i = 0; i < G_N_ELEMENTS(options); i++) {
        g_auto(Result) result = ektypon("image bench %s", options[i]);
        CHECK_STATUS(result, 2);
        CHECK_CONTAINS(result.err, "image: ");
        CHECK_TEXT(result.out, "");
    }
    CHECK_NUMBER(total("good"), 0);
}

static void a_vanished_drive_is_waited_for(void)
{
    make_drive("", "[fault gone]\nkind=vanish\nfirst=20000\ncount=2\nback-after=30");
    done("new bench sim:drive.model");
    g_auto(Result) gone = ektypon("image bench --on-gone 'echo $EKTYPON_CASE >gone.txt'");
    CHECK_STATUS(gone, 1);
    CHECK_CONTAINS(gone.err, "disconnected at sector");
    CHECK_CONTAINS(gone.err, "Power-cycle");
    must("grep -q bench gone.txt");
    CHECK(total("good") > 10000);
    CHECK_NUMBER(total("bad"), 0);
    g_auto(Result) status = ektypon("status bench");
    CHECK_CONTAINS(status.out, "last disconnected at sector");
    g_auto(Result) back = ektypon("image bench --wait --all-rounds");
    CHECK_STATUS(back, 0);
    CHECK_NUMBER(total("good"), SECTORS - 2);
    CHECK_NUMBER(total("bad"), 2);
    check_good_bytes();
}

static void a_vanished_drive_need_not_be_waited_for(void)
{
    make_drive("", "[fault gone]\nkind=vanish\nfirst=20000\ncount=2\nback-after=30");
    done("new bench sim:drive.model");
    g_auto(Result) gone = ektypon("image bench --no-wait");
    CHECK_STATUS(gone, 1);
    CHECK_CONTAINS(gone.err, "ektypon image bench");
    check_good_bytes();
}

static void backwards_begins_at_the_end(void)
{
    make_drive("", "");
    done("new bench sim:drive.model");
    g_auto(Result) some = ektypon("image bench --backwards --rate-limit 1M --for 5");
    CHECK_STATUS(some, 3);
    g_auto(Result) map = ektypon("map bench --json");
    json_t *json = result_json(&map);
    json_t *first = json_array_get(json_object_get(json, "extents"), 0);
    CHECK_TEXT(json_text(first, "state"), "untouched");
    CHECK_NUMBER(json_u64(first, "count") + total("good"), SECTORS);
    CHECK(total("good") > 0);
    json_decref(json);
    check_good_bytes();
}

/* A file size limit stands in for a file system that ends below the drive's size. */
static void an_image_that_can_never_fit_is_told_before(void)
{
    make_drive("", "");
    g_auto(Result) small = shell("trap '' XFSZ; ulimit -f 4000; exec %s new bench sim:drive.model",
                                 EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(small, 1);
    CHECK_CONTAINS(small.err, "cannot hold a file of 19.5 MiB");
    CHECK_CONTAINS(small.err, "--image");
    must("test ! -e bench");
}

static void bad_region_gets_another_chance(void)
{
    make_drive("error-time=100", "[fault a]\nkind=unreadable\nfirst=9000\ncount=40\n"
                                 "[fault b]\nkind=stuck\nfirst=700\ncount=2\nhang=1");
    done("new bench sim:drive.model");
    done("image bench --all-rounds");
    CHECK_NUMBER(total("bad"), 42);
    /* A better cable, so to speak. */
    must("printf '[drive]\\nbacking=drive.img\\n' >drive.model");
    g_auto(Result) untouched = ektypon("image bench");
    CHECK_CONTAINS(untouched.out, "Every sector has already been tried");
    done("image bench --reopen timeout");
    CHECK_NUMBER(total("bad"), 40);
    done("image bench --reopen=1000");
    CHECK_NUMBER(total("bad"), 40);
    done("image bench --reopen");
    CHECK_NUMBER(total("bad"), 0);
    must("cmp bench/image.raw drive.img");
}

static void retries_bring_flaky_sectors(void)
{
    make_drive("error-time=50", "[fault a]\nkind=flaky\nfirst=9000\ncount=100\nchance=0.6");
    done("new bench sim:drive.model");
    done("image bench --all-rounds");
    guint64 before = total("bad");
    CHECK(before > 10);
    done("image bench --again 12");
    CHECK(total("bad") < before / 4);
    check_good_bytes();
}

static void it_goes_on_through_another_adapter(void)
{
    make_drive("", "");
    done("new bench sim:drive.model");
    g_auto(Result) part = ektypon("image bench --last 9999");
    CHECK_STATUS(part, 3);
    must("printf '[drive]\\nbacking=drive.img\\nserial=X\\nsector-size=4096\\n' >other.model");
    done("image bench --source sim:other.model --all-rounds");
    CHECK_NUMBER(total("good"), SECTORS);
    must("cmp bench/image.raw drive.img");
    /* Another drive of the same size is not read into the case. */
    must("rm -r bench");
    done("new bench sim:drive.model");
    g_auto(Result) half = ektypon("image bench --last 9999");
    CHECK_STATUS(half, 3);
    must("tr a b <drive.img | dd of=other.img status=none");
    must("printf '[drive]\\nbacking=other.img\\n' >other.model");
    must("head -c %u /dev/urandom >other.img", SECTORS * 512);
    g_auto(Result) other = ektypon("image bench --source sim:other.model");
    CHECK_STATUS(other, 1);
    CHECK_CONTAINS(other.err, "another drive");
    CHECK_NUMBER(total("good"), 10000);
    must("truncate -s 1M other.img");
    g_auto(Result) small = ektypon("image bench --source sim:other.model");
    CHECK_STATUS(small, 1);
    CHECK_CONTAINS(small.err, "but this case's drive has");
}

static void what_a_drive_makes_up_is_called_out(void)
{
    /* It wraps at 8 MiB. */
    must("head -c 8M /dev/urandom >part && cat part part part part part part >drive.img");
    done("new bench drive.img");
    g_auto(Result) wraps = ektypon("image bench --compare 20");
    CHECK_STATUS(wraps, 0);
    CHECK_CONTAINS(wraps.err, "repeats every 16384 sectors");
    CHECK_CONTAINS(wraps.out, "20 places read twice: 20 identical, 0 different");
    must("rm -r bench drive.img");
    must("head -c 6M /dev/zero | tr '\\0' '\\377' >drive.img; head -c 6M /dev/urandom >>drive.img");
    done("new bench drive.img");
    g_auto(Result) made_up = ektypon("image bench");
    CHECK_STATUS(made_up, 0);
    CHECK_CONTAINS(made_up.err, "a single repeated value or pattern");
    /* It changes its mind. */
    must("head -c 12M /dev/urandom >drive.img");
    g_auto(Result) changed = ektypon("image bench --compare 16");
    CHECK_STATUS(changed, 0);
    CHECK_CONTAINS(changed.out, "16 different");
    CHECK_CONTAINS(changed.err, "returns different data for the same sector");
}

static void the_image_is_checked_against_its_sums(void)
{
    make_drive("", "[fault a]\nkind=unreadable\nfirst=9000\ncount=4");
    done("new bench sim:drive.model");
    g_auto(Result) at_once = ektypon("image bench --all-rounds --sha256");
    g_auto(Result) fine = ektypon("image bench --check");
    CHECK_STATUS(fine, 0);
    g_autofree char *digest = file_sha256("bench/image.raw");
    g_auto(Result) sha = ektypon("image bench --sha256");
    CHECK_STATUS(sha, 0);
    CHECK_CONTAINS(sha.out, digest);
    CHECK_STATUS(at_once, 0);
    CHECK_CONTAINS(at_once.out, digest);
    must("printf x | dd of=bench/image.raw bs=1 seek=17000000 conv=notrunc status=none");
    g_auto(Result) rot = ektypon("image bench --check");
    CHECK_STATUS(rot, 1);
    CHECK_CONTAINS(rot.out, "at byte 16777216");
    /* What somebody puts where nothing was read is not the drive's, and nobody sees it. */
    must("printf x | dd of=bench/image.raw bs=512 seek=9001 conv=notrunc status=none");
    g_auto(Result) beside = ektypon("image bench --check");
    CHECK(strstr(beside.out, "at byte 0") == NULL);
}

static void progress_comes_as_json(void)
{
    make_drive("", "[fault a]\nkind=unreadable\nfirst=9000\ncount=4");
    done("new bench sim:drive.model");
    g_auto(Result) result = ektypon("image bench --all-rounds --progress json");
    CHECK_STATUS(result, 0);
    g_auto(GStrv) lines = g_strsplit(result.err, "\n", -1);
    guint count = 0;
    double last = 0;
    for (guint i = 0; lines[i] != NULL; i++) {
        if (lines[i][0] != '{')
            continue;
        json_t *line = json_loads(lines[i], 0, NULL);
        CHECK(line != NULL);
        double seconds = json_real_value(json_object_get(line, "device_seconds"));
        CHECK(seconds >= last && seconds - last < 11);
        CHECK(json_is_integer(json_object_get(line, "failed_commands")));
        CHECK(json_is_integer(json_object_get(line, "position")));
        CHECK(json_is_string(json_object_get(line, "round")));
        CHECK(json_is_number(json_object_get(line, "rate")));
        CHECK(json_object_size(json_object_get(line, "totals")) == 4);
        last = seconds;
        count++;
        json_decref(line);
    }
    CHECK(count >= 5); /* the reads are large: a line for each percent that one brings */
}

static void a_finished_image_is_adopted(void)
{
    must("head -c 100000 /dev/urandom >found.raw; sha256sum found.raw >before");
    g_auto(Result) unverified = ektypon("new bench --adopt found.raw");
    CHECK_STATUS(unverified, 0);
    CHECK_CONTAINS(unverified.err, "unverified");
    g_auto(Result) status = ektypon("status bench --json");
    json_t *json = result_json(&status);
    CHECK(json_is_false(json_object_get(json_object_get(json, "image"), "verified")));
    CHECK_NUMBER(json_u64(json, "sectors"), 196);
    json_decref(json);
    CHECK_NUMBER(total("good"), 196);
    /* Once is enough: where the case is opened, and where it is asked about. */
    g_auto(Result) told = ektypon("status bench");
    CHECK_CONTAINS(told.out, "unverified");
    static const char *const commands[] = {"map", "hunt", "volumes"};
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) quiet = ektypon("%s bench", commands[i]);
        CHECK_STATUS(quiet, 0);
        CHECK(strstr(quiet.err, "unverified") == NULL);
    }
    g_auto(Result) check = ektypon("image bench --check");
    CHECK_STATUS(check, 1);
    CHECK_CONTAINS(check.err, "no block checksums");
    must("rm -r bench; printf '# unread\\n0x10 4\\n190 1000\\n' >list");
    done("new bench --adopt found.raw --bad-list list");
    CHECK_NUMBER(total("bad"), 4 + 6);
    g_auto(Result) more = ektypon("image bench --reopen");
    CHECK_STATUS(more, 1);
    CHECK_CONTAINS(more.err, "--source");
    must("rm -r bench; printf '511 2\\n' >list");
    done("new bench --adopt found.raw --bad-list list --list-unit bytes");
    CHECK_NUMBER(total("bad"), 2);
    must("rm -r bench; printf '511 1025\\n' >list");
    done("new bench --adopt found.raw --bad-list list --list-unit bytes --list-means good");
    CHECK_NUMBER(total("good"), 2);
    must("rm -r bench; printf '5\\n' >list");
    g_auto(Result) broken = ektypon("new bench --adopt found.raw --bad-list list");
    CHECK_STATUS(broken, 1);
    CHECK_CONTAINS(broken.err, "list:1");
    static const char *const wrong[] = {"bench --adopt found.raw drive.img", "bench",
                                        "bench found.raw --bad-list list",
                                        "bench --adopt found.raw --list-unit pages"};
    for (gsize i = 0; i < G_N_ELEMENTS(wrong); i++) {
        g_auto(Result) result = ektypon("new %s", wrong[i]);
        CHECK_STATUS(result, 2);
    }
    must("sha256sum --quiet -c before");
}

static void the_map_is_drawn(void)
{
    make_drive("", "[fault a]\nkind=unreadable\nfirst=9000\ncount=4");
    done("new bench sim:drive.model");
    done("image bench --all-rounds");
    done("map bench --png map.png --svg map.svg");
    must("head -c 8 map.png | od -An -tx1 | grep -q '89 50 4e 47 0d 0a 1a 0a'");
    must("grep -q '<svg' map.svg");
    g_auto(Result) zoom = ektypon("map bench --first 8990 --last 9010 --json");
    CHECK_CONTAINS(zoom.out, "{\"first\": 8990, \"count\": 10, \"state\": \"good\"");
    CHECK_CONTAINS(zoom.out, "{\"first\": 9004, \"count\": 7, \"state\": \"good\"");
    g_auto(Result) nowhere = ektypon("map bench --first 40000");
    CHECK_STATUS(nowhere, 2);
    g_auto(Result) unwritable = ektypon("map bench --png absent/map.png");
    CHECK_STATUS(unwritable, 1);
    CHECK_CONTAINS(unwritable.err, "absent/map.png");
}

/* A disk under the image that is too small, and then is not. */
static void a_full_disk_is_waited_for(void)
{
    make_drive("read-rate=40\nrealtime=true", "");
    if (!is_root()) {
        skip("a small disk needs root");
        return;
    }
    must("mkdir small && mount -t tmpfs -o size=8M none small");
    g_auto(Result) refused = ektypon("new small/bench sim:drive.model");
    CHECK_STATUS(refused, 1);
    CHECK_CONTAINS(refused.err, "is missing");
    done("new small/bench sim:drive.model --if-short continue");
    g_auto(Result) full = ektypon("image small/bench --if-short continue");
    CHECK_STATUS(full, 1);
    CHECK_CONTAINS(full.err, "disk full");
    CHECK_CONTAINS(full.err, "bytes) more is needed");
    must("(sleep 2; mount -o remount,size=64M small) &");
    g_auto(Result) waited = ektypon("image small/bench --if-short continue --wait");
    CHECK_STATUS(waited, 0);
    must("cmp small/bench/image.raw drive.img; umount small");
}

int main(void)
{
    static const Test tests[] = {
        {"what takes long is put as a question", what_takes_long_is_put_as_a_question},
        {"limits end it in order", limits_end_it_in_order},
        {"what is wanted comes first", what_is_wanted_comes_first},
        {"wrong usage is told", wrong_usage_is_told},
        {"a vanished drive is waited for", a_vanished_drive_is_waited_for},
        {"a vanished drive need not be waited for", a_vanished_drive_need_not_be_waited_for},
        {"backwards begins at the end", backwards_begins_at_the_end},
        {"an image that can never fit is told before", an_image_that_can_never_fit_is_told_before},
        {"bad ground gets another chance", bad_region_gets_another_chance},
        {"retries bring flaky sectors", retries_bring_flaky_sectors},
        {"it goes on through another adapter", it_goes_on_through_another_adapter},
        {"what a drive makes up is called out", what_a_drive_makes_up_is_called_out},
        {"the image is checked against its sums", the_image_is_checked_against_its_sums},
        {"progress comes as JSON", progress_comes_as_json},
        {"a finished image is adopted", a_finished_image_is_adopted},
        {"the map is drawn", the_map_is_drawn},
        {"a full disk is waited for", a_full_disk_is_waited_for},
    };
    return RUN_TESTS("imaging", tests);
}

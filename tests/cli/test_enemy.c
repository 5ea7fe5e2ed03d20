/* SPDX-License-Identifier: MIT */
/* A case folder may come from an enemy: nothing in it leads outside, nothing in it is run, and no
 * path that it stores is believed. */
#include "check.h"
#include "program.h"

#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static void make_case(void)
{
    must("truncate -s 4M drive.img && mkfs.fat -F 12 -n COLDSTORE drive.img >/dev/null && "
         "head -c 100K %s | mcopy -i drive.img - ::sensors.csv",
         EKTYPON_PROGRAM_PATH);
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    must("cp -r bench kept");
}

static const char *const readers[] = {"status bench", "map bench",    "volumes bench", "ls bench 1",
                                      "tree bench 1", "find bench 1", "log bench"};
static const char *const writers[] = {"image bench",
                                      "image bench --check",
                                      "hunt bench",
                                      "plan bench",
                                      "index bench 1",
                                      "extract bench 1 --to out",
                                      "clone bench clone.img",
                                      "apply bench target.img"};

/* Every command, on a case that was made hostile: none may touch the victim, hang or crash. */
static void run_all(const char *what, gsize step)
{
    for (gsize i = 0; i < G_N_ELEMENTS(readers) + G_N_ELEMENTS(writers); i += step) {
        const char *command =
            i < G_N_ELEMENTS(readers) ? readers[i] : writers[i - G_N_ELEMENTS(readers)];
        g_auto(Result) result = shell("timeout 20 %s %s", EKTYPON_PROGRAM_PATH, command);
        if (result.status >= 124)
            fprintf(stderr, "\n%s, after %s: %d\n%s", command, what, result.status, result.err);
        CHECK(result.status < 124);
        must("rm -rf out clone.img");
    }
}

/* --- links ---------------------------------------------------------------------------------- */

static const char *const files[] = {
    "locks/hunting", "locks/imaging", "locks/edits", "locks/inventory-1", "case.db",  "map.db",
    "files-1.db",    "case.db-wal",   "case.db-shm", "map.db-wal",        "image.raw"};

static void links_lead_nowhere(void)
{
    static const char *const ways[] = {
        "ln -s \"$PWD/victim\" bench/%s", /* a symbolic link */
        "ln -s ../../victim bench/%s",    /* and a relative one */
        "ln victim bench/%s",             /* a hard link */
        "mkfifo bench/%s",                /* nobody writes there */
        "ln -s /dev/zero bench/%s",
    };
    make_case();
    must("truncate -s 4M target.img");
    for (gsize i = 0; i < G_N_ELEMENTS(files); i++) {
        for (gsize k = 0; k < G_N_ELEMENTS(ways); k++) {
            g_auto(GStrv) parts = g_strsplit(ways[k], "%s", 2);
            must("rm -rf bench && cp -r kept bench && mkdir -p bench/locks && rm -f bench/%s && "
                 "printf 'the victim\\n' > victim && cp victim victim.was && %s%s%s",
                 files[i], parts[0], files[i], parts[1]);
            /* A few commands each: all of them would take minutes. */
            static const char *const some[] = {"ls bench 1", "image bench --again 1", "hunt bench",
                                               "plan bench"};
            gsize step = is_sanitized() ? 2 : 1;
            for (gsize n = (i + k) % step; n < G_N_ELEMENTS(some); n += step) {
                g_auto(Result) result = shell("timeout 20 %s %s", EKTYPON_PROGRAM_PATH, some[n]);
                if (result.status >= 124)
                    fprintf(stderr, "\n%s with %s: %d\n%s", some[n], files[i], result.status,
                            result.err);
                CHECK(result.status < 124);
            }
            g_auto(Result) same = shell("cmp victim victim.was");
            if (same.status != 0)
                fprintf(stderr, "\nthat was %s by %s\n", files[i], ways[k]);
            CHECK_STATUS(same, 0);
        }
    }
    /* A folder of the case that leads away. */
    must("rm -rf bench && cp -r kept bench && rm -rf bench/locks away && mkdir away && "
         "ln -s ../away bench/locks");
    g_auto(Result) away = ektypon("hunt bench");
    CHECK_STATUS(away, 4);
    CHECK_CONTAINS(away.err, "symbolic link");
    must("rmdir away");
}

/* What looks like a lock of ours is one; anything else in its place is not cut off. */
static void a_file_in_the_place_of_a_lock_stays(void)
{
    make_case();
    must("mkdir -p bench/locks && printf 'a letter\\n' > bench/locks/hunting");
    g_auto(Result) hunt = ektypon("hunt bench");
    CHECK_STATUS(hunt, 4);
    CHECK_CONTAINS(hunt.err, "is no lock file of ours");
    must("test \"$(cat bench/locks/hunting)\" = 'a letter'");
}

/* --- databases ------------------------------------------------------------------------------ */

static void doctored_databases_are_refused(void)
{
    static const struct {
        const char *store;
        const char *sql;
        gboolean is_schema; /* the schema is another: then nothing is used */
    } doctored[] = {
        {"case.db", "CREATE TRIGGER t AFTER INSERT ON event BEGIN DELETE FROM volume; END", TRUE},
        {"case.db", "CREATE VIEW v AS SELECT 1", TRUE},
        {"case.db", "ALTER TABLE meta ADD COLUMN more TEXT DEFAULT 'x'", TRUE},
        {"case.db", "DROP TABLE source", TRUE},
        {"case.db", "CREATE TABLE more (a)", TRUE},
        {"case.db",
         "PRAGMA writable_schema=ON; UPDATE sqlite_master SET "
         "sql=replace(sql,'value TEXT','value TEXT CHECK (load_extension(''x'') IS NULL)') "
         "WHERE name='meta'",
         TRUE},
        {"map.db", "CREATE TRIGGER t AFTER UPDATE ON totals BEGIN DELETE FROM boundary; END", TRUE},
        {"map.db", "ALTER TABLE totals RENAME COLUMN bad TO worse", TRUE},
        {"case.db", "UPDATE meta SET value='9223372036854775807' WHERE key='bytes'", FALSE},
        {"case.db", "UPDATE meta SET value='1152921504606846976' WHERE key='bytes'", FALSE},
        {"case.db", "UPDATE meta SET value=printf('%.*c',3000000,'x') WHERE key='source'", FALSE},
        {"case.db", "UPDATE meta SET value='../../victim' WHERE key='image'", FALSE},
        {"case.db", "UPDATE meta SET value='image.raw/../../victim' WHERE key='image'", FALSE},
        {"case.db", "UPDATE meta SET value='/dev/zero' WHERE key='image'", FALSE},
        {"case.db", "UPDATE volume SET first_byte=-1, bytes=-1", FALSE},
        {"case.db",
         "UPDATE event SET command=x'1b5b324a', outcome=x'1b5b324a', "
         "options=x'0a1b5b324a'",
         FALSE},
        {"case.db", "UPDATE meta SET value=x'1b5b324a0a' WHERE key='source'", FALSE},
        {"map.db", "UPDATE boundary SET first=-5", FALSE},
        {"map.db", "UPDATE totals SET good=-1, bad=9223372036854775807", FALSE},
        {"map.db",
         "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<8000) "
         "INSERT INTO boundary SELECT i, (i<<32)|1 FROM n",
         FALSE},
    };
    make_case();
    must("truncate -s 4M target.img && printf 'the victim\\n' > victim && cp victim victim.was");
    for (gsize i = 0; i < G_N_ELEMENTS(doctored); i++) {
        must("rm -rf bench && cp -r kept bench");
        must("sqlite3 bench/%s \"%s\"", doctored[i].store, doctored[i].sql);
        run_all(doctored[i].sql, doctored[i].is_schema ? 5 : 2);
        must("cmp victim victim.was");
        g_auto(Result) status =
            ektypon("%s", g_str_equal(doctored[i].store, "map.db") ? "map bench" : "status bench");
        CHECK(strchr(status.out, '\033') == NULL && strchr(status.err, '\033') == NULL);
        g_auto(Result) log = ektypon("log bench");
        CHECK(strchr(log.out, '\033') == NULL && strchr(log.err, '\033') == NULL);
        if (!doctored[i].is_schema)
            continue;
        CHECK_STATUS(status, 1);
        CHECK_CONTAINS(status.err, "its tables are not those that Ektypon makes");
    }
    /* An inventory that is not as we make it is made again. */
    must("rm -rf bench && cp -r kept bench");
    done("index bench 1");
    must("sqlite3 bench/files-1.db \"CREATE TRIGGER t AFTER INSERT ON file BEGIN SELECT 1; END; "
         "DELETE FROM name\"");
    g_auto(Result) listed = ektypon("ls bench 1");
    CHECK_CONTAINS(listed.out, "sensors.csv");
}

/* --- the image ------------------------------------------------------------------------------ */

/* The path of the image leads to somebody else's file, or to a device that is in use. */
static void an_image_elsewhere_has_to_be_ours(void)
{
    make_case();
    must("mkdir far && %s new out drive.img --image far/copy.raw > /dev/null 2>&1",
         EKTYPON_PROGRAM_PATH);
    must("test -e far/copy.raw.ektypon");
    g_auto(Result) begun = ektypon("image out --last 2000");
    CHECK_STATUS(begun, 3);
    /* As it was left it goes on; also without the mark, by what it holds. */
    must("rm far/copy.raw.ektypon");
    g_auto(Result) more = ektypon("image out --last 4000");
    CHECK_STATUS(more, 3);
    must("cp -r out out.kept && cp far/copy.raw copy.kept");
    static const char *const swaps[] = {
        "head -c 4M /dev/urandom > far/copy.raw", /* something else */
        "cp drive.img far/copy.raw && printf x | dd of=far/copy.raw bs=1 seek=5 conv=notrunc 2>&-",
        "ln -f far/copy.raw far/second", /* a second name */
        "mv far/copy.raw far/real; ln -s real far/copy.raw",
    };
    for (gsize i = 0; i < G_N_ELEMENTS(swaps); i++) {
        must("rm -rf far out; mkdir far; cp copy.kept far/copy.raw; cp -r out.kept out; %s; "
             "cp -L far/copy.raw was",
             swaps[i]);
        g_auto(Result) refused = ektypon("image out");
        CHECK_STATUS(refused, 4);
        CHECK_CONTAINS(refused.err, "Nothing was written");
        must("cmp far/copy.raw was");
    }
    must("rm -rf far out; mkdir far; cp copy.kept far/copy.raw; cp -r out.kept out");
    done("image out");
    must("cmp far/copy.raw drive.img");
}

/* A case that was made on another machine asks once. */
static void a_case_from_elsewhere_asks_once(void)
{
    make_case();
    must("mkdir far && %s new out drive.img --image far/copy.raw >/dev/null 2>&1",
         EKTYPON_PROGRAM_PATH);
    must("sqlite3 out/case.db \"UPDATE meta SET value='0123' WHERE key='machine'\"");
    g_auto(Result) asked = ektypon("image out");
    CHECK_STATUS(asked, 4);
    CHECK_CONTAINS(asked.err, "made on another machine or by another user");
    CHECK_CONTAINS(asked.err, "--confirm copy.raw");
    g_auto(Result) wrong = ektypon("image out --confirm .raw");
    CHECK_STATUS(wrong, 4);
    g_auto(Result) begun = ektypon("image out --confirm copy.raw --last 1000");
    CHECK_STATUS(begun, 3);
    done("image out");
    must("cmp far/copy.raw drive.img");
    /* Inside its folder it need not ask. */
    must("sqlite3 bench/case.db \"UPDATE meta SET value='0123' WHERE key='machine'\"");
    done("image bench --again 1");
}

static void a_device_that_was_given_away_is_not_written(void)
{
    make_case();
    must("truncate -s 4M disk.img");
    g_auto(Result) attached = shell("test $(id -u) = 0 && losetup -f --show disk.img");
    if (attached.status != 0) {
        skip("loop devices need root");
        return;
    }
    const char *device = g_strstrip(attached.out);
    done("new out drive.img --image %s", device);
    g_auto(Result) begun = ektypon("image out --last 2000");
    CHECK_STATUS(begun, 3);
    must("mke2fs -q -F %s && mkdir mnt && mount %s mnt && echo sown > mnt/seeds && sync && "
         "cp disk.img disk.was",
         device, device);
    g_auto(Result) mounted = ektypon("image out");
    CHECK_STATUS(mounted, 4);
    CHECK_CONTAINS(mounted.err, "is in use");
    must("umount mnt && cp disk.img disk.was");
    g_auto(Result) formatted = ektypon("image out");
    CHECK_STATUS(formatted, 4);
    CHECK_CONTAINS(formatted.err, "is not the image of this case");
    must("cmp disk.img disk.was; losetup -d %s", device);
}

/* --- making one ----------------------------------------------------------------------------- */

/* More sectors than a map can count, whoever claims them. */
static void check_huge(void)
{
    g_auto(Result) made =
        shell("mkdir big && mount -t tmpfs none big && truncate -s 1024T big/h && "
              "printf '[drive]\\nbacking=h\\n' > big/model");
    if (made.status == 0) {
        static const char *const sources[] = {"--adopt big/h", "big/h", "sim:big/model"};
        for (gsize i = 0; i < G_N_ELEMENTS(sources); i++) {
            g_auto(Result) result = ektypon("new bench %s", sources[i]);
            CHECK_STATUS(result, 1);
            CHECK_CONTAINS(result.err, "sectors of 512 bytes");
        }
    } else {
        skip("a file of a PiB needs a file system of our own");
    }
    must("umount big 2>/dev/null; rm -rf big");
}

static void a_new_case_is_whole_or_not_there(void)
{
    must("truncate -s 4M drive.img; mkdir there");
    check_huge();
    g_auto(Result) elsewhere = ektypon("new bench drive.img --image there");
    CHECK(elsewhere.status != 0);
    g_auto(Result) left = shell("ls -A | tr '\\n' ' '");
    CHECK_TEXT(left.out, "drive.img there ");
    /* Two at once: one of them makes it, and it is whole. */
    for (int i = 0; i < 10; i++) {
        must("rm -rf bench");
        pid_t one = ektypon_start("new bench drive.img");
        g_auto(Result) other = ektypon("new bench drive.img");
        int status = 0;
        waitpid(one, &status, 0);
        CHECK((WEXITSTATUS(status) == 0) + (other.status == 0) == 1);
        done("image bench");
    }
    g_auto(Result) rest = shell("ls -A | tr '\\n' ' '");
    CHECK_TEXT(rest.out, "bench drive.img there ");
}

int main(void)
{
    static const Test tests[] = {
        {"links lead nowhere", links_lead_nowhere},
        {"a file in the place of a lock stays", a_file_in_the_place_of_a_lock_stays},
        {"doctored databases are refused", doctored_databases_are_refused},
        {"an image elsewhere has to be ours", an_image_elsewhere_has_to_be_ours},
        {"a case from elsewhere asks once", a_case_from_elsewhere_asks_once},
        {"a device that was given away is not written",
         a_device_that_was_given_away_is_not_written},
        {"a new case is whole or not there", a_new_case_is_whole_or_not_there},
    };
    return RUN_TESTS("enemy", tests);
}

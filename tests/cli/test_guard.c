/* SPDX-License-Identifier: MIT */
/* Nothing is ever written to the source, to the image, to the case's own files, or to a stranger,
 * whatever way leads there. */
#include "check.h"
#include "program.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define DRAWS 48
#define SOURCES 4u

/* The last four characters of a name: what confirms a device without a serial. */
static const char *word_of(const char *device)
{
    const char *name = strrchr(device, '/') + 1;
    gsize length = strlen(name);
    return length > 4 ? name + length - 4 : name;
}

/* A drive with a FAT volume that its table has lost, so that there is something to plan. */
static void make_drive(const char *name)
{
    must("truncate -s 8M %s && truncate -s 6M v.img && mkfs.fat -F 12 -n COLDSTORE v.img "
         ">/dev/null && "
         "head -c 200K %s | mcopy -i v.img - ::sensors.csv && "
         "dd if=v.img of=%s bs=1M seek=1 conv=notrunc status=none && rm v.img",
         name, EKTYPON_PROGRAM_PATH, name);
}

static void make_case(const char *folder, const char *source)
{
    done("new %s %s", folder, source);
    done("image %s", folder);
    done("hunt %s", folder);
    done("plan %s", folder);
}

/* --- ways that lead to a file --------------------------------------------------------------- */

typedef enum {
    WAY_ITSELF,
    WAY_HARD_LINK,
    WAY_SYMBOLIC_LINK,
    WAY_BIND_MOUNT,
    WAY_DESCRIPTOR, /* /proc/self/fd/7 */
    WAY_LOOP,
    WAY_NODE, /* another node of a loop device over it */
    WAY_SECOND_LOOP,
    WAY_PARTITION,
    WAYS
} Way;

static gboolean needs_device(Way way)
{
    return way >= WAY_LOOP;
}

/* Prepares a way to `file`, which is in the current folder. NULL when this system has no such. */
static char *open_way(const char *file, Way way)
{
    g_autofree char *base = g_path_get_basename(file);
    g_autofree char *folder = g_path_get_dirname(file);
    switch (way) {
    case WAY_ITSELF: return g_strdup(file);
    case WAY_HARD_LINK: must("rm -f way && ln %s way", file); return g_strdup("way");
    case WAY_SYMBOLIC_LINK:
        must("rm -f way && ln -s \"$(realpath %s)\" way", file);
        return g_strdup("way");
    case WAY_BIND_MOUNT:
        if (!is_root())
            return NULL;
        must("mkdir -p bound && mount --bind %s bound", folder);
        return g_strdup_printf("bound/%s", base);
    case WAY_DESCRIPTOR: return g_strdup("/proc/self/fd/7");
    case WAY_LOOP: return loop_attach(file, "");
    case WAY_SECOND_LOOP: return loop_attach(file, "--direct-io=on");
    case WAY_NODE: {
        g_autofree char *loop = loop_attach(file, "");
        if (loop != NULL)
            must("rm -f node && mknod node b $(cat /sys/block/%s/dev | tr : ' ') && echo %s > "
                 "node.of",
                 loop + strlen("/dev/"), loop);
        return loop != NULL ? g_strdup("node") : NULL;
    }
    case WAY_PARTITION: {
        g_autofree char *loop = loop_attach(file, "");
        if (loop == NULL)
            return NULL;
        must("echo %s > node.of", loop);
        g_auto(Result) part = shell("addpart %s 1 64 8192 && for i in 1 2 3 4 5 6 7 8 9 10; do "
                                    "test -b %sp1 && exit; sleep 0.05; done; exit 1",
                                    loop, loop);
        if (part.status == 0)
            return g_strdup_printf("%sp1", loop);
        loop_detach(loop);
        return NULL;
    }
    case WAYS: break;
    }
    return NULL;
}

static void close_way(const char *path, Way way)
{
    if (way == WAY_LOOP || way == WAY_SECOND_LOOP)
        loop_detach(path);
    else if (way == WAY_NODE)
        must("losetup -d $(cat node.of); rm -f node");
    else if (way == WAY_PARTITION)
        must("delpart $(cat node.of) 1; losetup -d $(cat node.of)");
    else if (way == WAY_BIND_MOUNT)
        must("umount bound");
    must("rm -f way");
}

/* --- the draws ------------------------------------------------------------------------------ */

/* What must stay as it is. */
static const char *const places[] = {"drive.img", "bench/image.raw", "bench/case.db",
                                     "bench/map.db", "stranger.img"};

/* %1$s: the target, %2$s: a word that confirms it, were it any target. */
static const char *const commands[] = {
    "clone bench %s --confirm %s",
    "clone bench %s --as-imaged --confirm %s",
    "apply bench %s",
    "undo bench %s",
    "map bench --png %s",
    "volumes bench --svg %s",
    "extract bench 1 --to out --sums %s",
    "extract bench 1 --to %s",
    "extract bench 1 --to out --incomplete-to %s",
    "new other spare.img --image %s",
};

static gboolean is_unchanged(const char *place)
{
    g_autofree char *kept = g_strdup_printf("kept/%s", place);
    if (g_str_has_suffix(place, ".db")) {
        /* Its own log grows; it must still be a whole case. */
        g_auto(Result) opens = ektypon("status bench");
        g_auto(Result) reads = shell("sqlite3 %s .dump | tail -1", place);
        return opens.status == 0 && g_str_has_prefix(reads.out, "COMMIT");
    }
    g_auto(Result) same = shell("cmp %s %s", place, kept);
    return same.status == 0;
}

/* Is this allowed? Edits on the image itself are, the case keeps what was there. */
static gboolean is_allowed(const char *place, Way way, const char *command)
{
    gboolean edits = g_str_has_prefix(command, "apply") || g_str_has_prefix(command, "undo");
    /* A new name in the folder of a file does not touch the file: pictures replace, sums refuse. */
    gboolean replaces = strstr(command, "--png") != NULL || strstr(command, "--svg") != NULL;
    if (g_str_equal(place, "stranger.img"))
        return (replaces && !needs_device(way)) || edits;
    return edits && g_str_equal(place, "bench/image.raw") && !needs_device(way);
}

static char *format_command(const char *command, const char *target, Way way)
{
    /* The word is right for whatever the target is, so that it is the guard that refuses. */
    g_autofree char *word = needs_device(way) && strchr(target, '/') != NULL
                                ? g_strdup(word_of(target))
                                : g_path_get_basename(target);
    g_auto(GStrv) parts = g_strsplit(command, "%s", 3);
    return g_strconcat(parts[0], target, parts[1], parts[2] != NULL ? word : "",
                       parts[2] != NULL ? parts[2] : "", NULL);
}

static void draw_one(GRand *random, guint *drawn, guint *refused)
{
    const char *place = places[g_rand_int_range(random, 0, (gint32)G_N_ELEMENTS(places))];
    const char *command = commands[g_rand_int_range(random, 0, (gint32)G_N_ELEMENTS(commands))];
    Way way = (Way)g_rand_int_range(random, 0, WAYS);
    if (is_allowed(place, way, command))
        return;
    /* A device that is no part of the case is written to when it is confirmed: that is no stranger.
     */
    if (g_str_equal(place, "stranger.img") && needs_device(way) && strstr(command, "--confirm"))
        command = "clone bench %s";
    g_autofree char *target = open_way(place, way);
    if (target == NULL)
        return;
    must("rm -rf out other");
    g_autofree char *line = format_command(command, target, way);
    g_auto(Result) result = shell("exec 7<>%s; %s %s", place, EKTYPON_PROGRAM_PATH, line);
    (*drawn)++;
    *refused += result.status == 4;
    guint before = CU_get_number_of_failures();
    CHECK(result.status != 0 && result.status < 1000);
    close_way(target, way);
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++)
        CHECK(is_unchanged(places[i]));
    if (CU_get_number_of_failures() != before)
        fprintf(stderr, "\nthat was: %s, where that is a way (%d) to %s; status %d\n%s", line, way,
                place, result.status, result.err);
}

static void nothing_is_written_where_it_must_not_be(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_DRAWS");
    int draws = wanted != NULL ? atoi(wanted) : DRAWS;
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    guint drawn = 0;
    guint refused = 0;
    make_drive("drive.img");
    must("truncate -s 8M spare.img && head -c 8M /dev/urandom > stranger.img && "
         "printf '[drive]\nbacking=drive.img\n' > drive.model");
    /* A file, a drive model over it, a loop device over it that is there, and one that is gone. */
    for (guint kind = 0; kind < SOURCES; kind++) {
        g_autofree char *loop = kind >= 2 ? loop_attach("drive.img", "") : NULL;
        if (kind >= 2 && loop == NULL)
            continue;
        must("rm -rf bench kept");
        make_case("bench", kind == 0 ? "drive.img" : kind == 1 ? "sim:drive.model" : loop);
        must("mkdir -p kept/bench && cp drive.img stranger.img kept && "
             "cp bench/image.raw kept/bench");
        if (kind == 3)
            loop_detach(loop);
        for (int i = 0; i < draws / (int)SOURCES; i++)
            draw_one(random, &drawn, &refused);
        if (kind == 2)
            loop_detach(loop);
    }
    printf(" %u draws, %u of them refused by the guard ", drawn, refused);
    CHECK(drawn >= (guint)draws / 8);
    CHECK(refused * 2 >= drawn);
}

/* --- drives that come back elsewhere ------------------------------------------------------------
 */

/* The node of the source is another drive's by now, and the source has another one. */
static void a_source_is_known_on_another_node(void)
{
    make_drive("drive.img");
    must("truncate -s 8M spare.img");
    g_autofree char *first = loop_attach("drive.img", "");
    if (first == NULL) {
        skip("loop devices need root");
        return;
    }
    make_case("bench", first);
    loop_detach(first);
    must("cp drive.img kept.img");
    g_autofree char *spare = loop_attach("spare.img", "");
    g_autofree char *second = loop_attach("drive.img", "");
    g_auto(Result) clone = ektypon("clone bench %s --confirm %s", second, word_of(second));
    CHECK_STATUS(clone, 4);
    CHECK_CONTAINS(clone.err, "the source"); /* another test may have taken a node meanwhile */
    g_auto(Result) file = ektypon("apply bench drive.img");
    CHECK_STATUS(file, 4);
    CHECK_CONTAINS(file.err, "the source"); /* another test may have taken a node meanwhile */
    g_auto(Result) image = ektypon("new other spare.img --image %s", second);
    CHECK(image.status != 0);
    must("cmp drive.img kept.img");
    /* And what has its node now is no source. */
    if (g_str_equal(spare, first)) {
        done("clone bench %s --confirm %s", spare, word_of(spare));
        must("cmp drive.img kept.img");
    }
    loop_detach(second);
    loop_detach(spare);
}

/* A system that knows no serial and no file behind a device. */
static void make_bare_system(const char *const *devices)
{
    must("rm -rf root && mkdir -p root/proc/self root/etc && cp /proc/self/mountinfo "
         "root/proc/self && "
         "cp /proc/swaps root/proc");
    for (gsize i = 0; devices[i] != NULL; i++) {
        const char *name = devices[i] + strlen("/dev/");
        must("mkdir -p root/sys/block/%s/queue && cd root/sys/block/%s && for f in dev size ro; do "
             "cat /sys/block/%s/$f > $f; done; cat /sys/block/%s/queue/logical_block_size > "
             "queue/logical_block_size",
             name, name, name, name);
    }
}

static void a_drive_without_a_name_is_known_by_what_it_holds(void)
{
    make_drive("drive.img");
    must("truncate -s 8M spare.img && cp drive.img copy.img");
    g_autofree char *first = loop_attach("drive.img", "");
    if (first == NULL) {
        skip("loop devices need root");
        return;
    }
    g_autofree char *spare = loop_attach("spare.img", "");
    g_autofree char *copy = loop_attach("copy.img", "");
    const char *devices[] = {first, spare, copy, NULL};
    make_bare_system(devices);
    g_setenv("EKTYPON_SYSTEM_ROOT", "root", TRUE);
    make_case("bench", first);
    must("cp drive.img kept.img");
    /* Nothing but the bytes tells this one from the source on another node. */
    g_auto(Result) clone = ektypon("clone bench %s --confirm %s", copy, word_of(copy));
    CHECK_STATUS(clone, 4);
    CHECK_CONTAINS(clone.err, "holds the same data as the source");
    g_auto(Result) apply = ektypon("apply bench %s", copy);
    CHECK_STATUS(apply, 4);
    CHECK_CONTAINS(apply.err, "counts as the original");
    must("cmp drive.img kept.img && cmp copy.img kept.img");
    /* A clone of ours holds it too, but with our edits. */
    done("clone bench %s --confirm %s", spare, word_of(spare));
    done("undo bench %s --confirm %s", spare, word_of(spare));
    g_auto(Result) again =
        ektypon("clone bench %s --as-imaged --confirm %s", spare, word_of(spare));
    CHECK_STATUS(again, 4);
    g_unsetenv("EKTYPON_SYSTEM_ROOT");
    must("cmp drive.img kept.img");
    loop_detach(first);
    loop_detach(spare);
    loop_detach(copy);
}

/* A source that answered under a second path is remembered with the first. */
static void every_source_ever_used_is_remembered(void)
{
    make_drive("drive.img");
    must("cp drive.img moved.img");
    done("new bench drive.img");
    g_auto(Result) part = ektypon("image bench --last 4000");
    CHECK_STATUS(part, 3);
    done("image bench --source moved.img");
    done("hunt bench");
    done("plan bench");
    g_auto(Result) first = ektypon("clone bench drive.img");
    g_auto(Result) second = ektypon("clone bench moved.img");
    CHECK_STATUS(first, 4);
    CHECK_STATUS(second, 4);
    CHECK_CONTAINS(second.err, "is the source itself");
    must("cmp drive.img moved.img");
}

/* --- output that is kept on something of the case ------------------------------------------------
 */

static void files_stay_off_source_image_and_case(void)
{
    must("truncate -s 8M drive.img && mke2fs -q -F drive.img");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    g_auto(Result) inside = ektypon("extract bench 1 --to bench");
    CHECK_STATUS(inside, 4);
    CHECK_CONTAINS(inside.err, "belongs to the case itself");
    g_auto(Result) locks = ektypon("extract bench 1 --to bench/locks");
    CHECK_STATUS(locks, 4);
    g_auto(Result) store = ektypon("map bench --png bench/case.db");
    CHECK_STATUS(store, 4);
    done("map bench --png bench/map.png");
    const char *files[] = {"drive.img", "bench/image.raw"};
    for (gsize i = 0; i < G_N_ELEMENTS(files); i++) {
        g_autofree char *device = loop_attach(files[i], "");
        if (device == NULL) {
            skip("loop devices need root");
            return;
        }
        must("mkdir -p mnt && mount %s mnt", device);
        g_auto(Result) taken = ektypon("extract bench 1 --to mnt/out");
        CHECK_STATUS(taken, 4);
        g_auto(Result) drawn = ektypon("map bench --svg mnt/map.svg");
        CHECK_STATUS(drawn, 4);
        g_auto(Result) opened = ektypon("new mnt/second drive.img");
        CHECK(i > 0 || opened.status == 4);
        must("rm -rf mnt/second; test ! -e mnt/out && test ! -e mnt/map.svg");
        /* The file behind a mounted device is in use. */
        g_auto(Result) edits = ektypon("apply bench %s", files[i]);
        CHECK_STATUS(edits, 4);
        must("umount mnt");
        loop_detach(device);
    }
}

static void an_empty_clone_is_refused(void)
{
    make_drive("drive.img");
    done("new bench drive.img");
    g_auto(Result) clone = ektypon("clone bench clone.img --as-imaged");
    CHECK_STATUS(clone, 4);
    CHECK_CONTAINS(clone.err, "there is nothing to write");
    must("test ! -e clone.img");
}

int main(void)
{
    static const Test tests[] = {
        {"nothing is written where it must not be", nothing_is_written_where_it_must_not_be},
        {"a source is known on another node", a_source_is_known_on_another_node},
        {"a drive without a name is known by what it holds",
         a_drive_without_a_name_is_known_by_what_it_holds},
        {"every source ever used is remembered", every_source_ever_used_is_remembered},
        {"files stay off source, image and case", files_stay_off_source_image_and_case},
        {"an empty clone is refused", an_empty_clone_is_refused},
    };
    return RUN_TESTS("guard", tests);
}

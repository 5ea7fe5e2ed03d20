/* SPDX-License-Identifier: MIT */
/* serve: what NBD clients read is the image with the plan over it, missing bytes are errors, and
 * nothing is left of a server that ends. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <errno.h>
#include <libnbd.h>
#include <signal.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define TRIES 600 /* of 100 ms */
#define READS 10000u
#define READ_MOST 70000u
#define SECTOR 512u

static char *uri_of(const char *name)
{
    g_autofree char *folder = g_get_current_dir();
    return g_strdup_printf("nbd+unix:///%s?socket=%s/s.sock", name, folder);
}

static struct nbd_handle *connect_to(const char *name)
{
    g_autofree char *uri = uri_of(name);
    struct nbd_handle *client = nbd_create();
    if (client != NULL && nbd_connect_uri(client, uri) == 0)
        return client;
    nbd_close(client);
    return NULL;
}

/* 0: it did not begin to serve. */
static pid_t serve(const char *arguments)
{
    pid_t pid = ektypon_start("serve %s --at ./s.sock", arguments);
    for (guint i = 0; i < TRIES; i++) {
        struct nbd_handle *client = connect_to("drive");
        int status = 0;
        if (client != NULL) {
            nbd_close(client);
            return pid;
        }
        if (waitpid(pid, &status, WNOHANG) == pid)
            return 0;
        g_usleep(100000);
    }
    return 0;
}

static int end_with(pid_t pid, int signal)
{
    int status = 0;
    kill(pid, signal);
    waitpid(pid, &status, 0);
    for (guint i = 0; i < TRIES; i++) {
        struct nbd_handle *client = connect_to("drive");
        if (client == NULL)
            break;
        nbd_close(client);
        g_usleep(100000);
    }
    return WIFEXITED(status) ? WEXITSTATUS(status) : 1000;
}

static gboolean has_server(void)
{
    g_autofree char *program = g_find_program_in_path("nbdkit");
    /* A plugin with sanitizers does not load into a program without. */
    gboolean is_there = program != NULL && !is_sanitized();
    if (!is_there)
        printf("skipped: no nbdkit that loads the plugin; ");
    return is_there;
}

/* How many of these reads of the export failed; each other gave the bytes of the file. */
static guint read_anywhere(const char *name, const char *truth, guint count)
{
    gsize length = 0;
    g_autofree guint8 *bytes = read_file(truth, &length);
    g_autofree guint8 *buffer = g_malloc(READ_MOST);
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    struct nbd_handle *client = connect_to(name);
    guint failed = 0;
    guint wrong = 0;
    CHECK(client != NULL && nbd_get_size(client) == (gint64)length);
    for (guint i = 0; client != NULL && i < count; i++) {
        guint64 offset = (guint64)g_rand_double_range(random, 0, (gdouble)length);
        gsize drawn = (gsize)g_rand_int_range(random, 1, (gint32)READ_MOST);
        gsize wanted = MIN(drawn, length - offset);
        if (nbd_pread(client, buffer, wanted, offset, 0) != 0) {
            failed++;
            wrong += nbd_get_errno() != EIO;
            continue;
        }
        wrong += memcmp(buffer, bytes + offset, wanted) != 0;
    }
    CHECK_NUMBER(wrong, 0);
    nbd_close(client);
    return failed;
}

static void clients_read_the_drive(void)
{
    if (!has_server())
        return;
    hunt_demo();
    done("plan bench");
    done("clone bench clone.raw");
    must("cp bench/image.raw read.raw");
    pid_t pid = serve("bench --zeros");
    CHECK(pid != 0);
    CHECK_NUMBER(read_anywhere("drive", "clone.raw", READS), 0);
    g_autofree char *drive = uri_of("drive");
    must("nbdcopy '%s' copy.raw && cmp copy.raw clone.raw", drive);
    must("nbdinfo --list '%s' | grep -q 'export=\"volume-1\"'", drive);
    CHECK(connect_to("volume-99") == NULL);
    CHECK_NUMBER(end_with(pid, SIGINT), 0);
    must("test ! -e s.sock");
    /* As it was read, with errors for what was not. */
    pid = serve("bench --as read");
    CHECK(pid != 0);
    guint failed = read_anywhere("drive", "read.raw", READS);
    CHECK(failed > 0 && failed < READS / 2);
    /* A client that goes away in the middle ends nothing. */
    must("! nbdcopy '%s' copy.raw 2>/dev/null && ! nbdcopy '%s' copy.raw 2>/dev/null", drive,
         drive);
    CHECK(read_anywhere("drive", "read.raw", 10) <= 10);
    CHECK_NUMBER(end_with(pid, SIGTERM), 0);
    must("cmp bench/image.raw read.raw");
}

/* The number of the volume with this label. */
static guint volume_labelled(const char *label)
{
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *volumes = json_object_get(json, "volumes");
    guint number = 0;
    for (gsize i = 0; i < json_array_size(volumes); i++) {
        json_t *volume = json_array_get(volumes, i);
        const char *own = json_string_value(json_object_get(volume, "label"));
        if (own != NULL && g_str_equal(own, label))
            number = (guint)json_u64(volume, "number");
    }
    json_decref(json);
    return number;
}

static void checkers_work_on_it(void)
{
    if (!has_server())
        return;
    must("mkdir src && for i in $(seq 40); do seq $i 3000 >\"src/log $i.csv\"; done && "
         "truncate -s 24M v.img && mke2fs -q -F -t ext4 -L sensors -d src v.img && "
         "truncate -s 1M gap && cat gap v.img gap >drive.img");
    done("new bench --adopt drive.img");
    done("hunt bench");
    done("plan bench");
    must("sha256sum bench/*.raw drive.img >sums 2>/dev/null; true");
    pid_t pid = serve("bench --scratch");
    CHECK(pid != 0);
    g_autofree char *name = g_strdup_printf("volume-%u", volume_labelled("sensors"));
    g_autofree char *uri = uri_of(name);
    must("nbdcopy '%s' part.img && cmp part.img v.img && e2fsck -fn part.img >/dev/null 2>&1", uri);
    /* What is written is there for all, and gone with the server. */
    struct nbd_handle *client = connect_to("drive");
    guint8 noise[4096];
    guint8 found[4096];
    fill_noise(noise, sizeof noise, test_seed());
    CHECK(client != NULL && nbd_pwrite(client, noise, sizeof noise, 0, 0) == 0);
    CHECK(nbd_pread(client, found, sizeof found, 0, 0) == 0);
    CHECK_BYTES(found, noise, sizeof found);
    nbd_close(client);
    CHECK_NUMBER(end_with(pid, SIGTERM), 0);
    pid = serve("bench");
    client = connect_to("drive");
    CHECK(client != NULL && nbd_is_read_only(client) == 1);
    CHECK(nbd_pread(client, found, sizeof found, 0, 0) == 0 &&
          memcmp(found, noise, sizeof found) != 0);
    nbd_close(client);
    /* Two servers of a case; one at a place is enough. */
    g_auto(Result) second = ektypon("serve bench --at ./s.sock");
    CHECK_STATUS(second, 4);
    CHECK_CONTAINS(second.err, "another server listens there");
    /* Killed, it leaves a socket at most, which the next one takes over. */
    CHECK_NUMBER(end_with(pid, SIGKILL), 1000);
    pid = serve("bench");
    CHECK(pid != 0);
    CHECK_NUMBER(end_with(pid, SIGHUP), 0);
    must("sha256sum -c --quiet sums");
}

static void what_cannot_be_served_is_told(void)
{
    must("truncate -s 4M v.img && mkfs.fat v.img >/dev/null 2>&1");
    done("new bench --adopt v.img");
    g_auto(Result) no_plan = ektypon("serve bench --at ./s.sock");
    CHECK_STATUS(no_plan, 1);
    CHECK_CONTAINS(no_plan.err, "plan");
    g_auto(Result) what = ektypon("serve bench --as new");
    CHECK_STATUS(what, 2);
    g_auto(Result) where = ektypon("serve bench --as read --at here:none");
    CHECK_STATUS(where, 2);
    g_auto(Result) far = ektypon("serve bench --as read --at /tmp/%0200d.sock", 1);
    CHECK_STATUS(far, 4);
    g_auto(Result) file = ektypon("serve bench --as read --at ./v.img");
    CHECK_STATUS(file, 4);
    CHECK_CONTAINS(file.err, "not a socket");
    g_auto(Result) none =
        shell("PATH=/nowhere %s serve bench --as read --at ./s.sock", EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(none, 1);
    CHECK_CONTAINS(none.err, "nbdkit is not installed");
}

int main(void)
{
    static const Test tests[] = {
        {"clients read the drive", clients_read_the_drive},
        {"checkers work on it", checkers_work_on_it},
        {"what cannot be served is told", what_cannot_be_served_is_told},
    };
    return RUN_TESTS("serve", tests);
}

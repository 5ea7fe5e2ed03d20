/* SPDX-License-Identifier: MIT */
/* Sources that fail for real: an NBD server that returns errors, the same server as a file under a
 * loop device, and one that hangs. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define LENGTH (4u * 1048576 + 3 * 512)

/* Byte ranges that the server does not give, as first:length. */
#define BAD_RANGES "1048576:512 2097152:5120 3146240:512"
static const guint64 bad[][2] = {{2048, 1}, {4096, 10}, {6145, 1}};

/* Starts a server for truth.img on the socket s; `trouble` is what it does in its bad ranges. */
static void serve(const char *trouble)
{
    g_autofree guint8 *data = g_malloc(LENGTH);
    fill_noise(data, LENGTH, 77);
    write_file("truth.img", data, LENGTH);
    g_autofree char *script =
        g_strdup_printf("#!/bin/sh\n"
                        "for r in " BAD_RANGES "; do\n"
                        "  first=${r%%%%:*}; length=${r##*:}\n"
                        "  if [ $4 -lt $((first + length)) ] && [ $(($4 + $3)) -gt $first ]; then\n"
                        "    %s\n"
                        "  fi\n"
                        "done\n"
                        "exec dd if=truth.img iflag=count_bytes,skip_bytes bs=65536 skip=$4 "
                        "count=$3 status=none\n",
                        trouble);
    write_file("pread.sh", script, strlen(script));
    must("chmod +x pread.sh");
    must("here=$(pwd); sed -i \"s|truth.img|$here/truth.img|\" pread.sh; nbdkit -U \"$here/s\" "
         "--pidfile \"$here/server.pid\" eval get_size='echo %u' "
         "pread=\"exec $here/pread.sh \\\"\\$@\\\"\"",
         LENGTH);
    must("for i in $(seq 100); do [ -S s ] && break; sleep 0.1; done; [ -S s ]");
}

static void stop_serving(void)
{
    must("kill $(cat server.pid); for i in $(seq 50); do kill -0 $(cat server.pid) 2>/dev/null || "
         "break; sleep 0.1; done; kill -9 $(cat server.pid) 2>/dev/null; rm -f s server.pid");
}

static void check_map(void)
{
    g_auto(Result) map = ektypon("map bench --json");
    json_t *json = result_json(&map);
    json_t *totals = json_object_get(json, "totals");
    CHECK_NUMBER(json_u64(totals, "bad"), 12);
    CHECK_NUMBER(json_u64(totals, "good"), LENGTH / 512 - 12);
    gsize index;
    gsize next = 0;
    json_t *extent;
    json_array_foreach(json_object_get(json, "extents"), index, extent)
    {
        if (!g_str_equal(json_text(extent, "state"), "bad") || next == G_N_ELEMENTS(bad))
            continue;
        CHECK_NUMBER(json_u64(extent, "first"), bad[next][0]);
        CHECK_NUMBER(json_u64(extent, "count"), bad[next][1]);
        next++;
    }
    CHECK_NUMBER(next, G_N_ELEMENTS(bad));
    json_decref(json);
    gsize length = 0;
    g_autofree guint8 *truth = read_file("truth.img", &length);
    g_autofree guint8 *image = read_file("bench/image.raw", &length);
    CHECK_NUMBER(length, LENGTH);
    for (gsize i = 0; i < G_N_ELEMENTS(bad); i++)
        memset(truth + bad[i][0] * 512, 0, bad[i][1] * 512);
    CHECK_BYTES(image, truth, LENGTH);
}

static void an_nbd_export_with_errors_is_imaged(void)
{
    serve("echo EIO bad >&2; exit 1");
    g_autofree char *folder = g_get_current_dir();
    done("new bench 'nbd+unix:///?socket=%s/s'", folder);
    done("image bench --all-rounds");
    check_map();
    g_auto(Result) status = ektypon("status bench --json");
    CHECK_CONTAINS(status.out, "\"kind\": \"nbd\"");
    stop_serving();
    g_auto(Result) gone = ektypon("new other 'nbd+unix:///?socket=%s/s'", folder);
    CHECK_STATUS(gone, 1);
    CHECK_CONTAINS(gone.err, "does not answer");
    g_auto(Result) unknown = ektypon("new other ftp://somewhere/drive");
    CHECK_STATUS(unknown, 1);
    CHECK_CONTAINS(unknown.err, "nbd://");
}

/* The server as a file through FUSE, and that under a loop device; its path, NULL where that cannot
 * be. */
static char *attach(void)
{
    if (!is_root() || access("/dev/fuse", R_OK | W_OK) != 0) {
        skip("loop devices over FUSE need root and /dev/fuse");
        return NULL;
    }
    must("mkdir mount; here=$(pwd); nbdfuse -P \"$here/fuse.pid\" mount/disk "
         "\"nbd+unix:///?socket=$here/s\" >fuse.log 2>&1 & "
         "for i in $(seq 100); do [ -e mount/disk ] && break; sleep 0.1; done; [ -e mount/disk ]");
    g_auto(Result) loop = shell("losetup -f --show --direct-io=on -r mount/disk");
    if (loop.status != 0) {
        skip("no loop device is to be had");
        must("fusermount3 -u mount/disk");
        return NULL;
    }
    return g_strdup(g_strstrip(loop.out));
}

static void detach(char *device)
{
    /* The server's file first: what still hangs ends with an error. */
    must("kill -9 $(cat fuse.pid) 2>/dev/null; blockdev --setrw %s 2>/dev/null; losetup -d %s; "
         "for i in $(seq 100); do fusermount3 -u -z mount/disk 2>/dev/null && break; sleep 0.1; "
         "done; true",
         device, device);
    g_free(device);
}

static void a_block_device_with_errors_is_imaged(void)
{
    serve("echo EIO bad >&2; exit 1");
    char *device = attach();
    if (device != NULL) {
        done("new bench %s", device);
        done("image bench --all-rounds");
        check_map();
        detach(device);
    }
    stop_serving();
}

static void a_read_that_hangs_is_called_off(void)
{
    /* A sleep of its own name, so that it can be told from others. */
    must("cp \"$(command -v sleep)\" hanging-read");
    g_autofree char *folder = g_get_current_dir();
    g_autofree char *hang = g_strdup_printf("exec %s/hanging-read 25", folder);
    serve(hang);
    char *device = attach();
    if (device == NULL) {
        stop_serving();
        return;
    }
    done("new bench %s", device);
    pid_t child = ektypon_start("image bench");
    must("for i in $(seq 100); do pgrep -x hanging-read >/dev/null && break; sleep 0.1; done");
    kill(child, SIGINT);
    /* It ends long before the read does. */
    int status = -1;
    for (int i = 0; i < 100 && waitpid(child, &status, WNOHANG) == 0; i++)
        g_usleep(100000);
    CHECK(WIFEXITED(status) && WEXITSTATUS(status) == 130);
    must("pgrep -x hanging-read >/dev/null");
    /* The case is free again, and holds what was read before. */
    g_auto(Result) map = ektypon("map bench --json");
    CHECK_CONTAINS(map.out, "\"bad\": 0}");
    CHECK_CONTAINS(map.out, "\"state\": \"good\"");
    must("pkill -x hanging-read; true");
    detach(device);
    stop_serving();
}

int main(void)
{
    static const Test tests[] = {
        {"an NBD export with errors is imaged", an_nbd_export_with_errors_is_imaged},
        {"a block device with errors is imaged", a_block_device_with_errors_is_imaged},
        {"a read that hangs is called off", a_read_that_hangs_is_called_off},
    };
    return RUN_TESTS("sources", tests);
}

/* SPDX-License-Identifier: MIT */
/* drives --signs, and what new, image, status and report make of a drive's health. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <string.h>

/* A drive of a machine of its own, and a smartctl that prints what is in the file answer. */
static void make_machine(void)
{
    must("mkdir -p bin root/proc/self root/sys/block/sdq/queue root/sys/block/sdq/device/power && "
         "cd root/sys/block/sdq && echo 65:0 >dev && echo 312581808 >size && echo 512 "
         ">queue/logical_block_size && echo 512 >queue/physical_block_size && echo 1048576 "
         ">queue/discard_max_bytes && echo 'none [mq-deadline] kyber' >queue/scheduler && echo 64 "
         ">queue/nr_requests && echo 'write back' >queue/write_cache && echo active "
         ">device/power/runtime_status && echo auto >device/power/control");
    must("printf '#!/bin/sh\\necho \"$@\" >>%%s/asked\\ncat %%s/answer\\n' \"$PWD\" \"$PWD\" "
         ">bin/smartctl && chmod +x bin/smartctl");
}

static Result signs(const char *options)
{
    return shell("PATH=\"$PWD/bin:$PATH\" EKTYPON_SYSTEM_ROOT=root %s drives --signs %s",
                 EKTYPON_PROGRAM_PATH, options);
}

static void answer(const char *text)
{
    write_file("answer", text, strlen(text));
}

static void drives_are_asked(void)
{
    make_machine();
    answer("{\"smartctl\":{\"exit_status\":0},\"smart_status\":{\"passed\":true},"
           "\"ata_smart_attributes\":{\"table\":[{\"id\":197,\"raw\":{\"value\":17}}]},"
           "\"power_on_time\":{\"hours\":41230},\"temperature\":{\"current\":38}}");
    g_auto(Result) failing = signs("");
    CHECK_STATUS(failing, 0);
    CHECK_CONTAINS(failing.out, "health: failing");
    CHECK_CONTAINS(failing.out, "17 sectors are waiting to be remapped: expect bad areas; do not "
                                "run a self-test");
    CHECK_CONTAINS(failing.out, "reported: 41230 hours powered on, 38 °C, 17 pending");
    CHECK_CONTAINS(failing.out, "queue: scheduler mq-deadline, up to 64 commands waiting, write "
                                "cache write back, power active (may be suspended");
    CHECK_CONTAINS(failing.out, "the drive supports discard (TRIM)");
    CHECK(strstr(failing.out, "fstrim") == NULL);
    /* One that sleeps is not woken, and nothing that writes or tests is asked for. */
    must("grep -q -- '--nocheck=standby' asked && ! grep -q -- '--test\\|-t \\|--smart' asked");
    must("mkdir -p root/etc/systemd/system/timers.target.wants && ln -s "
         "/lib/systemd/system/fstrim.timer root/etc/systemd/system/timers.target.wants/");
    g_auto(Result) json = signs("--json");
    json_t *root = result_json(&json);
    json_t *drive = json_array_get(json_object_get(root, "drives"), 0);
    json_t *health = json_object_get(drive, "health");
    CHECK_TEXT(json_string_value(json_object_get(health, "word")), "failing");
    CHECK_NUMBER(json_integer_value(json_object_get(health, "pending")), 17);
    CHECK(json_is_null(json_object_get(health, "media_errors")));
    json_decref(root);
    g_auto(Result) trims = signs("");
    CHECK_CONTAINS(trims.out, "fstrim.timer (stop it: systemctl stop fstrim.timer)");
    /* Without being asked for, no drive is asked. */
    must("rm asked");
    g_auto(Result) plain =
        shell("PATH=\"$PWD/bin:$PATH\" EKTYPON_SYSTEM_ROOT=root %s drives", EKTYPON_PROGRAM_PATH);
    CHECK(strstr(plain.out, "health") == NULL);
    must("! test -e asked");
}

static void answers_may_be_missing(void)
{
    make_machine();
    answer("Segmentation fault");
    g_auto(Result) broken = signs("");
    CHECK_STATUS(broken, 0);
    CHECK_CONTAINS(broken.out, "health: silent");
    CHECK_CONTAINS(broken.out, "gave no answer that can be read");
    answer("{\"smartctl\":{\"messages\":[{\"string\":\"\\u001b[31mUnknown USB bridge\"}]}}");
    g_auto(Result) bridge = signs("");
    CHECK_CONTAINS(bridge.out, "Unknown USB bridge");
    CHECK(strchr(bridge.out, '\033') == NULL);
    /* More than any drive has to say, without an end. */
    must("printf '#!/bin/sh\\nexec yes\\n' >bin/smartctl");
    g_auto(Result) endless = signs("");
    CHECK_STATUS(endless, 0);
    CHECK_CONTAINS(endless.out, "health: silent");
    must("printf '#!/bin/sh\\nexit 1\\n' >bin/smartctl");
    g_auto(Result) nothing = signs("");
    CHECK_CONTAINS(nothing.out, "health: silent");
    must("printf 'not a program' >bin/smartctl");
    g_auto(Result) no_program = signs("");
    CHECK_STATUS(no_program, 0);
    CHECK_CONTAINS(no_program.out, "health: silent");
}

#define MODEL                                                                                      \
    "[drive]\\nbacking=d.img\\nread-rate=1\\nmodel=Corvane "                                       \
    "R2\\nserial=SIM-7\\n[health]\\nfit=true\\n"                                                   \
    "temperature=41\\npending=%u\\npending-per-failure=%s\\nheats=2\\ncools=%s\\n[fault a]\\n"     \
    "kind=unreadable\\nfirst=9000\\ncount=40\\n"

static void make_drive(guint pending, const char *per_failure, const char *cools)
{
    must("head -c 64M /dev/urandom >d.img && printf '" MODEL "' >d.model", pending, per_failure,
         cools);
}

static void a_case_keeps_what_its_drive_said(void)
{
    make_drive(3, "0.5", "6");
    g_auto(Result) made = ektypon("new bench sim:d.model");
    CHECK_STATUS(made, 0);
    CHECK_CONTAINS(made.out, "Health failing: 41 °C, 3 pending");
    CHECK_CONTAINS(made.err, "new: 3 sectors are waiting to be remapped");
    g_auto(Result) imaged = ektypon("image bench --all-rounds");
    CHECK_STATUS(imaged, 0);
    /* What was said when the case was made is not said again; what is new is. */
    CHECK(strstr(imaged.err, "3 sectors are waiting") == NULL);
    CHECK_CONTAINS(imaged.err, "the drive's health got worse: sectors waiting to be remapped: 3 "
                               "before, ");
    must("sed -i 's/^pending=3/pending=900/' d.model");
    g_auto(Result) again = ektypon("image bench --again 1");
    CHECK_STATUS(again, 0);
    CHECK_CONTAINS(again.err, "drive failing: 9");
    must("sed -i 's/^pending=900/pending=3/' d.model");
    done("image bench --again 1");
    g_auto(Result) status = ektypon("status bench");
    CHECK_CONTAINS(status.out, "health failing: ");
    g_auto(Result) json = ektypon("status bench --json");
    json_t *root = result_json(&json);
    json_t *list = json_object_get(root, "health");
    size_t count = json_array_size(list);
    CHECK(count >= 3);
    gint64 first = json_integer_value(json_object_get(json_array_get(list, 0), "pending"));
    gint64 last = json_integer_value(json_object_get(json_array_get(list, count - 1), "pending"));
    CHECK_NUMBER(first, 3);
    CHECK_NUMBER(last, 3 + json_integer_value(json_object_get(root, "failed_commands")) / 2);
    json_decref(root);
    done("hunt bench");
    done("report bench");
    must("grep -q 'Health of the drive' bench/report.html && grep -q 'it got worse during "
         "imaging: sectors waiting to be remapped: 3 before' bench/report.html");
}

static void a_hot_drive_rests(void)
{
    make_drive(0, "0", "6");
    done("new bench sim:d.model");
    g_auto(Result) imaged = ektypon("image bench --all-rounds --max-temperature 42");
    CHECK_STATUS(imaged, 0);
    CHECK_CONTAINS(imaged.err, "the drive is at 43 °C, above the limit of 42: imaging pauses");
    CHECK_CONTAINS(imaged.err, "imaging resumes");
    must("cmp -n 4608000 d.img bench/image.raw");
    /* Nothing cools it: imaging ends in order, and all that was read is kept. */
    make_drive(0, "0", "0");
    done("new hot sim:d.model");
    g_auto(Result) ended = ektypon("image hot --all-rounds --max-temperature 42");
    CHECK_STATUS(ended, 3);
    CHECK_CONTAINS(ended.err, "after a pause of 120 minutes the drive is still at 43 °C");
    g_auto(Result) again = ektypon("image hot --all-rounds");
    CHECK_STATUS(again, 0);
    must("cmp -n 4608000 d.img hot/image.raw");
    g_auto(Result) wrong = ektypon("image hot --max-temperature 200");
    CHECK_STATUS(wrong, 2);
    CHECK_CONTAINS(wrong.err, "--max-temperature takes degrees Celsius from 30 to 90");
    /* A drive that reports no temperature: said, and read. */
    must("printf '[drive]\\nbacking=d.img\\n' >plain.model");
    done("new plain sim:plain.model");
    g_auto(Result) unknown = ektypon("image plain --max-temperature 50 --progress json");
    CHECK_STATUS(unknown, 0);
    CHECK_CONTAINS(unknown.err, "{\"note\":\"the drive does not report its temperature");
}

int main(void)
{
    static const Test tests[] = {
        {"drives are asked", drives_are_asked},
        {"answers may be missing", answers_may_be_missing},
        {"a case keeps what its drive said", a_case_keeps_what_its_drive_said},
        {"a hot drive rests", a_hot_drive_rests},
    };
    return RUN_TESTS("health", tests);
}

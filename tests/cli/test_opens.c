/* SPDX-License-Identifier: MIT */
/* --opens and index --check-content: what is right is never called broken, what was cut or has
 * foreign bytes in it is never called right, and what was found out is kept. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"

#include <string.h>

/* A file of every kind that is searched for, as it should be, cut in half, and, where it is long
 * enough, with foreign bytes in its middle. */
static guint make_volume(guint32 seed)
{
    guint count = 0;
    must("mkdir -p src/right src/half src/foreign");
    g_autoptr(GPtrArray) list = specimens_new(seed);
    for (guint i = 0; i < list->len; i++) {
        const Specimen *specimen = list->pdata[i];
        gsize length = specimen->length;
        if (length > (4u << 20))
            continue;
        g_autofree char *right =
            g_strdup_printf("src/right/%u-%s.%s", i, specimen->type, specimen->ending);
        g_autofree char *half =
            g_strdup_printf("src/half/%u-%s.%s", i, specimen->type, specimen->ending);
        write_file(right, specimen->data, length);
        write_file(half, specimen->data, length / 2);
        count++;
        /* In the free pages of a database a foreign block changes nothing. */
        if (length < 3 * 4096 || (g_str_equal(specimen->type, "sqlite") && !specimen->proves))
            continue;
        g_autofree char *foreign =
            g_strdup_printf("src/foreign/%u-%s.%s", i, specimen->type, specimen->ending);
        g_autofree guint8 *changed = g_memdup2(specimen->data, length);
        fill_noise(changed + length / 2 / 512 * 512, 4096, seed + i);
        write_file(foreign, changed, length);
    }
    must("truncate -s $(($(du -sm src | cut -f1) * 2 + 24))M v.img && mke2fs -q -F -t ext4 -N 9000 "
         "-d src v.img");
    done("new bench --adopt v.img");
    done("hunt bench");
    return count;
}

static guint count_lines(const char *text, const char *part)
{
    guint count = 0;
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL; line++)
        count += strstr(*line, part) != NULL;
    return count;
}

/* Types of which the content cannot be checked, or which a cut leaves right: what is there opens.
 */
static gboolean may_open_all_the_same(const char *line)
{
    static const char *const types[] = {
        "aiff", "ico", "tar", "au",   "text", "html", "xml",  "mail", "vcard", "rtf", "csv", "bmp",
        "wav",  "mp3", "aac", "mpeg", "tiff", "amr",  "midi", "svg",  "mbox",  "iso", "ole"};
    for (gsize i = 0; i < G_N_ELEMENTS(types); i++) {
        g_autofree char *part = g_strdup_printf("-%s", types[i]);
        if (strstr(line, part) != NULL)
            return TRUE;
    }
    return FALSE;
}

/* These specimens have the tables of a film or a recording, and noise in the place of frames:
 * where those are decoded, none is. */
static gboolean has_no_frames(const char *line)
{
    static const char *const types[] = {"-mp4", "-ogg", "-mpeg-ts", "-mpeg-ps",
                                        "-asf", "-flv", "-matroska"};
    gboolean is_one = FALSE;
    for (gsize i = 0; i < G_N_ELEMENTS(types); i++)
        is_one = is_one || strstr(line, types[i]) != NULL;
    return is_one && (strstr(line, "[no frame decodes]") != NULL ||
                      strstr(line, "[nothing in it can be played]") != NULL);
}

static guint count_broken(const char *text)
{
    guint count = 0;
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL; line++)
        count += strstr(*line, ":right/") != NULL && !has_no_frames(*line);
    return count;
}

static void answers_are_right(void)
{
    guint count = make_volume(test_seed());
    CHECK(count > 50);
    g_auto(Result) checked = ektypon("index bench 1 --check-content");
    CHECK_STATUS(checked, 0);
    CHECK_CONTAINS(checked.err, "find bench 1 --opens no");
    g_auto(Result) broken = ektypon("find bench 1 --opens no --path 'right/*'");
    if (count_broken(broken.out) > 0)
        printf("%s", broken.out);
    CHECK_NUMBER(count_broken(broken.out), 0);
    g_auto(Result) right = ektypon("find bench 1 --opens yes --path 'right/*'");
    CHECK(count_lines(right.out, "right/") > count / 2);
    g_auto(Result) foreign = ektypon("find bench 1 --opens yes --path 'foreign/*'");
    g_auto(Result) half = ektypon("find bench 1 --opens yes --path 'half/*'");
    g_autofree char *all = g_strconcat(foreign.out, half.out, NULL);
    g_auto(GStrv) lines = g_strsplit(all, "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        gboolean is_file = strstr(*line, ":foreign/") != NULL || strstr(*line, ":half/") != NULL;
        if (is_file && !may_open_all_the_same(*line))
            CHECK_TEXT(*line, "not called right");
    }
    /* Each is one of the three. */
    g_auto(Result) any = ektypon("find bench 1 --opens yes,no,unknown --count");
    g_auto(Result) files = ektypon("index bench 1 --check-content --json");
    json_t *root = result_json(&files);
    json_t *opens = json_object_get(root, "opens");
    gint64 sum = json_integer_value(json_object_get(opens, "yes")) +
                 json_integer_value(json_object_get(opens, "no")) +
                 json_integer_value(json_object_get(opens, "unknown"));
    CHECK_NUMBER(sum, json_integer_value(json_object_get(root, "files")));
    g_autofree char *told = g_strdup_printf("%" G_GINT64_FORMAT, sum);
    CHECK_CONTAINS(any.out, told);
    json_decref(root);
}

static void answers_are_kept(void)
{
    must("mkdir src && seq 2000 >src/table.csv && seq 90000 | gzip | head -c 3000 >src/x.gz && "
         "truncate -s 16M v.img && mke2fs -q -F -t ext4 -d src v.img");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) first = ektypon("find bench 1 --opens no --numbers");
    CHECK_STATUS(first, 0);
    CHECK_NUMBER(count_lines(first.out, "1:@"), 1);
    /* The list says why, in text and in JSON. */
    g_auto(Result) listed = ektypon("find bench 1 --opens no");
    CHECK_CONTAINS(listed.out, "1:x.gz  [");
    g_auto(Result) json = ektypon("find bench 1 --opens yes,no --json");
    json_t *root = result_json(&json);
    json_t *files = json_object_get(root, "files");
    CHECK_NUMBER(json_array_size(files), 2);
    for (size_t i = 0; i < json_array_size(files); i++) {
        json_t *file = json_array_get(files, i);
        gboolean is_cut = g_str_equal(json_string_value(json_object_get(file, "path")), "x.gz");
        CHECK_TEXT(json_string_value(json_object_get(file, "opens")), is_cut ? "no" : "yes");
        CHECK(json_string_length(json_object_get(file, "opens_why")) > 0);
    }
    json_decref(root);
    /* Without the helper: the answers are there. */
    must("mkdir alone && cp %s alone/", EKTYPON_PROGRAM_PATH);
    g_auto(Result) again = shell("alone/ektypon find bench 1 --opens no --numbers");
    CHECK_STATUS(again, 0);
    CHECK_TEXT(again.out, first.out);
    /* A store that is broken, or of another version, is made again. */
    must("printf junk >bench/opens-1.db && rm -f bench/opens-1.db-*");
    g_auto(Result) junk = ektypon("find bench 1 --opens no --numbers");
    CHECK_STATUS(junk, 0);
    CHECK_TEXT(junk.out, first.out);
    g_auto(Result) mended = shell("alone/ektypon find bench 1 --opens no --numbers");
    CHECK_TEXT(mended.out, first.out);
    must("rm bench/opens-1.db && ln -s /etc/passwd bench/opens-1.db");
    g_auto(Result) linked = ektypon("find bench 1 --opens no --numbers");
    CHECK_STATUS(linked, 0);
    CHECK_TEXT(linked.out, first.out);
    must("rm bench/opens-1.db");
    g_auto(Result) none = shell("alone/ektypon find bench 1 --opens no");
    CHECK_STATUS(none, 1);
    CHECK_CONTAINS(none.err, "cannot start the preview helper");
    /* extract takes the same. */
    done("extract bench 1 --opens yes --to out");
    must("test \"$(find out -type f ! -name extracted.csv | wc -l)\" = 1 && cmp src/table.csv "
         "out/*/table.csv");
    g_auto(Result) wrong = ektypon("find bench 1 --opens maybe");
    CHECK_STATUS(wrong, 2);
    CHECK_CONTAINS(wrong.err, "--opens takes yes, no or unknown");
}

int main(void)
{
    static const Test tests[] = {
        {"answers are right", answers_are_right},
        {"answers are kept", answers_are_kept},
    };
    return RUN_TESTS("opens", tests);
}

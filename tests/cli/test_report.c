/* SPDX-License-Identifier: MIT */
/* report, note: what is told agrees with what find tells, and no name of the drive or of this
 * machine gets through as anything but text. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"
#include "zipped.h"

#include <string.h>

static void make_hostile_case(void)
{
    must("mkdir -p src/logs 'src/<b>bold<b>' && printf sown >'src/<script>alert(1)<' && "
         "printf sown >'src/=1+2.csv' && printf sown >'src/a \"quoted\" & named.csv' && "
         "printf sown >\"src/bell$(printf '\\007').txt\" && for i in $(seq 30); do seq $i 900 "
         ">src/logs/day-$i.csv; done && seq 9 >'src/<b>bold<b>/x.csv'");
    must("truncate -s 24M v.img && mke2fs -q -F -t ext4 -L '<i>&label' -d src v.img && "
         "truncate -s 1M gap && cat gap v.img gap >drive.img");
    done("new bench --adopt drive.img");
    done("hunt bench");
}

static char *text_of(const char *path)
{
    gsize length = 0;
    guint8 *bytes = read_file(path, &length);
    char *text = g_strndup((const char *)bytes, length);
    g_free(bytes);
    return text;
}

static void check_absent(const char *text, const char *part)
{
    if (strstr(text, part) != NULL)
        CHECK_TEXT(part, "absent");
}

static void names_stay_text(void)
{
    make_hostile_case();
    done("plan bench");
    done("note bench --client '<h1>Fen</h1>' --reference 'R&D \"7\"'");
    g_autofree char *here = g_get_current_dir();
    for (guint i = 0; i < 3; i++) {
        static const char *const depths[] = {"client", "bench", "record"};
        done("report bench --for %s --to page.html --pdf page.pdf --files list.csv", depths[i]);
        must("pdfinfo page.pdf | grep -q '^Page size: *595' && pdftotext -layout page.pdf - | "
             "grep -qF 'Recovery report: R&D \"7\"'");
        g_autofree char *page = text_of("page.html");
        check_absent(page, "<script");
        check_absent(page, "<h1>Fen");
        check_absent(page, "<i>&label");
        check_absent(page, "<b>bold");
        check_absent(page, "\a");
        check_absent(page, here);
        CHECK_CONTAINS(page, "&lt;h1&gt;Fen&lt;/h1&gt;");
        CHECK_CONTAINS(page, "R&amp;D ");
        CHECK_CONTAINS(page, "&lt;i&gt;&amp;label");
        must("test -z \"$(tidy -q -e page.html 2>&1)\"");
        must("! grep -Eiq '<(script|link|iframe)|https?:|url\\(' page.html");
    }
    g_autofree char *list = text_of("list.csv");
    CHECK_CONTAINS(list, "\"'=1+2.csv\",");
    CHECK_CONTAINS(list, "\"a \"\"quoted\"\" & named.csv\",");
    CHECK_CONTAINS(list, "\"bell\\x07.txt\",");
    /* Nothing of it is a page of its own without being asked. */
    done("report bench");
    must("test -s bench/report.html && test -z \"$(ls list.csv.?* 2>/dev/null)\"");
}

/* Which files find lists under a condition. */
static guint64 found_files(const char *filters)
{
    g_auto(Result) found = ektypon("find bench %s --json", filters);
    json_t *json = result_json(&found);
    guint64 files = json_u64(json_object_get(json, "totals"), "files");
    json_decref(json);
    return files;
}

static void figures_are_those_of_find(void)
{
    hunt_demo();
    done("plan bench");
    g_auto(Result) result = ektypon("report bench --json --files list.csv");
    CHECK_STATUS(result, 0);
    json_t *json = result_json(&result);
    json_t *present = json_object_get(json, "present");
    guint64 all = found_files("--not-deleted");
    guint64 whole = found_files("--not-deleted --condition whole");
    CHECK(all > 100 && whole < all);
    CHECK_NUMBER(json_u64(present, "files"), all);
    CHECK_NUMBER(json_u64(present, "whole"), whole);
    CHECK_NUMBER(json_u64(json, "incomplete_total"), all - whole);
    CHECK_NUMBER(json_array_size(json_object_get(json, "incomplete")), all - whole);
    /* By volume, by kind and by folder it comes to the same. */
    guint64 kinds = 0;
    guint64 folders = 0;
    json_t *volumes = json_object_get(json, "volumes");
    for (gsize i = 0; i < json_array_size(volumes); i++) {
        json_t *volume = json_array_get(volumes, i);
        const char *name = NULL;
        json_t *count = NULL;
        json_object_foreach(json_object_get(volume, "kinds"), name, count) kinds +=
            json_u64(count, "files");
        for (gsize k = 0; k < json_array_size(json_object_get(volume, "folders")); k++)
            folders += json_u64(json_array_get(json_object_get(volume, "folders"), k), "files");
    }
    CHECK_NUMBER(kinds, all);
    CHECK_NUMBER(folders, all);
    g_autofree char *answer = g_strdup_printf(
        "%" G_GUINT64_FORMAT " of %" G_GUINT64_FORMAT " files are complete", whole, all);
    CHECK_CONTAINS(json_text(json, "answer"), answer);
    json_decref(json);
    g_auto(Result) lines = shell("grep -c ',no,whole,' list.csv");
    CHECK_NUMBER(g_ascii_strtoull(lines.out, NULL, 10), whole);
    /* The page names each of them, and the client's is the shortest. */
    done("report bench --to bench.html");
    done("report bench --for client --to client.html");
    done("report bench --for record --to record.html");
    g_autofree char *page = text_of("client.html");
    CHECK_CONTAINS(page, answer);
    /* In PDF it says the same. */
    done("report bench --for client --to client.html --pdf client.pdf");
    must("pdftotext -layout client.pdf - | grep -qF '%s'", answer);
    must("pdftotext -layout client.pdf - | grep -c 'could not be read:' | grep -qx "
         "%" G_GUINT64_FORMAT,
         all - whole);
    must("test $(grep -c 'aria-label' client.html) = %" G_GUINT64_FORMAT, all - whole);
    must("for page in client bench record; do grep -o 'data:image/png' $page.html | wc -l; done | "
         "uniq | wc -l | grep -qx 1");
    must("test $(wc -c <client.html) -lt $(wc -c <bench.html) && "
         "test $(wc -c <bench.html) -lt $(wc -c <record.html)");
    check_absent(page, "<h2>Steps");
}

static void notes_are_kept(void)
{
    must("truncate -s 4M v.img && mkfs.fat v.img >/dev/null 2>&1");
    done("new bench --adopt v.img");
    g_auto(Result) empty = ektypon("note bench");
    CHECK_CONTAINS(empty.out, "Client     -");
    done("note bench --client 'Harrow Fen Seed Library'");
    done("note bench --note 'two drives came together'");
    g_auto(Result) both = ektypon("note bench --json");
    json_t *json = result_json(&both);
    CHECK_TEXT(json_text(json, "client"), "Harrow Fen Seed Library");
    CHECK_TEXT(json_text(json, "note"), "two drives came together");
    CHECK(json_is_null(json_object_get(json, "reference")));
    json_decref(json);
    done("note bench --note ''");
    g_auto(Result) less = ektypon("note bench");
    CHECK_CONTAINS(less.out, "Note       -");
    /* A case that nothing was hunted in has a report too. */
    done("report bench --to early.html");
    g_autofree char *page = text_of("early.html");
    CHECK_CONTAINS(page, "No volume with files is known yet.");
    must("test -z \"$(tidy -q -e early.html 2>&1)\"");
}

static void nothing_is_overwritten_that_must_not_be(void)
{
    make_hostile_case();
    must("sha256sum drive.img >sums");
    g_auto(Result) image = ektypon("report bench --to drive.img");
    CHECK_STATUS(image, 4);
    g_auto(Result) list = ektypon("report bench --to page.html --files drive.img");
    CHECK_STATUS(list, 4);
    g_auto(Result) store = ektypon("report bench --to bench/case.db");
    CHECK_STATUS(store, 4);
    g_auto(Result) pdf = ektypon("report bench --to page.html --pdf drive.img");
    CHECK_STATUS(pdf, 4);
    g_auto(Result) nowhere = ektypon("report bench --to none/page.html");
    CHECK_STATUS(nowhere, 1);
    g_auto(Result) deep = ektypon("report bench --for boss");
    CHECK_STATUS(deep, 2);
    must("sha256sum -c --quiet sums && test ! -e page.html");
}

/* A picture of one colour, 24 bits a pixel. */
static GByteArray *bitmap(guint wide, guint high, guint8 red, guint8 green, guint8 blue)
{
    GByteArray *bytes = g_byte_array_new();
    guint line = (3 * wide + 3) / 4 * 4;
    guint8 header[54] = {'B', 'M', [10] = 54, [14] = 40, [26] = 1, [28] = 24};
    guint64 fields[][2] = {{2, 54 + line * high}, {18, wide}, {22, high}, {34, line * high}};
    for (gsize i = 0; i < G_N_ELEMENTS(fields); i++)
        for (guint k = 0; k < 4; k++)
            header[fields[i][0] + k] = (guint8)(fields[i][1] >> (8 * k));
    g_byte_array_append(bytes, header, sizeof header);
    g_byte_array_set_size(bytes, 54 + line * high);
    memset(bytes->data + 54, 0, line * high);
    for (guint y = 0; y < high; y++)
        for (guint x = 0; x < wide; x++) {
            guint8 *pixel = bytes->data + 54 + y * line + 3 * x;
            pixel[0] = blue;
            pixel[1] = green;
            pixel[2] = red;
        }
    return bytes;
}

static void put_bitmap(const char *path, guint wide, guint high, guint8 red)
{
    g_autoptr(GByteArray) bytes = bitmap(wide, high, red, 30, 200);
    write_file(path, bytes->data, bytes->len);
}

/* An office file with a picture of its first page in it. */
static void put_office(const char *path)
{
    g_autoptr(GByteArray) page = bitmap(90, 120, 250, 250, 250);
    static const char type[] = "application/vnd.oasis.opendocument.text";
    const Zipped entries[] = {{"mimetype", type, sizeof type - 1},
                              {"content.xml", "<a/>", 4},
                              {"Thumbnails/thumbnail.png", page->data, page->len}};
    put_zip(path, entries, G_N_ELEMENTS(entries));
}

/* A PDF that is a scan; and one with nothing but beginnings of pictures. */
static void put_papers(const char *scan, const char *hostile)
{
    g_autoptr(GPtrArray) list = specimens_new(test_seed());
    g_autoptr(GString) pdf = g_string_new("%PDF-1.4\n1 0 obj<</Filter/DCTDecode>>stream\n");
    for (guint i = 0; i < list->len; i++) {
        const Specimen *specimen = list->pdata[i];
        if (g_str_equal(specimen->type, "jpeg")) {
            g_string_append_len(pdf, (const char *)specimen->data, (gssize)specimen->length);
            break;
        }
    }
    g_string_append(pdf, "\nendstream endobj\n%%EOF\n");
    write_file(scan, pdf->str, pdf->len);
    g_string_assign(pdf, "%PDF-1.4\n");
    for (guint i = 0; i < 200000; i++)
        g_string_append_len(pdf, "\xff\xd8\xff\xe0", 4);
    write_file(hostile, pdf->str, pdf->len);
}

static guint count_of(const char *text, const char *part)
{
    guint count = 0;
    for (const char *p = strstr(text, part); p != NULL; p = strstr(p + 1, part))
        count++;
    return count;
}

static void small_pictures_are_shown(void)
{
    must("mkdir -p src/Windows 'src/Pictures/2025' src/papers");
    put_bitmap("src/Windows/logo.bmp", 300, 200, 10);
    put_bitmap("src/Pictures/2025/<b>tray.bmp", 400, 100, 20);
    put_bitmap("src/Pictures/2025/upright.bmp", 100, 400, 20);
    put_bitmap("src/papers/drawn.bmp", 40, 30, 20);
    put_office("src/papers/letter.odt");
    put_papers("src/papers/scan.pdf", "src/papers/many.pdf");
    must("head -c 60000 /dev/urandom >src/Pictures/noise.jpg && head -c 9000 "
         "src/Windows/logo.bmp >src/Pictures/cut.bmp && truncate -s 24M v.img && mke2fs -q -F -t "
         "ext4 -d src v.img");
    done("new bench --adopt v.img");
    done("hunt bench");
    done("report bench --to page.html --pdf page.pdf");
    g_autofree char *page = text_of("page.html");
    must("test -z \"$(tidy -q -e page.html 2>&1)\"");
    CHECK_CONTAINS(page, "A look at some of the files");
    /* What does not decode at all is not shown; what is damaged is, and says so. */
    CHECK_NUMBER(count_of(page, "<figure>"), 7);
    CHECK_CONTAINS(page, "1: papers/scan.pdf");
    CHECK_NUMBER(count_of(page, "<b>damaged</b>"), 1);
    check_absent(page, "<b>tray");
    CHECK_CONTAINS(page, "1: Pictures/2025/&lt;b&gt;tray.bmp");
    CHECK_CONTAINS(page, "width=\"200\" height=\"50\"");
    CHECK_CONTAINS(page, "width=\"37\" height=\"150\"");
    CHECK_CONTAINS(page, "width=\"40\" height=\"30\""); /* none is made larger */
    CHECK_CONTAINS(page, "width=\"90\" height=\"120\"");
    /* People's own folders come first, a system's last. */
    CHECK(strstr(page, "Pictures/2025") < strstr(page, "papers/letter.odt"));
    CHECK(strstr(page, "papers/letter.odt") < strstr(page, "Windows/logo.bmp"));
    /* Their colours are those of the files. */
    must("grep -o 'height=\"50\" src=\"data:image/png;base64,[^\"]*' page.html | sed "
         "'s/.*base64,//' | base64 -d >one.png && file one.png | grep -q '200 x 50, 8-bit/color "
         "RGB'");
    must("pdfimages -list page.pdf | grep -c image | grep -qx 7");
    done("report bench --to few.html --contact-sheet 2");
    g_autofree char *few = text_of("few.html");
    CHECK_NUMBER(count_of(few, "<figure>"), 2);
    done("report bench --to none.html --contact-sheet 0");
    g_autofree char *none = text_of("none.html");
    check_absent(none, "A look at some");
    g_auto(Result) wrong = ektypon("report bench --contact-sheet -1");
    CHECK_STATUS(wrong, 2);
    /* Without the helper beside it: said, and all else is there. */
    must("mkdir alone && cp %s alone/", EKTYPON_PROGRAM_PATH);
    g_auto(Result) alone = shell("alone/ektypon report bench --to alone.html");
    CHECK_STATUS(alone, 0);
    CHECK_CONTAINS(alone.err, "report: no small pictures: cannot start the preview helper");
    must("grep -q 'Recoverable files' alone.html");
}

int main(void)
{
    static const Test tests[] = {
        {"names stay text", names_stay_text},
        {"figures are those of find", figures_are_those_of_find},
        {"notes are kept", notes_are_kept},
        {"small pictures are shown", small_pictures_are_shown},
        {"nothing is overwritten that must not be", nothing_is_overwritten_that_must_not_be},
    };
    return RUN_TESTS("report", tests);
}

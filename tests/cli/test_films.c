/* SPDX-License-Identifier: MIT */
/* Films, recordings and pages, as the helper decodes them. They are made by the system's encoder;
 * what is wrong with the broken ones is known. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include "files/peekwire.h"

#include <string.h>

/* How each is encoded: name, options. */
static const char *const recipes[][2] = {
    {"tray.mp4", "-c:v libx264 -pix_fmt yuv420p -bf 2 -c:a aac"},
    {"tray.mov", "-c:v mpeg4 -c:a alac"},
    {"tray.mkv", "-c:v libx264 -pix_fmt yuv420p -c:a flac"},
    {"tray.webm", "-c:v libvpx -b:v 400k -c:a libopus"},
    {"tray.avi", "-c:v mpeg4 -c:a libmp3lame"},
    {"tray.mpg", "-c:v mpeg2video -c:a mp2"},
    {"tray.ts", "-c:v libx264 -pix_fmt yuv420p -c:a aac"},
    {"tray.m2ts", "-c:v libx264 -pix_fmt yuv420p -c:a ac3"},
    {"tray.wmv", "-c:v wmv2 -c:a wmav2"},
    {"tray.flv", "-c:v flv1 -c:a libmp3lame"},
    {"call.mp3", "-vn -c:a libmp3lame"},
    {"call.flac", "-vn -c:a flac"},
    {"call.m4a", "-vn -c:a aac"},
    {"call.ogg", "-vn -c:a libvorbis"},
    {"call.opus", "-vn -c:a libopus"},
    {"call.aac", "-vn -c:a aac -f adts"},
};

/* FALSE: this build of the helper decodes none, or nothing here makes them. */
static gboolean can_decode(void)
{
    g_autofree char *folder = g_path_get_dirname(EKTYPON_PROGRAM_PATH);
    g_auto(Result) result =
        shell("command -v ffmpeg >/dev/null && ldd %s/ektypon-peek | grep -q libavformat", folder);
    if (result.status != 0)
        skip("no films are decoded here");
    return result.status == 0;
}

static void encode(const char *name, const char *options)
{
    must("ffmpeg -v error -y -f lavfi -i testsrc2=size=320x240:rate=12 -f lavfi -i "
         "sine=frequency=700:sample_rate=48000 -t 4 %s src/right/%s >maker.log 2>&1",
         options, name);
}

static void open_case(const char *size)
{
    must("rm -rf bench v.img; truncate -s %s v.img && mke2fs -q -F -t ext4 -d src v.img", size);
    done("new bench --adopt v.img");
    done("hunt bench");
}

/* Of each one with foreign bytes, one with none, and one that ends early. */
static void break_all(guint32 seed)
{
    for (gsize i = 0; i < G_N_ELEMENTS(recipes); i++) {
        const char *name = recipes[i][0];
        g_autofree char *from = g_strdup_printf("src/right/%s", name);
        gsize length = 0;
        g_autofree guint8 *data = read_file(from, &length);
        g_autofree guint8 *changed = g_memdup2(data, length);
        gsize at = (length / 2 + seed % (length / 4)) / 512 * 512;
        gsize part = MIN(length / 8, 6000);
        fill_noise(changed + at, part, seed + (guint32)i);
        g_autofree char *noise = g_strdup_printf("src/noise/%s", name);
        g_autofree char *zeros = g_strdup_printf("src/zeros/%s", name);
        g_autofree char *half = g_strdup_printf("src/half/%s", name);
        write_file(noise, changed, length);
        memset(changed + at, 0, part);
        write_file(zeros, changed, length);
        write_file(half, data, length / 2);
    }
}

/* Flash and Windows films have nothing over their frames: of a few bytes wrong not all is seen. */
static gboolean may_pass(const char *line)
{
    return strstr(line, ".wmv") != NULL || strstr(line, ".flv") != NULL;
}

static void films_that_play_open_and_others_do_not(void)
{
    guint32 seed = test_seed();
    if (!can_decode())
        return;
    must("rm -rf src; mkdir -p src/right src/noise src/zeros src/half");
    for (gsize i = 0; i < G_N_ELEMENTS(recipes); i++)
        encode(recipes[i][0], recipes[i][1]);
    break_all(seed);
    open_case("200M");
    g_auto(Result) right = ektypon("find bench 1 --opens yes --path 'right/*' --count --json");
    json_t *json = result_json(&right);
    CHECK_NUMBER(json_u64(json_object_get(json, "totals"), "files"), G_N_ELEMENTS(recipes));
    json_decref(json);
    g_auto(Result) opening = ektypon("find bench 1 --opens yes");
    g_auto(GStrv) lines = g_strsplit(opening.out, "\n", -1);
    for (char **line = lines; *line != NULL; line++)
        if (strchr(*line, '@') != NULL && strstr(*line, ":right/") == NULL && !may_pass(*line))
            CHECK_TEXT(*line, "not called right");
    g_auto(Result) broken = ektypon("find bench 1 --opens no");
    CHECK_CONTAINS(broken.out, ":half/tray.mp4  [");
    CHECK_CONTAINS(broken.out, ":noise/tray.mkv  [");
}

/* A decoder makes up for a block that was not read, and says nothing: its zeros tell. */
static void wiped_frames_do_not_open(void)
{
    static const char *const made[][2] = {
        {"wide.mp4", "-vf noise=alls=20:allf=t -c:v libx264 -b:v 2M -pix_fmt yuv420p -c:a aac"},
        {"wide.mkv", "-vf noise=alls=20:allf=t -c:v libvpx-vp9 -b:v 2M -c:a libopus"},
        {"wide.avi", "-vf noise=alls=20:allf=t -c:v mjpeg -pix_fmt yuvj420p -c:a libmp3lame"},
    };
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    if (!can_decode())
        return;
    must("rm -rf src; mkdir -p src/right src/zeros");
    for (gsize i = 0; i < G_N_ELEMENTS(made); i++) {
        encode(made[i][0], made[i][1]);
        g_autofree char *from = g_strdup_printf("src/right/%s", made[i][0]);
        gsize length = 0;
        g_autofree guint8 *data = read_file(from, &length);
        for (guint k = 0; k < (is_sanitized() ? 2u : 4u); k++) {
            gsize blocks = length / 4096;
            gsize at = 4096 * (gsize)g_rand_int_range(random, (gint32)blocks / 5,
                                                      (gint32)(blocks * 4 / 5));
            g_autofree guint8 *changed = g_memdup2(data, length);
            memset(changed + at, 0, 4096);
            g_autofree char *path = g_strdup_printf("src/zeros/%u-%s", k, made[i][0]);
            write_file(path, changed, length);
        }
    }
    open_case("100M");
    g_auto(Result) opening = ektypon("find bench 1 --opens yes --count --json");
    json_t *json = result_json(&opening);
    CHECK_NUMBER(json_u64(json_object_get(json, "totals"), "files"), G_N_ELEMENTS(made));
    json_decref(json);
    g_auto(Result) wiped = ektypon("find bench 1 --opens no --path 'zeros/*'");
    CHECK_CONTAINS(wiped.out, "-wide.avi  [");
    CHECK_CONTAINS(wiped.out, "-wide.mp4  [");
}

/* What the helper shows of a file in so many pixels: NULL: no pixels. The caller frees. */
static guint8 *pixels_of(const char *path, guint most, guint *wide, guint *high)
{
    gsize length = 0;
    g_autofree guint8 *data = read_file(path, &length);
    g_autofree char *folder = g_path_get_dirname(EKTYPON_PROGRAM_PATH);
    EkPeekRequest request = {EK_PEEK_MAGIC, (guint32)length, length, 0, 0};
    g_autoptr(GByteArray) sent = g_byte_array_new();
    g_byte_array_append(sent, (const guint8 *)&request, sizeof request);
    g_byte_array_append(sent, data, (guint)length);
    write_file("sent.bin", sent->data, sent->len);
    must("%s/ektypon-peek %u %u 16777216 pixels look <sent.bin | cat >answer.bin", folder, most,
         most);
    g_autofree char *answer = (char *)read_file("answer.bin", &length);
    g_autoptr(GKeyFile) keys = g_key_file_new();
    if (length < 4 || !g_key_file_load_from_data(keys, answer + 4, length - 4, 0, NULL))
        return NULL;
    g_autofree char *shown = g_key_file_get_string(keys, EK_PEEK_GROUP, EK_PEEK_SHOWN, NULL);
    char *end = shown;
    *wide = shown != NULL ? (guint)g_ascii_strtoull(shown, &end, 10) : 0;
    *high = shown != NULL ? (guint)g_ascii_strtoull(end, &end, 10) : 0;
    guint8 *pixels = *wide > 0 ? g_base64_decode(end + 1, &length) : NULL;
    CHECK(pixels == NULL || length == (gsize)*wide * *high * EK_PEEK_PIXEL_BYTES);
    return pixels;
}

static guint count_dark(const guint8 *pixels, guint wide, guint high)
{
    guint dark = 0;
    for (gsize i = 0; pixels != NULL && i < (gsize)wide * high; i++)
        dark += pixels[3 * i] < 128 && pixels[3 * i + 1] < 128 && pixels[3 * i + 2] < 128;
    return dark;
}

static void the_first_frame_that_shows_something_is_shown(void)
{
    if (!can_decode())
        return;
    /* Black for two seconds, then half red, half blue, in a film that was held on its side. */
    must("rm -rf src; mkdir -p src/right; ffmpeg -v error -y -f lavfi -i "
         "color=black:size=320x160:rate=10:d=2 -f lavfi -i color=red:size=160x160:rate=10:d=2 "
         "-f lavfi -i color=blue:size=160x160:rate=10:d=2 -filter_complex "
         "'[1][2]hstack[c];[0][c]concat' -pix_fmt yuv420p -c:v libx264 black.mp4 && "
         "ffmpeg -v error -y -i black.mp4 -c copy -metadata:s:v rotate=90 turned.mp4");
    guint wide = 0;
    guint high = 0;
    g_autofree guint8 *level = pixels_of("black.mp4", 64, &wide, &high);
    CHECK_NUMBER(wide, 64);
    CHECK_NUMBER(high, 32);
    const guint8 *left = level + 3 * (16 * 64 + 16);
    const guint8 *right = level + 3 * (16 * 64 + 48);
    CHECK(left[0] > 200 && left[2] < 60);
    CHECK(right[2] > 200 && right[0] < 60);
    g_autofree guint8 *upright = pixels_of("turned.mp4", 64, &wide, &high);
    CHECK_NUMBER(wide, 32);
    CHECK_NUMBER(high, 64);
    const guint8 *upper = upright + 3 * (16 * 32 + 16);
    const guint8 *lower = upright + 3 * (48 * 32 + 16);
    CHECK((upper[0] > 200) != (lower[0] > 200));
    CHECK((upper[2] > 200) != (lower[2] > 200));
}

/* Where its frames are, a film may say at its end: of a long one both ends are sent. */
static void a_long_film_shows_a_frame(void)
{
    if (!can_decode())
        return;
    must("rm -rf src; mkdir -p src/right");
    encode("long.mp4", recipes[0][1]);
    gsize length = 0;
    g_autofree guint8 *data = read_file("src/right/long.mp4", &length);
    const guint8 *tables = NULL;
    for (gsize i = 4; i + 4 < length; i++)
        if (memcmp(data + i, "moov", 4) == 0)
            tables = data + i - 4;
    CHECK(tables != NULL);
    if (tables == NULL)
        return;
    gsize before = (gsize)(tables - data);
    /* A box of free space (ISO/IEC 14496-12, 8.1.2) before them. */
    guint32 gap = GUINT32_TO_BE(300u << 20);
    write_file("src/right/long.mp4", data, before);
    write_file("gap", &gap, sizeof gap);
    write_file("tables", tables, length - before);
    must(
        "cd src/right && { cat ../../gap; printf free; } >>long.mp4 && truncate -s %zu long.mp4 && "
        "cat ../../tables >>long.mp4",
        before + (300u << 20));
    open_case("400M");
    g_auto(Result) peek = ektypon("peek bench 1:right/long.mp4 --plain --json");
    json_t *json = result_json(&peek);
    CHECK_TEXT(json_text(json_object_get(json, "content"), "look"), "picture");
    json_decref(json);
}

/* A page without a font of its own: its words are drawn with one of the system. */
#define PAGE                                                                                       \
    "%%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n"                                      \
    "2 0 obj<</Type/Pages/Kids[3 0 R]/Count 1>>endobj\n"                                           \
    "3 0 obj<</Type/Page/Parent 2 0 R/MediaBox[0 0 200 200]/Contents 4 0 R"                        \
    "/Resources<</Font<</F 5 0 R>>>>>>endobj\n"                                                    \
    "4 0 obj<</Length %zu>>stream\n%s\nendstream endobj\n"                                         \
    "5 0 obj<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>endobj\n"                               \
    "trailer<</Root 1 0 R/Size 6>>\n%%%%EOF\n"

static void write_page(const char *path, const char *drawn)
{
    g_autofree char *page = g_strdup_printf(PAGE, strlen(drawn), drawn);
    write_file(path, page, strlen(page));
}

static gboolean can_draw_pages(void)
{
    g_autofree char *folder = g_path_get_dirname(EKTYPON_PROGRAM_PATH);
    g_auto(Result) result = shell("ldd %s/ektypon-peek | grep -q libpoppler", folder);
    if (result.status != 0)
        skip("no pages are drawn here");
    return result.status == 0;
}

static void pages_are_shown(void)
{
    if (!can_draw_pages())
        return;
    must("rm -rf src; mkdir -p src/right");
    write_page("src/right/list.pdf", "BT /F 14 Tf 9 150 Td (Harrow Fen Seed Library) Tj ET");
    write_page("src/right/mark.pdf", "0 0 100 200 re f");
    guint wide = 0;
    guint high = 0;
    g_autofree guint8 *mark = pixels_of("src/right/mark.pdf", 40, &wide, &high);
    CHECK_NUMBER(wide, 40);
    CHECK_NUMBER(count_dark(mark, wide, high), 800);
    /* Fonts are read where the kernel keeps the helper from all other files. */
    g_auto(Result) kept =
        shell("fc-list | grep -q . && grep -qw landlock /sys/kernel/security/lsm");
    g_autofree guint8 *list = pixels_of("src/right/list.pdf", 200, &wide, &high);
    CHECK(list != NULL);
    CHECK(kept.status != 0 || count_dark(list, wide, high) > 100);
    open_case("24M");
    g_auto(Result) words = ektypon("peek bench 1:right/list.pdf --plain");
    CHECK_CONTAINS(words.out, "Harrow Fen Seed Library");
    g_auto(Result) drawn = ektypon("peek bench 1:right/mark.pdf --plain --json");
    json_t *json = result_json(&drawn);
    CHECK_TEXT(json_text(json_object_get(json, "content"), "look"), "picture");
    json_decref(json);
}

/* What is no film and no page, but begins like one, is told as that, and quickly. */
static void hostile_content_is_no_matter(void)
{
    guint32 seed = test_seed();
    if (!can_decode())
        return;
    must("rm -rf src; mkdir -p src/right src/noise src/zeros src/half");
    for (gsize i = 0; i < G_N_ELEMENTS(recipes); i++) {
        encode(recipes[i][0], recipes[i][1]);
        g_autofree char *path = g_strdup_printf("src/right/%s", recipes[i][0]);
        gsize length = 0;
        g_autofree guint8 *data = read_file(path, &length);
        for (guint k = 0; k < (is_sanitized() ? 2u : 6u); k++) {
            g_autofree guint8 *changed = g_memdup2(data, length);
            /* The tables at both ends are what decoders trust. */
            for (guint n = 0; n < 40; n++) {
                guint32 at = seed = seed * 1664525u + 1013904223u;
                gsize reach = MIN(length, 6000);
                gsize place = k % 2 == 0 ? (at >> 8) % reach : length - 1 - (at >> 8) % reach;
                changed[place] = (guint8)(seed >> 13);
            }
            g_autofree char *broken = g_strdup_printf("src/noise/%u-%s", k, recipes[i][0]);
            write_file(broken, changed, length);
        }
    }
    write_page("src/noise/endless.pdf", "q 1 0 0 1 0 0 cm /F Do /F 900000 Tf BT (x) Tj");
    open_case("200M");
    /* Each is judged, whatever becomes of the helper on the way. */
    g_auto(Result) judged = ektypon("index bench 1 --check-content --json");
    CHECK_STATUS(judged, 0);
    json_t *json = result_json(&judged);
    json_t *opens = json_object_get(json, "opens");
    guint64 sum = json_u64(opens, "yes") + json_u64(opens, "no") + json_u64(opens, "unknown");
    CHECK_NUMBER(sum, json_u64(json, "files"));
    CHECK(json_u64(opens, "yes") >= G_N_ELEMENTS(recipes));
    json_decref(json);
}

int main(void)
{
    static const Test tests[] = {
        {"films that play open, and others do not", films_that_play_open_and_others_do_not},
        {"wiped frames do not open", wiped_frames_do_not_open},
        {"the first frame that shows something is shown",
         the_first_frame_that_shows_something_is_shown},
        {"a long film shows a frame", a_long_film_shows_a_frame},
        {"pages are shown", pages_are_shown},
        {"hostile content is no matter", hostile_content_is_no_matter},
    };
    return RUN_TESTS("films", tests);
}

/* SPDX-License-Identifier: MIT */
/* Looking into files: what they are by content, whether they open, and that hostile ones do
 * nothing but break. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "zipped.h"

#include <string.h>

/* A picture and an office file of the demo, as good.jpg and good.ods; and the case "bench" on it.
 */
static void prepare(void)
{
    hunt_demo();
    done("extract bench \"2:Germination photos/Tray 01\" \"1:Species sheets/Achillea\" --to taken");
    must("cp \"$(find taken -name '*.jpg' | sort | head -1)\" good.jpg && "
         "cp \"$(find taken -name '*.ods' | head -1)\" good.ods");
}

/* The files in a FAT volume of their own, as the case "files". */
static void hold(const char *names)
{
    must("truncate -s 64M v.img && mkfs.vfat v.img >/dev/null && mcopy -i v.img %s ::", names);
    done("new files --adopt v.img");
    done("hunt files");
}

static void opens(const char *name, const char *wanted, const char *why)
{
    g_auto(Result) result = ektypon("peek files 1:%s --json", name);
    CHECK_STATUS(result, 0);
    json_t *json = result_json(&result);
    json_t *content = json_object_get(json, "content");
    if (g_strcmp0(json_text(content, "opens"), wanted) != 0)
        fprintf(stderr, "\n%s", name);
    CHECK_TEXT(json_text(content, "opens"), wanted);
    CHECK_CONTAINS(json_text(content, "why"), why);
    json_decref(json);
}

static void files_are_known_by_their_content(void)
{
    prepare();
    g_auto(Result) picture = ektypon("peek bench \"2:Germination photos/Tray 01/Tray 01, day 03 - "
                                     "Agrostemma arvensis.jpg\"");
    CHECK_STATUS(picture, 0);
    CHECK_CONTAINS(picture.out, "condition  whole\n");
    CHECK_CONTAINS(picture.out, "location   3.8 KiB at sector 168450\n");
    CHECK_CONTAINS(picture.out, "(image/jpeg;");
    CHECK_CONTAINS(picture.out, "opens      yes: 176 x 132 pixels\n");
    CHECK_CONTAINS(picture.out, "000000  ff d8 ff e0");
    CHECK(strchr(picture.out, '\033') == NULL);
    g_auto(Result) drawn = ektypon("peek bench 2:@40982 --plain");
    CHECK_CONTAINS(drawn.out, "@@@@@@@@");
    CHECK(strchr(drawn.out, '\033') == NULL);
    g_auto(Result) office = ektypon("peek bench \"1:Species sheets/Achillea/Achillea.ods\"");
    CHECK_CONTAINS(office.out, "opens      yes: 3 entries, all of which unpack\n");
    CHECK_CONTAINS(office.out, "  HF-2024-276    Briza sylvatica    162\n");
    g_auto(Result) table = ektypon("peek bench 1:Accessions/2012/accessions-2012.csv");
    CHECK_CONTAINS(table.out, "opens      yes: 214 lines of text in ASCII without errors\n");
    CHECK_CONTAINS(table.out, "  accession;species;collected;place;seeds;viability %\n");
    g_auto(Result) holed = ektypon("peek bench 1:Accessions/2025/accessions-2025.csv");
    CHECK_STATUS(holed, 0);
    CHECK_CONTAINS(holed.out, "condition  holed: 10.0 KiB bad\n");
    CHECK_CONTAINS(holed.out, "holes      10.0 KiB at byte ");
    CHECK_CONTAINS(holed.out, "opens      no: it is text in which 10240 bytes are zero");
    g_auto(Result) folder = ektypon("peek bench 1:Accessions");
    CHECK_STATUS(folder, 0);
    CHECK_CONTAINS(folder.out, "size       a folder, number ");
    g_auto(Result) none = ektypon("peek bench 1:nothing.txt");
    CHECK_STATUS(none, 1);
    CHECK_CONTAINS(none.err, "nothing.txt");
}

static void what_is_broken_does_not_open(void)
{
    prepare();
    must("head -c 2000 good.jpg > cut.jpg && "
         "(head -c 1500 good.jpg; head -c 1000 /dev/zero; tail -c +2501 good.jpg) > hole.jpg && "
         "head -c 1500 good.ods > cut.ods && tar cf t.tar good.jpg good.ods && gzip -k t.tar && "
         "head -c 3000 t.tar.gz > cut.tgz && head -c 5000 /dev/zero > blank.doc && "
         "head -c 1200M /dev/zero | tr '\\0' 'x' | gzip -1 > much.gz && "
         "printf '\\377\\376H\\0e\\0r\\0b\\0' > wide.txt && printf 'caf\\351\\r\\n' > west.txt && "
         "(yes 'row;1' | head -c 3000; head -c 900 /dev/zero; echo end) > zeros.csv && "
         "printf 'Fl\\303\\274gel\\n' > utf8.txt && : > empty.txt && cp good.jpg note.txt");
    hold("*.jpg *.ods *.tar *.gz *.tgz *.doc *.txt *.csv");
    opens("good.jpg", "yes", "176 x 132 pixels");
    opens("cut.jpg", "no", "not all of them right");
    opens("hole.jpg", "no", "not all of them right");
    opens("good.ods", "yes", "3 entries");
    opens("cut.ods", "no", "content.xml");
    opens("t.tar", "yes", "2 entries");
    opens("t.tar.gz", "yes", "2 entries");
    opens("cut.tgz", "no", "truncated");
    opens("blank.doc", "no", "blank");
    opens("much.gz", "yes", "gzip, checked: ");
    opens("wide.txt", "yes", "UTF-16");
    opens("west.txt", "yes", "8-bit");
    opens("utf8.txt", "yes", "1 line of text in UTF-8");
    opens("zeros.csv", "no", "900 bytes are zero, the first of them at byte 3000");
    g_auto(Result) empty = ektypon("peek files 1:empty.txt");
    CHECK_STATUS(empty, 0);
    CHECK_CONTAINS(empty.out, "location   no sectors");
    g_auto(Result) renamed = ektypon("peek files 1:note.txt");
    CHECK_CONTAINS(renamed.out, "name suggests documents, content is pictures");
    g_auto(Result) west = ektypon("peek files 1:west.txt");
    CHECK_CONTAINS(west.out, "  café\n");
}

static void kinds_are_found_by_content(void)
{
    prepare();
    must("cp good.jpg note.txt && cp good.ods sheet.bin && echo seeds > fake.jpg");
    hold("good.jpg note.txt sheet.bin fake.jpg");
    g_auto(Result) named = ektypon("find files --kind pictures --count");
    CHECK_CONTAINS(named.out, "2 files"); /* good.jpg and fake.jpg */
    g_auto(Result) real = ektypon("find files --kind pictures --by-content --json");
    json_t *json = result_json(&real);
    json_t *list = json_object_get(json, "files");
    CHECK_NUMBER(json_array_size(list), 2);
    CHECK_TEXT(json_text(json_array_get(list, 0), "path"), "good.jpg");
    CHECK_TEXT(json_text(json_array_get(list, 1), "path"), "note.txt");
    json_decref(json);
    g_auto(Result) taken = ektypon("extract files 1 --kind documents --by-content --to out --flat");
    CHECK_STATUS(taken, 0);
    g_auto(Result) there = shell("ls out");
    CHECK_TEXT(there.out, "extracted.csv\nfake.jpg\nsheet.bin\n");
    g_auto(Result) alone = ektypon("find files --by-content");
    CHECK_STATUS(alone, 2);
}

/* Links are shown, never followed, and never made. */
static void links_lead_nowhere(void)
{
    must("mkdir src && ln -s '../far/away' src/short && "
         "ln -s \"$(seq -s / 1 60)\" src/long && echo seeds > src/plain.txt && "
         "truncate -s 20M v.img && mke2fs -q -F -t ext4 -d src v.img");
    done("new files --adopt v.img");
    done("hunt files");
    g_auto(Result) near = ektypon("peek files 1:short");
    CHECK_STATUS(near, 0);
    CHECK_CONTAINS(near.out, "  leads to   ../far/away\n");
    g_auto(Result) far = ektypon("peek files 1:long");
    CHECK_CONTAINS(far.out, "/57/58/59/60\n");
    g_auto(Result) taken = ektypon("extract files 1 --to out");
    CHECK_STATUS(taken, 0);
    CHECK_CONTAINS(taken.out, "1 file in 1 folder, 6 B, to out: 1 whole\nBy kind: 1 documents.\n");
    CHECK_CONTAINS(taken.err, "2 links of the volume are not created");
    g_auto(Result) there = shell("find out | sort | tr '\\n' ' '");
    CHECK_TEXT(there.out,
               "out out/1 ext4 out/1 ext4/lost+found out/1 ext4/plain.txt out/extracted.csv ");
}

/* What a file says reaches the terminal as text only; numbers in it lead nowhere. */
static void hostile_content_shows_as_text(void)
{
    must("printf '\\033[31mred\\033]0;title\\007\\n' > esc.txt && "
         "printf "
         "'\\211PNG\\r\\n\\032\\n\\0\\0\\0\\rIHDR\\177\\377\\377\\377\\177\\377\\377\\377\\10\\6\\0"
         "\\0\\0"
         "\\0\\0\\0\\0' > wide.png && "
         "printf "
         "'BM\\0\\0\\0\\0\\0\\0\\0\\0\\066\\0\\0\\0\\050\\0\\0\\0\\0\\0\\1\\0\\0\\0\\1\\0\\1\\0\\04"
         "0\\0"
         "\\0\\0\\0\\0' > large.bmp && head -c 3000 /dev/urandom > noise.jpg && "
         "printf 'PK\\003\\004' > short.zip && head -c 100000 /dev/zero | tr '\\0' '(' > deep.json "
         "&& "
         "printf '<svg xmlns=\"http://www.w3.org/2000/svg\"><image href=\"/etc/passwd\"/></svg>' > "
         "a.svg");
    hold("esc.txt wide.png large.bmp noise.jpg short.zip deep.json a.svg");
    g_auto(Result) escapes = ektypon("peek files 1:esc.txt");
    CHECK_STATUS(escapes, 0);
    CHECK_CONTAINS(escapes.out, "\\x1B[31mred\\x1B]0;title\\x07\n");
    static const char *const names[] = {"wide.png",  "large.bmp", "noise.jpg",
                                        "short.zip", "deep.json", "a.svg"};
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        g_auto(Result) plain = ektypon("peek files 1:%s --plain", names[i]);
        CHECK_STATUS(plain, 0);
        CHECK(strchr(plain.out, '\033') == NULL);
        CHECK(i > 3 || strstr(plain.out, "opens      yes") == NULL);
    }
}

/* --- pictures that are small as files and huge as pictures ------------------------------------ */

static guint32 crc_of(const guint8 *bytes, gsize length)
{
    guint32 crc = ~0u;
    for (gsize i = 0; i < length; i++) {
        crc ^= bytes[i];
        for (int k = 0; k < 8; k++)
            crc = crc >> 1 ^ (0xedb88320u & (0u - (crc & 1)));
    }
    return ~crc;
}

static void put_be32(GByteArray *out, guint32 number)
{
    guint8 bytes[] = {(guint8)(number >> 24), (guint8)(number >> 16), (guint8)(number >> 8),
                      (guint8)number};
    g_byte_array_append(out, bytes, 4);
}

static void put_chunk(GByteArray *png, const char *type, const guint8 *data, gsize length)
{
    put_be32(png, (guint32)length);
    guint from = png->len;
    g_byte_array_append(png, (const guint8 *)type, 4);
    g_byte_array_append(png, data, (guint)length);
    put_be32(png, crc_of(png->data + from, png->len - from));
}

/* A black PNG of side x side pixels (ISO/IEC 15948): all of its data is zeros. */
static void write_black_png(const char *name, guint32 side)
{
    guint64 raw = (guint64)side * (1 + (guint64)side * 3);
    g_autoptr(GByteArray) png = g_byte_array_new();
    g_autoptr(GByteArray) header = g_byte_array_new();
    g_autoptr(GByteArray) data = g_byte_array_new();
    gsize length = 0;
    must("head -c %" G_GUINT64_FORMAT " /dev/zero | gzip -9n > zeros.gz", raw);
    g_autofree guint8 *packed = read_file("zeros.gz", &length);
    put_be32(header, side);
    put_be32(header, side);
    g_byte_array_append(header, (const guint8 *)"\10\2\0\0\0", 5);
    g_byte_array_append(data, (const guint8 *)"\x78\xda", 2);
    g_byte_array_append(data, packed + 10, (guint)length - 18);
    put_be32(data, (guint32)(raw % 65521) << 16 | 1); /* Adler-32 of zeros */
    g_byte_array_append(png, (const guint8 *)"\x89PNG\r\n\x1a\n", 8);
    put_chunk(png, "IHDR", header->data, header->len);
    put_chunk(png, "IDAT", data->data, data->len);
    put_chunk(png, "IEND", NULL, 0);
    write_file(name, png->data, png->len);
}

typedef struct {
    GByteArray *out;
    guint bits;
    guint count;
} BitWriter;

static void put_code(BitWriter *writer, guint code, guint width)
{
    writer->bits |= code << writer->count;
    for (writer->count += width; writer->count >= 8; writer->count -= 8) {
        guint8 byte = (guint8)writer->bits;
        g_byte_array_append(writer->out, &byte, 1);
        writer->bits >>= 8;
    }
}

/* `pixels` of colour 0 as GIF packs them (LZW): each code stands for a run one longer than the
 * last. */
static GByteArray *pack_black(guint64 pixels)
{
    BitWriter writer = {g_byte_array_new(), 0, 0};
    guint width = 3;
    guint next = 6;
    guint64 run = 0;
    put_code(&writer, 4, width);
    while (pixels > 0) {
        if (run == 0) {
            put_code(&writer, 0, width);
            pixels--;
            run = 2;
        } else if (pixels >= run && next < 4095) {
            put_code(&writer, next++, width);
            pixels -= run++;
            width += next == 1u << width && width < 12;
        } else {
            put_code(&writer, 4, width);
            width = 3;
            next = 6;
            run = 0;
        }
    }
    put_code(&writer, 5, width);
    put_code(&writer, 0, 8);
    return writer.out;
}

static void write_black_gif(const char *name, guint16 side, guint frames)
{
    g_autoptr(GByteArray) packed = pack_black((guint64)side * side);
    g_autoptr(GByteArray) gif = g_byte_array_new();
    guint8 low = (guint8)side;
    guint8 high = (guint8)(side >> 8);
    guint8 screen[] = {low, high, low, high, 0x81, 0, 0};
    guint8 frame[] = {0x21, 0xf9, 4, 4, 10, 0, 0, 0, ',', 0, 0, 0, 0, low, high, low, high, 0, 2};
    static const guint8 colors[12] = {0, 0, 0, 255, 255, 255};
    g_byte_array_append(gif, (const guint8 *)"GIF89a", 6);
    g_byte_array_append(gif, screen, sizeof screen);
    g_byte_array_append(gif, colors, sizeof colors);
    for (guint i = 0; i < frames; i++) {
        g_byte_array_append(gif, frame, sizeof frame);
        for (guint at = 0; at < packed->len; at += 255) {
            guint8 length = (guint8)MIN(255, packed->len - at);
            g_byte_array_append(gif, &length, 1);
            g_byte_array_append(gif, packed->data + at, length);
        }
        g_byte_array_append(gif, (const guint8 *)"", 1);
    }
    g_byte_array_append(gif, (const guint8 *)";", 1);
    write_file(name, gif->data, gif->len);
}

/* Half a GiB is all the helper ever has, and what does not fit is no fault of the file. */
static void huge_pictures_take_little_memory(void)
{
    static const struct {
        const char *name;
        const char *opens;
    } pictures[] = {{"fine.png", "opens      yes: 3000 x 3000"},
                    {"wide.png", "opens      yes: png, checked: "},
                    {"small.gif", "opens      yes: 64 x 64"},
                    {"many.gif", "opens      "},
                    {"tall.gif", "opens      yes: gif, checked: "}};
    write_black_png("fine.png", 3000);
    write_black_png("wide.png", 6000);
    write_black_gif("small.gif", 64, 2);
    write_black_gif("many.gif", 1500, 200);
    write_black_gif("tall.gif", 30000, 1);
    hold("fine.png wide.png small.gif many.gif tall.gif");
    for (gsize i = 0; i < G_N_ELEMENTS(pictures); i++) {
        g_auto(Result) seen = ektypon("peek files 1:%s --plain", pictures[i].name);
        CHECK_STATUS(seen, 0);
        CHECK_CONTAINS(seen.out, pictures[i].opens);
        CHECK(strstr(seen.out, "opens      no") == NULL || strstr(seen.out, "not checked") != NULL);
        CHECK(is_sanitized() || seen.peak_kib < 512 * 1024);
    }
}

/* The words of office files are shown, paragraph by paragraph and row by row. */
static void documents_are_shown_as_text(void)
{
    static const char word[] =
        "<?xml version=\"1.0\"?><w:document><w:body><w:p><w:r><w:t>Cold store &amp; trays"
        "</w:t></w:r></w:p>\n  "
        "<w:p/><w:p/><w:tbl><w:tr><w:tc><w:p><w:t>Tray</w:t></w:p></w:tc><w:tc>"
        "<w:p><w:t>12 &lt; "
        "13</w:t></w:p></w:tc></w:tr></w:tbl><w:p><w:t>Last&#8212;line</w:t></w:p>"
        "</w:body></w:document>";
    static const char slide[] = "<p:sld><a:p><a:t>Harrow Fen</a:t></a:p></p:sld>";
    static const char other[] = "<p:sld><a:p><a:t>Second</a:t></a:p></p:sld>";
    static const char hostile[] = "<w:p><w:t>\033[2J&#27;&#x1b;[31m&#999999999999;&;&#;&<</w:t><";
    static const char types[] = "<Types/>";
    const Zipped docx[] = {{"[Content_Types].xml", types, sizeof types - 1},
                           {"_rels/.rels", "<r/>", 4},
                           {"word/document.xml", word, sizeof word - 1}};
    const Zipped pptx[] = {{"[Content_Types].xml", types, sizeof types - 1},
                           {"_rels/.rels", "<r/>", 4},
                           {"ppt/slides/slide1.xml", slide, sizeof slide - 1},
                           {"ppt/slides/slide2.xml", other, sizeof other - 1}};
    const Zipped bad[] = {{"[Content_Types].xml", types, sizeof types - 1},
                          {"_rels/.rels", "<r/>", 4},
                          {"word/document.xml", hostile, sizeof hostile - 1}};
    g_autofree char *deep = g_malloc(3u << 20);
    memset(deep, '<', 3u << 20);
    const Zipped large[] = {{"[Content_Types].xml", types, sizeof types - 1},
                            {"word/document.xml", deep, 3u << 20}};
    put_zip("letter.docx", docx, G_N_ELEMENTS(docx));
    put_zip("talk.pptx", pptx, G_N_ELEMENTS(pptx));
    put_zip("bad.docx", bad, G_N_ELEMENTS(bad));
    put_zip("large.docx", large, G_N_ELEMENTS(large));
    hold("letter.docx talk.pptx bad.docx large.docx");
    g_auto(Result) letter = ektypon("peek files 1:letter.docx");
    CHECK_CONTAINS(letter.out, "\n\n  Cold store & trays\n  \n  Tray     12 < 13\n  Last—line\n");
    g_auto(Result) talk = ektypon("peek files 1:talk.pptx");
    CHECK_CONTAINS(talk.out, "\n  Harrow Fen\n  Second\n");
    g_auto(Result) hurt = ektypon("peek files 1:bad.docx");
    CHECK_STATUS(hurt, 0);
    CHECK(strchr(hurt.out, '\033') == NULL);
    g_auto(Result) much = ektypon("peek files 1:large.docx");
    CHECK_STATUS(much, 0);
}

/* An answer that is too long is cut, and is an answer all the same. */
static void a_long_answer_is_cut(void)
{
    must("touch f && long=$(head -c 120000 /dev/zero | tr '\\0' '\\t') && for i in $(seq 25); do "
         "tar -rf long.tar --format=pax --transform \"s|f|$i$long|\" f; done && gzip long.tar");
    hold("long.tar.gz");
    g_auto(Result) seen = ektypon("peek files 1:long.tar.gz --json");
    CHECK_STATUS(seen, 0);
    json_t *json = result_json(&seen);
    json_t *content = json_object_get(json, "content");
    CHECK_TEXT(json_text(content, "opens"), "yes");
    CHECK_TEXT(json_text(content, "look"), "list");
    json_decref(json);
}

/* The helper can open no file but fonts, and start no program once it waits for content. */
static void the_helper_is_locked_down(void)
{
    g_autofree char *folder = g_path_get_dirname(EKTYPON_PROGRAM_PATH);
    g_auto(Result) result = shell("mkfifo in; (exec 3>in; sleep 3) & %s/ektypon-peek kinds < in & "
                                  "for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do "
                                  "grep -q 'Seccomp:.2' /proc/$!/status && break; sleep 0.1; done; "
                                  "grep -E '^(Seccomp|NoNewPrivs):' /proc/$!/status; "
                                  "grep -E 'Max (processes|file size|cpu time|address space)' "
                                  "/proc/$!/limits | tr -s ' '; kill $!",
                                  folder);
    CHECK_CONTAINS(result.out, "NoNewPrivs:\t1\nSeccomp:\t2\n");
    CHECK_CONTAINS(result.out, "Max cpu time 60 60 seconds");
    CHECK_CONTAINS(result.out, "Max file size 0 0 bytes");
    CHECK(is_sanitized() || strstr(result.out, "Max address space 1073741824") != NULL);
    CHECK_CONTAINS(result.out, "Max processes 0 0 processes");
    /* Nonsense on its input ends it, and it is not for people. */
    g_auto(Result) nonsense = shell("head -c 64 /dev/urandom | %s/ektypon-peek kinds", folder);
    CHECK_STATUS(nonsense, 2);
    g_auto(Result) bare = shell("%s/ektypon-peek", folder);
    CHECK_STATUS(bare, 2);
    CHECK_CONTAINS(bare.err, "started by ektypon");
}

static void a_folder_is_a_contact_sheet(void)
{
    hunt_demo();
    g_auto(Result) volume = shell("%s find bench --kind pictures --numbers 2>/dev/null | head -1 | "
                                  "cut -d: -f1",
                                  EKTYPON_PROGRAM_PATH);
    guint number = (guint)g_ascii_strtoull(volume.out, NULL, 10);
    g_auto(Result) found = ektypon("find bench %u --kind pictures,video --count --json", number);
    json_t *json = result_json(&found);
    guint64 pictures = json_u64(json_object_get(json, "totals"), "files");
    json_decref(json);
    g_auto(Result) sheet = ektypon("peek bench %u --sheet --plain", number);
    CHECK_STATUS(sheet, 0);
    /* Each has its name below it, cut in its middle; nothing steers the terminal. */
    g_auto(GStrv) names = g_strsplit(sheet.out, "\xe2\x80\xa6", -1);
    CHECK(pictures > 20 && g_strv_length(names) - 1 == pictures);
    CHECK(strchr(sheet.out, '\033') == NULL);
    g_auto(GStrv) lines = g_strsplit(sheet.out, "\n", -1);
    for (char **line = lines; *line != NULL; line++)
        CHECK(g_utf8_strlen(*line, -1) <= 80);
    g_auto(Result) no_terminal = ektypon("peek bench %u --sheet", number);
    CHECK_STATUS(no_terminal, 2);
    g_auto(Result) both = ektypon("peek bench %u --sheet --json", number);
    CHECK_STATUS(both, 2);
    g_auto(Result) file = shell("%s peek bench \"$(%s find bench --kind pictures --numbers "
                                "2>/dev/null | head -1)\" --sheet --plain",
                                EKTYPON_PROGRAM_PATH, EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(file, 1);
    CHECK_CONTAINS(file.err, "takes a volume or a folder");
}

static void hostile_pictures_are_named_in_a_sheet(void)
{
    must("mkdir src && printf 'sown, not yet up' >src/broken.jpg && "
         "printf '\\211PNG\\r\\n\\032\\nwrong' >src/wrong.png && : >src/empty.png && "
         "printf x >src/log.csv && cp src/broken.jpg \"src/$(printf 'bell\\007').png\"");
    must("truncate -s 16M v.img && mke2fs -q -F -t ext4 -d src v.img");
    done("new odd --adopt v.img");
    done("hunt odd");
    g_auto(Result) sheet = ektypon("peek odd 1 --sheet --plain");
    CHECK_STATUS(sheet, 0);
    CHECK_CONTAINS(sheet.out, "broken.jpg");
    CHECK_CONTAINS(sheet.out, "wrong.png");
    CHECK_CONTAINS(sheet.out, "bell\\x07.png");
    CHECK(strchr(sheet.out, 7) == NULL && strstr(sheet.out, "log.csv") == NULL);
    g_auto(Result) none = ektypon("peek odd 1:lost+found --sheet --plain");
    CHECK_CONTAINS(none.out, "There are no pictures or films here.");
}

int main(void)
{
    static const Test tests[] = {
        {"files are known by their content", files_are_known_by_their_content},
        {"what is broken does not open", what_is_broken_does_not_open},
        {"kinds are found by content", kinds_are_found_by_content},
        {"links lead nowhere", links_lead_nowhere},
        {"hostile content shows as text", hostile_content_shows_as_text},
        {"huge pictures take little memory", huge_pictures_take_little_memory},
        {"documents are shown as text", documents_are_shown_as_text},
        {"a long answer is cut", a_long_answer_is_cut},
        {"the helper is locked down", the_helper_is_locked_down},
        {"a folder is a contact sheet", a_folder_is_a_contact_sheet},
        {"hostile pictures are named in a sheet", hostile_pictures_are_named_in_a_sheet},
    };
    return RUN_TESTS("peek", tests);
}

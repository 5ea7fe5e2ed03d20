/* SPDX-License-Identifier: MIT */
/* Text that says what it is: which files are told, what names them, and where they end. */
#include "carved.h"
#include "check.h"
#include "composed.h"

#include <string.h>

typedef struct {
    const char *type; /* NULL: it is none of those that say what they are */
    const char *ending;
    const char *words;
    const char *text;
} Sample;

/* What stands in the middle of each, so that it is text for long enough. */
#define FILL                                                                                       \
    "Trays in the cold store were read at dusk, and the drains of the fen once a week. The "       \
    "pollen "                                                                                      \
    "of sedge and barley is counted in the herbarium.\n"

static const Sample samples[] = {
    {"html", "html", "Fen walk", "<!DOCTYPE html>\n<html><title>Fen walk</title>" FILL "</html>\n"},
    {"html", "html", "Fen walk", "<HTML><HEAD><TITLE>Fen walk</TITLE>" FILL "</HTML>"},
    {"html", "html", "", "<!doctype HTML><html lang=en>" FILL "</html>"},
    {NULL, "", "", "<!DOCTYPE something>" FILL},
    {"xml", "xml", "", "<?xml version=\"1.0\"?><store>" FILL "</store>\n"},
    {"xml", "gpx", "", "<?xml version=\"1.0\"?>\n<gpx version=\"1.1\">" FILL "</gpx>"},
    {"xml", "kml", "", "<?xml version=\"1.0\"?>\n<!-- a <b> --><kml>" FILL "</kml>"},
    {"xml", "rss", "", "<?xml version='1.0'?><rss>" FILL "</rss>"},
    {"xml", "plist", "", "<?xml version='1.0'?><!DOCTYPE plist><plist>" FILL "</plist>"},
    {"xml", "html", "", "<?xml version='1.0'?><html>" FILL "</html>"},
    {"xml", "svg", "Sluice", "<svg width=\"9\"><title>Sluice</title>" FILL "</svg>"},
    {"xml", "svg", "", "<?xml version='1.0'?><s:svg>" FILL "</s:svg>"},
    {"rtf", "rtf", "Sowing", "{\\rtf1{\\info{\\title Sowing}}" FILL "\\{\\}}"},
    {"vcard", "vcf", "A. Fenner", "BEGIN:VCARD\nFN:A. Fenner\nNOTE:" FILL "END:VCARD\n"},
    {"vcard", "ics", "", "BEGIN:VCALENDAR\nSUMMARY:" FILL "END:VCALENDAR\n"},
    {"mail", "eml", "Trays", "From: a@harrowfen.example\nTo: b\nSubject: Trays\n\n" FILL},
    {"mail", "eml", "Trays", "Subject: Trays\nFrom: a\nDate: today\n\n" FILL},
    {"mail", "eml", "Trays", "X-Store: 7\nReceived: by c\nfrom: a\nSUBJECT: Trays\nto: b\n\n" FILL},
    {"mail", "eml", "Trays",
     "To: b\r\nSubject: Trays\r\nFrom: a\r\nContent-Type: multipart/mixed; boundary=x7\r\n\r\n"
     "--x7\r\n\r\n" FILL "--x7--\r\n"},
    {"mail", "eml", "Trays",
     "To: b\nSubject: Trays\nFrom: a\nContent-Type: multipart/mixed; boundary=x7\n\n"
     "--x7\n\n" FILL "--x7--\n"},
    {"mail", "mbox", "", "From a Mon Jun  2 10:00:00 2025\nFrom: a\nTo: b\nSubject: c\n\n" FILL},
    /* Letters that only begin like mails: whom they are from does not stand in their header. */
    {NULL, "", "", "To: all\nSubject: trays\n\nFrom: the store\nDate: today\n" FILL},
    {NULL, "", "", "From: the store\nwith no line that any mail has\n" FILL},
    {NULL, "", "", "X-rays of seeds\n" FILL},
};

static Bench bench;
static Drive drive;

static void open_drive(void)
{
    drive_pad(&drive, 4096, FALSE);
    drive_noise(&drive, 4096);
    drive_open(&drive, &bench);
}

static void close_drive(void)
{
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

static EkByte put_text(const char *text)
{
    EkByte place = drive_put(&drive, (const guint8 *)text, strlen(text));
    drive_pad(&drive, 512, FALSE);
    drive_noise(&drive, 1024);
    return place;
}

static void check_sample(const Sample *sample, const EkFound *found)
{
    gboolean is_known = found != NULL && !found->type->is_plain;
    if (sample->type == NULL) {
        if (is_known)
            g_print("%.40s: taken for %s\n", sample->text, found->type->name);
        CHECK(!is_known);
        return;
    }
    CHECK(is_known);
    if (!is_known) {
        g_print("%.40s: not told\n", sample->text);
        return;
    }
    const EkFollowed *followed = &found->followed;
    const char *ending = *followed->ending != '\0' ? followed->ending : found->type->ending;
    CHECK_TEXT(found->type->name, sample->type);
    CHECK_TEXT(ending, sample->ending);
    CHECK_TEXT(followed->words, sample->words);
    /* Line ends behind the mark are the text's too. */
    CHECK_NUMBER(found->bytes, strlen(sample->text));
    CHECK_NUMBER(followed->end, EK_FOLLOW_ENDED);
}

static void texts_say_what_they_are(void)
{
    EkByte places[G_N_ELEMENTS(samples)];
    drive = drive_new(test_seed());
    drive_noise(&drive, 4096);
    for (gsize i = 0; i < G_N_ELEMENTS(samples); i++)
        places[i] = put_text(samples[i].text);
    open_drive();
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(samples); i++)
        check_sample(&samples[i], carved_at(found, places[i]));
    close_drive();
}

/* Without their last mark they are cut, and said to be so; none is called whole. */
static void texts_without_an_end_are_cut(void)
{
    EkByte places[G_N_ELEMENTS(samples)];
    drive = drive_new(test_seed() + 1);
    drive_noise(&drive, 4096);
    for (gsize i = 0; i < G_N_ELEMENTS(samples); i++) {
        gsize length = strlen(samples[i].text);
        g_autofree char *text = g_strndup(samples[i].text, length - MIN(length, 14));
        places[i] = put_text(text);
    }
    open_drive();
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(samples); i++) {
        const EkFound *one = carved_at(found, places[i]);
        gboolean has_mark = samples[i].type != NULL && !g_str_equal(samples[i].type, "mail");
        if (one != NULL && has_mark && !one->type->is_plain)
            CHECK_NUMBER(one->state, EK_CONTENT_CUT);
        CHECK(one == NULL || one->state != EK_CONTENT_WHOLE);
    }
    close_drive();
}

/* Text behind the line that ends the last part is another's. */
static void mails_end_with_their_last_part(void)
{
    static const char *const names[] = {"boundary=x7", "boundary=\"x7\"", "BOUNDARY=\"x7\"; a=b",
                                        "a=b;\n\tboundary=x7; c=d"};
    EkByte places[G_N_ELEMENTS(names)];
    gsize lengths[G_N_ELEMENTS(names)];
    drive = drive_new(test_seed() + 3);
    drive_noise(&drive, 4096);
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        g_autofree char *mail = g_strdup_printf("From: a\nTo: b\nDate: c\nContent-Type: multipart/"
                                                "mixed; %s\n\n--x7\n\n%s--x7--\n",
                                                names[i], FILL);
        g_autofree char *more = g_strdup_printf("%sand words of others\n", mail);
        lengths[i] = strlen(mail);
        places[i] = put_text(more);
    }
    open_drive();
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        const EkFound *one = carved_at(found, places[i]);
        CHECK(one != NULL && g_str_equal(one->type->name, "mail"));
        CHECK_NUMBER(one != NULL ? one->bytes : 0, lengths[i]);
    }
    close_drive();
}

/* A short one is whole; in a long one a foreign block of text would not be noticed. */
static void only_short_texts_are_whole(void)
{
    static const guint lines[] = {3, 200};
    EkByte places[G_N_ELEMENTS(lines)][3];
    drive = drive_new(test_seed() + 2);
    drive_noise(&drive, 4096);
    for (gsize i = 0; i < G_N_ELEMENTS(lines); i++) {
        g_autoptr(GString) fill = g_string_new("");
        for (guint k = 0; k < lines[i]; k++)
            g_string_append(fill, FILL);
        g_autofree char *page = g_strdup_printf("<html>%s</html>\n", fill->str);
        g_autofree char *plan = g_strdup_printf("{\\rtf1 %s}", fill->str);
        g_autofree char *mail =
            g_strdup_printf("From: a\nTo: b\nDate: c\nContent-Type: multipart/mixed;\n"
                            "\tboundary=\"a b\"\n\n--a b\n\n%s--a b--\n",
                            fill->str);
        places[i][0] = put_text(page);
        places[i][1] = put_text(plan);
        places[i][2] = put_text(mail);
    }
    open_drive();
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(lines); i++)
        for (gsize k = 0; k < 3; k++) {
            const EkFound *one = carved_at(found, places[i][k]);
            CHECK(one != NULL);
            if (one != NULL)
                CHECK_NUMBER(one->state, i == 0 ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL);
        }
    close_drive();
}

/* Cards stand one behind the other: those in the middle are no files, wherever sectors begin. */
static void cards_in_the_middle_are_no_files(void)
{
    static const char card[] = "BEGIN:VCARD\r\nFN:Sedge\r\nNOTE:tray of sedge, cold store 7\r\n"
                               "TEL:0171 555\r\nEND:VCARD\r\n";
    guint32 seed = test_seed();
    g_autoptr(GString) cards = g_string_new("");
    while (cards->len < 20000)
        g_string_append(cards, card);
    for (guint shift = 0; shift < 4; shift++) {
        g_autofree char *text =
            g_strdup_printf("BEGIN:VCARD\r\nFN:First\r\nX:%.*s\r\nEND:VCARD\r\n%s",
                            (int)shift * 7 + 1, "..............................", cards->str);
        drive = drive_new(seed + shift);
        drive_noise(&drive, 4096);
        EkByte place = put_text(text);
        open_drive();
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        guint count = 0;
        for (guint i = 0; i < found->len; i++) {
            const EkFound *one = found->pdata[i];
            count += g_str_equal(one->type->name, "vcard") ? 1 : 0;
        }
        const EkFound *first = carved_at(found, place);
        CHECK(first != NULL && first->bytes == strlen(text));
        CHECK_NUMBER(count, 1);
        close_drive();
    }
}

int main(void)
{
    static const Test tests[] = {
        {"texts say what they are", texts_say_what_they_are},
        {"texts without an end are cut", texts_without_an_end_are_cut},
        {"mails end with their last part", mails_end_with_their_last_part},
        {"only short texts are whole", only_short_texts_are_whole},
        {"cards in the middle are no files", cards_in_the_middle_are_no_files},
    };
    return RUN_TESTS("markup", tests);
}

/* SPDX-License-Identifier: MIT */
/* What a drive says of its health: what is taken of smartctl's JSON, and what it means. */
#include "check.h"
#include "fixture.h"

#include "device/device.h"
#include "device/health.h"

#include <string.h>

/* As smartctl 7 prints them, shortened: an ATA disk, an NVMe drive, a SCSI disk. */
static const char ata[] =
    "{\"json_format_version\":[1,0],\"smartctl\":{\"version\":[7,3],\"exit_status\":64},"
    "\"device\":{\"name\":\"/dev/sdq\",\"type\":\"sat\"},\"smart_status\":{\"passed\":true},"
    "\"ata_smart_attributes\":{\"revision\":10,\"table\":["
    "{\"id\":1,\"name\":\"Raw_Read_Error_Rate\",\"value\":83,\"raw\":{\"value\":201326592}},"
    "{\"id\":5,\"name\":\"Reallocated_Sector_Ct\",\"raw\":{\"value\":8,\"string\":\"8\"}},"
    "{\"id\":187,\"raw\":{\"value\":3}},{\"id\":198,\"raw\":{\"value\":2}},"
    "{\"id\":197,\"name\":\"Current_Pending_Sector\",\"raw\":{\"value\":17}},"
    "{\"id\":199,\"raw\":{\"value\":281474976710657}}]},"
    "\"power_on_time\":{\"hours\":41230,\"minutes\":7},\"temperature\":{\"current\":38}}";
static const char nvme[] =
    "{\"smartctl\":{\"exit_status\":0},\"smart_status\":{\"passed\":true,\"nvme\":{\"value\":0}},"
    "\"nvme_smart_health_information_log\":{\"critical_warning\":0,\"temperature\":44,"
    "\"available_spare\":100,\"available_spare_threshold\":10,\"percentage_used\":3,"
    "\"power_on_hours\":900,\"media_errors\":0},\"temperature\":{\"current\":44},"
    "\"power_on_time\":{\"hours\":900}}";
static const char scsi[] = "{\"smartctl\":{\"exit_status\":0},\"smart_status\":{\"passed\":false},"
                           "\"scsi_grown_defect_list\":412,\"scsi_error_counter_log\":{\"read\":"
                           "{\"total_uncorrected_errors\":5}},\"temperature\":{\"current\":61}}";
static const char asleep[] =
    "{\"smartctl\":{\"exit_status\":2,\"messages\":[{\"string\":\"Device is in STANDBY mode, "
    "exit(2)\",\"severity\":\"information\"}]}}";

static void parse(const char *text, EkHealth *health)
{
    ek_health_clear(health);
    ek_health_init(health, NULL);
    CHECK(ek_health_parse(text, strlen(text), health));
}

static void check_value(const EkHealth *health, EkSign sign, gint64 wanted)
{
    CHECK_NUMBER(health->value[sign], wanted);
}

static char *all_of(GPtrArray *sentences)
{
    g_ptr_array_add(sentences, NULL);
    char *text = g_strjoinv("\n", (char **)sentences->pdata);
    g_ptr_array_unref(sentences);
    return text;
}

static void kinds_of_drives_are_understood(void)
{
    g_auto(EkHealth) disk = {{0}, NULL};
    parse(ata, &disk);
    check_value(&disk, EK_SIGN_ASSESSMENT, 1);
    check_value(&disk, EK_SIGN_HOURS, 41230);
    check_value(&disk, EK_SIGN_TEMPERATURE, 38);
    check_value(&disk, EK_SIGN_PENDING, 17);
    check_value(&disk, EK_SIGN_REALLOCATED, 8);
    check_value(&disk, EK_SIGN_UNCORRECTABLE, 3);
    check_value(&disk, EK_SIGN_TRANSFER, 1); /* the upper half is another count */
    check_value(&disk, EK_SIGN_MEDIA, EK_SIGN_UNKNOWN);
    CHECK_NUMBER(ek_health_word(&disk), EK_HEALTH_FAILING);
    g_autofree char *said = all_of(ek_health_sentences(&disk));
    CHECK_CONTAINS(said, "17 sectors are waiting to be remapped: expect bad areas; do not run a "
                         "self-test");
    CHECK_CONTAINS(said, "8 sectors have been remapped: the surface is wearing");

    g_auto(EkHealth) flash = {{0}, NULL};
    parse(nvme, &flash);
    check_value(&flash, EK_SIGN_SPARE, 100);
    check_value(&flash, EK_SIGN_SPARE_LEAST, 10);
    check_value(&flash, EK_SIGN_USED, 3);
    check_value(&flash, EK_SIGN_TEMPERATURE, 44);
    CHECK_NUMBER(ek_health_word(&flash), EK_HEALTH_STEADY);

    g_auto(EkHealth) server = {{0}, NULL};
    parse(scsi, &server);
    check_value(&server, EK_SIGN_REALLOCATED, 412);
    check_value(&server, EK_SIGN_UNCORRECTABLE, 5);
    CHECK_NUMBER(ek_health_word(&server), EK_HEALTH_FAILING);
    g_autofree char *grave = all_of(ek_health_sentences(&server));
    CHECK(g_str_has_prefix(grave, "the drive predicts its own failure"));
    CHECK_CONTAINS(grave, "61 °C is hot");
}

static void the_word_goes_by_the_gravest_sign(void)
{
    static const struct {
        EkSign sign;
        gint64 value;
        EkHealthWord word;
    } cases[] = {
        {EK_SIGN_ASSESSMENT, 1, EK_HEALTH_STEADY},     {EK_SIGN_ASSESSMENT, 0, EK_HEALTH_FAILING},
        {EK_SIGN_HOURS, 90000, EK_HEALTH_SILENT},      {EK_SIGN_TEMPERATURE, 38, EK_HEALTH_SILENT},
        {EK_SIGN_PENDING, 0, EK_HEALTH_STEADY},        {EK_SIGN_PENDING, 1, EK_HEALTH_FAILING},
        {EK_SIGN_UNCORRECTABLE, 1, EK_HEALTH_FAILING}, {EK_SIGN_REALLOCATED, 1, EK_HEALTH_WEARING},
        {EK_SIGN_REALLOCATED, 100, EK_HEALTH_FAILING}, {EK_SIGN_TRANSFER, 1, EK_HEALTH_WEARING},
        {EK_SIGN_MEDIA, 1, EK_HEALTH_FAILING},         {EK_SIGN_USED, 89, EK_HEALTH_STEADY},
        {EK_SIGN_USED, 130, EK_HEALTH_WEARING},        {EK_SIGN_SPARE, 0, EK_HEALTH_FAILING},
        {EK_SIGN_SPARE, 9, EK_HEALTH_STEADY},
    };
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        g_auto(EkHealth) health = {{0}, NULL};
        ek_health_init(&health, NULL);
        health.value[cases[i].sign] = cases[i].value;
        if (ek_health_word(&health) != cases[i].word)
            printf("%s=%" G_GINT64_FORMAT " ", ek_sign_name(cases[i].sign), cases[i].value);
        CHECK_NUMBER(ek_health_word(&health), cases[i].word);
        /* What is not steady has a sentence that says why, and the other way round. */
        g_autofree char *said = all_of(ek_health_sentences(&health));
        CHECK((strstr(said, "shows trouble") != NULL) == (cases[i].word == EK_HEALTH_STEADY));
    }
}

static void what_got_worse_is_told(void)
{
    g_auto(EkHealth) before = {{0}, NULL};
    g_auto(EkHealth) after = {{0}, NULL};
    parse(ata, &before);
    parse(ata, &after);
    g_autoptr(GPtrArray) same = ek_health_worse(&before, &after);
    CHECK_NUMBER(same->len, 0);
    after.value[EK_SIGN_PENDING] = 40;
    after.value[EK_SIGN_REALLOCATED] = 7; /* fewer */
    after.value[EK_SIGN_MEDIA] = 3;       /* not told before: no rise */
    after.value[EK_SIGN_ASSESSMENT] = 0;
    g_autofree char *said = all_of(ek_health_worse(&before, &after));
    CHECK_TEXT(said, "the drive now predicts its own failure\n"
                     "sectors waiting to be remapped: 17 before, 40 now");
}

static void anything_may_be_printed(void)
{
    static const char *const others[] = {
        "", "{", "[]", "{}", "null", "smartctl 7.3", "{\"smartctl\":7}", "{\"smartctl\":[]}",
    };
    g_auto(EkHealth) health = {{0}, NULL};
    ek_health_init(&health, "as it was");
    for (gsize i = 0; i < G_N_ELEMENTS(others); i++)
        CHECK(!ek_health_parse(others[i], strlen(others[i]), &health));
    CHECK_TEXT(health.why_silent, "as it was");
    /* Numbers that make no sense, and things in the place of others. */
    parse(
        "{\"smartctl\":{},\"temperature\":{\"current\":-300},\"smart_status\":{\"passed\":\"yes\"},"
        "\"scsi_grown_defect_list\":1e300,\"ata_smart_attributes\":{\"table\":[7,null,{\"id\":5},"
        "{\"id\":5,\"raw\":9},{\"id\":197,\"raw\":{\"value\":-4}}]}}",
        &health);
    CHECK_NUMBER(ek_health_word(&health), EK_HEALTH_SILENT);
    parse(asleep, &health);
    CHECK_NUMBER(ek_health_word(&health), EK_HEALTH_SILENT);
    CHECK_CONTAINS(health.why_silent, "Device is in STANDBY mode");
    g_autoptr(GString) deep = g_string_new("{\"smartctl\":");
    for (guint i = 0; i < 100000; i++)
        g_string_append(deep, "[");
    CHECK(!ek_health_parse(deep->str, deep->len, &health));
    /* Every beginning, and one byte changed: nothing but an answer or none. */
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    for (gsize i = 0; i < sizeof ata; i++) {
        g_autofree char *changed = g_memdup2(ata, sizeof ata);
        (void)ek_health_parse(ata, i, &health);
        changed[i] = (char)g_rand_int_range(random, 0, 256);
        (void)ek_health_parse(changed, sizeof ata - 1, &health);
    }
}

static void a_simulated_drive_has_a_health(void)
{
    GError *error = NULL;
    g_autofree guint8 *zeros = g_malloc0(1 << 20);
    write_file("drive.img", zeros, 1 << 20);
    static const char model[] = "[drive]\nbacking=drive.img\nread-rate=0.01\n"
                                "[health]\nfit=true\npending=2\npending-per-failure=3\n"
                                "temperature=30\nheats=6\ncools=12\nsilent-after=600\n"
                                "[fault a]\nkind=unreadable\nfirst=100\ncount=8\n";
    write_file("drive.model", model, sizeof model - 1);
    g_autoptr(EkDevice) device = ek_device_open("sim:drive.model", NULL, &error);
    CHECK_FINE(&error);
    g_auto(EkHealth) first = {{0}, NULL};
    ek_device_health(device, &first);
    check_value(&first, EK_SIGN_PENDING, 2);
    check_value(&first, EK_SIGN_TEMPERATURE, 30);
    g_autofree guint8 *buffer = g_malloc(4096);
    CHECK_NUMBER(ek_device_read(device, 100, 1, buffer).reason, EK_REASON_MEDIUM);
    while (ek_device_clock(device) < 120 * (gint64)1000000000)
        CHECK_NUMBER(ek_device_read(device, 200, 8, buffer).reason, EK_REASON_NONE);
    g_auto(EkHealth) warm = {{0}, NULL};
    ek_device_health(device, &warm);
    check_value(&warm, EK_SIGN_PENDING, 5);
    check_value(&warm, EK_SIGN_TEMPERATURE, 42);
    ek_device_wait(device, 30 * (gint64)1000000000);
    g_auto(EkHealth) cooler = {{0}, NULL};
    ek_device_health(device, &cooler);
    check_value(&cooler, EK_SIGN_TEMPERATURE, 36);
    /* What it went through goes along when it is opened again, but not the heat. */
    EkDeviceMemory memory = ek_device_remember(device);
    g_autoptr(EkDevice) again = ek_device_open("sim:drive.model", NULL, &error);
    ek_device_recall(again, memory);
    g_auto(EkHealth) reopened = {{0}, NULL};
    ek_device_health(again, &reopened);
    check_value(&reopened, EK_SIGN_PENDING, 5);
    check_value(&reopened, EK_SIGN_TEMPERATURE, 30);
    ek_device_wait(again, 600 * (gint64)1000000000);
    g_auto(EkHealth) silent = {{0}, NULL};
    ek_device_health(again, &silent);
    CHECK_NUMBER(ek_health_word(&silent), EK_HEALTH_SILENT);
    g_autoptr(EkDevice) file = ek_device_open("drive.img", NULL, &error);
    g_auto(EkHealth) none = {{0}, NULL};
    ek_device_health(file, &none);
    CHECK_CONTAINS(none.why_silent, "not a drive");
}

int main(void)
{
    static const Test tests[] = {
        {"kinds of drives are understood", kinds_of_drives_are_understood},
        {"the word goes by the gravest sign", the_word_goes_by_the_gravest_sign},
        {"what got worse is told", what_got_worse_is_told},
        {"anything may be printed", anything_may_be_printed},
        {"a simulated drive has a health", a_simulated_drive_has_a_health},
    };
    return RUN_TESTS("health", tests);
}

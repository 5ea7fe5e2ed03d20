/* SPDX-License-Identifier: MIT */
/* What a drive's signs mean, and what smartctl's JSON says of them. */
#include "device/health.h"

#include <jansson.h>
#include <string.h>

#define HOT 50               /* degrees Celsius: time for a fan */
#define MANY_REALLOCATED 100 /* sectors: the surface goes */
#define NEARLY_USED_UP 90    /* percent */

static const char *const sign_names[EK_SIGN_COUNT] = {
    [EK_SIGN_ASSESSMENT] = "assessment",       [EK_SIGN_HOURS] = "power_on_hours",
    [EK_SIGN_TEMPERATURE] = "temperature",     [EK_SIGN_PENDING] = "pending",
    [EK_SIGN_UNCORRECTABLE] = "uncorrectable", [EK_SIGN_REALLOCATED] = "reallocated",
    [EK_SIGN_TRANSFER] = "crc_errors",         [EK_SIGN_MEDIA] = "media_errors",
    [EK_SIGN_SPARE] = "spare_percent",         [EK_SIGN_SPARE_LEAST] = "spare_least_percent",
    [EK_SIGN_USED] = "used_percent",
};

void ek_health_init(EkHealth *health, const char *why_silent)
{
    for (int i = 0; i < EK_SIGN_COUNT; i++)
        health->value[i] = EK_SIGN_UNKNOWN;
    health->why_silent = g_strdup(why_silent);
}

void ek_health_clear(EkHealth *health)
{
    g_clear_pointer(&health->why_silent, g_free);
}

const char *ek_sign_name(EkSign sign)
{
    return sign_names[sign];
}

const char *ek_health_word_name(EkHealthWord word)
{
    static const char *const names[] = {"silent", "steady", "wearing", "failing"};
    return names[word];
}

/* --- what it means --------------------------------------------------------------------------- */

/* Hours, heat and a threshold say nothing of health. */
static gboolean is_silent(const EkHealth *health)
{
    for (int i = 0; i < EK_SIGN_COUNT; i++)
        if (i != EK_SIGN_HOURS && i != EK_SIGN_TEMPERATURE && i != EK_SIGN_SPARE_LEAST &&
            health->value[i] != EK_SIGN_UNKNOWN)
            return FALSE;
    return TRUE;
}

static gboolean is_out_of_spare(const gint64 *value)
{
    return value[EK_SIGN_SPARE] != EK_SIGN_UNKNOWN &&
           value[EK_SIGN_SPARE] <= MAX(value[EK_SIGN_SPARE_LEAST], 0);
}

EkHealthWord ek_health_word(const EkHealth *health)
{
    const gint64 *value = health->value;
    if (is_silent(health))
        return EK_HEALTH_SILENT;
    if (value[EK_SIGN_ASSESSMENT] == 0 || value[EK_SIGN_PENDING] > 0 ||
        value[EK_SIGN_UNCORRECTABLE] > 0 || value[EK_SIGN_MEDIA] > 0 ||
        value[EK_SIGN_REALLOCATED] >= MANY_REALLOCATED || is_out_of_spare(value))
        return EK_HEALTH_FAILING;
    if (value[EK_SIGN_REALLOCATED] > 0 || value[EK_SIGN_USED] >= NEARLY_USED_UP ||
        value[EK_SIGN_TRANSFER] > 0 || value[EK_SIGN_TEMPERATURE] > HOT)
        return EK_HEALTH_WEARING;
    return EK_HEALTH_STEADY;
}

static void add(GPtrArray *sentences, const char *format, ...) G_GNUC_PRINTF(2, 3);

static void add(GPtrArray *sentences, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_ptr_array_add(sentences, g_strdup_vprintf(format, arguments));
    va_end(arguments);
}

#define D G_GINT64_FORMAT

static void say_surface(const gint64 *value, GPtrArray *out)
{
    gint64 pending = value[EK_SIGN_PENDING];
    gint64 moved = value[EK_SIGN_REALLOCATED];
    if (value[EK_SIGN_ASSESSMENT] == 0)
        add(out, "the drive predicts its own failure: image it now, before anything else, and do "
                 "not switch it off in between");
    if (pending > 0)
        add(out, "%" D " %s waiting to be remapped: expect bad areas; do not run a self-test",
            pending, pending == 1 ? "sector is" : "sectors are");
    if (value[EK_SIGN_UNCORRECTABLE] > 0)
        add(out, "%" D " reads have failed for good so far: expect bad areas",
            value[EK_SIGN_UNCORRECTABLE]);
    if (moved > 0)
        add(out, "%" D " %s been remapped: the surface is %s; image the drive before it gets worse",
            moved, moved == 1 ? "sector has" : "sectors have",
            moved >= MANY_REALLOCATED ? "failing" : "wearing");
    if (value[EK_SIGN_MEDIA] > 0)
        add(out, "%" D " media errors: data was lost inside the drive; image it now",
            value[EK_SIGN_MEDIA]);
}

static void say_rest(const gint64 *value, GPtrArray *out)
{
    if (is_out_of_spare(value))
        add(out,
            "spare blocks are used up (%" D "%% left): the drive may refuse writes or stop at "
            "any moment; image it now",
            value[EK_SIGN_SPARE]);
    if (value[EK_SIGN_USED] >= NEARLY_USED_UP)
        add(out,
            "%" D "%% of the rated life is used: do not leave the drive without power for "
            "long; image it now",
            value[EK_SIGN_USED]);
    if (value[EK_SIGN_TRANSFER] > 0)
        add(out,
            "%" D " interface CRC errors so far: if the number rises, replace the cable or the "
            "adapter",
            value[EK_SIGN_TRANSFER]);
    if (value[EK_SIGN_TEMPERATURE] > HOT)
        add(out,
            "%" D " °C is hot: cool the drive with a fan, or limit the heat while imaging "
            "(--max-temperature)",
            value[EK_SIGN_TEMPERATURE]);
}

GPtrArray *ek_health_sentences(const EkHealth *health)
{
    GPtrArray *out = g_ptr_array_new_with_free_func(g_free);
    if (is_silent(health)) {
        add(out, "%s",
            health->why_silent != NULL ? health->why_silent
                                       : "the drive does not report its health");
        return out;
    }
    say_surface(health->value, out);
    say_rest(health->value, out);
    if (out->len == 0)
        add(out, "nothing in the drive's own records shows trouble. Sectors may be bad all the "
                 "same: a drive counts only what it has tried to read");
    return out;
}

GPtrArray *ek_health_worse(const EkHealth *before, const EkHealth *after)
{
    static const struct {
        EkSign sign;
        const char *text;
    } counted[] = {
        {EK_SIGN_PENDING, "sectors waiting to be remapped"},
        {EK_SIGN_UNCORRECTABLE, "failed reads in the drive's records"},
        {EK_SIGN_REALLOCATED, "remapped sectors"},
        {EK_SIGN_MEDIA, "media errors"},
        {EK_SIGN_TRANSFER, "interface CRC errors (check the cable)"},
    };
    GPtrArray *out = g_ptr_array_new_with_free_func(g_free);
    if (before->value[EK_SIGN_ASSESSMENT] == 1 && after->value[EK_SIGN_ASSESSMENT] == 0)
        add(out, "the drive now predicts its own failure");
    for (gsize i = 0; i < G_N_ELEMENTS(counted); i++) {
        gint64 was = before->value[counted[i].sign];
        gint64 is = after->value[counted[i].sign];
        if (was != EK_SIGN_UNKNOWN && is > was)
            add(out, "%s: %" D " before, %" D " now", counted[i].text, was, is);
    }
    return out;
}

/* --- smartctl's JSON ------------------------------------------------------------------------- */

/* A number at a path of keys, "a.b.c"; EK_SIGN_UNKNOWN where none is, or one that makes no sense.
 */
static gint64 number_at(const json_t *root, const char *path)
{
    g_auto(GStrv) keys = g_strsplit(path, ".", -1);
    const json_t *at = root;
    for (char **key = keys; *key != NULL && at != NULL; key++)
        at = json_object_get(at, *key);
    if (json_is_boolean(at))
        return json_is_true(at);
    gint64 value = json_is_integer(at) ? (gint64)json_integer_value(at) : EK_SIGN_UNKNOWN;
    return value >= 0 ? value : EK_SIGN_UNKNOWN;
}

static void take(EkHealth *health, EkSign sign, gint64 value)
{
    health->value[sign] = MAX(health->value[sign], value);
}

/* Attributes of ATA drives are numbered by custom, not by a standard: only those are taken on whose
 * meaning all makers agree. Some pack other counts into the upper half of the 48 bits. */
static void take_attributes(const json_t *root, EkHealth *health)
{
    static const struct {
        gint64 id;
        EkSign sign;
    } known[] = {
        {5, EK_SIGN_REALLOCATED},     {187, EK_SIGN_UNCORRECTABLE}, {197, EK_SIGN_PENDING},
        {198, EK_SIGN_UNCORRECTABLE}, {199, EK_SIGN_TRANSFER},
    };
    const json_t *table = json_object_get(json_object_get(root, "ata_smart_attributes"), "table");
    size_t index;
    json_t *row;
    json_array_foreach(table, index, row)
    {
        gint64 id = number_at(row, "id");
        gint64 raw = number_at(row, "raw.value");
        for (gsize i = 0; i < G_N_ELEMENTS(known) && raw != EK_SIGN_UNKNOWN; i++)
            if (known[i].id == id)
                take(health, known[i].sign, raw & 0xFFFFFFFF);
    }
}

static const struct {
    const char *path;
    EkSign sign;
} places[] = {
    {"smart_status.passed", EK_SIGN_ASSESSMENT},
    {"power_on_time.hours", EK_SIGN_HOURS},
    {"temperature.current", EK_SIGN_TEMPERATURE},
    {"scsi_grown_defect_list", EK_SIGN_REALLOCATED},
    {"scsi_error_counter_log.read.total_uncorrected_errors", EK_SIGN_UNCORRECTABLE},
    {"nvme_smart_health_information_log.media_errors", EK_SIGN_MEDIA},
    {"nvme_smart_health_information_log.available_spare", EK_SIGN_SPARE},
    {"nvme_smart_health_information_log.available_spare_threshold", EK_SIGN_SPARE_LEAST},
    {"nvme_smart_health_information_log.percentage_used", EK_SIGN_USED},
    {"nvme_smart_health_information_log.power_on_hours", EK_SIGN_HOURS},
    {"nvme_smart_health_information_log.temperature", EK_SIGN_TEMPERATURE},
    {"spare_available.current_percent", EK_SIGN_SPARE},
    {"spare_available.threshold_percent", EK_SIGN_SPARE_LEAST},
    {"endurance_used.current_percent", EK_SIGN_USED},
};

/* Why nothing came: what smartctl said first. */
static char *reason_in(const json_t *root)
{
    const json_t *messages = json_object_get(json_object_get(root, "smartctl"), "messages");
    const char *text = json_string_value(json_object_get(json_array_get(messages, 0), "string"));
    if (text == NULL)
        return g_strdup("the drive does not report its health");
    return g_strdup_printf("the drive does not report its health: %s", text);
}

gboolean ek_health_parse(const char *text, gsize length, EkHealth *health)
{
    json_error_t where;
    json_t *root = json_loadb(text, length, JSON_REJECT_DUPLICATES, &where);
    if (!json_is_object(json_object_get(root, "smartctl"))) {
        json_decref(root);
        return FALSE;
    }
    ek_health_clear(health);
    ek_health_init(health, NULL);
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++)
        take(health, places[i].sign, number_at(root, places[i].path));
    take_attributes(root, health);
    if (is_silent(health))
        health->why_silent = reason_in(root);
    json_decref(root);
    return TRUE;
}

/* SPDX-License-Identifier: MIT */
/* What a drive says of its health, for people and as JSON. */
#include "signs.h"

#include "base/text.h"
#include "device/device.h"
#include "show.h"

json_t *ek_signs_json(const EkHealth *health)
{
    json_t *out = json_object();
    json_t *meaning = json_array();
    g_autoptr(GPtrArray) sentences = ek_health_sentences(health);
    json_object_set_new(out, "word", ek_json_text(ek_health_word_name(ek_health_word(health))));
    for (int i = 0; i < EK_SIGN_COUNT; i++) {
        gint64 value = health->value[i];
        json_object_set_new(out, ek_sign_name((EkSign)i),
                            value == EK_SIGN_UNKNOWN ? json_null() : json_integer(value));
    }
    for (guint i = 0; i < sentences->len; i++)
        json_array_append_new(meaning, ek_json_text(sentences->pdata[i]));
    json_object_set_new(out, "meaning", meaning);
    return out;
}

char *ek_signs_numbers(const EkHealth *health)
{
    static const struct {
        EkSign sign;
        const char *behind; /* the number */
    } shown[] = {
        {EK_SIGN_HOURS, " hours powered on"},
        {EK_SIGN_TEMPERATURE, " °C"},
        {EK_SIGN_PENDING, " pending"},
        {EK_SIGN_UNCORRECTABLE, " uncorrectable"},
        {EK_SIGN_REALLOCATED, " remapped"},
        {EK_SIGN_TRANSFER, " interface CRC errors"},
        {EK_SIGN_MEDIA, " media errors"},
        {EK_SIGN_SPARE, "% spare blocks left"},
        {EK_SIGN_USED, "% of the rated life used"},
    };
    g_autoptr(GString) text = g_string_new(NULL);
    for (gsize i = 0; i < G_N_ELEMENTS(shown); i++) {
        gint64 value = health->value[shown[i].sign];
        if (value != EK_SIGN_UNKNOWN)
            g_string_append_printf(text, "%s%" G_GINT64_FORMAT "%s", text->len > 0 ? ", " : "",
                                   value, shown[i].behind);
    }
    return text->len > 0 ? g_strdup(text->str) : NULL;
}

char *ek_signs_line(const EkHealth *health)
{
    EkHealthWord word = ek_health_word(health);
    g_autofree char *numbers = ek_signs_numbers(health);
    if (word != EK_HEALTH_SILENT)
        return g_strdup_printf("%s: %s", ek_health_word_name(word), numbers);
    g_autoptr(GPtrArray) why = ek_health_sentences(health);
    return g_strdup_printf("not known: %s", (const char *)why->pdata[0]);
}

json_t *ek_signs_list_json(const GPtrArray *kept)
{
    json_t *list = json_array();
    for (guint i = 0; i < kept->len; i++) {
        const EkKeptHealth *one = kept->pdata[i];
        json_t *row = ek_signs_json(&one->health);
        json_object_set_new(row, "taken", json_integer(one->taken));
        json_object_set_new(row, "event", json_integer(one->event));
        json_object_set_new(row, "device_seconds", json_real((double)one->device_clock / 1e9));
        json_array_append_new(list, row);
    }
    return list;
}

void ek_signs_ask(const EkDrive *drive, EkHealth *health)
{
    if (!g_str_has_prefix(drive->path, "sim:")) {
        ek_health_ask(drive->path, TRUE, ek_cli_watch_signals(), health);
        return;
    }
    g_autoptr(GError) error = NULL;
    g_autoptr(EkDevice) device = ek_device_open(drive->path, NULL, &error);
    if (device != NULL)
        ek_device_health(device, health);
    else
        ek_health_init(health, error->message);
}

static EkColor color_of(EkHealthWord word)
{
    switch (word) {
    case EK_HEALTH_FAILING: return EK_COLOR_BAD;
    case EK_HEALTH_WEARING: return EK_COLOR_WARN;
    case EK_HEALTH_STEADY: return EK_COLOR_GOOD;
    case EK_HEALTH_SILENT: break;
    }
    return EK_COLOR_STRONG;
}

static void print_queue(const EkDrive *drive)
{
    g_autoptr(GString) text = g_string_new(NULL);
    if (drive->scheduler != NULL)
        g_string_append_printf(text, ", scheduler %s", drive->scheduler);
    if (drive->queue_depth > 0)
        g_string_append_printf(text, ", up to %" G_GUINT64_FORMAT " commands waiting",
                               drive->queue_depth);
    if (drive->write_cache != NULL)
        g_string_append_printf(text, ", write cache %s", drive->write_cache);
    if (drive->power != NULL && !g_str_equal(drive->power, "unsupported"))
        g_string_append_printf(text, ", power %s%s", drive->power,
                               drive->suspends ? " (may be suspended when not in use)" : "");
    if (text->len == 0)
        return;
    g_autofree char *safe = ek_text_escape(text->str + 2);
    g_autofree char *line = g_strdup_printf("queue: %s", safe);
    ek_show_sentence(stdout, "    ", 6, line);
}

/* Flash that erases what is deleted keeps nothing for an undelete. */
static void print_trims(EkCli *cli, const EkDrive *drive)
{
    if (!drive->can_discard)
        return;
    g_autofree char *mark = ek_show_in(cli->color_out, EK_COLOR_WARN, "  ! ");
    g_autoptr(GPtrArray) trims = ek_system_trims(cli->system);
    ek_show_sentence(stdout, mark, 4,
                     "the drive supports discard (TRIM): a system that mounts it may erase deleted "
                     "data for good. Do not mount it before it is imaged");
    for (guint i = 0; i < trims->len; i++) {
        g_autofree char *line = g_strdup_printf(
            "this computer trims mounted drives automatically (erases deleted data): %s",
            (const char *)trims->pdata[i]);
        ek_show_sentence(stdout, mark, 4, line);
    }
}

void ek_signs_print(EkCli *cli, const EkDrive *drive, const EkHealth *health)
{
    EkHealthWord word = ek_health_word(health);
    g_autoptr(GPtrArray) sentences = ek_health_sentences(health);
    g_autofree char *numbers = ek_signs_numbers(health);
    g_autofree char *name = ek_show_in(cli->color_out, color_of(word), ek_health_word_name(word));
    ek_cli_print("    health: %s\n", name);
    for (guint i = 0; i < sentences->len; i++) {
        g_autofree char *safe = ek_text_escape(sentences->pdata[i]);
        ek_show_sentence(stdout, "      ", 8, safe);
    }
    if (numbers != NULL) {
        g_autofree char *line = g_strdup_printf("reported: %s", numbers);
        ek_show_sentence(stdout, "      ", 8, line);
    }
    print_queue(drive);
    print_trims(cli, drive);
}

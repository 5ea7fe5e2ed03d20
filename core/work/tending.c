/* SPDX-License-Identifier: MIT */
/* Looking after a drive while it is imaged. All times are the device's. */
#include "work/tending.h"

#include <string.h>

#define SECOND_NS ((gint64)1000000000)
#define ASK_EVERY_NS (30 * 60 * SECOND_NS)
#define ASK_HEAT_EVERY_NS (60 * SECOND_NS)
#define TELL_EVERY_NS (10 * 60 * SECOND_NS)
#define REST_MOST_NS (2 * 3600 * SECOND_NS)
#define NAP_NS (SECOND_NS / 10)
#define COOLS_BY 5 /* degrees below the limit before it goes on */

struct EkTending {
    EkTendingParts parts;
    EkDevice *device;
    EkHealth known; /* as it was told last; a silent answer changes nothing */
    gboolean has_known;
    gboolean has_told; /* that it got worse */
    gint64 told_at;
    gint64 kept_at;
    gint64 asked_at;
};

static void tell(const EkTending *tending, const char *format, ...) G_GNUC_PRINTF(2, 3);

static void tell(const EkTending *tending, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    if (tending->parts.told != NULL)
        tending->parts.told(tending->parts.data, text);
}

static void learn(EkTending *tending, const EkHealth *health)
{
    memcpy(tending->known.value, health->value, sizeof health->value);
    tending->has_known = TRUE;
}

/* The first time at once, then not with every sector that fails. */
static void tell_worse(EkTending *tending, const EkHealth *health, gint64 now)
{
    g_autoptr(GPtrArray) worse = ek_health_worse(&tending->known, health);
    if (worse->len == 0 || (tending->has_told && now - tending->told_at < TELL_EVERY_NS))
        return;
    for (guint i = 0; i < worse->len; i++)
        tell(tending, "the drive's health got worse: %s", (const char *)worse->pdata[i]);
    tending->has_told = TRUE;
    tending->told_at = now;
    learn(tending, health);
}

/* Tells what got worse and keeps what is due. What cannot be kept is missing in the report;
 * imaging goes on. The temperature, EK_SIGN_UNKNOWN where there is none. */
static gint64 take_answer(EkTending *tending, const EkHealth *health, gboolean keep)
{
    gboolean is_silent = ek_health_word(health) == EK_HEALTH_SILENT;
    gint64 now = ek_device_clock(tending->device);
    tending->asked_at = now;
    if (!is_silent && tending->has_known)
        tell_worse(tending, health, now);
    else if (!is_silent)
        learn(tending, health);
    if (keep || now - tending->kept_at >= ASK_EVERY_NS) {
        GError *error = NULL;
        tending->kept_at = now;
        if (!ek_healthstore_add(tending->parts.opened, tending->parts.event, now, health, &error))
            tell(tending, "the drive's health cannot be kept in the case: %s", error->message);
        g_clear_error(&error);
    }
    return health->value[EK_SIGN_TEMPERATURE];
}

static gint64 ask(EkTending *tending, gboolean keep)
{
    g_auto(EkHealth) health = {{0}, NULL};
    ek_device_health(tending->device, &health);
    return take_answer(tending, &health, keep);
}

/* Was all of this said before, when the case was made or imaged the last time? */
static gboolean is_known_already(const EkTendingParts *parts, const EkHealth *health)
{
    g_autoptr(GPtrArray) list = ek_healthstore_list(parts->opened, NULL);
    const EkKeptHealth *last = list != NULL ? ek_kept_health_last(list) : NULL;
    if (last == NULL || ek_health_word(&last->health) != ek_health_word(health))
        return FALSE;
    g_autoptr(GPtrArray) worse = ek_health_worse(&last->health, health);
    return worse->len == 0;
}

EkTending *ek_tending_new(const EkTendingParts *parts, EkDevice *device)
{
    EkTending *tending = g_new0(EkTending, 1);
    tending->parts = *parts;
    tending->device = device;
    ek_health_init(&tending->known, NULL);
    /* A source that is no drive is not asked: there would be nothing but that to keep. */
    if (!ek_device_is_drive(device))
        return tending;
    g_auto(EkHealth) health = {{0}, NULL};
    ek_device_health(device, &health);
    if (ek_health_word(&health) > EK_HEALTH_STEADY && !is_known_already(parts, &health)) {
        g_autoptr(GPtrArray) sentences = ek_health_sentences(&health);
        for (guint i = 0; i < sentences->len; i++)
            tell(tending, "drive %s: %s", ek_health_word_name(ek_health_word(&health)),
                 (const char *)sentences->pdata[i]);
    }
    gint64 temperature = take_answer(tending, &health, TRUE);
    if (parts->max_temperature > 0 && temperature == EK_SIGN_UNKNOWN)
        tell(tending, "the drive does not report its temperature: --max-temperature has no effect");
    return tending;
}

void ek_tending_free(EkTending *tending)
{
    ek_health_clear(&tending->known);
    g_free(tending);
}

void ek_tending_set_device(EkTending *tending, EkDevice *device)
{
    tending->device = device;
}

static gboolean is_called_off(const EkTending *tending)
{
    return g_atomic_int_get(tending->parts.cancel) != 0;
}

static void nap(EkTending *tending, gint64 nanoseconds)
{
    for (gint64 left = nanoseconds; left > 0 && !is_called_off(tending); left -= NAP_NS)
        ek_device_wait(tending->device, MIN(left, NAP_NS));
}

/* FALSE: it has rested long enough for any drive, and is as hot. */
static gboolean cool(EkTending *tending, gint64 temperature)
{
    gint64 most = tending->parts.max_temperature;
    gint64 began = ek_device_clock(tending->device);
    tell(tending,
         "the drive is at %" G_GINT64_FORMAT " °C, above the limit of %" G_GINT64_FORMAT
         ": imaging pauses until it has cooled to %" G_GINT64_FORMAT " °C",
         temperature, most, most - COOLS_BY);
    tending->parts.rests(tending->parts.data, TRUE);
    while (temperature > most - COOLS_BY && !is_called_off(tending) &&
           ek_device_clock(tending->device) - began < REST_MOST_NS) {
        nap(tending, ASK_HEAT_EVERY_NS);
        if (!is_called_off(tending))
            temperature = ask(tending, FALSE);
    }
    tending->parts.rests(tending->parts.data, FALSE);
    if (is_called_off(tending))
        return TRUE;
    gint64 minutes = (ek_device_clock(tending->device) - began) / (60 * SECOND_NS);
    if (temperature > most)
        tell(tending,
             "after a pause of %" G_GINT64_FORMAT " minutes the drive is still at %" G_GINT64_FORMAT
             " °C: imaging stops. Cool the drive with a fan",
             minutes, temperature);
    else if (temperature != EK_SIGN_UNKNOWN)
        tell(tending,
             "the drive is at %" G_GINT64_FORMAT " °C after %" G_GINT64_FORMAT
             " minutes: imaging resumes",
             temperature, minutes);
    return temperature <= most;
}

gboolean ek_tending_look(EkTending *tending)
{
    gint64 most = tending->parts.max_temperature;
    if (!ek_device_is_drive(tending->device))
        return TRUE;
    gint64 every = most > 0 ? ASK_HEAT_EVERY_NS : ASK_EVERY_NS;
    if (ek_device_clock(tending->device) - tending->asked_at < every)
        return TRUE;
    gint64 temperature = ask(tending, FALSE);
    return most == 0 || temperature <= most || cool(tending, temperature);
}

void ek_tending_end(EkTending *tending)
{
    if (ek_device_is_drive(tending->device))
        (void)ask(tending, TRUE);
}

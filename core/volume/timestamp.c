/* SPDX-License-Identifier: MIT */
/* Timestamps of the file systems, as seconds since 1970. */
#include "volume/volume.h"

#define STEPS_A_SECOND 10000000u
#define SECONDS_TO_1970 11644473600 /* from 1601 */
#define YEAR_1980 315532800
#define YEAR_2200 7258118400
#define NANOSECONDS 1000000000
#define NANOSECONDS_REACH 9000000000 /* seconds that 63 bits of ns hold */

EkTimestamp ek_timestamp_dos(guint16 date, guint16 time)
{
    guint year = 1980 + (date >> 9);
    guint month = date >> 5 & 15;
    guint day = date & 31;
    guint hour = time >> 11;
    guint minute = time >> 5 & 63;
    guint second = (time & 31) * 2u;
    EkTimestamp timestamp = {.is_local = TRUE};
    if (date == 0 || !g_date_valid_dmy((GDateDay)day, (GDateMonth)month, (GDateYear)year) ||
        hour > 23 || minute > 59 || second > 59)
        return timestamp;
    g_autoptr(GDateTime) utc =
        g_date_time_new_utc((int)year, (int)month, (int)day, (int)hour, (int)minute, second);
    timestamp.seconds = g_date_time_to_unix(utc);
    timestamp.is_set = TRUE;
    return timestamp;
}

EkTimestamp ek_timestamp_filetime(guint64 steps)
{
    gint64 seconds = (gint64)(steps / STEPS_A_SECOND) - SECONDS_TO_1970;
    return (EkTimestamp){.seconds = seconds,
                         .nanoseconds = (guint32)(steps % STEPS_A_SECOND) * 100,
                         .is_set = seconds >= YEAR_1980 && seconds < YEAR_2200};
}

EkTimestamp ek_timestamp_utc(gint64 seconds)
{
    return (EkTimestamp){.seconds = seconds, .is_set = seconds != 0};
}

void ek_timestamp_advance(EkTimestamp *timestamp, EkTimestamp other)
{
    if (other.is_set && (!timestamp->is_set ||
                         ek_timestamp_nanoseconds(other) > ek_timestamp_nanoseconds(*timestamp)))
        *timestamp = other;
}

gint64 ek_timestamp_nanoseconds(EkTimestamp timestamp)
{
    if (!timestamp.is_set)
        return 0;
    return CLAMP(timestamp.seconds, -NANOSECONDS_REACH, NANOSECONDS_REACH) * NANOSECONDS +
           timestamp.nanoseconds;
}

char *ek_timestamp_words(EkTimestamp timestamp)
{
    g_autoptr(GDateTime) time = g_date_time_new_from_unix_utc(timestamp.seconds);
    if (!timestamp.is_set || time == NULL)
        return NULL;
    g_autofree char *text = g_date_time_format(time, "%Y-%m-%d %H:%M:%S");
    return g_strdup_printf("%s%s", text, timestamp.is_local ? " (local time)" : " UTC");
}

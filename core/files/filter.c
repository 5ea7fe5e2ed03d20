/* SPDX-License-Identifier: MIT */
/* Which files a filter lets through. */
#include "files/filter.h"

#include <string.h>

void ek_filter_clear(EkFilter *filter)
{
    g_clear_pointer(&filter->name, g_pattern_spec_free);
    g_clear_pointer(&filter->path, g_pattern_spec_free);
    g_clear_pointer(&filter->endings, g_strfreev);
}

GPatternSpec *ek_filter_pattern(const char *text)
{
    g_autofree char *folded = g_utf8_casefold(text, -1);
    return g_pattern_spec_new(folded);
}

GPatternSpec *ek_filter_part(const char *text)
{
    g_autofree char *anywhere =
        strpbrk(text, "*?") != NULL ? g_strdup(text) : g_strdup_printf("*%s*", text);
    return ek_filter_pattern(anywhere);
}

static gboolean two_digits(const char **text, gint least, gint most, gint *value)
{
    const char *at = *text;
    if (!g_ascii_isdigit(at[0]) || !g_ascii_isdigit(at[1]))
        return FALSE;
    *value = (at[0] - '0') * 10 + (at[1] - '0');
    *text = at + 2;
    return *value >= least && *value <= most;
}

static gboolean skip(const char **text, char c)
{
    if (**text != c)
        return FALSE;
    (*text)++;
    return TRUE;
}

gboolean ek_filter_bound(const char *text, EkBound *bound)
{
    gint century = 0;
    gint year = 0;
    gint month = 1;
    gint day = 1;
    gint clock[3] = {0, 0, 0};
    const char *at = text;
    if (!two_digits(&at, 0, 99, &century) || !two_digits(&at, 0, 99, &year))
        return FALSE;
    /* A year or a month begins with its first day. */
    if (*at != '\0' && (!skip(&at, '-') || !two_digits(&at, 1, 12, &month)))
        return FALSE;
    if (*at != '\0' && (!skip(&at, '-') || !two_digits(&at, 1, 31, &day)))
        return FALSE;
    if (*at != '\0' &&
        ((!skip(&at, 'T') && !skip(&at, ' ')) || !two_digits(&at, 0, 23, &clock[0]) ||
         !skip(&at, ':') || !two_digits(&at, 0, 59, &clock[1])))
        return FALSE;
    if (*at != '\0' && (!skip(&at, ':') || !two_digits(&at, 0, 59, &clock[2]) || *at != '\0'))
        return FALSE;
    year += century * 100;
    g_autoptr(GDateTime) wall = g_date_time_new_utc(year, month, day, clock[0], clock[1], clock[2]);
    g_autoptr(GDateTime) local =
        g_date_time_new_local(year, month, day, clock[0], clock[1], clock[2]);
    if (wall == NULL || local == NULL)
        return FALSE;
    *bound = (EkBound){TRUE, g_date_time_to_unix(local), g_date_time_to_unix(wall)};
    return TRUE;
}

static EkVerdict judge_timestamp(const EkSpanOfTime *span, const EkTimestamp *timestamp)
{
    if (!span->after.is_set && !span->before.is_set)
        return EK_VERDICT_YES;
    if (!timestamp->is_set)
        return EK_VERDICT_UNKNOWN;
    gint64 after = timestamp->is_local ? span->after.wall : span->after.utc;
    gint64 before = timestamp->is_local ? span->before.wall : span->before.utc;
    return (!span->after.is_set || timestamp->seconds >= after) &&
                   (!span->before.is_set || timestamp->seconds < before)
               ? EK_VERDICT_YES
               : EK_VERDICT_NO;
}

static gboolean has_ending(char *const *endings, const char *folded)
{
    const char *dot = strrchr(folded, '.');
    for (; dot != NULL && *endings != NULL; endings++)
        if (g_str_equal(dot + 1, *endings))
            return TRUE;
    return FALSE;
}

static gboolean fits_name(const EkFilter *filter, const char *path, const char *name)
{
    if (filter->name != NULL || filter->endings != NULL) {
        g_autofree char *folded = g_utf8_casefold(name, -1);
        if ((filter->name != NULL && !g_pattern_spec_match_string(filter->name, folded)) ||
            (filter->endings != NULL && !has_ending(filter->endings, folded)))
            return FALSE;
    }
    if (filter->path == NULL)
        return TRUE;
    g_autofree char *folded = g_utf8_casefold(path, -1);
    return g_pattern_spec_match_string(filter->path, folded);
}

EkVerdict ek_filter_judge(const EkFilter *filter, const char *path, const EkItem *item)
{
    const EkFile *file = &item->file;
    gboolean is_deleted = (file->flags & EK_FILE_DELETED) != 0;
    gboolean has_content = file->type == EK_TYPE_FILE || file->type == EK_TYPE_STREAM;
    if (filter->deleted != EK_WANTED_ANY && is_deleted != (filter->deleted == EK_WANTED_ONLY))
        return EK_VERDICT_NO;
    if ((filter->kinds != 0 || filter->least > 0 || filter->most > 0) && !has_content)
        return EK_VERDICT_NO;
    if (filter->conditions != 0 && (filter->conditions >> item->damage.condition & 1) == 0)
        return EK_VERDICT_NO;
    if (file->size < filter->least || (filter->most > 0 && file->size > filter->most))
        return EK_VERDICT_NO;
    if (filter->kinds != 0 && !filter->by_content &&
        (filter->kinds >> ek_kind_of(item->name) & 1) == 0)
        return EK_VERDICT_NO;
    if (!fits_name(filter, path, item->name))
        return EK_VERDICT_NO;
    EkVerdict parts[] = {judge_timestamp(&filter->created, &file->created),
                         judge_timestamp(&filter->modified, &file->modified),
                         judge_timestamp(&filter->accessed, &file->accessed)};
    EkVerdict verdict = EK_VERDICT_YES;
    for (gsize i = 0; i < G_N_ELEMENTS(parts); i++) {
        if (parts[i] == EK_VERDICT_NO)
            return EK_VERDICT_NO;
        if (parts[i] == EK_VERDICT_UNKNOWN)
            verdict = EK_VERDICT_UNKNOWN;
    }
    return verdict;
}

static gboolean is_span_set(const EkSpanOfTime *span)
{
    return span->after.is_set || span->before.is_set;
}

gboolean ek_filter_is_set(const EkFilter *filter)
{
    return filter->name != NULL || filter->path != NULL || filter->endings != NULL ||
           filter->kinds != 0 || filter->conditions != 0 || filter->opens != 0 ||
           filter->least > 0 || filter->most > 0 || filter->deleted != EK_WANTED_ANY ||
           is_span_set(&filter->created) || is_span_set(&filter->modified) ||
           is_span_set(&filter->accessed);
}

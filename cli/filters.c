/* SPDX-License-Identifier: MIT */
/* The options that choose files, shared by find and extract. */
#include "filters.h"

#include "nearest.h"
#include "numbers.h"
#include "work/judging.h"

static gboolean take_kinds(const char *text, guint *kinds)
{
    g_auto(GStrv) parts = g_strsplit(text, ",", -1);
    for (char **part = parts; *part != NULL; part++) {
        EkKind kind;
        if (!ek_kind_from_name(*part, &kind))
            return FALSE;
        *kinds |= 1u << kind;
    }
    return *kinds != 0;
}

static gboolean take_conditions(const char *text, guint *conditions)
{
    g_auto(GStrv) parts = g_strsplit(text, ",", -1);
    for (char **part = parts; *part != NULL; part++) {
        guint condition = 0;
        while (condition < EK_CONDITIONS &&
               !g_str_equal(*part, ek_condition_name((EkCondition)condition)))
            condition++;
        if (condition == EK_CONDITIONS)
            return FALSE;
        *conditions |= 1u << condition;
    }
    return *conditions != 0;
}

static gboolean take_opens(const char *text, guint *opens)
{
    g_auto(GStrv) parts = g_strsplit(text, ",", -1);
    for (char **part = parts; *part != NULL; part++) {
        guint answer = EK_OPENS_UNCHECKED;
        while (answer <= EK_OPENS_NO && !g_str_equal(*part, ek_opens_name((EkOpens)answer)))
            answer++;
        if (answer > EK_OPENS_NO)
            return FALSE;
        *opens |= 1u << answer;
    }
    return *opens != 0;
}

static char **take_endings(const char *text)
{
    g_autofree char *folded = g_utf8_casefold(text, -1);
    char **endings = g_strsplit(folded, ",", -1);
    for (char **ending = endings; *ending != NULL; ending++)
        if (**ending == '.') {
            char *bare = g_strdup(*ending + 1);
            g_free(*ending);
            *ending = bare;
        }
    return endings;
}

static const char *nearest_condition(const char *word)
{
    const char *names[EK_CONDITIONS + 1] = {NULL};
    for (guint i = 0; i < EK_CONDITIONS; i++)
        names[i] = ek_condition_name((EkCondition)i);
    return ek_nearest(word, names);
}

static const char *nearest_kind(const char *word)
{
    const char *names[EK_KINDS + 1] = {NULL};
    for (guint i = 0; i < EK_KINDS; i++)
        names[i] = ek_kind_name((EkKind)i);
    return ek_nearest(word, names);
}

typedef struct {
    const char *option;
    const char *text;
    EkBound *bound;
} Date;

/* What is wrong with them, for the user; NULL: nothing. The caller frees. */
static char *take_all(const EkFilterWords *words, EkFilter *filter)
{
    const Date dates[] = {
        {"created-after", words->created_after, &filter->created.after},
        {"created-before", words->created_before, &filter->created.before},
        {"modified-after", words->modified_after, &filter->modified.after},
        {"modified-before", words->modified_before, &filter->modified.before},
        {"accessed-after", words->accessed_after, &filter->accessed.after},
        {"accessed-before", words->accessed_before, &filter->accessed.before},
    };
    const char *nearest = words->conditions != NULL ? nearest_condition(words->conditions) : NULL;
    const char *near_kind = words->kinds != NULL ? nearest_kind(words->kinds) : NULL;
    for (gsize i = 0; i < G_N_ELEMENTS(dates); i++)
        if (dates[i].text != NULL && !ek_filter_bound(dates[i].text, dates[i].bound))
            return g_strdup_printf(
                "--%s takes a date as 2025-03-01 or 2025-03-01T14:05, not \"%s\"", dates[i].option,
                dates[i].text);
    if (words->larger != NULL && !ek_numbers_size(words->larger, &filter->least))
        return g_strdup_printf("--larger takes a size as 512, 10K or 2G, not \"%s\"",
                               words->larger);
    if (words->smaller != NULL &&
        (!ek_numbers_size(words->smaller, &filter->most) || filter->most == 0))
        return g_strdup_printf("--smaller takes a size as 512, 10K or 2G, not \"%s\"",
                               words->smaller);
    if (words->kinds != NULL && !take_kinds(words->kinds, &filter->kinds))
        return g_strdup_printf("--kind takes pictures, video, audio, documents, mail, databases, "
                               "archives, programs or other, not \"%s\"%s%s",
                               words->kinds, near_kind != NULL ? ". The nearest one: " : "",
                               near_kind != NULL ? near_kind : "");
    if (words->by_content && words->kinds == NULL)
        return g_strdup("--by-content requires --kind");
    if (words->conditions != NULL && !take_conditions(words->conditions, &filter->conditions))
        return g_strdup_printf(
            "--condition takes whole, holed, overwritten, unplaced or doubtful, not \"%s\"%s%s",
            words->conditions, nearest != NULL ? ". The nearest one: " : "",
            nearest != NULL ? nearest : "");
    if (words->opens != NULL && !take_opens(words->opens, &filter->opens))
        return g_strdup_printf("--opens takes yes, no or unknown, not \"%s\"", words->opens);
    if (words->deleted && words->not_deleted)
        return g_strdup("--deleted and --not-deleted cannot be combined");
    if (words->name != NULL && words->name_is != NULL)
        return g_strdup("--name and --name-is: give one of them");
    if (words->name != NULL)
        filter->name = ek_filter_part(words->name);
    if (words->name_is != NULL)
        filter->name = ek_filter_pattern(words->name_is);
    if (words->path != NULL)
        filter->path = ek_filter_pattern(words->path);
    if (words->endings != NULL)
        filter->endings = take_endings(words->endings);
    filter->by_content = words->by_content;
    filter->deleted = words->deleted       ? EK_WANTED_ONLY
                      : words->not_deleted ? EK_WANTED_NOT
                                           : EK_WANTED_ANY;
    return NULL;
}

gboolean ek_filters_take(EkCli *cli, EkFilterWords *words, EkFilter *filter, int *status)
{
    char **all[] = {&words->name,
                    &words->name_is,
                    &words->path,
                    &words->kinds,
                    &words->endings,
                    &words->larger,
                    &words->smaller,
                    &words->created_after,
                    &words->created_before,
                    &words->modified_after,
                    &words->modified_before,
                    &words->accessed_after,
                    &words->accessed_before,
                    &words->conditions,
                    &words->opens};
    *filter = (EkFilter){0};
    g_autofree char *wrong = take_all(words, filter);
    for (gsize i = 0; i < G_N_ELEMENTS(all); i++)
        g_clear_pointer(all[i], g_free);
    if (wrong == NULL)
        return TRUE;
    ek_filter_clear(filter);
    *status = ek_cli_misused(cli, "%s", wrong);
    return FALSE;
}

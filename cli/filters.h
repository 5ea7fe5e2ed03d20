/* SPDX-License-Identifier: MIT */
/* The options that say which files are wanted, for the commands that take them. */
#ifndef EK_CLI_FILTERS_H
#define EK_CLI_FILTERS_H

#include "cli.h"
#include "files/filter.h"

/* As they were written. */
typedef struct {
    char *name;
    char *name_is;
    char *path;
    char *kinds;
    char *endings;
    char *larger;
    char *smaller;
    char *created_after;
    char *created_before;
    char *modified_after;
    char *modified_before;
    char *accessed_after;
    char *accessed_before;
    char *conditions;
    gboolean deleted;
    gboolean not_deleted;
    gboolean by_content;
} EkFilterWords;

#define EK_FILTER_WORD(option, field, what, value)                                                 \
    {                                                                                              \
        option, 0, 0, G_OPTION_ARG_STRING, field, what, value                                      \
    }
#define EK_FILTER_ENTRIES(words)                                                                   \
    EK_FILTER_WORD("name", &(words).name,                                                          \
                   "file name contains this, or matches * and ? (any case)", "PATTERN"),           \
        EK_FILTER_WORD("name-is", &(words).name_is, "file name is this (any case)", "NAME"),       \
        EK_FILTER_WORD("path", &(words).path, "with such a path", "PATTERN"),                      \
        EK_FILTER_WORD("kind", &(words).kinds,                                                     \
                       "pictures, video, audio, documents, mail, databases, archives, programs, "  \
                       "other",                                                                    \
                       "KIND,…"),                                                                  \
        {"by-content",                                                                             \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_NONE,                                                                        \
         &(words).by_content,                                                                      \
         "--kind looks into files, whatever they are called",                                      \
         NULL},                                                                                    \
        EK_FILTER_WORD("ext", &(words).endings, "with such an ending, as jpg,png", "EXT,…"),       \
        EK_FILTER_WORD("larger", &(words).larger, "at least so large, as 10M", "SIZE"),            \
        EK_FILTER_WORD("smaller", &(words).smaller, "at most so large", "SIZE"),                   \
        EK_FILTER_WORD("modified-after", &(words).modified_after,                                  \
                       "changed then or later, as 2025-03-01 or 2025-03-01T14:05", "DATE"),        \
        EK_FILTER_WORD("modified-before", &(words).modified_before, "changed before that",         \
                       "DATE"),                                                                    \
        EK_FILTER_WORD("created-after", &(words).created_after, "made then or later", "DATE"),     \
        EK_FILTER_WORD("created-before", &(words).created_before, "made before that", "DATE"),     \
        EK_FILTER_WORD("accessed-after", &(words).accessed_after, "read then or later", "DATE"),   \
        EK_FILTER_WORD("accessed-before", &(words).accessed_before, "read before that", "DATE"),   \
        EK_FILTER_WORD("condition", &(words).conditions,                                           \
                       "whole, holed, overwritten, unplaced, doubtful", "CONDITION,…"),            \
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &(words).deleted, "deleted ones only", NULL},         \
    {                                                                                              \
        "not-deleted", 0, 0, G_OPTION_ARG_NONE, &(words).not_deleted, "none that was deleted",     \
            NULL                                                                                   \
    }

/* Reads them into *filter, which the caller clears. FALSE when one is wrong: *status says how the
 * command ends. Frees the words. */
gboolean ek_filters_take(EkCli *cli, EkFilterWords *words, EkFilter *filter, int *status);

#endif

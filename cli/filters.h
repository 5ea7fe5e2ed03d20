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
    char *opens;
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
        EK_FILTER_WORD("path", &(words).path, "path matches", "PATTERN"),                          \
        EK_FILTER_WORD("kind", &(words).kinds,                                                     \
                       "pictures, video, audio, documents, mail, databases, archives, programs, "  \
                       "other",                                                                    \
                       "KIND,…"),                                                                  \
        {"by-content",                                                                             \
         0,                                                                                        \
         0,                                                                                        \
         G_OPTION_ARG_NONE,                                                                        \
         &(words).by_content,                                                                      \
         "judge --kind by file contents instead of the name",                                      \
         NULL},                                                                                    \
        EK_FILTER_WORD("ext", &(words).endings, "file extension, e.g. jpg,png", "EXT,…"),          \
        EK_FILTER_WORD("larger", &(words).larger, "minimum size, e.g. 10M", "SIZE"),               \
        EK_FILTER_WORD("smaller", &(words).smaller, "maximum size", "SIZE"),                       \
        EK_FILTER_WORD("modified-after", &(words).modified_after,                                  \
                       "modified on or after DATE (2025-03-01 or 2025-03-01T14:05)", "DATE"),      \
        EK_FILTER_WORD("modified-before", &(words).modified_before, "modified before DATE",        \
                       "DATE"),                                                                    \
        EK_FILTER_WORD("created-after", &(words).created_after, "created on or after DATE",        \
                       "DATE"),                                                                    \
        EK_FILTER_WORD("created-before", &(words).created_before, "created before DATE", "DATE"),  \
        EK_FILTER_WORD("accessed-after", &(words).accessed_after, "accessed on or after DATE",     \
                       "DATE"),                                                                    \
        EK_FILTER_WORD("accessed-before", &(words).accessed_before, "accessed before DATE",        \
                       "DATE"),                                                                    \
        EK_FILTER_WORD("condition", &(words).conditions,                                           \
                       "whole, holed, overwritten, unplaced, doubtful", "CONDITION,…"),            \
        EK_FILTER_WORD("opens", &(words).opens,                                                    \
                       "whether the content opens: yes, no, unknown (looks into each file once)",  \
                       "ANSWER,…"),                                                                \
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &(words).deleted, "only deleted files", NULL},        \
    {                                                                                              \
        "not-deleted", 0, 0, G_OPTION_ARG_NONE, &(words).not_deleted, "exclude deleted files",     \
            NULL                                                                                   \
    }

/* Reads them into *filter, which the caller clears. FALSE when one is wrong: *status says how the
 * command ends. Frees the words. */
gboolean ek_filters_take(EkCli *cli, EkFilterWords *words, EkFilter *filter, int *status);

#endif

/* SPDX-License-Identifier: MIT */
/* Columns are counted by the commas between them, outside of quotes and brackets. */
#include "carve/sqlitemade.h"

#include <string.h>

/* Behind a quoted word; the mark itself is doubled within it. */
static const char *pass_quoted(const char *at)
{
    char end = *at == '[' ? ']' : *at;
    for (at++; *at != '\0'; at++)
        if (*at == end && *++at != end)
            return at;
    return at;
}

/* To the comma or bracket that ends this part. */
static const char *pass_part(const char *at)
{
    guint depth = 0;
    while (*at != '\0' && (depth > 0 || (*at != ',' && *at != ')'))) {
        if (strchr("'\"`[", *at) != NULL) {
            at = pass_quoted(at);
            continue;
        }
        depth += *at == '(' ? 1u : 0u;
        depth -= *at == ')' ? 1u : 0u;
        at++;
    }
    return at;
}

static gboolean is_rule(const char *part)
{
    static const char *const rules[] = {"PRIMARY", "UNIQUE", "CHECK", "FOREIGN", "CONSTRAINT"};
    for (gsize i = 0; i < G_N_ELEMENTS(rules); i++)
        if (g_str_has_prefix(part, rules[i]) && !g_ascii_isalnum(part[strlen(rules[i])]) &&
            part[strlen(rules[i])] != '_')
            return TRUE;
    return FALSE;
}

EkSqliteMade ek_sqlite_made(const char *words)
{
    EkSqliteMade made = {0};
    const char *at = strchr(words, '(');
    made.has_no_rows = strstr(words, "WITHOUT ROWID") != NULL;
    /* Remarks, and columns that are not kept, are left to others. */
    if (at == NULL || strstr(words, "--") != NULL || strstr(words, "/*") != NULL ||
        strstr(words, " AS ") != NULL || strstr(words, " AS(") != NULL)
        return made;
    while (*at != '\0' && *at != ')') {
        const char *part = at + 1;
        at = pass_part(part);
        while (g_ascii_isspace(*part))
            part++;
        if (part >= at || is_rule(part))
            continue;
        made.columns++;
        g_autofree char *column = g_strndup(part, (gsize)(at - part));
        if (strstr(column, "INTEGER PRIMARY KEY") != NULL &&
            strstr(column, "PRIMARY KEY DESC") == NULL)
            made.row_column = made.columns;
    }
    return made;
}

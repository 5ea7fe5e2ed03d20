/* SPDX-License-Identifier: MIT */
/* The words that made a table: its columns, and which one is the number of the row. */
#include "carve/sqlitemade.h"
#include "check.h"

static void words_tell_the_columns(void)
{
    static const struct {
        const char *words;
        guint columns;
        guint row_column;
        gboolean has_no_rows;
    } tables[] = {
        {"CREATE TABLE LOT(ID INTEGER PRIMARY KEY, SPECIES TEXT NOT NULL, TRAY BLOB)", 3, 1, FALSE},
        {"CREATE TABLE LOT(A DECIMAL(10,2), B INTEGER PRIMARY KEY AUTOINCREMENT)", 2, 2, FALSE},
        {"CREATE TABLE 'FT_IDX'(SEGID, TERM, PGNO, PRIMARY KEY(SEGID, TERM)) WITHOUT ROWID", 3, 0,
         TRUE},
        {"CREATE TABLE S (A TEXT DEFAULT ',)(', [B,C] INT, \"D\"\"(\" INT CHECK (A IN (1,2)))", 3,
         0, FALSE},
        {"CREATE TABLE S (UNIQUE_ID TEXT, CONSTRAINT ONE UNIQUE (UNIQUE_ID))", 1, 0, FALSE},
        {"CREATE TABLE S (A INTEGER PRIMARY KEY DESC)", 1, 0, FALSE},
        /* What is not read does not tell. */
        {"CREATE TABLE S (A INT, -- B INT\n C INT)", 0, 0, FALSE},
        {"CREATE TABLE S (A INT, B INT AS (A + 1))", 0, 0, FALSE},
        {"CREATE TABLE S AS SELECT 1", 0, 0, FALSE},
        {"CREATE TABLE S (A INT, B 'TEXT", 2, 0, FALSE},
        {"CREATE TABLE S (((", 1, 0, FALSE},
        {"", 0, 0, FALSE},
    };
    for (gsize i = 0; i < G_N_ELEMENTS(tables); i++) {
        EkSqliteMade made = ek_sqlite_made(tables[i].words);
        CHECK_NUMBER(made.columns, tables[i].columns);
        CHECK_NUMBER(made.row_column, tables[i].row_column);
        CHECK(made.has_no_rows == tables[i].has_no_rows);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"words tell the columns", words_tell_the_columns},
    };
    return RUN_TESTS("sqlite", tests);
}

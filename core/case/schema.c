/* SPDX-License-Identifier: MIT */
/* The stores' schema, one text a version (docs/case-format.md). */
#include "case/schema.h"

const char *const ek_case_schema[EK_CASE_SCHEMA_VERSIONS] = {
    "CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;"

    "CREATE TABLE event ("
    " id INTEGER PRIMARY KEY, command TEXT NOT NULL, options TEXT NOT NULL,"
    " pid INTEGER NOT NULL, began INTEGER NOT NULL, ended INTEGER, outcome TEXT, detail TEXT);"

    "CREATE TABLE hunted ("
    " first_byte INTEGER NOT NULL, bytes INTEGER NOT NULL, recognisers TEXT NOT NULL,"
    " PRIMARY KEY (recognisers, first_byte)) WITHOUT ROWID;"

    "CREATE TABLE trace ("
    " kind TEXT NOT NULL, format TEXT NOT NULL, first_byte INTEGER NOT NULL,"
    " count INTEGER NOT NULL, stride INTEGER NOT NULL, first_record INTEGER NOT NULL,"
    " event INTEGER NOT NULL REFERENCES event (id), header BLOB,"
    " PRIMARY KEY (kind, format, first_byte)) WITHOUT ROWID;"

    "CREATE TABLE volume ("
    " number INTEGER PRIMARY KEY, filesystem TEXT NOT NULL, first_byte INTEGER NOT NULL,"
    " bytes INTEGER NOT NULL, own_sector_size INTEGER NOT NULL, label TEXT, uuid TEXT,"
    " standing TEXT NOT NULL, confidence INTEGER NOT NULL, header_byte INTEGER NOT NULL,"
    " header BLOB NOT NULL, same_as INTEGER REFERENCES volume (number),"
    " event INTEGER NOT NULL REFERENCES event (id));"
    "CREATE TABLE volume_reason ("
    " volume INTEGER NOT NULL REFERENCES volume (number), position INTEGER NOT NULL,"
    " points INTEGER NOT NULL, text TEXT NOT NULL, PRIMARY KEY (volume, position)) WITHOUT ROWID;"

    "CREATE TABLE plan ("
    " id INTEGER PRIMARY KEY CHECK (id = 1), event INTEGER NOT NULL REFERENCES event (id),"
    " scheme TEXT NOT NULL, opens INTEGER NOT NULL);"
    "CREATE TABLE plan_partition ("
    " position INTEGER PRIMARY KEY, volume INTEGER NOT NULL, first_byte INTEGER NOT NULL,"
    " bytes INTEGER NOT NULL, type INTEGER NOT NULL, active INTEGER NOT NULL, note TEXT NOT NULL);"
    "CREATE TABLE plan_repair ("
    " position INTEGER PRIMARY KEY, volume INTEGER NOT NULL, what TEXT NOT NULL,"
    " source TEXT NOT NULL);"
    "CREATE TABLE plan_edit ("
    " position INTEGER PRIMARY KEY, structure TEXT NOT NULL, first_byte INTEGER NOT NULL,"
    " before BLOB NOT NULL, after BLOB NOT NULL, why TEXT NOT NULL);"
    "CREATE TABLE plan_warning (position INTEGER PRIMARY KEY, text TEXT NOT NULL);"

    "CREATE TABLE application ("
    " id INTEGER PRIMARY KEY, event INTEGER NOT NULL REFERENCES event (id),"
    " target TEXT NOT NULL, identity TEXT NOT NULL, is_image INTEGER NOT NULL,"
    " state TEXT NOT NULL CHECK (state IN ('writing','applied','undoing','undone','rolled-back')));"
    "CREATE TABLE application_edit ("
    " application INTEGER NOT NULL REFERENCES application (id), position INTEGER NOT NULL,"
    " first_byte INTEGER NOT NULL, before BLOB NOT NULL, after BLOB NOT NULL, why TEXT NOT NULL,"
    " PRIMARY KEY (application, position)) WITHOUT ROWID;"

    "CREATE TABLE clone ("
    " id INTEGER PRIMARY KEY, event INTEGER NOT NULL REFERENCES event (id),"
    " target TEXT NOT NULL, identity TEXT NOT NULL, finished INTEGER NOT NULL)",

    "ALTER TABLE volume ADD COLUMN length_is_least INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE volume ADD COLUMN is_container INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE volume ADD COLUMN by_backup INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE volume ADD COLUMN created INTEGER;"
    "ALTER TABLE volume ADD COLUMN created_local INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE volume ADD COLUMN used INTEGER;"
    "ALTER TABLE volume ADD COLUMN used_local INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE volume ADD COLUMN overwritten INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE volume ADD COLUMN host INTEGER REFERENCES volume (number);"
    "CREATE TABLE volume_term ("
    " volume INTEGER NOT NULL REFERENCES volume (number), position INTEGER NOT NULL,"
    " name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (volume, position)) WITHOUT ROWID",

    "ALTER TABLE volume ADD COLUMN composed INTEGER NOT NULL DEFAULT 0",

    /* A plan of an earlier version knows too little: it is made anew. */
    "DELETE FROM plan; DELETE FROM plan_repair; DELETE FROM plan_edit; DELETE FROM plan_warning;"
    "DROP TABLE plan_partition;"
    "ALTER TABLE plan ADD COLUMN layers INTEGER NOT NULL DEFAULT 1;"
    "ALTER TABLE plan ADD COLUMN current_scheme TEXT NOT NULL DEFAULT 'none';"
    "ALTER TABLE plan ADD COLUMN table_sectors INTEGER NOT NULL DEFAULT 512;"
    "ALTER TABLE plan ADD COLUMN sum TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE application ADD COLUMN edits INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE application_edit ADD COLUMN sum TEXT NOT NULL DEFAULT '';"
    "CREATE TABLE plan_current ("
    " position INTEGER PRIMARY KEY, slot INTEGER NOT NULL, first_byte INTEGER NOT NULL,"
    " bytes INTEGER NOT NULL, logical INTEGER NOT NULL, extended INTEGER NOT NULL);"
    "CREATE TABLE plan_partition ("
    " position INTEGER PRIMARY KEY, slot INTEGER NOT NULL, volume INTEGER NOT NULL,"
    " first_byte INTEGER NOT NULL, bytes INTEGER NOT NULL, type INTEGER NOT NULL,"
    " active INTEGER NOT NULL, logical INTEGER NOT NULL, extended INTEGER NOT NULL,"
    " type_uuid BLOB NOT NULL, uuid BLOB NOT NULL, attributes INTEGER NOT NULL,"
    " type_text TEXT NOT NULL, name TEXT NOT NULL, note TEXT NOT NULL, now TEXT NOT NULL, checked "
    "TEXT NOT NULL,"
    " opens INTEGER NOT NULL);"
    "CREATE TABLE plan_alternative ("
    " position INTEGER PRIMARY KEY, volume INTEGER NOT NULL, text TEXT NOT NULL);"
    "ALTER TABLE clone ADD COLUMN as_imaged INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE clone ADD COLUMN done INTEGER NOT NULL DEFAULT 0",

    /* Every source ever used. What names it for good was not kept before. */
    "CREATE TABLE source ("
    " id INTEGER PRIMARY KEY, source TEXT NOT NULL, kind TEXT NOT NULL, path TEXT NOT NULL,"
    " backing TEXT, identity TEXT NOT NULL, firm INTEGER NOT NULL, first_byte INTEGER NOT NULL,"
    " bytes INTEGER NOT NULL);"
    "INSERT INTO source (source,kind,path,identity,firm,first_byte,bytes)"
    " SELECT value,(SELECT value FROM meta WHERE key='source-kind'),"
    "  (SELECT value FROM meta WHERE key='source-path'),'',0,0,"
    "  (SELECT CAST(value AS INTEGER) FROM meta WHERE key='bytes') FROM meta WHERE key='source'",

    /* What the planned volumes hold. A plan of an earlier version does not say: it is made anew. */
    "DELETE FROM plan; DELETE FROM plan_repair; DELETE FROM plan_edit; DELETE FROM plan_warning;"
    "DELETE FROM plan_current; DELETE FROM plan_partition; DELETE FROM plan_alternative;"
    "ALTER TABLE plan_partition ADD COLUMN label TEXT;"
    "ALTER TABLE plan_partition ADD COLUMN files INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE plan_partition ADD COLUMN damaged INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE plan_partition ADD COLUMN folders INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE plan_partition ADD COLUMN is_cut INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE plan_partition ADD COLUMN matching INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE plan_partition ADD COLUMN sampled INTEGER NOT NULL DEFAULT 0",

    /* Of what stands there a trace keeps the sum: that tells copies, and takes 8 bytes of 512. Of
     * volumes it is known which others were made over. */
    ("ALTER TABLE trace DROP COLUMN header;"
     "ALTER TABLE trace ADD COLUMN sum INTEGER NOT NULL DEFAULT 0;"
     "ALTER TABLE volume ADD COLUMN earlier INTEGER NOT NULL DEFAULT 0"),

    /* What the drive said of its health, and when; a sign that it did not tell has no row. */
    ("CREATE TABLE health ("
     " id INTEGER PRIMARY KEY, event INTEGER NOT NULL REFERENCES event (id),"
     " taken INTEGER NOT NULL, device_clock INTEGER NOT NULL, why_silent TEXT);"
     "CREATE TABLE health_sign ("
     " health INTEGER NOT NULL REFERENCES health (id), name TEXT NOT NULL, value INTEGER NOT NULL,"
     " PRIMARY KEY (health, name)) WITHOUT ROWID;"
     /* Of two volumes of one second, one was used last. */
     "ALTER TABLE volume ADD COLUMN created_ns INTEGER NOT NULL DEFAULT 0;"
     "ALTER TABLE volume ADD COLUMN used_ns INTEGER NOT NULL DEFAULT 0"),
};

const char *const ek_map_schema[EK_MAP_SCHEMA_VERSIONS] = {
    "CREATE TABLE boundary ("
    " first INTEGER PRIMARY KEY, state INTEGER NOT NULL, reason INTEGER NOT NULL,"
    " attempts INTEGER NOT NULL, event INTEGER NOT NULL);"
    "CREATE TABLE block_sum (block INTEGER PRIMARY KEY, sum INTEGER NOT NULL);"
    "CREATE TABLE totals ("
    " id INTEGER PRIMARY KEY CHECK (id = 1), sectors INTEGER NOT NULL,"
    " untouched INTEGER NOT NULL, good INTEGER NOT NULL, set_aside INTEGER NOT NULL,"
    " bad INTEGER NOT NULL, stretches_untouched INTEGER NOT NULL, stretches_good INTEGER NOT NULL,"
    " stretches_set_aside INTEGER NOT NULL, stretches_bad INTEGER NOT NULL,"
    " device_clock INTEGER NOT NULL, failed_commands INTEGER NOT NULL, round INTEGER NOT NULL)",

    /* Sums from before this version counted sectors of zeros too: they are of no use now. */
    "ALTER TABLE totals ADD COLUMN device_used INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN has_sums INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN gone_at INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN fill_zeros INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN fill_ones INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN fill_pattern INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN repeats_every INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN cost_command REAL NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN cost_sector REAL NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN cost_seek REAL NOT NULL DEFAULT 0;"
    "ALTER TABLE totals ADD COLUMN cost_failure REAL NOT NULL DEFAULT 0;"
    "UPDATE totals SET device_used=device_clock;"
    "DELETE FROM block_sum",

    /* A mark in one number: a map of millions of boundaries is loaded in half the time. What is
     * no mark stays none (15). */
    "CREATE TABLE packed (first INTEGER PRIMARY KEY, mark INTEGER NOT NULL);"
    "INSERT INTO packed"
    " SELECT first, CASE WHEN state BETWEEN 0 AND 3 AND reason BETWEEN 0 AND 5"
    "  THEN (event << 32) | (min(attempts, 255) << 8) | (reason << 4) | state ELSE 15 END"
    " FROM boundary ORDER BY first;"
    "DROP TABLE boundary;"
    "ALTER TABLE packed RENAME TO boundary",
};

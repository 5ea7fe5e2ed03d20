/* SPDX-License-Identifier: MIT */
/* Archives of tar as many hands write them: whatever stands before an entry, they are followed to
 * their end; and where a header is not right, no further. */
#include "carve/verify.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"

#include <glib/gstdio.h>
#include <string.h>

#define BLOCK 512u

static EkVerification verify(const GByteArray *archive)
{
    static const gint cancel;
    Bench bench;
    bench_open(&bench, archive->data, archive->len);
    EkVerification found = ek_verify(bench.reader, &cancel);
    bench_close(&bench);
    return found;
}

/* It is a tar, and ends with all that it has. */
static void check_ends(const GByteArray *archive, const char *what)
{
    EkVerification found = verify(archive);
    gboolean is_tar = found.type != NULL && g_str_equal(found.type->name, "tar");
    if (!is_tar || found.followed.end != EK_FOLLOW_ENDED || found.at != archive->len)
        printf("%s: ends at %" G_GUINT64_FORMAT " of %u ", what, found.at, archive->len);
    CHECK(is_tar);
    CHECK_NUMBER(found.followed.end, EK_FOLLOW_ENDED);
    CHECK_NUMBER(found.at, archive->len);
    CHECK(found.verified != EK_VERIFIED_WRONG);
}

/* --- by the program itself ------------------------------------------------------------------- */

/* A folder with what is hard to pack: long names, links, a sparse file of many places. */
static char *make_folder(void)
{
    static const char script[] =
        "cd \"$1\" && mkdir in && d=in && for i in 1 2 3 4 5 6 7 8 9; do"
        " d=$d/cold-store-sensor-logs-of-the-year-$i; mkdir $d; done &&"
        " seq 1 3000 >$d/accessions.csv && seq 1 20 >in/short.txt && : >in/empty &&"
        " ln in/short.txt in/same.txt && ln -s $d/accessions.csv in/long-link &&"
        " for i in $(seq 0 60); do printf 'row %d' $i |"
        " dd of=in/sparse.db bs=8192 seek=$((i * 3)) conv=notrunc status=none; done";
    char *folder = g_dir_make_tmp("ektypon-archives-XXXXXX", NULL);
    const char *const line[] = {"sh", "-ec", script, "sh", folder, NULL};
    gint status = -1;
    CHECK(g_spawn_sync(NULL, (char **)(gpointer)line, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, NULL,
                       NULL, &status, NULL));
    CHECK_NUMBER(status, 0);
    return folder;
}

static GByteArray *pack(const char *folder, const char *options)
{
    g_autofree char *path = g_build_filename(folder, "out.tar", NULL);
    g_autofree char *line = g_strdup_printf("tar -C '%s' %s -cf '%s' in", folder, options, path);
    char *bytes = NULL;
    gsize length = 0;
    gint status = -1;
    CHECK(g_spawn_command_line_sync(line, NULL, NULL, &status, NULL));
    CHECK_NUMBER(status, 0);
    CHECK(g_file_get_contents(path, &bytes, &length, NULL));
    return g_byte_array_new_take((guint8 *)bytes, length);
}

static void all_formats_end(void)
{
    static const char *const options[] = {
        "--format=ustar --exclude=long-link --exclude='*-year-4'",
        "--format=gnu",
        "--format=oldgnu",
        "--format=pax",
        "--format=gnu -S",
        "--format=oldgnu -S",
        "--format=pax -S --sparse-version=0.0",
        "--format=pax -S --sparse-version=0.1",
        "--format=pax -S --sparse-version=1.0",
        "--format=pax --pax-option=globexthdr.name=all,comment=seeds",
        "--format=gnu -b 1"};
    g_autofree char *folder = make_folder();
    for (gsize i = 0; i < G_N_ELEMENTS(options); i++) {
        g_autoptr(GByteArray) archive = pack(folder, options[i]);
        /* Records of another length than the common one end with zeros that are of no record. */
        guint padded = (archive->len + 10239) / 10240 * 10240;
        guint was = archive->len;
        g_byte_array_set_size(archive, padded);
        memset(archive->data + was, 0, padded - was);
        check_ends(archive, options[i]);
    }
    g_autofree char *line = g_strdup_printf("rm -rf '%s'", folder);
    CHECK(g_spawn_command_line_sync(line, NULL, NULL, NULL, NULL));
}

/* --- by hand --------------------------------------------------------------------------------- */

/* The name has letters beyond ASCII, whose bytes are negative where they are taken for signed. */
#define NAME                                                                                       \
    "Samenpr\xc3\xbc"                                                                              \
    "fung.txt"

static void sums_may_be_signed(void)
{
    guint8 table[3000];
    fill_noise(table, sizeof table, test_seed());
    for (gsize i = 0; i < sizeof table; i++)
        table[i] = (guint8)('a' + table[i] % 26);
    for (ComposedTarSum how = COMPOSED_TAR_RIGHT; how <= COMPOSED_TAR_WRONG; how++) {
        g_autoptr(GByteArray) archive = g_byte_array_new();
        compose_tar_entry(archive, "first.txt", '0', sizeof table, COMPOSED_TAR_RIGHT, table,
                          sizeof table);
        guint second = archive->len;
        compose_tar_entry(archive, NAME, '0', sizeof table, how, table, sizeof table);
        compose_tar_end(archive, TRUE);
        if (how != COMPOSED_TAR_WRONG) {
            check_ends(archive, "a signed sum");
            continue;
        }
        EkVerification found = verify(archive);
        CHECK(found.type != NULL && found.followed.end == EK_FOLLOW_BROKE);
        CHECK_NUMBER(found.at, second);
    }
}

/* Its size stands before its header, and in that there is none, or another one. */
static void a_size_may_come_before(void)
{
    static const struct {
        const char *records;
        gsize told; /* in its own header */
        gboolean is_right;
    } sizes[] = {{"13 size=3000\n", 0, TRUE},
                 {"13 size=3000\n", 7, TRUE},
                 {"20 comment=seedlist\n13 size=3000\n", 0, TRUE},
                 {"13 size=3000\n20 comment=seedlist\n", 0, TRUE},
                 {"13 gize=3000\n", 3000, TRUE},
                 {"13 size=3000\n", 3000, TRUE},
                 {"0 size=3000\n", 3000, TRUE},
                 {"99999 comment=none\n13 size=1\n", 3000, TRUE},
                 {"13 size=9000\n", 3000, FALSE},
                 {"26 size=99999999999999999\n", 3000, FALSE}};
    guint8 table[3000];
    for (gsize i = 0; i < sizeof table; i++)
        table[i] = (guint8)('a' + i % 25);
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++) {
        g_autoptr(GByteArray) archive = g_byte_array_new();
        const char *records = sizes[i].records;
        compose_tar_entry(archive, "PaxHeaders/table", 'x', strlen(records), COMPOSED_TAR_RIGHT,
                          records, strlen(records));
        compose_tar_entry(archive, "table.txt", '0', sizes[i].told, COMPOSED_TAR_RIGHT, table,
                          sizeof table);
        compose_tar_entry(archive, "last.txt", '0', sizeof table, COMPOSED_TAR_RIGHT, table,
                          sizeof table);
        compose_tar_end(archive, TRUE);
        if (sizes[i].is_right) {
            check_ends(archive, records);
            continue;
        }
        EkVerification found = verify(archive);
        CHECK(found.type != NULL && found.followed.end == EK_FOLLOW_BROKE);
        CHECK(found.verified != EK_VERIFIED_RIGHT);
    }
}

/* Blocks of places that never end. */
static void places_without_end_end(void)
{
    g_autoptr(GByteArray) archive = g_byte_array_new();
    compose_tar_sparse(archive, "first.db", 100000, "", 0);
    archive->data[archive->len - 8] = 1;
    EkVerification found = verify(archive);
    CHECK(found.verified != EK_VERIFIED_RIGHT);
    CHECK(found.followed.end != EK_FOLLOW_ENDED);
}

int main(void)
{
    static const Test tests[] = {
        {"all formats end", all_formats_end},
        {"sums may be signed", sums_may_be_signed},
        {"a size may come before", a_size_may_come_before},
        {"places without end end", places_without_end_end},
    };
    return RUN_TESTS("archives", tests);
}

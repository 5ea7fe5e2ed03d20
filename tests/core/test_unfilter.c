/* SPDX-License-Identifier: MIT */
/* What packers of programs do before they pack: files that xz and 7z packed with each filter unpack
 * to their checksums, however the bytes come in. */
#include "carve/unfilter.h"

#include "carve/verify.h"
#include "check.h"
#include "fixture.h"

#include <glib/gstdio.h>
#include <string.h>

#define BYTES 300001u

/* What filters look for, wherever it may stand, and noise. The caller frees. */
static guint8 *make_code(guint32 seed)
{
    /* Which byte of a word, the bits of it that are set, and to what. */
    static const struct {
        guint8 at;
        guint8 mask;
        guint8 value;
    } branches[] = {{0, 0xfe, 0xe8}, {1, 0xff, 0xe8}, {3, 0xff, 0x00}, {3, 0xff, 0xff},
                    {0, 0xff, 0xff}, {3, 0xff, 0xeb}, {1, 0xf8, 0xf0}, {3, 0xf8, 0xf8},
                    {0, 0xfc, 0x48}, {3, 0x03, 0x01}, {0, 0xff, 0x40}, {0, 0xff, 0x7f},
                    {1, 0xc0, 0x00}, {1, 0xc0, 0xc0}, {3, 0xfc, 0x94}, {3, 0x9f, 0x90},
                    {2, 0xff, 0x00}, {2, 0xf0, 0xf0}};
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    guint8 *code = g_malloc(BYTES);
    fill_noise(code, BYTES, seed);
    for (guint i = 0; i < BYTES; i++) {
        gsize at = (gsize)g_rand_int_range(random, 0, BYTES / 4 - 1) * 4;
        gint32 one = g_rand_int_range(random, 0, G_N_ELEMENTS(branches));
        guint8 *byte = &code[at + branches[one].at];
        *byte = (guint8)((*byte & ~branches[one].mask) | branches[one].value);
    }
    return code;
}

/* The file that a command makes of `code`, which it finds as code.bin. */
static EkVerification verify_packed(const char *folder, const char *command, gint flip)
{
    static const gint cancel;
    EkVerification found = {0};
    g_autofree char *path = g_build_filename(folder, "packed", NULL);
    g_autofree char *line = g_strdup_printf("cd '%s' && rm -f packed && %s", folder, command);
    const char *const shell[] = {"sh", "-c", line, NULL};
    g_autofree char *bytes = NULL;
    gsize length = 0;
    gint status = -1;
    CHECK(g_spawn_sync(NULL, (char **)(gpointer)shell, NULL,
                       G_SPAWN_SEARCH_PATH | G_SPAWN_STDOUT_TO_DEV_NULL, NULL, NULL, NULL, NULL,
                       &status, NULL));
    CHECK_NUMBER(status, 0);
    if (status != 0 || !g_file_get_contents(path, &bytes, &length, NULL))
        return found;
    gsize padded = (length + 511) / 512 * 512;
    g_autofree guint8 *drive = g_malloc0(padded);
    memcpy(drive, bytes, length);
    if (flip >= 0)
        drive[length / 2 + (gsize)flip] ^= 0x10;
    Bench bench;
    bench_open(&bench, drive, padded);
    found = ek_verify(bench.reader, &cancel);
    bench_close(&bench);
    return found;
}

static char *folder_with(const guint8 *code)
{
    char *folder = g_dir_make_tmp("ektypon-unfilter-XXXXXX", NULL);
    g_autofree char *path = g_build_filename(folder, "code.bin", NULL);
    CHECK(g_file_set_contents(path, (const char *)code, BYTES, NULL));
    return folder;
}

static void remove_folder(const char *folder)
{
    static const char *const names[] = {"code.bin", "packed"};
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        g_autofree char *path = g_build_filename(folder, names[i], NULL);
        g_unlink(path);
    }
    g_rmdir(folder);
}

static void what_is_filtered_comes_to_its_sum(void)
{
    static const char *const commands[] = {
        "xz -c --x86 --lzma2 code.bin >packed",
        "xz -c --powerpc --lzma2 code.bin >packed",
        "xz -c --arm --lzma2 code.bin >packed",
        "xz -c --armthumb --lzma2 code.bin >packed",
        "xz -c --sparc --lzma2 code.bin >packed",
        "xz -c --delta=dist=1 --lzma2 code.bin >packed",
        "xz -c --delta=dist=256 --lzma2 code.bin >packed",
        "xz -c --check=sha256 --x86 --lzma2 code.bin >packed",
        "7z a -t7z -m0=BCJ -m1=LZMA2 packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=BCJ -m1=LZMA packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=PPC -m1=LZMA2 packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=ARM -m1=LZMA2 packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=ARMT -m1=LZMA2 packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=SPARC -m1=LZMA packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=Delta:4 -m1=LZMA2 packed code.bin && mv packed.7z packed"};
    g_autofree guint8 *code = make_code(test_seed());
    g_autofree char *folder = folder_with(code);
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        EkVerification found = verify_packed(folder, commands[i], -1);
        if (found.verified != EK_VERIFIED_RIGHT)
            printf("%s: ", commands[i]);
        CHECK_NUMBER(found.verified, EK_VERIFIED_RIGHT);
        CHECK_NUMBER(found.followed.proof, EK_PROOF_FULL);
        CHECK(verify_packed(folder, commands[i], (gint)i).verified != EK_VERIFIED_RIGHT);
    }
    remove_folder(folder);
}

/* Filters that are not undone here, and more than one of them, say nothing of the sum. */
static void other_filters_are_not_called_right(void)
{
    static const char *const commands[] = {
        "xz -c --ia64 --lzma2 code.bin >packed",
        "xz -c --delta=dist=2 --x86 --lzma2 code.bin >packed",
        "7z a -t7z -m0=BCJ2 -m1=LZMA2 packed code.bin && mv packed.7z packed",
        "7z a -t7z -m0=IA64 -m1=LZMA2 packed code.bin && mv packed.7z packed"};
    g_autofree guint8 *code = make_code(test_seed() + 1);
    g_autofree char *folder = folder_with(code);
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++)
        CHECK_NUMBER(verify_packed(folder, commands[i], -1).verified, EK_VERIFIED_NOT);
    remove_folder(folder);
}

/* --- by itself ------------------------------------------------------------------------------- */

static void append(void *data, const guint8 *bytes, gsize length)
{
    g_byte_array_append(data, bytes, (guint)length);
}

/* In parts of up to `most` bytes. The caller unrefs. */
static GByteArray *undone(const guint8 *code, EkUnfilterKind kind, guint most, guint32 seed)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    GByteArray *out = g_byte_array_new();
    EkUnfilter filter = {.kind = kind, .distance = 7};
    gboolean is_short = TRUE;
    for (gsize at = 0; at < BYTES;) {
        gsize part = (gsize)g_rand_int_range(random, 1, (gint32)most + 1);
        part = MIN(part, BYTES - at);
        ek_unfilter_push(&filter, code + at, part, append, out);
        is_short = is_short && filter.waiting < EK_UNFILTER_AHEAD;
        at += part;
    }
    ek_unfilter_finish(&filter, append, out);
    CHECK(is_short);
    return out;
}

static void parts_change_nothing(void)
{
    static const guint most[] = {1, 2, 3, 5, 17, 4096, 10000};
    g_autofree guint8 *code = make_code(test_seed() + 2);
    for (guint kind = EK_UNFILTER_DELTA; kind < EK_UNFILTER_OTHER; kind++) {
        g_autoptr(GByteArray) whole = undone(code, kind, BYTES, 1);
        CHECK_NUMBER(whole->len, BYTES);
        CHECK(memcmp(whole->data, code, BYTES) != 0);
        for (gsize i = 0; i < G_N_ELEMENTS(most); i++) {
            g_autoptr(GByteArray) parts = undone(code, kind, most[i], test_seed() + kind);
            CHECK_NUMBER(parts->len, BYTES);
            CHECK(parts->len == BYTES && memcmp(parts->data, whole->data, BYTES) == 0);
        }
    }
}

/* By hand: one branch of each, at a place that is known. */
static void branches_become_distances(void)
{
    static const struct {
        EkUnfilterKind kind;
        guint8 packed[8];
        guint8 plain[8];
    } branches[] = {
        {EK_UNFILTER_X86,
         {0x90, 0xe8, 0x06, 0x01, 0, 0, 0x90, 0x90},
         {0x90, 0xe8, 0, 1, 0, 0, 0x90, 0x90}},
        {EK_UNFILTER_POWERPC, {0, 0, 0, 0, 0x48, 0, 1, 5}, {0, 0, 0, 0, 0x48, 0, 1, 1}},
        {EK_UNFILTER_ARM, {0, 0, 0, 0, 3, 1, 0, 0xeb}, {0, 0, 0, 0, 0, 1, 0, 0xeb}},
        {EK_UNFILTER_THUMB, {0, 0, 0, 0, 0, 0xf0, 6, 0xf8}, {0, 0, 0, 0, 0, 0xf0, 2, 0xf8}},
        {EK_UNFILTER_SPARC, {0, 0, 0, 0, 0x40, 0, 1, 1}, {0, 0, 0, 0, 0x40, 0, 1, 0}},
        {EK_UNFILTER_ARM64, {0, 0, 0, 0, 1, 1, 0, 0x94}, {0, 0, 0, 0, 0, 1, 0, 0x94}}};
    for (gsize i = 0; i < G_N_ELEMENTS(branches); i++) {
        g_autoptr(GByteArray) out = g_byte_array_new();
        EkUnfilter filter = {.kind = branches[i].kind};
        ek_unfilter_push(&filter, branches[i].packed, 8, append, out);
        ek_unfilter_finish(&filter, append, out);
        CHECK_NUMBER(out->len, 8);
        CHECK(out->len == 8 && memcmp(out->data, branches[i].plain, 8) == 0);
    }
    for (guint64 number = 0; number < 300; number++)
        CHECK(ek_unfilter_of(number) > EK_UNFILTER_NONE &&
              ek_unfilter_of(number) <= EK_UNFILTER_OTHER);
}

int main(void)
{
    static const Test tests[] = {
        {"what is filtered comes to its sum", what_is_filtered_comes_to_its_sum},
        {"other filters are not called right", other_filters_are_not_called_right},
        {"parts change nothing", parts_change_nothing},
        {"branches become distances", branches_become_distances},
    };
    return RUN_TESTS("unfilter", tests);
}

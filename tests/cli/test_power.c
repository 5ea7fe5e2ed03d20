/* SPDX-License-Identifier: MIT */
/* The power goes at random moments, syncs fail, the disk is full: whatever the map calls good then
 * is in the image, and going on ends as it would have undisturbed. The program runs on a shim that
 * logs what it does to the case's files; from the log the files are composed as a disk may hold
 * them at that moment: what was synced is there, what was not is dropped, torn or reordered. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include "disklog.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define CUTS 16 /* unless EKTYPON_TEST_CUTS says otherwise */
#define CUTS_A_RUN 8
#define FAULTS 12
#define SECTOR 512u
#define SHIM                                                                                       \
    "env LD_PRELOAD=" EKTYPON_SHIM_PATH " SHIM_ROOT=$PWD SHIM_LOG=$PWD/log SHIM_SPEED=%u "         \
    "SHIM_FAIL='%s' %s "

/* --- what a disk holds ------------------------------------------------------------------------ */

/* What happened to one file, in order; what is durable has been done to `bytes`. */
typedef struct {
    GByteArray *bytes;
    GPtrArray *pending; /* const DiskRecord*, in the log */
} DiskFile;

typedef struct {
    GHashTable *files;  /* inode number (as a pointer) to DiskFile */
    GHashTable *names;  /* path to inode number: durable */
    GPtrArray *pending; /* const DiskRecord*: creations and removals that are not */
} Disk;

/* How what was not synced fares. */
typedef enum { FATE_DROPPED, FATE_KEPT, FATE_MIXED, FATES } Fate;

static void disk_file_free(gpointer data)
{
    DiskFile *file = data;
    g_byte_array_unref(file->bytes);
    g_ptr_array_unref(file->pending);
    g_free(file);
}

static void disk_init(Disk *disk)
{
    disk->files = g_hash_table_new_full(NULL, NULL, NULL, disk_file_free);
    disk->names = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    disk->pending = g_ptr_array_new();
}

static void disk_clear(Disk *disk)
{
    g_hash_table_unref(disk->files);
    g_hash_table_unref(disk->names);
    g_ptr_array_unref(disk->pending);
}

static DiskFile *disk_file(Disk *disk, guint64 inode)
{
    DiskFile *file = g_hash_table_lookup(disk->files, GSIZE_TO_POINTER(inode));
    if (file == NULL) {
        file = g_new0(DiskFile, 1);
        file->bytes = g_byte_array_new();
        file->pending = g_ptr_array_new();
        g_hash_table_insert(disk->files, GSIZE_TO_POINTER(inode), file);
    }
    return file;
}

static char *path_in(const DiskRecord *record)
{
    return g_strndup((const char *)(record + 1), record->path_length);
}

static void set_length(GByteArray *bytes, guint64 length)
{
    guint before = bytes->len;
    g_byte_array_set_size(bytes, (guint)length);
    if (length > before)
        memset(bytes->data + before, 0, length - before);
}

/* Does it to the file; with `random` only to some of the sectors. */
static void do_to_file(DiskFile *file, const DiskRecord *record, GRand *random)
{
    GByteArray *bytes = file->bytes;
    const guint8 *data = (const guint8 *)(record + 1) + record->path_length;
    guint64 end = record->offset + record->length;
    if (record->op == DISK_TRUNCATE) {
        set_length(bytes, record->offset);
        return;
    }
    if (end > bytes->len)
        set_length(bytes, end);
    for (guint64 at = record->offset; at < end;) {
        guint64 next = MIN(end, (at / SECTOR + 1) * SECTOR);
        gboolean reached = random == NULL || g_rand_boolean(random);
        if (reached && record->op == DISK_WRITE)
            memcpy(bytes->data + at, data + (at - record->offset), next - at);
        else if (reached)
            memset(bytes->data + at, 0, next - at);
        at = next;
    }
}

/* What is below a folder goes with it. */
static void rename_all(Disk *disk, const char *from, const DiskRecord *record)
{
    g_autofree char *to =
        g_strndup((const char *)(record + 1) + record->path_length, (gsize)record->length);
    g_autoptr(GList) names = g_hash_table_get_keys(disk->names);
    for (GList *at = names; at != NULL; at = at->next) {
        const char *name = at->data;
        gsize length = strlen(from);
        if (!g_str_has_prefix(name, from) || (name[length] != '/' && name[length] != '\0'))
            continue;
        char *now = g_strconcat(to, name + length, NULL);
        gpointer inode = g_hash_table_lookup(disk->names, name);
        g_hash_table_remove(disk->names, name);
        g_hash_table_insert(disk->names, now, inode);
    }
}

static void do_to_names(Disk *disk, const DiskRecord *record)
{
    char *path = path_in(record);
    if (record->op == DISK_CREATE) {
        g_hash_table_insert(disk->names, path, GSIZE_TO_POINTER(record->file));
        return;
    }
    if (record->op == DISK_RENAME)
        rename_all(disk, path, record);
    else
        g_hash_table_remove(disk->names, path);
    g_free(path);
}

/* What of the pending reaches the disk after all. */
static void settle_file(DiskFile *file, Fate fate, GRand *random)
{
    for (guint i = 0; i < file->pending->len && fate != FATE_DROPPED; i++)
        if (fate == FATE_KEPT || g_rand_boolean(random))
            do_to_file(file, g_ptr_array_index(file->pending, i),
                       fate == FATE_MIXED && g_rand_boolean(random) ? random : NULL);
    g_ptr_array_set_size(file->pending, 0);
}

/* Names go to the disk in order. */
static void settle_names(Disk *disk, Fate fate, GRand *random)
{
    guint count = fate == FATE_DROPPED ? 0 : disk->pending->len;
    if (fate == FATE_MIXED)
        count = (guint)g_rand_int_range(random, 0, (gint32)count + 1);
    for (guint i = 0; i < count; i++)
        do_to_names(disk, g_ptr_array_index(disk->pending, i));
    g_ptr_array_set_size(disk->pending, 0);
}

static void disk_do(Disk *disk, const DiskRecord *record)
{
    switch ((DiskOp)record->op) {
    case DISK_WRITE:
    case DISK_TRUNCATE:
    case DISK_PUNCH:
        g_ptr_array_add(disk_file(disk, record->file)->pending, (gpointer)record);
        break;
    case DISK_CREATE:
        /* A number that is used again is another file. */
        g_hash_table_remove(disk->files, GSIZE_TO_POINTER(record->file));
        disk_file(disk, record->file);
        g_ptr_array_add(disk->pending, (gpointer)record);
        break;
    case DISK_RENAME:
    case DISK_UNLINK: g_ptr_array_add(disk->pending, (gpointer)record); break;
    case DISK_SYNC: {
        /* The case's folder and what is in it are of one file system. */
        if (record->offset != 0)
            settle_names(disk, FATE_KEPT, NULL);
        else
            settle_file(disk_file(disk, record->file), FATE_KEPT, NULL);
        break;
    }
    case DISK_SYNC_FAILED: settle_file(disk_file(disk, record->file), FATE_DROPPED, NULL); break;
    case DISK_COMMAND: break;
    }
}

/* Writes the files out, as they are found after the cut. */
static void disk_write(Disk *disk, Fate fate, GRand *random)
{
    settle_names(disk, fate, random);
    GHashTableIter iterator;
    gpointer path;
    gpointer inode;
    g_hash_table_iter_init(&iterator, disk->names);
    while (g_hash_table_iter_next(&iterator, &path, &inode)) {
        DiskFile *file = disk_file(disk, GPOINTER_TO_SIZE(inode));
        settle_file(file, fate, random);
        g_autofree char *folder = g_path_get_dirname(path);
        g_mkdir_with_parents(folder, 0777);
        write_file(path, file->bytes->data, file->bytes->len);
    }
}

/* --- the log ---------------------------------------------------------------------------------- */

static gsize record_bytes(const DiskRecord *record)
{
    return sizeof *record + record->path_length +
           (record->op == DISK_WRITE || record->op == DISK_RENAME ? (gsize)record->length : 0);
}

/* The records of a log, pointing into it. They may stand at any address: copied for alignment. */
static GPtrArray *read_log(void)
{
    gsize length = 0;
    g_autofree guint8 *log = read_file("log", &length);
    GPtrArray *records = g_ptr_array_new_with_free_func(g_free);
    for (gsize at = 0; at < length;) {
        DiskRecord header;
        memcpy(&header, log + at, sizeof header);
        g_ptr_array_add(records, g_memdup2(log + at, record_bytes(&header)));
        at += record_bytes(&header);
    }
    return records;
}

static void note_command(void)
{
    DiskRecord record = {.op = DISK_COMMAND};
    gsize length = 0;
    g_autofree guint8 *log = read_file("log", &length);
    log = g_realloc(log, length + sizeof record);
    memcpy(log + length, &record, sizeof record);
    write_file("log", log, length + sizeof record);
}

/* --- the drive and the undisturbed case ------------------------------------------------------- */

/* Some MiB with a volume, noise, blank region and every kind of trouble. */
static guint8 *make_drive(GRand *random, gsize *length)
{
    guint32 sectors = (guint32)g_rand_int_range(random, 5000, 24000);
    must("rm -rf bench undisturbed log drive.img && truncate -s %u drive.img", sectors * SECTOR);
    must("truncate -s 2M fat.img && mkfs.fat -F 12 -n COLDSTORE fat.img > fat.out && "
         "head -c 300K %s | mcopy -i fat.img - ::sensors.csv && "
         "dd if=fat.img of=drive.img bs=512 seek=63 conv=notrunc status=none",
         EKTYPON_PROGRAM_PATH);
    guint8 *drive = read_file("drive.img", length);
    gsize noise = *length / 2;
    fill_noise(drive + noise, *length - noise - *length / 8, g_rand_int(random));
    write_file("drive.img", drive, *length);
    GString *model = g_string_new("[drive]\nbacking=drive.img\nerror-time=300\n"
                                  "read-rate=20\nmax-transfer=64\n");
    for (int i = 0; i < 6; i++) {
        guint32 first = (guint32)g_rand_int_range(random, 63, (gint32)sectors - 200);
        g_string_append_printf(model, "[fault f%d]\nkind=%s\nfirst=%u\ncount=%d\n", i,
                               i == 5 ? "slow" : "unreadable", first,
                               g_rand_int_range(random, 1, i < 3 ? 3 : 100));
        if (i == 5)
            g_string_append(model, "rate=1\n");
    }
    write_file("drive.model", model->str, model->len);
    g_string_free(model, TRUE);
    done("new undisturbed sim:drive.model");
    done("image undisturbed --all-rounds");
    done("hunt undisturbed");
    return drive;
}

static char *map_of(const char *folder)
{
    g_auto(Result) result = ektypon("map %s --json", folder);
    CHECK_STATUS(result, 0);
    return g_strdup(result.out);
}

static char *volumes_of(const char *folder)
{
    g_auto(Result) result = ektypon("volumes %s --json", folder);
    CHECK_STATUS(result, 0);
    return g_strdup(result.out);
}

/* Every sector that the map calls good is in the image as it is on the drive. */
static gboolean is_truthful(const guint8 *drive, gsize length)
{
    gsize image_length = 0;
    g_autofree char *text = map_of("bench");
    Result result = {.out = text};
    json_t *json = result_json(&result);
    json_t *extents = json_object_get(json, "extents");
    g_autofree guint8 *image = read_file("bench/image.raw", &image_length);
    gboolean truthful = image_length == length;
    for (size_t i = 0; truthful && i < json_array_size(extents); i++) {
        json_t *extent = json_array_get(extents, i);
        gsize at = json_u64(extent, "first") * SECTOR;
        gsize count = json_u64(extent, "count") * SECTOR;
        if (g_str_equal(json_text(extent, "state"), "good"))
            truthful = memcmp(image + at, drive + at, count) == 0;
    }
    json_decref(json);
    return truthful;
}

/* The case as it is found: opens, is truthful, and goes on to the right end. */
static void check_case(const guint8 *drive, gsize length)
{
    CHECK(is_truthful(drive, length));
    g_auto(Result) checked = ektypon("image bench --check");
    CHECK_STATUS(checked, 0);
    g_auto(Result) on = ektypon("image bench --all-rounds");
    CHECK_STATUS(on, 0);
    must("cmp bench/image.raw undisturbed/image.raw");
    g_autofree char *map = map_of("bench");
    g_autofree char *wanted = map_of("undisturbed");
    CHECK_TEXT(map, wanted);
    done("hunt bench");
    g_autofree char *volumes = volumes_of("bench");
    g_autofree char *volumes_wanted = volumes_of("undisturbed");
    CHECK_TEXT(volumes, volumes_wanted);
}

/* --- the tests -------------------------------------------------------------------------------- */

/* A life of a case, in several commands, some cut short by a limit. */
static void record_life(void)
{
    must(SHIM "new bench sim:drive.model > /dev/null 2>&1", 1, "", EKTYPON_PROGRAM_PATH);
    note_command();
    for (int i = 1; i < 4; i++)
        must(SHIM "image bench --failed-reads %d > /dev/null 2>&1 || test $? -eq 3", 500, "",
             EKTYPON_PROGRAM_PATH, i);
    must(SHIM "hunt bench > /dev/null 2>&1", 100, "", EKTYPON_PROGRAM_PATH);
    must(SHIM "image bench --all-rounds > /dev/null 2>&1", 500, "", EKTYPON_PROGRAM_PATH);
    must(SHIM "hunt bench > /dev/null 2>&1", 100, "", EKTYPON_PROGRAM_PATH);
    must(SHIM "plan bench > /dev/null 2>&1 || test $? -eq 3", 100, "", EKTYPON_PROGRAM_PATH);
}

static void cut(const GPtrArray *records, guint at, GRand *random)
{
    Disk disk;
    disk_init(&disk);
    for (guint i = 0; i < at; i++)
        disk_do(&disk, g_ptr_array_index(records, i));
    must("rm -rf bench && mkdir bench");
    disk_write(&disk, (Fate)g_rand_int_range(random, 0, FATES), random);
    disk_clear(&disk);
}

static void the_power_goes(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_CUTS");
    int cuts = wanted != NULL ? atoi(wanted) : CUTS;
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    while (cuts > 0) {
        gsize length = 0;
        g_autofree guint8 *drive = make_drive(random, &length);
        record_life();
        g_autoptr(GPtrArray) records = read_log();
        guint made = 0; /* the case is there from here on */
        while (((const DiskRecord *)g_ptr_array_index(records, made))->op != DISK_COMMAND)
            made++;
        CHECK(records->len > made + 100);
        for (int i = 0; i < CUTS_A_RUN && cuts > 0; i++, cuts--) {
            guint at = (guint)g_rand_int_range(random, (gint32)made + 1, (gint32)records->len + 1);
            cut(records, at, random);
            guint failures = CU_get_number_of_failures();
            check_case(drive, length);
            if (CU_get_number_of_failures() > failures) {
                printf(" cut at record %u of %u ", at, records->len);
                return;
            }
        }
    }
}

/* A sync that fails loses what it was for; a disk that is full takes nothing more. */
static void writing_fails(const char *what, guint most)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    gsize length = 0;
    g_autofree guint8 *drive = make_drive(random, &length);
    guint failed = 0;
    for (int i = 0; i < FAULTS; i++) {
        must("rm -rf bench log");
        must(SHIM "new bench sim:drive.model > /dev/null 2>&1", 1, "", EKTYPON_PROGRAM_PATH);
        g_autofree char *fault =
            g_strdup_printf("%s %d", what, g_rand_int_range(random, 1, (gint32)most));
        g_auto(Result) hurt = shell(SHIM "image bench --no-wait", 500, fault, EKTYPON_PROGRAM_PATH);
        CHECK(hurt.status < 1000);
        failed += hurt.status != 0;
        if (hurt.status != 0)
            CHECK_CONTAINS(hurt.err, "image: ");
        /* As the disk has it right then, and as it may be after the power went too. */
        CHECK(is_truthful(drive, length));
        g_autoptr(GPtrArray) records = read_log();
        cut(records, records->len, random);
        guint failures = CU_get_number_of_failures();
        check_case(drive, length);
        if (CU_get_number_of_failures() > failures) {
            printf(" at %s ", fault);
            return;
        }
    }
    CHECK(failed >= FAULTS / 4);
}

static void a_sync_fails(void)
{
    writing_fails("sync", 20);
}

static void the_disk_is_full(void)
{
    writing_fails("write", 60);
}

int main(void)
{
    static const Test tests[] = {
        {"the power goes", the_power_goes},
        {"a sync fails", a_sync_fails},
        {"the disk is full", the_disk_is_full},
    };
    if (is_sanitized()) {
        printf("power: SKIPPED: a sanitizer wants to be loaded first\n");
        return 0;
    }
    return RUN_TESTS("power", tests);
}

/* SPDX-License-Identifier: MIT */
/* sysfs as in the kernel's Documentation/ABI (block), the mount table as in proc(5) (mountinfo),
 * udev's database as udev(7) keeps it below /run/udev/data. */
#include "device/system.h"

#include "base/digest.h"
#include "base/platform.h"
#include "base/text.h"

#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#define SYSFS_SECTOR 512u /* sysfs counts sizes in these, whatever the drive's sectors are */
#define MAX_LAYERS 16     /* of device mapper, RAID and loop over one another */

struct EkSystem {
    char *root;
};

typedef struct {
    dev_t dev;
    char *source;
    char *where;
    char *filesystem;
    char *upper; /* of an overlay: the folder that is written to; else NULL */
    gboolean discards;
} Mount;

EkSystem *ek_system_new(const char *root)
{
    EkSystem *system = g_new0(EkSystem, 1);
    system->root = g_strdup(root != NULL ? root : "/");
    return system;
}

void ek_system_free(EkSystem *system)
{
    g_free(system->root);
    g_free(system);
}

const char *ek_system_root(const EkSystem *system)
{
    return system->root;
}

static void use_free(gpointer data)
{
    EkUse *use = data;
    g_free(use->where);
    g_free(use);
}

static void part_free(gpointer data)
{
    EkPart *part = data;
    g_free(part->name);
    g_free(part->filesystem);
    g_free(part->label);
    g_ptr_array_unref(part->uses);
    g_free(part);
}

void ek_drive_free(EkDrive *drive)
{
    g_free(drive->name);
    g_free(drive->path);
    g_free(drive->model);
    g_free(drive->serial);
    g_free(drive->wwn);
    g_free(drive->bus);
    g_free(drive->table);
    g_free(drive->filesystem);
    g_free(drive->backing);
    g_free(drive->state);
    g_free(drive->scheduler);
    g_free(drive->write_cache);
    g_free(drive->power);
    g_ptr_array_unref(drive->uses);
    g_ptr_array_unref(drive->parts);
    g_free(drive);
}

static void mount_free(gpointer data)
{
    Mount *mount = data;
    g_free(mount->source);
    g_free(mount->where);
    g_free(mount->filesystem);
    g_free(mount->upper);
    g_free(mount);
}

/* The first line of folder/name, without space around it; NULL when there is none. */
static char *attribute(const char *folder, const char *name)
{
    g_autofree char *path = g_build_filename(folder, name, NULL);
    char *text = NULL;
    if (!g_file_get_contents(path, &text, NULL, NULL))
        return NULL;
    g_strstrip(text);
    if (*text == '\0')
        g_clear_pointer(&text, g_free);
    return text;
}

static guint64 attribute_number(const char *folder, const char *name)
{
    g_autofree char *text = attribute(folder, name);
    return text != NULL ? g_ascii_strtoull(text, NULL, 10) : 0;
}

static gboolean attribute_dev(const char *folder, dev_t *dev)
{
    g_autofree char *text = attribute(folder, "dev");
    unsigned major_number = 0;
    unsigned minor_number = 0;
    if (text == NULL || sscanf(text, "%u:%u", &major_number, &minor_number) != 2)
        return FALSE;
    *dev = makedev(major_number, minor_number);
    return TRUE;
}

/* What udev has noted about a device: key to value. Empty where udev does not run. */
static GHashTable *udev_properties(EkSystem *system, dev_t dev)
{
    GHashTable *properties = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    g_autofree char *name = g_strdup_printf("b%u:%u", major(dev), minor(dev));
    g_autofree char *path = g_build_filename(system->root, "run/udev/data", name, NULL);
    g_autofree char *text = NULL;
    if (!g_file_get_contents(path, &text, NULL, NULL))
        return properties;
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        char *equals = strchr(*line, '=');
        if (!g_str_has_prefix(*line, "E:") || equals == NULL)
            continue;
        *equals = '\0';
        g_hash_table_replace(properties, g_strdup(*line + 2), g_strdup(equals + 1));
    }
    return properties;
}

static char *property(GHashTable *properties, const char *key)
{
    return g_strdup(g_hash_table_lookup(properties, key));
}

/* Octal escapes of proc(5): a space in a mount point stands there as \040. */
static char *unescape_octal(const char *text)
{
    GString *out = g_string_new(NULL);
    for (const char *p = text; *p != '\0'; p++) {
        if (p[0] == '\\' && p[1] >= '0' && p[1] <= '3' && p[2] >= '0' && p[2] <= '7' &&
            p[3] >= '0' && p[3] <= '7') {
            g_string_append_c(out, (char)((p[1] - '0') << 6 | (p[2] - '0') << 3 | (p[3] - '0')));
            p += 3;
        } else {
            g_string_append_c(out, *p);
        }
    }
    return g_string_free(out, FALSE);
}

static gboolean has_option(const char *options, const char *wanted)
{
    g_auto(GStrv) list = g_strsplit(options, ",", -1);
    return g_strv_contains((const char *const *)list, wanted);
}

/* What follows `name` among the options; NULL when it is not there. */
static char *option_value(const char *options, const char *name)
{
    g_auto(GStrv) list = g_strsplit(options, ",", -1);
    for (char **option = list; *option != NULL; option++)
        if (g_str_has_prefix(*option, name))
            return unescape_octal(*option + strlen(name));
    return NULL;
}

static GPtrArray *read_mounts(EkSystem *system)
{
    GPtrArray *mounts = g_ptr_array_new_with_free_func(mount_free);
    g_autofree char *path = g_build_filename(system->root, "proc/self/mountinfo", NULL);
    g_autofree char *text = NULL;
    if (!g_file_get_contents(path, &text, NULL, NULL))
        return mounts;
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        /* id parent major:minor root where options [tag…] - type source super-options */
        g_auto(GStrv) field = g_strsplit(*line, " ", -1);
        guint count = g_strv_length(field);
        guint dash = 6;
        unsigned major_number = 0;
        unsigned minor_number = 0;
        while (dash < count && strcmp(field[dash], "-") != 0)
            dash++;
        if (dash + 3 >= count || sscanf(field[2], "%u:%u", &major_number, &minor_number) != 2)
            continue;
        Mount *mount = g_new0(Mount, 1);
        mount->dev = makedev(major_number, minor_number);
        mount->where = unescape_octal(field[4]);
        mount->filesystem = g_strdup(field[dash + 1]);
        mount->source = unescape_octal(field[dash + 2]);
        mount->upper = option_value(field[dash + 3], "upperdir=");
        mount->discards = has_option(field[5], "discard") || has_option(field[dash + 3], "discard");
        g_ptr_array_add(mounts, mount);
    }
    return mounts;
}

/* The device behind a mount: some file systems have a number of their own, and only the source
 * column tells the device. */
static dev_t mount_device(const Mount *mount)
{
    struct stat st;
    if (major(mount->dev) == 0 && g_path_is_absolute(mount->source) &&
        stat(mount->source, &st) == 0 && S_ISBLK(st.st_mode))
        return st.st_rdev;
    return mount->dev;
}

/* What a mounted device is mounted as; NULL when it is not. */
static char *mounted_filesystem(GPtrArray *mounts, dev_t dev)
{
    for (guint i = 0; i < mounts->len; i++) {
        const Mount *mount = mounts->pdata[i];
        if (mount_device(mount) == dev)
            return g_strdup(mount->filesystem);
    }
    return NULL;
}

static void add_use(GPtrArray *uses, const char *where, gboolean is_mount, gboolean discards)
{
    EkUse *use = g_new0(EkUse, 1);
    use->where = g_strdup(where);
    use->is_mount = is_mount;
    use->discards = discards;
    g_ptr_array_add(uses, use);
}

static GPtrArray *folder_names(const char *path)
{
    GPtrArray *names = g_ptr_array_new_with_free_func(g_free);
    GDir *folder = g_dir_open(path, 0, NULL);
    for (const char *name; folder != NULL && (name = g_dir_read_name(folder)) != NULL;)
        g_ptr_array_add(names, g_strdup(name));
    if (folder != NULL)
        g_dir_close(folder);
    return names;
}

static gint compare_names(gconstpointer a, gconstpointer b)
{
    const char *left = *(const char *const *)a;
    const char *right = *(const char *const *)b;
    /* sdb before sdaa, loop2 before loop10. */
    gsize left_length = strlen(left);
    gsize right_length = strlen(right);
    if (left_length != right_length)
        return left_length < right_length ? -1 : 1;
    return strcmp(left, right);
}

static GPtrArray *uses_of(EkSystem *system, const char *folder, const char *name, dev_t dev,
                          GPtrArray *mounts)
{
    GPtrArray *uses = g_ptr_array_new_with_free_func(use_free);
    for (guint i = 0; i < mounts->len; i++) {
        const Mount *mount = mounts->pdata[i];
        if (mount_device(mount) == dev)
            add_use(uses, mount->where, TRUE, mount->discards);
    }
    g_autofree char *holders_path = g_build_filename(folder, "holders", NULL);
    g_autoptr(GPtrArray) holders = folder_names(holders_path);
    for (guint i = 0; i < holders->len; i++)
        add_use(uses, holders->pdata[i], FALSE, FALSE);

    g_autofree char *swaps_path = g_build_filename(system->root, "proc/swaps", NULL);
    g_autofree char *swaps = NULL;
    g_autofree char *node = g_strdup_printf("/dev/%s ", name);
    if (g_file_get_contents(swaps_path, &swaps, NULL, NULL) && strstr(swaps, node) != NULL)
        add_use(uses, "swap", FALSE, FALSE);
    return uses;
}

static char *guess_bus(const char *folder, const char *name)
{
    static const struct {
        const char *in_path;
        const char *bus;
    } known[] = {{"/usb", "usb"},       {"/nvme", "nvme"}, {"/mmc", "mmc"},
                 {"/virtio", "virtio"}, {"/ata", "ata"},   {"/host", "scsi"}};
    if (g_str_has_prefix(name, "loop"))
        return g_strdup("loop");
    if (g_str_has_prefix(name, "nbd"))
        return g_strdup("nbd");
    char resolved[PATH_MAX];
    if (realpath(folder, resolved) == NULL)
        return NULL;
    for (guint i = 0; i < G_N_ELEMENTS(known); i++)
        if (strstr(resolved, known[i].in_path) != NULL)
            return g_strdup(known[i].bus);
    return NULL;
}

static char *take_first(char *first, char *second)
{
    if (first == NULL)
        return second;
    g_free(second);
    return first;
}

static EkPart *read_part(EkSystem *system, const char *folder, const char *name, GPtrArray *mounts)
{
    dev_t dev = 0;
    if (!attribute_dev(folder, &dev))
        return NULL;
    EkPart *part = g_new0(EkPart, 1);
    g_autoptr(GHashTable) udev = udev_properties(system, dev);
    part->name = g_strdup(name);
    part->dev = dev;
    part->range.first = attribute_number(folder, "start") * SYSFS_SECTOR;
    part->range.bytes = attribute_number(folder, "size") * SYSFS_SECTOR;
    part->filesystem = take_first(property(udev, "ID_FS_TYPE"), mounted_filesystem(mounts, dev));
    part->label = property(udev, "ID_FS_LABEL");
    part->uses = uses_of(system, folder, name, dev, mounts);
    return part;
}

static void read_parts(EkSystem *system, EkDrive *drive, const char *folder, GPtrArray *mounts)
{
    drive->parts = g_ptr_array_new_with_free_func(part_free);
    g_autoptr(GPtrArray) names = folder_names(folder);
    g_ptr_array_sort(names, compare_names);
    for (guint i = 0; i < names->len; i++) {
        g_autofree char *inside = g_build_filename(folder, names->pdata[i], NULL);
        g_autofree char *number = attribute(inside, "partition");
        EkPart *part = number != NULL ? read_part(system, inside, names->pdata[i], mounts) : NULL;
        if (part != NULL)
            g_ptr_array_add(drive->parts, part);
    }
}

/* The scheduler that is in use stands in brackets among the others. */
static void read_queue(EkDrive *drive, const char *folder, const char *about)
{
    g_autofree char *schedulers = attribute(folder, "queue/scheduler");
    g_autofree char *control = attribute(about, "power/control");
    char *open = schedulers != NULL ? strchr(schedulers, '[') : NULL;
    char *close = open != NULL ? strchr(open, ']') : NULL;
    if (close != NULL)
        drive->scheduler = g_strndup(open + 1, (gsize)(close - open - 1));
    drive->queue_depth = attribute_number(folder, "queue/nr_requests");
    drive->write_cache = attribute(folder, "queue/write_cache");
    drive->power = attribute(about, "power/runtime_status");
    drive->suspends = g_strcmp0(control, "auto") == 0;
}

static EkDrive *read_drive(EkSystem *system, const char *name, GPtrArray *mounts)
{
    g_autofree char *folder = g_build_filename(system->root, "sys/block", name, NULL);
    g_autofree char *about = g_build_filename(folder, "device", NULL);
    dev_t dev = 0;
    if (!attribute_dev(folder, &dev))
        return NULL;

    EkDrive *drive = g_new0(EkDrive, 1);
    g_autoptr(GHashTable) udev = udev_properties(system, dev);
    drive->name = g_strdup(name);
    drive->path = g_strdup_printf("/dev/%s", name);
    drive->dev = dev;
    drive->bytes = attribute_number(folder, "size") * SYSFS_SECTOR;
    drive->sector_size = (guint32)attribute_number(folder, "queue/logical_block_size");
    drive->physical_sector_size = (guint32)attribute_number(folder, "queue/physical_block_size");
    drive->model = take_first(attribute(about, "model"), property(udev, "ID_MODEL"));
    drive->serial = take_first(property(udev, "ID_SERIAL_SHORT"), attribute(about, "serial"));
    drive->serial = take_first(drive->serial, attribute(folder, "serial"));
    drive->wwn = take_first(attribute(folder, "wwid"), attribute(about, "wwid"));
    drive->wwn = take_first(drive->wwn, property(udev, "ID_WWN"));
    drive->bus = take_first(property(udev, "ID_BUS"), guess_bus(folder, name));
    drive->table = property(udev, "ID_PART_TABLE_TYPE");
    drive->filesystem = take_first(property(udev, "ID_FS_TYPE"), mounted_filesystem(mounts, dev));
    drive->backing = attribute(folder, "loop/backing_file");
    drive->backing_offset = attribute_number(folder, "loop/offset");
    drive->read_only = attribute_number(folder, "ro") != 0;
    drive->removable = attribute_number(folder, "removable") != 0;
    drive->rotational = attribute_number(folder, "queue/rotational") != 0;
    drive->can_discard = attribute_number(folder, "queue/discard_max_bytes") != 0;
    drive->buffered = drive->backing != NULL && attribute_number(folder, "loop/dio") == 0;
    drive->timeout_seconds = (guint32)attribute_number(about, "timeout");
    if (drive->timeout_seconds == 0)
        drive->timeout_seconds = (guint32)(attribute_number(folder, "queue/io_timeout") / 1000);
    drive->state = attribute(about, "state");
    read_queue(drive, folder, about);
    g_autofree char *errors = attribute(about, "ioerr_cnt");
    drive->error_count = errors != NULL ? (gint64)g_ascii_strtoull(errors, NULL, 0) : -1;
    drive->uses = uses_of(system, folder, name, dev, mounts);
    read_parts(system, drive, folder, mounts);
    return drive;
}

static gboolean is_no_drive(const char *name)
{
    return g_str_has_prefix(name, "ram") || g_str_has_prefix(name, "zram") ||
           g_str_has_prefix(name, "dm-") || g_str_has_prefix(name, "md");
}

static GPtrArray *block_names(EkSystem *system)
{
    g_autofree char *folder = g_build_filename(system->root, "sys/block", NULL);
    GPtrArray *names = folder_names(folder);
    g_ptr_array_sort(names, compare_names);
    return names;
}

GPtrArray *ek_system_drives(EkSystem *system)
{
    GPtrArray *drives = g_ptr_array_new_with_free_func((GDestroyNotify)ek_drive_free);
    g_autoptr(GPtrArray) mounts = read_mounts(system);
    g_autoptr(GPtrArray) names = block_names(system);
    for (guint i = 0; i < names->len; i++) {
        const char *name = names->pdata[i];
        EkDrive *drive = is_no_drive(name) ? NULL : read_drive(system, name, mounts);
        if (drive == NULL)
            continue;
        if (drive->bytes == 0 && drive->backing == NULL &&
            (g_str_has_prefix(name, "loop") || g_str_has_prefix(name, "nbd")))
            ek_drive_free(drive);
        else
            g_ptr_array_add(drives, drive);
    }
    return drives;
}

static gboolean drive_has_dev(const EkDrive *drive, dev_t dev)
{
    if (drive->dev == dev)
        return TRUE;
    for (guint i = 0; i < drive->parts->len; i++)
        if (((const EkPart *)drive->parts->pdata[i])->dev == dev)
            return TRUE;
    return FALSE;
}

/* The drive that the kernel's own index of devices names; NULL where there is no such index. */
static char *name_of_dev(EkSystem *system, dev_t dev)
{
    g_autofree char *link =
        g_strdup_printf("%s/sys/dev/block/%u:%u", system->root, major(dev), minor(dev));
    char resolved[PATH_MAX];
    if (realpath(link, resolved) == NULL)
        return NULL;
    g_autofree char *number = attribute(resolved, "partition");
    g_autofree char *folder = number != NULL ? g_path_get_dirname(resolved) : g_strdup(resolved);
    return g_path_get_basename(folder);
}

static EkDrive *drive_of_dev(EkSystem *system, dev_t dev)
{
    g_autoptr(GPtrArray) mounts = read_mounts(system);
    g_autofree char *known = name_of_dev(system, dev);
    if (known != NULL)
        return read_drive(system, known, mounts);
    g_autoptr(GPtrArray) names = block_names(system);
    for (guint i = 0; i < names->len; i++) {
        g_autoptr(EkDrive) drive = read_drive(system, names->pdata[i], mounts);
        if (drive != NULL && drive_has_dev(drive, dev))
            return g_steal_pointer(&drive);
    }
    return NULL;
}

EkDrive *ek_system_drive_of_path(EkSystem *system, const char *path)
{
    struct stat st;
    if (stat(path, &st) != 0 || !S_ISBLK(st.st_mode))
        return NULL;
    return drive_of_dev(system, st.st_rdev);
}

const EkPart *ek_drive_part_of_path(const EkDrive *drive, const char *path)
{
    struct stat st;
    if (stat(path, &st) != 0)
        return NULL;
    for (guint i = 0; i < drive->parts->len; i++) {
        const EkPart *part = drive->parts->pdata[i];
        if (part->dev == st.st_rdev)
            return part;
    }
    return NULL;
}

static void describe_uses(GPtrArray *lines, const char *name, GPtrArray *uses)
{
    for (guint i = 0; i < uses->len; i++) {
        const EkUse *use = uses->pdata[i];
        g_ptr_array_add(lines, use->is_mount
                                   ? g_strdup_printf("%s is mounted on %s", name, use->where)
                                   : g_strdup_printf("%s is held by %s", name, use->where));
    }
}

GPtrArray *ek_drive_in_use(const EkDrive *drive)
{
    GPtrArray *lines = g_ptr_array_new_with_free_func(g_free);
    describe_uses(lines, drive->name, drive->uses);
    for (guint i = 0; i < drive->parts->len; i++) {
        const EkPart *part = drive->parts->pdata[i];
        describe_uses(lines, part->name, part->uses);
    }
    return lines;
}

/* --- layers --------------------------------------------------------------------------------- */

/* What a file or device is made of: itself, the drive it is a partition of, the file behind a loop
 * device, the parts of an array, and so on. With `through_files` also the drive that the file
 * system of a file is on, and what that is made of. */
typedef struct {
    EkSystem *system;
    GPtrArray *mounts;
    gboolean through_files;
    dev_t devs[MAX_LAYERS * 4]; /* whole drives */
    guint dev_count;
    struct stat files[MAX_LAYERS];
    guint file_count;
} Chain;

static Chain *chain_new(EkSystem *system, gboolean through_files)
{
    Chain *chain = g_new0(Chain, 1);
    chain->system = system;
    chain->mounts = read_mounts(system);
    chain->through_files = through_files;
    return chain;
}

static void chain_free(Chain *chain)
{
    g_ptr_array_unref(chain->mounts);
    g_free(chain);
}

G_DEFINE_AUTOPTR_CLEANUP_FUNC(Chain, chain_free)

static void follow_file(Chain *chain, const struct stat *file);

static void follow_dev(Chain *chain, dev_t dev)
{
    g_autoptr(EkDrive) drive = drive_of_dev(chain->system, dev);
    dev = drive != NULL ? drive->dev : dev;
    for (guint i = 0; i < chain->dev_count; i++)
        if (chain->devs[i] == dev)
            return;
    if (chain->dev_count == G_N_ELEMENTS(chain->devs))
        return;
    chain->devs[chain->dev_count++] = dev;
    struct stat st;
    if (drive != NULL && drive->backing != NULL && stat(drive->backing, &st) == 0)
        follow_file(chain, &st);
    if (drive == NULL)
        return;
    g_autofree char *slaves_path =
        g_build_filename(chain->system->root, "sys/block", drive->name, "slaves", NULL);
    g_autoptr(GPtrArray) slaves = folder_names(slaves_path);
    for (guint i = 0; i < slaves->len; i++) {
        g_autofree char *folder = g_build_filename(slaves_path, slaves->pdata[i], NULL);
        dev_t below = 0;
        if (attribute_dev(folder, &below))
            follow_dev(chain, below);
    }
}

/* The device that the file system of a file is on. */
static void follow_mount(Chain *chain, const struct stat *file)
{
    dev_t dev = file->st_dev;
    for (guint i = 0; i < chain->mounts->len; i++) {
        const Mount *mount = chain->mounts->pdata[i];
        struct stat upper;
        if (mount->dev != dev)
            continue;
        /* The files of an overlay are kept where its upper folder is. */
        if (mount->upper != NULL && stat(mount->upper, &upper) == 0 && upper.st_dev != file->st_dev)
            follow_file(chain, &upper);
        dev = mount_device(mount);
    }
    follow_dev(chain, dev);
}

static void follow_file(Chain *chain, const struct stat *file)
{
    if (S_ISBLK(file->st_mode)) {
        follow_dev(chain, file->st_rdev);
        return;
    }
    if (chain->file_count == G_N_ELEMENTS(chain->files))
        return;
    chain->files[chain->file_count++] = *file;
    if (chain->through_files)
        follow_mount(chain, file);
}

static gboolean chains_meet(const Chain *one, const Chain *other)
{
    for (guint i = 0; i < one->dev_count; i++)
        for (guint k = 0; k < other->dev_count; k++)
            if (one->devs[i] == other->devs[k])
                return TRUE;
    for (guint i = 0; i < one->file_count; i++)
        for (guint k = 0; k < other->file_count; k++)
            if (one->files[i].st_dev == other->files[k].st_dev &&
                one->files[i].st_ino == other->files[k].st_ino)
                return TRUE;
    return FALSE;
}

/* What is at `path`, or at its nearest parent that exists. */
static gboolean stat_nearest(const char *path, struct stat *st)
{
    if (stat(path, st) == 0)
        return TRUE;
    g_autofree char *existing = g_canonicalize_filename(path, NULL);
    while (stat(existing, st) != 0) {
        if (strcmp(existing, "/") == 0)
            return FALSE;
        char *parent = g_path_get_dirname(existing);
        g_free(existing);
        existing = parent;
    }
    return TRUE;
}

gboolean ek_system_lies_on(EkSystem *system, const char *path, const char *source)
{
    struct stat below;
    struct stat st;
    if (stat(source, &below) != 0 || !stat_nearest(path, &st))
        return FALSE;
    g_autoptr(Chain) one = chain_new(system, TRUE);
    g_autoptr(Chain) other = chain_new(system, FALSE);
    follow_file(one, &st);
    /* Only the thing itself: to be on the same drive as a file is not to be on the file. */
    if (S_ISBLK(below.st_mode)) {
        g_autoptr(EkDrive) drive = drive_of_dev(system, below.st_rdev);
        other->devs[other->dev_count++] = drive != NULL ? drive->dev : below.st_rdev;
    } else {
        other->files[other->file_count++] = below;
    }
    return chains_meet(one, other);
}

gboolean ek_system_is_same_storage(EkSystem *system, const char *a, const char *b)
{
    struct stat left;
    struct stat right;
    if (stat(a, &left) != 0 || stat(b, &right) != 0)
        return FALSE;
    g_autoptr(Chain) one = chain_new(system, FALSE);
    g_autoptr(Chain) other = chain_new(system, FALSE);
    follow_file(one, &left);
    follow_file(other, &right);
    return chains_meet(one, other);
}

GPtrArray *ek_system_drives_below(EkSystem *system, const char *path)
{
    GPtrArray *drives = g_ptr_array_new_with_free_func((GDestroyNotify)ek_drive_free);
    struct stat st;
    if (!stat_nearest(path, &st))
        return drives;
    g_autoptr(Chain) chain = chain_new(system, TRUE);
    follow_file(chain, &st);
    for (guint i = 0; i < chain->dev_count; i++) {
        EkDrive *drive = drive_of_dev(system, chain->devs[i]);
        if (drive != NULL)
            g_ptr_array_add(drives, drive);
    }
    return drives;
}

GPtrArray *ek_system_uses_of_file(EkSystem *system, const char *path)
{
    GPtrArray *uses = g_ptr_array_new_with_free_func(g_free);
    struct stat st;
    if (stat(path, &st) != 0 || !S_ISREG(st.st_mode))
        return uses;
    g_autoptr(GPtrArray) drives = ek_system_drives(system);
    for (guint i = 0; i < drives->len; i++) {
        const EkDrive *drive = drives->pdata[i];
        struct stat behind;
        if (drive->backing == NULL || stat(drive->backing, &behind) != 0 ||
            behind.st_dev != st.st_dev || behind.st_ino != st.st_ino)
            continue;
        g_autoptr(GPtrArray) of_drive = ek_drive_in_use(drive);
        for (guint k = 0; k < of_drive->len; k++)
            g_ptr_array_add(uses, g_strdup(of_drive->pdata[k]));
    }
    return uses;
}

/* --- names for good --------------------------------------------------------------------------- */

void ek_identity_free(EkIdentity *identity)
{
    g_free(identity->name);
    g_free(identity);
}

static EkIdentity *identity_new(gboolean is_firm, char *name)
{
    EkIdentity *identity = g_new0(EkIdentity, 1);
    identity->name = name;
    identity->is_firm = is_firm;
    return identity;
}

/* Inode numbers are used again as soon as a file is gone: with the moment it was made they name one
 * for good, where the file system keeps that. */
static EkIdentity *identify_file(const char *path)
{
    struct stat st;
    if (stat(path, &st) != 0)
        return NULL;
    return identity_new(TRUE, g_strdup_printf("file %u:%u %" G_GUINT64_FORMAT " %" G_GINT64_FORMAT,
                                              major(st.st_dev), minor(st.st_dev),
                                              (guint64)st.st_ino, ek_platform_birth(path)));
}

EkIdentity *ek_drive_identity(const EkDrive *drive)
{
    EkIdentity *file = drive->backing != NULL ? identify_file(drive->backing) : NULL;
    if (file != NULL) {
        if (drive->backing_offset != 0) {
            g_autofree char *name = g_steal_pointer(&file->name);
            file->name = g_strdup_printf("%s +%" G_GUINT64_FORMAT, name, drive->backing_offset);
        }
        return file;
    }
    if (drive->wwn != NULL)
        return identity_new(TRUE, g_strdup_printf("wwn %s", drive->wwn));
    /* An adapter on USB may show a serial of its own, whatever drive is in it. */
    if (drive->serial != NULL)
        return identity_new(drive->bus != NULL && !g_str_equal(drive->bus, "usb"),
                            g_strdup_printf("serial %s", drive->serial));
    return identity_new(FALSE, g_strdup_printf("node %u:%u", major(drive->dev), minor(drive->dev)));
}

EkIdentity *ek_system_identify(EkSystem *system, const char *path)
{
    struct stat st;
    if (stat(path, &st) != 0)
        return NULL;
    if (!S_ISBLK(st.st_mode))
        return identify_file(path);
    g_autoptr(EkDrive) drive = drive_of_dev(system, st.st_rdev);
    if (drive != NULL)
        return ek_drive_identity(drive);
    return identity_new(FALSE, g_strdup_printf("node %u:%u", major(st.st_rdev), minor(st.st_rdev)));
}

char *ek_system_machine(EkSystem *system)
{
    g_autofree char *path = g_build_filename(system->root, "etc/machine-id", NULL);
    g_autofree char *id = NULL;
    guint8 sum[EK_SHA256_BYTES];
    if (!g_file_get_contents(path, &id, NULL, NULL) || *g_strstrip(id) == '\0')
        return g_strdup("");
    /* machine-id(5) asks for it not to be handed on as it is. */
    g_autofree char *salted = g_strconcat("ektypon case ", id, NULL);
    ek_sha256_of(salted, strlen(salted), sum);
    return ek_text_hex(sum, 16, '\0');
}

char *ek_system_filesystem_of(EkSystem *system, const char *path)
{
    struct stat st;
    g_autoptr(GPtrArray) mounts = read_mounts(system);
    char *filesystem = NULL;
    if (!stat_nearest(path, &st))
        return NULL;
    for (guint i = 0; i < mounts->len; i++) {
        const Mount *mount = mounts->pdata[i];
        if (mount->dev != st.st_dev)
            continue;
        g_free(filesystem); /* the last one lies on top */
        filesystem = g_strdup(mount->filesystem);
    }
    return filesystem;
}

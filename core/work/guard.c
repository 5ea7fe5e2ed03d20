/* SPDX-License-Identifier: MIT */
#include "work/guard.h"

#include "base/text.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

#define WORD_LENGTH 4u

static gboolean refuse_in_use(const EkDrive *drive, const char *path, GError **error)
{
    g_autoptr(GPtrArray) uses = ek_drive_in_use(drive);
    if (uses->len == 0)
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s is in use: %s%s. Unmount or release it, then try again", path,
                        (const char *)uses->pdata[0], uses->len > 1 ? ", and more" : "");
}

gboolean ek_guard_source(EkSystem *system, const char *source, gboolean whole_only, GError **error)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, source);
    if (drive == NULL)
        return TRUE;
    if (whole_only && ek_drive_part_of_path(drive, source) != NULL)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is a partition of %s. Take the whole drive, so that the partition "
                            "table and what lies around it come along: %s. To insist: --partition",
                            source, drive->path, drive->path);
    return refuse_in_use(drive, source, error);
}

static gboolean is_same_file(const char *a, const char *b)
{
    struct stat left;
    struct stat right;
    if (stat(a, &left) != 0 || stat(b, &right) != 0)
        return FALSE;
    if (S_ISBLK(left.st_mode) && S_ISBLK(right.st_mode))
        return left.st_rdev == right.st_rdev;
    return left.st_dev == right.st_dev && left.st_ino == right.st_ino;
}

gboolean ek_guard_apart(EkSystem *system, const char *path, const char *source, const char *what,
                        GError **error)
{
    if (is_same_file(path, source))
        return ek_error_set(error, EK_ERROR_REFUSED, "%s is the source itself", path);
    if (!ek_system_lies_on(system, path, source))
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s %s lies on the drive that is being recovered (%s). Name a place on "
                        "another drive",
                        what, path, source);
}

gboolean ek_guard_space(const char *path, EkByte bytes, const char *what, GError **error)
{
    struct statvfs fs;
    struct stat st;
    if (stat(path, &st) == 0 && S_ISBLK(st.st_mode))
        return TRUE; /* its size was looked at when it was claimed */
    g_autofree char *existing = g_canonicalize_filename(path, NULL);
    while (statvfs(existing, &fs) != 0) {
        if (strcmp(existing, "/") == 0)
            return TRUE;
        char *parent = g_path_get_dirname(existing);
        g_free(existing);
        existing = parent;
    }
    EkByte free_bytes = (EkByte)fs.f_bavail * fs.f_frsize;
    if (free_bytes >= bytes)
        return TRUE;
    g_autofree char *needed = ek_text_size(bytes);
    g_autofree char *there = ek_text_size(free_bytes);
    g_autofree char *missing = ek_text_size(bytes - free_bytes);
    return ek_error_set(error, EK_ERROR_NO_SPACE,
                        "%s may need %s, and %s has %s free: %s are missing", what, needed,
                        existing, there, missing);
}

gboolean ek_guard_is_source(const EkCaseInfo *info, const char *target)
{
    return is_same_file(info->path, target);
}

char *ek_guard_target_word(EkSystem *system, const char *target, char **description)
{
    *description = NULL;
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, target);
    if (drive == NULL)
        return NULL;
    const char *word = drive->serial != NULL ? drive->serial : drive->name;
    gsize length = strlen(word);
    g_autofree char *size = ek_text_label_size(drive->bytes);
    const char *holds = drive->table != NULL        ? drive->table
                        : drive->filesystem != NULL ? drive->filesystem
                        : drive->parts->len > 0     ? "partitions"
                                                    : "no known table";
    *description = g_strdup_printf("%s: %s, %s, serial %s, holds %s", target,
                                   drive->model != NULL ? drive->model : "unknown model", size,
                                   drive->serial != NULL ? drive->serial : "unknown", holds);
    return g_strdup(length > WORD_LENGTH ? word + length - WORD_LENGTH : word);
}

gboolean ek_guard_free(EkSystem *system, const char *target, GError **error)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, target);
    return drive == NULL || refuse_in_use(drive, target, error);
}

gboolean ek_guard_target(EkSystem *system, const char *target, const char *meant, GError **error)
{
    g_autofree char *description = NULL;
    g_autofree char *word = ek_guard_target_word(system, target, &description);
    if (word == NULL)
        return TRUE;
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, target);
    if (drive != NULL && !refuse_in_use(drive, target, error))
        return FALSE;
    if (meant != NULL && g_str_has_suffix(meant, word))
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s is a device, and would be written to (%s). To say that it is meant: "
                        "--i-mean %s",
                        target, description, word);
}

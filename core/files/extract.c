/* SPDX-License-Identifier: MIT */
/* Taking files out. Every step below the target folder goes through a descriptor of the folder
 * before, without following symbolic links, so that nothing on the way can lead outside. A file has
 * no name, or one that nobody else uses, until it is complete.
 *
 * What this extraction wrote, or found there as it should be, is claimed: by device and inode, and
 * where the target does not tell case apart by its folded name too. It is never written over again,
 * so that two files of a volume never become one. */
#include "base/bytes.h"
#include "base/digest.h"
#include "base/platform.h"
#include "files/names.h"
#include "files/numberset.h"
#include "files/record.h"
#include "files/writing.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#define MAX_DOUBLES 10000u

struct EkExtract {
    char *folder;
    int fd; /* locked: one extraction at a time writes to a folder */
    gboolean portable;
    gboolean folds; /* the target does not tell case apart */
    EkNumberSet *files;
    EkNumberSet *names;
    char *last_path; /* the folder that was opened last, and what it is called there */
    int last_fd;
    GString *last_written;
    gboolean last_renamed;
};

/* A file that is being written. */
typedef struct {
    int fd;
    int folder;                            /* that its name is in; the caller's */
    char name[sizeof EK_PART_PREFIX + 16]; /* "": it has none yet */
} Part;

/* --- parts ---------------------------------------------------------------------------------- */

static void name_part(Part *part)
{
    guint64 number = (guint64)g_random_int() << 32 | g_random_int();
    g_snprintf(part->name, sizeof part->name, EK_PART_PREFIX "%016" G_GINT64_MODIFIER "x", number);
}

/* Without a name where the system can do that; else under one that nobody else has. */
static gboolean part_open(const EkExtract *extract, int folder, Part *part, GError **error)
{
    *part = (Part){.folder = folder};
    part->fd = ek_platform_open_nameless(folder);
    for (guint tries = 0; part->fd < 0 && tries < 16 && (tries == 0 || errno == EEXIST); tries++) {
        name_part(part);
        part->fd =
            openat(folder, part->name, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
    }
    return part->fd >= 0 || ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write in %s",
                                                extract->folder);
}

/* Gives it a name that nothing has; fails with EEXIST where something does. */
static int part_name_new(const Part *part, const char *to)
{
    return part->name[0] == '\0' ? ek_platform_name(part->fd, part->folder, to)
                                 : ek_platform_rename_new(part->folder, part->name, to);
}

/* Gives it the name of what is there. */
static int part_name_over(Part *part, const char *to)
{
    while (part->name[0] == '\0') {
        name_part(part);
        if (ek_platform_name(part->fd, part->folder, part->name) == 0)
            break;
        part->name[0] = '\0';
        if (errno != EEXIST)
            return -1;
    }
    return renameat(part->folder, part->name, part->folder, to);
}

/* What has its name by now stays; else nothing does. */
static void part_close(Part *part, gboolean is_named)
{
    if (part->fd >= 0)
        close(part->fd);
    if (!is_named && part->name[0] != '\0')
        (void)unlinkat(part->folder, part->name, 0);
}

/* --- the target ------------------------------------------------------------------------------ */

/* Left by an extraction that was killed. No other is at work here, and no user has such names. */
static void remove_leftovers(int folder)
{
    int again = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    DIR *inside = again >= 0 ? fdopendir(again) : NULL;
    for (struct dirent *entry; inside != NULL && (entry = readdir(inside)) != NULL;) {
        struct stat st;
        if (g_str_has_prefix(entry->d_name, EK_PART_PREFIX) &&
            strlen(entry->d_name) == sizeof EK_PART_PREFIX - 1 + 16 &&
            fstatat(folder, entry->d_name, &st, AT_SYMLINK_NOFOLLOW) == 0 && S_ISREG(st.st_mode))
            (void)unlinkat(folder, entry->d_name, 0);
    }
    if (inside != NULL)
        closedir(inside);
    else if (again >= 0)
        close(again);
}

/* Does the target take two names that differ in case only for one? */
static gboolean does_fold(int folder)
{
    Part part = {.folder = folder};
    struct stat st;
    name_part(&part);
    part.fd = openat(folder, part.name, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
    if (part.fd < 0)
        return FALSE;
    g_autofree char *other = g_ascii_strup(part.name, -1);
    gboolean folds = fstatat(folder, other, &st, AT_SYMLINK_NOFOLLOW) == 0;
    part_close(&part, FALSE);
    return folds;
}

/* A number for a name, the same for all that the target takes for one. */
static guint64 number_of_name(const char *path)
{
    g_autofree char *normal = g_utf8_normalize(path, -1, G_NORMALIZE_DEFAULT_COMPOSE);
    g_autofree char *folded = g_utf8_casefold(normal != NULL ? normal : path, -1);
    return XXH3_64bits(folded, strlen(folded));
}

static guint64 number_of_file(const struct stat *st)
{
    guint64 key[2] = {(guint64)st->st_dev, (guint64)st->st_ino};
    return XXH3_64bits(key, sizeof key);
}

static void claim(EkExtract *extract, const struct stat *st, const char *path)
{
    ek_number_set_add(extract->files, number_of_file(st));
    if (extract->folds)
        ek_number_set_add(extract->names, number_of_name(path));
}

static gboolean is_claimed(const EkExtract *extract, const struct stat *st, const char *path)
{
    return ek_number_set_has(extract->files, number_of_file(st)) ||
           (extract->folds && ek_number_set_has(extract->names, number_of_name(path)));
}

EkExtract *ek_extract_new(const char *folder, gboolean portable, GError **error)
{
    if (g_mkdir_with_parents(folder, 0777) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s", folder);
        return NULL;
    }
    int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the folder %s", folder);
        return NULL;
    }
    if (flock(fd, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK) {
        ek_error_set(error, EK_ERROR_REFUSED,
                     "another extraction is writing to %s. Nothing was written. Wait for it, or "
                     "name another folder",
                     folder);
        close(fd);
        return NULL;
    }
    EkExtract *extract = g_new0(EkExtract, 1);
    extract->folder = g_strdup(folder);
    extract->fd = fd;
    extract->portable = portable;
    extract->files = ek_number_set_new();
    extract->names = ek_number_set_new();
    extract->last_fd = -1;
    extract->last_written = g_string_new(NULL);
    remove_leftovers(fd);
    extract->folds = does_fold(fd);
    return extract;
}

static void forget_folder(EkExtract *extract)
{
    if (extract->last_fd >= 0)
        close(extract->last_fd);
    extract->last_fd = -1;
    g_clear_pointer(&extract->last_path, g_free);
}

void ek_extract_free(EkExtract *extract)
{
    forget_folder(extract);
    close(extract->fd);
    ek_number_set_free(extract->files);
    ek_number_set_free(extract->names);
    g_string_free(extract->last_written, TRUE);
    g_free(extract->folder);
    g_free(extract);
}

void ek_extracted_clear(EkExtracted *result)
{
    g_clear_pointer(&result->written_as, g_free);
    g_clear_pointer(&result->sha256, g_free);
}

/* --- folders --------------------------------------------------------------------------------- */

/* Is this what a target says of a name that it does not take? */
static gboolean is_about_name(int errnum)
{
    return errnum == EINVAL || errnum == EILSEQ || errnum == ENAMETOOLONG || errnum == ENOENT ||
           errnum == EPERM || errnum == ENXIO || errnum == EPROTO;
}

/* The table of extracted files has its name already. */
static gboolean is_taken(const EkExtract *extract, int folder, const char *name)
{
    return folder == extract->fd && g_ascii_strcasecmp(name, EK_RECORD_NAME) == 0;
}

/* One folder below another, made where it is missing: under its own name, one that the target
 * takes, or, where a file has that, a numbered one. *used is for the caller to free. */
static int open_step(const EkExtract *extract, int at, const char *part, char **used,
                     gboolean *renamed)
{
    gboolean portable = extract->portable;
    g_autofree char *name = ek_name_for_target(part, portable, renamed);
    for (guint number = 1; number < MAX_DOUBLES; number++) {
        g_autofree char *candidate = ek_name_numbered(name, number);
        int made = is_taken(extract, at, candidate) ? -1 : mkdirat(at, candidate, 0777);
        if (made != 0 && errno != EEXIST && !portable && is_about_name(errno)) {
            portable = TRUE;
            g_free(name);
            name = ek_name_for_target(part, TRUE, renamed);
            number = 0;
            continue;
        }
        if (is_taken(extract, at, candidate))
            continue;
        if (made != 0 && errno != EEXIST)
            return -1;
        int next = openat(at, candidate, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
        struct stat st;
        gboolean is_file = next < 0 && errno == ENOTDIR &&
                           fstatat(at, candidate, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
                           S_ISREG(st.st_mode);
        if (is_file)
            continue;
        if (next < 0 && errno == ENOTDIR)
            errno = ELOOP;
        *renamed = *renamed || number > 1;
        *used = g_steal_pointer(&candidate);
        return next;
    }
    errno = EEXIST;
    return -1;
}

/* Opens the folder at `path`, making what is missing; it stays the extraction's. Returns a
 * descriptor or -1. The names as used are appended to `written`. */
static int open_folder(EkExtract *extract, const char *path, GString *written, gboolean *renamed,
                       GError **error)
{
    if (extract->last_path == NULL || !g_str_equal(extract->last_path, path)) {
        forget_folder(extract);
        g_string_truncate(extract->last_written, 0);
        extract->last_renamed = FALSE;
        int at = dup(extract->fd);
        g_auto(GStrv) parts = g_strsplit(path, "/", -1);
        for (char **part = parts; at >= 0 && *part != NULL; part++) {
            if (**part == '\0' && parts[1] == NULL)
                break;
            g_autofree char *used = NULL;
            int next = open_step(extract, part == parts ? extract->fd : at, *part, &used,
                                 &extract->last_renamed);
            int errnum = errno;
            close(at);
            at = next;
            if (at < 0 && errnum == ELOOP)
                ek_error_set(error, EK_ERROR_REFUSED,
                             "%s%s is a link, or no folder: nothing is written through it",
                             extract->last_written->str, used != NULL ? used : *part);
            else if (at < 0)
                ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot make the folder %s%s",
                                    extract->last_written->str, *part);
            else
                g_string_append_printf(extract->last_written, "%s/", used);
        }
        extract->last_fd = at;
        extract->last_path = at >= 0 ? g_strdup(path) : NULL;
    }
    g_string_append(written, extract->last_written->str);
    *renamed = *renamed || extract->last_renamed;
    return extract->last_fd;
}

/* --- one file -------------------------------------------------------------------------------- */

typedef struct {
    EkExtract *extract;
    EkFiles *files;
    const EkExtractOrder *order;
    const gint *cancel;
    EkExtracted *result;
    int folder;
    const char *where; /* the folder, relative to the target, with a slash at its end */
    const char *base;  /* the name on the volume */
    char *name;        /* as the target takes it */
    gboolean portable;
    guint number; /* of the candidate: 0 what an earlier extraction called it */
    char *candidate;
    Part part; /* fd -1: not written yet */
} Placing;

static gboolean has_time(const struct stat *st, const EkFile *file)
{
    return !file->modified.is_set || st->st_mtim.tv_sec == ek_timestamp_to_unix(&file->modified);
}

/* Is this file, of this content, there as it should be? FALSE with *error when reading was
 * interrupted. */
static gboolean is_same(Placing *placing, const struct stat *st, GError **error)
{
    const EkExtractOrder *order = placing->order;
    if (!S_ISREG(st->st_mode) || (guint64)st->st_size != order->file->size)
        return FALSE;
    if (order->known_sha256 != NULL && order->is_known_current && has_time(st, order->file) &&
        (*order->known_sha256 != '\0' || ek_writing_is_vast(order->file, order->extents))) {
        placing->result->sha256 =
            *order->known_sha256 != '\0' ? g_strdup(order->known_sha256) : NULL;
        return TRUE;
    }
    if (ek_writing_is_vast(order->file, order->extents))
        return FALSE;
    GError *failure = NULL;
    g_autofree char *there =
        ek_writing_digest_of(placing->folder, placing->candidate, placing->cancel, &failure);
    g_autofree char *here = failure == NULL
                                ? ek_writing_digest(placing->files, order->file, order->extents,
                                                    placing->cancel, &failure)
                                : NULL;
    if (failure != NULL) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    if (here == NULL || g_strcmp0(there, here) != 0)
        return FALSE;
    placing->result->sha256 = g_steal_pointer(&here);
    return TRUE;
}

/* Is this what an earlier extraction wrote of the file, when less of it was read? */
static gboolean is_own_lesser(Placing *placing, const struct stat *st, GError **error)
{
    const EkExtractOrder *order = placing->order;
    if (!S_ISREG(st->st_mode) || !order->is_known_lesser || order->known_sha256 == NULL ||
        *order->known_sha256 == '\0')
        return FALSE;
    g_autofree char *there =
        ek_writing_digest_of(placing->folder, placing->candidate, placing->cancel, error);
    return g_strcmp0(there, order->known_sha256) == 0;
}

static gboolean write_part(Placing *placing, GError **error)
{
    const EkExtractOrder *order = placing->order;
    if (placing->part.fd >= 0)
        return TRUE;
    if (!part_open(placing->extract, placing->folder, &placing->part, error) ||
        !ek_writing_content(placing->files, order->file, order->extents, placing->part.fd,
                            placing->extract->folder, placing->cancel, &placing->result->sha256,
                            error))
        return FALSE;
    ek_writing_set_times(placing->part.fd, order->file);
    return TRUE;
}

static char *path_of(const Placing *placing)
{
    return g_strconcat(placing->where, placing->candidate, NULL);
}

/* The candidate is what was written, or was there as it should be. */
static gboolean settle(Placing *placing, const struct stat *st, EkOutcome outcome)
{
    g_autofree char *path = path_of(placing);
    if (outcome != EK_OUTCOME_KEPT)
        claim(placing->extract, st, path);
    placing->result->outcome = outcome;
    placing->result->written_as = g_steal_pointer(&path);
    placing->result->renamed =
        placing->result->renamed || !g_str_equal(placing->candidate, placing->base);
    return TRUE;
}

/* Gives what was written the candidate's name. FALSE without *error: it has to be another. */
static gboolean name_part_so(Placing *placing, gboolean over, GError **error)
{
    struct stat st;
    if (!write_part(placing, error))
        return FALSE;
    int named = over ? part_name_over(&placing->part, placing->candidate)
                     : part_name_new(&placing->part, placing->candidate);
    int errnum = errno;
    if (named != 0 && errnum == EEXIST)
        return FALSE;
    if (named != 0 && !placing->portable && is_about_name(errnum)) {
        placing->portable = TRUE;
        g_free(placing->name);
        placing->name = ek_name_for_target(placing->base, TRUE, &placing->result->renamed);
        placing->number = 0;
        return FALSE;
    }
    if (named != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot name %s%s",
                                   placing->where, placing->candidate);
    gboolean known = fstat(placing->part.fd, &st) == 0;
    /* What a full disk has not taken is known only now, with some file systems. */
    int closed = close(placing->part.fd);
    placing->part.fd = -1;
    placing->part.name[0] = '\0';
    if (closed != 0 || !known) {
        (void)unlinkat(placing->folder, placing->candidate, 0);
        return ek_error_from_errno(error, EK_ERROR_FAILED, closed != 0 ? errno : EIO,
                                   "cannot write %s%s", placing->where, placing->candidate);
    }
    return settle(placing, &st, EK_OUTCOME_WRITTEN);
}

/* Tries the candidate. TRUE: it is settled; FALSE without *error: the next one. */
static gboolean try_candidate(Placing *placing, GError **error)
{
    struct stat st;
    GError *failure = NULL;
    g_autofree char *path = path_of(placing);
    gboolean is_there = fstatat(placing->folder, placing->candidate, &st, AT_SYMLINK_NOFOLLOW) == 0;
    if (is_taken(placing->extract, *placing->where == '\0' ? placing->extract->fd : -1,
                 placing->candidate))
        return FALSE;
    if (!is_there)
        return placing->number > 0 && name_part_so(placing, FALSE, error);
    if (is_claimed(placing->extract, &st, path))
        return FALSE;
    if (is_same(placing, &st, &failure))
        return settle(placing, &st, EK_OUTCOME_SAME);
    gboolean is_lesser = failure == NULL && is_own_lesser(placing, &st, &failure);
    if (failure != NULL) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    if (is_lesser)
        return name_part_so(placing, TRUE, error);
    if (S_ISDIR(st.st_mode) || placing->order->if_exists == EK_EXISTS_RENAME)
        return FALSE;
    if (placing->order->if_exists == EK_EXISTS_KEEP)
        return settle(placing, &st, EK_OUTCOME_KEPT);
    return name_part_so(placing, TRUE, error);
}

/* What an earlier extraction called it, when that is in the same folder; else NULL. */
static const char *earlier_name(const Placing *placing)
{
    const char *earlier = placing->order->known_name;
    gsize length = strlen(placing->where);
    /* What shall replace another file shall have its own name. */
    if (earlier == NULL || placing->order->if_exists == EK_EXISTS_REPLACE ||
        strncmp(earlier, placing->where, length) != 0)
        return NULL;
    const char *name = earlier + length;
    gboolean fine = *name != '\0' && strchr(name, '/') == NULL && !g_str_equal(name, ".") &&
                    !g_str_equal(name, "..");
    return fine ? name : NULL;
}

static gboolean place(Placing *placing, GError **error)
{
    GError *failure = NULL;
    placing->number = 0;
    placing->candidate = g_strdup(earlier_name(placing));
    if (placing->candidate != NULL && try_candidate(placing, &failure))
        return TRUE;
    while (failure == NULL && ++placing->number < MAX_DOUBLES) {
        g_free(placing->candidate);
        placing->candidate = ek_name_numbered(placing->name, placing->number);
        if (try_candidate(placing, &failure))
            return TRUE;
    }
    if (failure == NULL)
        ek_error_set(&failure, EK_ERROR_FAILED, "%s%s is there %u times already", placing->where,
                     placing->name, MAX_DOUBLES);
    g_propagate_error(error, failure);
    return FALSE;
}

gboolean ek_extract_file(EkExtract *extract, EkFiles *files, const EkExtractOrder *order,
                         const gint *cancel, EkExtracted *result, GError **error)
{
    *result = (EkExtracted){0};
    g_autofree char *parent = g_path_get_dirname(order->path);
    g_autofree char *base = g_path_get_basename(order->path);
    g_autoptr(GString) where = g_string_new(NULL);
    int folder = open_folder(extract, g_str_equal(parent, ".") ? "" : parent, where,
                             &result->renamed, error);
    if (folder < 0)
        return FALSE;
    Placing placing = {.extract = extract,
                       .files = files,
                       .order = order,
                       .cancel = cancel,
                       .result = result,
                       .folder = folder,
                       .where = where->str,
                       .base = base,
                       .portable = extract->portable,
                       .part = {.fd = -1, .folder = folder}};
    placing.name = ek_name_for_target(base, placing.portable, &result->renamed);
    gboolean fine = place(&placing, error);
    part_close(&placing.part, FALSE);
    g_free(placing.name);
    g_free(placing.candidate);
    if (!fine)
        g_clear_pointer(&result->sha256, g_free);
    return fine;
}

gboolean ek_extract_folder(EkExtract *extract, const char *path, GError **error)
{
    gboolean renamed = FALSE;
    g_autoptr(GString) written = g_string_new(NULL);
    return open_folder(extract, path, written, &renamed, error) >= 0;
}

gboolean ek_extract_sync(EkExtract *extract, GError **error)
{
    if (ek_platform_sync_around(extract->fd) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno,
                                   "cannot flush the files in %s to stable storage",
                                   extract->folder);
    return TRUE;
}

/* SPDX-License-Identifier: MIT */
/* What a place is to a case (ek_guard_ask), and what follows from it for each way of writing.
 *
 * A path says little: a drive comes back under another node, a node is given to another drive, a
 * file has several names. So things are compared by what they are made of (EkSystem's layers), by
 * the names they have for good (EkIdentity) and, where both leave it open, by what is on them. */
#include "work/guard.h"

#include "base/text.h"
#include "case/applications.h"
#include "case/clonestore.h"
#include "device/device.h"
#include "device/model.h"
#include "work/recognise.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

#define WORD_LENGTH 4u
#define UNWRITTEN                                                                                  \
    ((EkByte)64 << 20) /* behind what a clone says it wrote there may be a little more */

/* --- sources -------------------------------------------------------------------------------- */

EkCaseSource *ek_guard_describe_source(EkSystem *system, const char *source, const char *kind,
                                       EkByte bytes)
{
    EkCaseSource *described = g_new0(EkCaseSource, 1);
    gboolean is_simulated = g_str_has_prefix(source, "sim:");
    const char *named = is_simulated ? source + strlen("sim:") : source;
    described->source = g_strdup(source);
    described->kind = g_strdup(kind);
    described->path =
        ek_device_is_uri(source) ? g_strdup(source) : g_canonicalize_filename(named, NULL);
    described->bytes = bytes;
    const char *path = described->path;
    g_autoptr(EkModel) model = is_simulated ? ek_model_read(path, NULL) : NULL;
    if (model != NULL)
        described->backing = g_canonicalize_filename(model->backing, NULL);
    g_autoptr(EkIdentity) identity =
        ek_device_is_uri(source) ? NULL : ek_system_identify(system, path);
    described->identity = g_strdup(identity != NULL ? identity->name : "");
    described->is_firm = identity != NULL && identity->is_firm;
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, path);
    const EkPart *part = drive != NULL ? ek_drive_part_of_path(drive, path) : NULL;
    described->first_byte = part != NULL ? part->range.first : 0;
    return described;
}

static gboolean is_adopted(const EkCaseSource *source)
{
    return g_str_equal(source->kind, "adopted");
}

/* --- what is on it ---------------------------------------------------------------------------- */

/* Where the source's first byte is on a device: a partition does not begin where its drive does. */
static gint64 start_on(const EkDrive *drive, const char *path, const EkCaseSource *source)
{
    const EkPart *part = ek_drive_part_of_path(drive, path);
    return (gint64)source->first_byte - (part != NULL ? (gint64)part->range.first : 0);
}

static EkLikeness likeness_of(const EkGuard *guard, const EkDrive *drive, const char *path,
                              const EkCaseSource *source, EkByte from)
{
    if (guard->view == NULL)
        return (EkLikeness){0};
    return ek_recognise(guard->view, path, drive != NULL ? start_on(drive, path, source) : 0, from,
                        guard->cancel);
}

static gboolean holds_after(const char *path, const GPtrArray *edits)
{
    gboolean holds = FALSE;
    FILE *file = fopen(path, "re");
    for (guint i = 0; file != NULL && edits != NULL && i < edits->len && !holds; i++) {
        const EkEdit *edit = edits->pdata[i];
        g_autofree guint8 *found = g_malloc(edit->length);
        holds = memcmp(edit->before, edit->after, edit->length) != 0 &&
                fseeko(file, (off_t)edit->first_byte, SEEK_SET) == 0 &&
                fread(found, 1, edit->length, file) == edit->length &&
                memcmp(found, edit->after, edit->length) == 0;
    }
    if (file != NULL)
        fclose(file);
    return holds;
}

/* Is it one that this case wrote to before? Where an adapter may have lent its name to another
 * drive, what is on it must say so too: an edit that only the target has, or that its end is not
 * written. */
static gboolean is_own_target(const EkGuard *guard, const EkDrive *drive, const char *path,
                              const EkIdentity *identity, const EkCaseSource *source)
{
    EkCase *self = guard->view != NULL ? guard->view->opened : NULL;
    EkByte done = 0;
    if (self == NULL)
        return FALSE;
    gboolean known = ek_clonestore_knows(self, identity->name);
    g_autoptr(GPtrArray) list = ek_applications_list(self, NULL);
    for (guint i = 0; list != NULL && i < list->len; i++) {
        const EkApplication *application = list->pdata[i];
        if (!g_str_equal(application->identity, identity->name))
            continue;
        known = TRUE;
        g_autoptr(GPtrArray) edits = ek_applications_edits(self, application->id, NULL);
        if (!identity->is_firm && application->state == EK_APPLICATION_APPLIED &&
            holds_after(path, edits))
            return TRUE;
    }
    if (!known || identity->is_firm)
        return known;
    if (drive->bytes != source->first_byte + source->bytes && source->first_byte == 0)
        return TRUE;
    if (!ek_clonestore_is_unfinished(self, identity->name, FALSE, &done) &&
        !ek_clonestore_is_unfinished(self, identity->name, TRUE, &done))
        return FALSE;
    EkLikeness rest = likeness_of(guard, drive, path, source, done + UNWRITTEN);
    return rest.asked > 0 && rest.equal == 0;
}

/* --- the source ------------------------------------------------------------------------------- */

/* A node or path may have been given to something else since. */
static gboolean is_still_there(const EkGuard *guard, const EkCaseSource *source)
{
    g_autoptr(EkIdentity) now = ek_system_identify(guard->system, source->path);
    return now == NULL || !now->is_firm || !source->is_firm ||
           g_str_equal(now->name, source->identity);
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

static EkRelation to_place(const EkGuard *guard, const char *path, const EkCaseSource *source,
                           const char *place, char **why)
{
    if (is_same_file(path, place)) {
        *why = g_strdup_printf("%s is the source itself", path);
        return EK_RELATION_SOURCE;
    }
    if (ek_system_is_same_storage(guard->system, path, place)) {
        *why = g_strdup_printf("%s leads to the source (%s), or is a part of it", path, place);
        return EK_RELATION_SOURCE;
    }
    if (ek_system_lies_on(guard->system, path, place)) {
        *why = g_strdup_printf("%s is kept on the source (%s)", path, place);
        return EK_RELATION_ON_SOURCE;
    }
    if (ek_device_is_at(path) && ek_system_lies_on(guard->system, place, path)) {
        *why = g_strdup_printf("the source (%s) is kept on %s", source->source, path);
        return EK_RELATION_SOURCE;
    }
    return EK_RELATION_NONE;
}

/* By the path under which the source was named. */
static EkRelation to_named_source(const EkGuard *guard, const char *path,
                                  const EkCaseSource *source, char **why)
{
    const char *places[] = {source->path, source->backing};
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(guard->system, path);
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++) {
        if (places[i] == NULL || !g_path_is_absolute(places[i]) || !is_still_there(guard, source))
            continue;
        EkRelation relation = to_place(guard, path, source, places[i], why);
        if (relation == EK_RELATION_NONE)
            continue;
        /* The node without a name for good may be another drive's by now: what is on it tells. */
        EkLikeness likeness = {0};
        if (relation == EK_RELATION_SOURCE && drive != NULL && !source->is_firm)
            likeness = likeness_of(guard, drive, path, source, 0);
        if (!ek_is_stranger(&likeness))
            return relation;
        g_clear_pointer(why, g_free);
    }
    return EK_RELATION_NONE;
}

/* Is the source on its node, and that another one than this drive's? */
static gboolean is_elsewhere(const EkGuard *guard, const EkDrive *drive, const EkCaseSource *source)
{
    g_autoptr(EkDrive) there = ek_system_drive_of_path(guard->system, source->path);
    g_autoptr(EkIdentity) identity = there != NULL ? ek_drive_identity(there) : NULL;
    return identity != NULL && there->dev != drive->dev &&
           g_str_equal(identity->name, source->identity);
}

/* Is it the name of the same thing, or of one that begins inside of it (a loop device with an
 * offset)?
 */
static gboolean is_same_name(const char *a, const char *b)
{
    gsize length = MIN(strlen(a), strlen(b));
    const char *longer = strlen(a) > strlen(b) ? a : b;
    return *a != '\0' && *b != '\0' && strncmp(a, b, length) == 0 &&
           (longer[length] == '\0' || g_str_has_prefix(longer + length, " +"));
}

/* By the names that drives have for good, and by what is on them. */
static EkRelation to_drive(const EkGuard *guard, const EkDrive *drive, const char *path,
                           const EkCaseSource *source, char **why)
{
    g_autoptr(EkIdentity) identity = ek_drive_identity(drive);
    gboolean same_name = is_same_name(identity->name, source->identity);
    if (same_name && identity->is_firm) {
        *why = g_strdup_printf("%s is the source: it has its name (%s)", path, identity->name);
        return EK_RELATION_SOURCE;
    }
    if ((identity->is_firm && source->is_firm) ||
        is_own_target(guard, drive, path, identity, source))
        return EK_RELATION_NONE;
    EkLikeness likeness = likeness_of(guard, drive, path, source, 0);
    if (ek_is_alike(&likeness)) {
        *why =
            g_strdup_printf("%s holds the same data as the source: %u of %u compared sectors are "
                            "equal. It is the source at another node, or a copy",
                            path, likeness.equal, likeness.asked);
        return EK_RELATION_LIKE;
    }
    if (same_name && g_str_has_prefix(identity->name, "serial ") && !ek_is_stranger(&likeness) &&
        !is_elsewhere(guard, drive, source)) {
        *why = g_strdup_printf("%s shows the serial of the source (%s)", path,
                               identity->name + strlen("serial "));
        return EK_RELATION_SOURCE;
    }
    return EK_RELATION_NONE;
}

/* A server may be on this machine, and the file it gives too: only what is in a file tells. */
static EkRelation to_served(const EkGuard *guard, const char *path, const EkCaseSource *source,
                            char **why)
{
    struct stat st;
    if (stat(path, &st) != 0 || !S_ISREG(st.st_mode))
        return EK_RELATION_NONE;
    g_autoptr(EkIdentity) identity = ek_system_identify(guard->system, path);
    if (identity == NULL || is_own_target(guard, NULL, path, identity, source))
        return EK_RELATION_NONE;
    EkLikeness likeness = likeness_of(guard, NULL, path, source, 0);
    if (!ek_is_alike(&likeness))
        return EK_RELATION_NONE;
    *why =
        g_strdup_printf("%s holds the same data as %s: %u of %u compared sectors are equal. It may "
                        "be the file behind that server, or a copy",
                        path, source->source, likeness.equal, likeness.asked);
    return EK_RELATION_LIKE;
}

static gboolean is_served(const EkCaseSource *source)
{
    return g_str_equal(source->kind, "nbd") || g_str_has_prefix(source->path, "/dev/nbd");
}

static EkRelation to_source(const EkGuard *guard, const char *path, const EkCaseSource *source,
                            char **why)
{
    EkRelation relation = to_named_source(guard, path, source, why);
    g_autoptr(EkIdentity) identity = ek_system_identify(guard->system, path);
    if (relation == EK_RELATION_NONE && identity != NULL && identity->is_firm &&
        is_same_name(identity->name, source->identity)) {
        *why =
            g_strdup_printf("%s is the source, as it was seen before (%s)", path, source->source);
        return EK_RELATION_SOURCE;
    }
    g_autoptr(GPtrArray) drives = ek_system_drives_below(guard->system, path);
    gboolean on_device = ek_device_is_at(path);
    for (guint i = 0; relation == EK_RELATION_NONE && i < drives->len; i++) {
        const EkDrive *drive = drives->pdata[i];
        gboolean itself = on_device && i == 0;
        relation = to_drive(guard, drive, itself ? path : drive->path, source, why);
        if (relation != EK_RELATION_NONE && !itself)
            relation = EK_RELATION_ON_SOURCE;
    }
    if (relation == EK_RELATION_NONE && is_served(source))
        relation = to_served(guard, path, source, why);
    return relation;
}

/* To all sources of the case in `view` (NULL: none), and the one it has not. */
static EkRelation to_sources(const EkGuard *guard, const EkView *view, const char *path, char **why)
{
    g_autoptr(GPtrArray) kept = view != NULL ? ek_case_sources(view->opened, NULL) : NULL;
    EkRelation relation = EK_RELATION_NONE;
    if (guard->source != NULL)
        relation = to_source(guard, path, guard->source, why);
    for (guint i = 0; kept != NULL && relation == EK_RELATION_NONE && i < kept->len; i++)
        if (!is_adopted(kept->pdata[i]))
            relation = to_source(guard, path, kept->pdata[i], why);
    return relation;
}

/* --- what belongs to the case ----------------------------------------------------------------- */

static EkRelation to_image(const EkGuard *guard, const char *path, char **why)
{
    const char *image = ek_case_info(guard->view->opened)->image;
    if (is_same_file(path, image)) {
        *why = g_strdup_printf("%s is the image of this case", path);
        return EK_RELATION_IMAGE;
    }
    if (ek_system_is_same_storage(guard->system, path, image) ||
        ek_system_lies_on(guard->system, path, image) ||
        (ek_device_is_at(path) && ek_system_lies_on(guard->system, image, path))) {
        *why =
            g_strdup_printf("%s leads to the image of this case (%s), or contains it", path, image);
        return EK_RELATION_NEAR_IMAGE;
    }
    return EK_RELATION_NONE;
}

/* Is `name` one that a case gives to a file of its own? */
static gboolean is_reserved(const char *name)
{
    static const char *const endings[] = {".db", "-wal", "-shm", "-journal"};
    for (gsize i = 0; i < G_N_ELEMENTS(endings); i++)
        if (g_str_has_suffix(name, endings[i]))
            return TRUE;
    return g_str_equal(name, "image.raw") || g_str_equal(name, "locks");
}

/* Is it a file in this folder of the case, by whatever name? */
static gboolean is_file_in(const char *folder, const char *path, gboolean all)
{
    GDir *inside = g_dir_open(folder, 0, NULL);
    gboolean found = FALSE;
    for (const char *name; inside != NULL && !found && (name = g_dir_read_name(inside)) != NULL;) {
        g_autofree char *file = g_build_filename(folder, name, NULL);
        found = (all || is_reserved(name)) && is_same_file(file, path);
    }
    if (inside != NULL)
        g_dir_close(inside);
    return found;
}

static EkRelation to_case(const EkGuard *guard, const char *path, char **why)
{
    const char *folder = ek_case_folder(guard->view->opened);
    g_autofree char *locks = g_build_filename(folder, "locks", NULL);
    g_autofree char *full = g_canonicalize_filename(path, NULL);
    g_autofree char *parent = g_path_get_dirname(full);
    g_autofree char *name = g_path_get_basename(full);
    if (is_same_file(path, folder) || is_same_file(path, locks) ||
        is_file_in(folder, path, FALSE) || is_file_in(locks, path, TRUE) ||
        is_same_file(parent, locks) || (is_same_file(parent, folder) && is_reserved(name))) {
        *why = g_strdup_printf("%s belongs to the case itself", path);
        return EK_RELATION_CASE;
    }
    if (ek_device_is_at(path) && ek_system_lies_on(guard->system, folder, path)) {
        *why = g_strdup_printf("the case folder is kept on %s", path);
        return EK_RELATION_CASE;
    }
    return EK_RELATION_NONE;
}

/* Is it something that this case wrote to, another way to that, or kept on it? */
static EkRelation to_targets(const EkGuard *guard, const char *path, char **why)
{
    g_autoptr(EkIdentity) identity = ek_system_identify(guard->system, path);
    g_autoptr(GPtrArray) targets = ek_clonestore_targets(guard->view->opened);
    for (guint i = 0; targets != NULL && i < targets->len; i++) {
        const EkKnownTarget *target = targets->pdata[i];
        g_autoptr(EkIdentity) now = ek_system_identify(guard->system, target->path);
        /* A node or a name may be another's by now. */
        if (now == NULL || !g_str_equal(now->name, target->identity))
            continue;
        gboolean same = ek_system_is_same_storage(guard->system, path, target->path);
        gboolean itself = same && is_same_file(path, target->path) && identity != NULL &&
                          g_str_equal(identity->name, target->identity);
        if (!same && !ek_system_lies_on(guard->system, path, target->path))
            continue;
        *why = g_strdup_printf("%s is %s %s, which this case wrote to", path,
                               same ? "another path to" : "kept on", target->path);
        return itself ? EK_RELATION_TARGET : same ? EK_RELATION_NEAR_TARGET : EK_RELATION_ON_TARGET;
    }
    return EK_RELATION_NONE;
}

static EkRelation to_users(const EkGuard *guard, const char *path, char **why)
{
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(guard->system, path);
    g_autoptr(GPtrArray) uses =
        drive != NULL ? ek_drive_in_use(drive) : ek_system_uses_of_file(guard->system, path);
    if (uses->len == 0)
        return EK_RELATION_NONE;
    *why = g_strdup_printf("%s is in use: %s%s", path, (const char *)uses->pdata[0],
                           uses->len > 1 ? ", and more" : "");
    return EK_RELATION_IN_USE;
}

EkRelation ek_guard_ask(const EkGuard *guard, const char *path, char **why)
{
    *why = NULL;
    EkRelation image = guard->view != NULL ? to_image(guard, path, why) : EK_RELATION_NONE;
    if (image == EK_RELATION_IMAGE)
        return image;
    g_clear_pointer(why, g_free);
    EkRelation relation = to_sources(guard, guard->view, path, why);
    if (relation == EK_RELATION_NONE && image != EK_RELATION_NONE)
        return to_image(guard, path, why);
    if (relation == EK_RELATION_NONE && guard->view != NULL)
        relation = to_case(guard, path, why);
    if (relation == EK_RELATION_NONE && guard->view != NULL)
        relation = to_targets(guard, path, why);
    g_autofree char *users = NULL;
    gboolean may_be_used = relation == EK_RELATION_NONE || relation == EK_RELATION_TARGET;
    if (!may_be_used || to_users(guard, path, &users) == EK_RELATION_NONE)
        return relation;
    g_free(*why);
    *why = g_steal_pointer(&users);
    return EK_RELATION_IN_USE;
}

/* --- before reading --------------------------------------------------------------------------- */

gboolean ek_guard_source(EkSystem *system, const char *source, gboolean whole_only, GError **error)
{
    EkGuard guard = {.system = system};
    g_autofree char *why = NULL;
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, source);
    if (drive == NULL)
        return TRUE;
    if (whole_only && ek_drive_part_of_path(drive, source) != NULL)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is a partition of %s. Take the whole drive, so that the partition "
                            "table and the areas around the partition are imaged too: %s. To image "
                            "the partition alone: --partition",
                            source, drive->path, drive->path);
    if (to_users(&guard, source, &why) == EK_RELATION_NONE)
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED, "%s. Unmount or release it, then try again", why);
}

/* --- before writing --------------------------------------------------------------------------- */

static gboolean refuse(const char *why, const char *advice, GError **error)
{
    return ek_error_set(error, EK_ERROR_REFUSED, "%s. %s", why, advice);
}

gboolean ek_guard_output(const EkGuard *guard, const char *path, const char *what, GError **error)
{
    g_autofree char *why = NULL;
    if (ek_device_is_at(path))
        return ek_error_set(error, EK_ERROR_REFUSED, "%s is a device. Name a file or folder for %s",
                            path, what);
    switch (ek_guard_ask(guard, path, &why)) {
    case EK_RELATION_NONE:
    case EK_RELATION_ON_TARGET: return TRUE;
    case EK_RELATION_IN_USE:
    case EK_RELATION_TARGET:
    case EK_RELATION_NEAR_TARGET:
    case EK_RELATION_SOURCE:
    case EK_RELATION_LIKE:
    case EK_RELATION_ON_SOURCE:
    case EK_RELATION_IMAGE:
    case EK_RELATION_NEAR_IMAGE:
    case EK_RELATION_CASE: break;
    }
    g_autofree char *advice =
        g_strdup_printf("Nothing was written. Name a place on another drive for %s", what);
    return refuse(why, advice, error);
}

gboolean ek_guard_image(const EkGuard *guard, const char *path, GError **error)
{
    g_autofree char *why = NULL;
    /* A device that holds the image holds what the source holds: it is known by its name only. */
    EkGuard named = {guard->system, NULL, guard->source, guard->cancel};
    EkRelation relation = to_sources(&named, guard->view, path, &why);
    if (relation == EK_RELATION_NONE && ek_device_is_at(path))
        relation = to_users(guard, path, &why);
    if (relation == EK_RELATION_NONE)
        return TRUE;
    return refuse(why,
                  relation == EK_RELATION_IN_USE
                      ? "Unmount or release it, then try again"
                      : "Nothing was written. Name a place on another drive for the image",
                  error);
}

char *ek_guard_word(EkSystem *system, const char *target, char **description)
{
    struct stat st;
    *description = NULL;
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, target);
    if (drive == NULL) {
        if (stat(target, &st) != 0)
            return NULL;
        *description = g_strdup_printf("%s: a file", target);
        return g_path_get_basename(target);
    }
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

static gboolean is_word(const char *confirmed, const char *word, gboolean of_device)
{
    if (confirmed == NULL)
        return FALSE;
    return of_device ? g_str_has_suffix(confirmed, word) : g_str_equal(confirmed, word);
}

/* A device is written to only when its word is given. */
static gboolean check_device_word(EkSystem *system, const char *path, const char *confirmed,
                                  GError **error)
{
    g_autofree char *description = NULL;
    g_autofree char *word = ek_guard_word(system, path, &description);
    if (!ek_device_is_at(path) || word == NULL || is_word(confirmed, word, TRUE))
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s is a device and would be overwritten (%s). To confirm: --confirm %s",
                        path, description, word);
}

gboolean ek_guard_over(const EkGuard *guard, const char *path, const char *confirmed,
                       GError **error)
{
    g_autofree char *why = NULL;
    switch (ek_guard_ask(guard, path, &why)) {
    case EK_RELATION_NONE:
    case EK_RELATION_TARGET: return check_device_word(guard->system, path, confirmed, error);
    case EK_RELATION_IN_USE: return refuse(why, "Unmount or release it, then try again", error);
    case EK_RELATION_LIKE:
        return refuse(
            why,
            "Nothing was written. If it is a copy and may be written over, clear it first "
            "(wipefs -a removes what systems recognise it by, blkdiscard all of it), or "
            "name another target",
            error);
    case EK_RELATION_SOURCE:
    case EK_RELATION_ON_SOURCE:
    case EK_RELATION_IMAGE:
    case EK_RELATION_NEAR_IMAGE:
    case EK_RELATION_CASE:
    case EK_RELATION_NEAR_TARGET:
    case EK_RELATION_ON_TARGET: break;
    }
    return refuse(why, "Nothing was written. Name another target", error);
}

/* The original is written to only when all of it was read that can be, and its word is given. */
static gboolean check_original(const EkGuard *guard, const char *path, const char *confirmed,
                               const char *why, GError **error)
{
    EkSector left = ek_read_map_total(guard->view->map, EK_STATE_UNTOUCHED) +
                    ek_read_map_total(guard->view->map, EK_STATE_SET_ASIDE);
    const char *folder = ek_case_named(guard->view->opened);
    g_autofree char *description = NULL;
    g_autofree char *word = ek_guard_word(guard->system, path, &description);
    if (left > 0)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s. It counts as the original, of which %" G_GUINT64_FORMAT
                            " sectors are unread. Nothing was written. Finish imaging first, or "
                            "name a clone: ektypon clone %s FILE",
                            why, left, folder);
    if (word == NULL || is_word(confirmed, word, ek_device_is_at(path)))
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s. It counts as the original. Nothing was written. Work on a clone: "
                        "ektypon clone %s FILE. To write to the original: --confirm %s",
                        why, folder, word);
}

gboolean ek_guard_edits(const EkGuard *guard, const char *path, const char *confirmed,
                        GError **error)
{
    g_autofree char *why = NULL;
    g_autofree char *users = NULL;
    EkRelation relation = ek_guard_ask(guard, path, &why);
    if (relation != EK_RELATION_IN_USE && to_users(guard, path, &users) != EK_RELATION_NONE)
        return refuse(users, "Unmount or release it, then try again", error);
    switch (relation) {
    case EK_RELATION_NONE:
    case EK_RELATION_TARGET:
    case EK_RELATION_IMAGE: return check_device_word(guard->system, path, confirmed, error);
    case EK_RELATION_SOURCE:
    case EK_RELATION_LIKE: return check_original(guard, path, confirmed, why, error);
    case EK_RELATION_IN_USE: return refuse(why, "Unmount or release it, then try again", error);
    case EK_RELATION_ON_SOURCE:
    case EK_RELATION_NEAR_IMAGE:
    case EK_RELATION_CASE:
    case EK_RELATION_NEAR_TARGET:
    case EK_RELATION_ON_TARGET: break;
    }
    return refuse(why, "Nothing was written. Name the target itself", error);
}

gboolean ek_guard_space(const char *path, EkByte bytes, const char *what, GError **error)
{
    struct statvfs fs;
    if (ek_device_is_at(path))
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
                        "%s may need %s, and %s has %s free: %s is missing", what, needed, existing,
                        there, missing);
}

gboolean ek_guard_image_space(const char *path, EkByte bytes, GError **error)
{
    g_autoptr(GError) short_of = NULL;
    if (ek_guard_space(path, bytes, "the image", &short_of))
        return TRUE;
    return ek_error_set(error, EK_ERROR_NO_SPACE,
                        "%s. Free the space, or start with what there is: --if-short continue",
                        short_of->message);
}

/* SPDX-License-Identifier: MIT */
/* The image of a case, before it is written to. */
#include "work/ownimage.h"

#include "case/applications.h"
#include "case/folder.h"
#include "case/mapstore.h"
#include "work/sums.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define MARK_ENDING ".ektypon"
#define MARK_FORMAT "The image beside this file belongs to the Ektypon case %s.\n"
#define MARK_MOST 256u
#define BLOCKS_COMPARED 8u
#define PLACES_LOOKED_AT 64u

static char *mark_path(const char *image)
{
    return g_strconcat(image, MARK_ENDING, NULL);
}

gboolean ek_ownimage_mark(const char *image, const char *id, GError **error)
{
    g_autofree char *path = mark_path(image);
    g_autofree char *text = g_strdup_printf(MARK_FORMAT, id);
    int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
    gboolean fine =
        fd >= 0 && write(fd, text, strlen(text)) == (ssize_t)strlen(text) && fsync(fd) == 0;
    int errnum = errno;
    if (fd >= 0)
        close(fd);
    if (fd >= 0 && !fine)
        unlink(path);
    return fine || ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot write %s", path);
}

void ek_ownimage_unmark(const char *image)
{
    g_autofree char *path = mark_path(image);
    unlink(path);
}

static gboolean is_marked(const char *image, const char *id)
{
    char text[MARK_MOST] = {0};
    g_autofree char *path = mark_path(image);
    g_autofree char *wanted = g_strdup_printf(MARK_FORMAT, id);
    int fd = open(path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return FALSE;
    struct stat st;
    ssize_t got = fstat(fd, &st) == 0 && S_ISREG(st.st_mode) ? read(fd, text, sizeof text - 1) : -1;
    close(fd);
    return got > 0 && g_str_equal(text, wanted);
}

/* What was read is as it was, and what was never tried is blank: nothing else looks like that. */
static gboolean is_as_read(const EkView *view, EkImage *image)
{
    guint asked = 0;
    guint32 size = ek_case_info(view->opened)->sector_size;
    EkSector sectors = ek_read_map_sectors(view->map);
    guint untouched = 0;
    guint blank = 0;
    EkImageReaderParts parts = ek_view_parts(view);
    parts.image = image;
    g_autoptr(EkReader) reader = ek_image_reader_new(&parts, EK_FACE_AS_READ);
    guint same = ek_sums_compare(view->opened, reader, BLOCKS_COMPARED, &asked);
    if (asked == 0 || same < asked)
        return FALSE;
    g_autofree guint8 *sector = g_malloc(size);
    for (guint i = 0; i < PLACES_LOOKED_AT; i++) {
        EkSector at = sectors / PLACES_LOOKED_AT * i;
        EkStretch stretch = ek_read_map_at(view->map, at);
        if (stretch.mark.state != EK_STATE_UNTOUCHED || (at + 1) * size > ek_image_bytes(image))
            continue;
        untouched++;
        blank +=
            ek_image_read(image, at * size, sector, size, NULL) && ek_bytes_are_zero(sector, size);
    }
    /* A little behind what the map vouches for may have been written when something cut it off. */
    return blank * 2 >= untouched;
}

/* An adopted image is the file that it was then. */
static gboolean is_adopted(const EkGuard *guard)
{
    g_autoptr(GPtrArray) sources = ek_case_sources(guard->view->opened, NULL);
    g_autoptr(EkIdentity) now =
        ek_system_identify(guard->system, ek_case_info(guard->view->opened)->image);
    for (guint i = 0; sources != NULL && now != NULL && i < sources->len; i++) {
        const EkCaseSource *source = sources->pdata[i];
        if (g_str_equal(source->kind, "adopted") && g_str_equal(source->identity, now->name))
            return TRUE;
    }
    return FALSE;
}

static gboolean prove(const EkGuard *guard, EkImage *image, gboolean is_file, GError **error)
{
    const EkView *view = guard->view;
    const EkCaseInfo *info = ek_case_info(view->opened);
    if (ek_read_map_total(view->map, EK_STATE_GOOD) == 0 && ek_image_is_blank(image))
        return TRUE;
    if ((is_file && (is_marked(info->image, info->id) || is_adopted(guard))) ||
        is_as_read(view, image))
        return TRUE;
    return ek_error_set(
        error, EK_ERROR_REFUSED,
        "%s is not the image of this case as it was left: it is not blank, and its data differs "
        "from the data that was read. Nothing was written to it. Put the right image back at this "
        "place, then try again",
        info->image);
}

/* Asked once of a case that was made elsewhere: its paths mean other things there. */
static gboolean check_home(const EkGuard *guard, const char *confirmed, GError **error)
{
    const EkCaseInfo *info = ek_case_info(guard->view->opened);
    g_autofree char *machine = ek_system_machine(guard->system);
    g_autofree char *name = g_path_get_basename(info->image);
    if (!ek_case_is_foreign(guard->view->opened, machine))
        return TRUE;
    if (g_strcmp0(confirmed, name) == 0)
        return ek_case_settle(guard->view->opened, machine, error);
    return ek_error_set(
        error, EK_ERROR_REFUSED,
        "the case %s was made on another machine or by another user, and its image "
        "is outside its folder: %s. Nothing was written. If that is the right place "
        "here: --confirm %s",
        ek_case_named(guard->view->opened), info->image, name);
}

static EkImage *open_outside(const EkGuard *guard, const char *confirmed, GError **error)
{
    const EkCaseInfo *info = ek_case_info(guard->view->opened);
    struct stat st;
    if (!check_home(guard, confirmed, error))
        return NULL;
    if (stat(info->image, &st) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the image %s", info->image);
        return NULL;
    }
    gboolean is_device = S_ISBLK(st.st_mode);
    int fd =
        open(info->image, O_RDWR | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC | (is_device ? O_EXCL : 0));
    if (fd < 0 && (errno == EBUSY || errno == ELOOP)) {
        ek_error_set(error, EK_ERROR_REFUSED,
                     errno == EBUSY
                         ? "%s is in use: something holds it. Nothing was written to it"
                         : "the image %s is a symbolic link. Nothing was written through "
                           "it. Put the image itself at this place",
                     info->image);
        return NULL;
    }
    if (fd < 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the image %s", info->image);
        return NULL;
    }
    if (fstat(fd, &st) == 0 && S_ISREG(st.st_mode) && st.st_nlink > 1) {
        close(fd);
        ek_error_set(error, EK_ERROR_REFUSED,
                     "the image %s has a second name (a hard link). Nothing was written to it. "
                     "Remove the other name, or put a copy at this place",
                     info->image);
        return NULL;
    }
    g_autoptr(EkImage) image = ek_image_of(fd, info->image, info->bytes, error);
    return image != NULL && prove(guard, image, !is_device, error) ? g_steal_pointer(&image) : NULL;
}

gboolean ek_ownimage_move(EkCase *opened, const char *path, const char *confirmed, GError **error)
{
    const EkCaseInfo *info = ek_case_info(opened);
    EkView view = {.opened = opened};
    g_autofree char *name = g_path_get_basename(path);
    g_autoptr(EkImage) image = ek_image_open(path, info->bytes, FALSE, error);
    if (image == NULL)
        return FALSE;
    view.map = ek_mapstore_load(opened, error);
    if (view.map == NULL)
        return FALSE;
    view.kept = ek_applications_kept(opened, error);
    gboolean is_it = view.kept != NULL && (is_marked(path, info->id) || is_as_read(&view, image) ||
                                           (!info->verified && g_strcmp0(confirmed, name) == 0));
    gboolean is_known = view.kept != NULL;
    g_clear_pointer(&view.kept, ek_overlay_free);
    ek_read_map_free(view.map);
    if (!is_known)
        return FALSE;
    if (!is_it && !info->verified)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "the image of this case was adopted, so that no data in it is vouched "
                            "for. If %s is that image: --confirm %s",
                            path, name);
    if (!is_it)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is not the image of this case: its data differs from the data that "
                            "was read. The case is as it was",
                            path);
    return ek_case_set_image(opened, path, error);
}

EkImage *ek_ownimage_open(const EkGuard *guard, const char *confirmed, GError **error)
{
    const EkCaseInfo *info = ek_case_info(guard->view->opened);
    if (!ek_guard_image(guard, info->image, error))
        return NULL;
    if (info->image_name == NULL)
        return open_outside(guard, confirmed, error);
    int fd = ek_folder_open(ek_case_folder(guard->view->opened), info->image_name, O_RDWR, error);
    return fd >= 0 ? ek_image_of(fd, info->image, info->bytes, error) : NULL;
}

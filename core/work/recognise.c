/* SPDX-License-Identifier: MIT */
/* Is what is on a drive or in a file what the case read from its source? A few sectors tell. */
#include "work/recognise.h"

#include "base/platform.h"
#include "device/childreader.h"

#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define ASKED_MOST 16u
#define PLACES 512u /* that are looked at for sectors worth asking */
#define ENOUGH 4u
#define PAGE 4096u /* what is read of a drive: large enough for any of its sectors */
#define GOLDEN 0.6180339887498949

/* One value, or eight bytes, over and over: any drive may have that. */
static gboolean is_filled(const guint8 *sector, gsize length)
{
    return length <= 8 || memcmp(sector, sector + 8, length - 8) == 0;
}

/* A sector of the image that was read and says something; its place is each time far from the one
 * before. FALSE when there is none at that place. */
static gboolean pick(const EkView *view, guint number, EkByte from, EkSector *sector, guint8 *data)
{
    guint32 size = ek_case_info(view->opened)->sector_size;
    EkSector sectors = ek_read_map_sectors(view->map);
    double place = number * GOLDEN;
    place -= (double)(guint64)place;
    EkSector first = from / size;
    EkStretch stretch;
    if (first >= sectors ||
        !ek_read_map_next(view->map, first + (EkSector)(place * (double)(sectors - first)),
                          EK_STATE_BIT(EK_STATE_GOOD), &stretch))
        return FALSE;
    *sector = stretch.first;
    EkByte at = *sector * size;
    return at + size <= ek_reader_bytes(view->reader) &&
           ek_reader_read(view->reader, at, data, size, NULL, NULL) && !is_filled(data, size);
}

/* The same bytes of the other side; FALSE when they do not read. */
static gboolean fetch(EkChildReader *reader, EkByte first, guint8 *data, gsize length,
                      const gint *cancel)
{
    g_autofree guint8 *page = g_malloc(PAGE * 2 + length);
    EkByte start = first - first % PAGE;
    gsize whole = (gsize)ek_divide_up(first + length - start, PAGE) * PAGE;
    EkChildReaderAnswer answer = ek_child_reader_read(reader, start, page, whole, cancel);
    if (answer.got < (gssize)(first - start + length))
        return FALSE;
    memcpy(data, page + (first - start), length);
    return TRUE;
}

static void ask(const EkView *view, EkChildReader *reader, gint64 first_byte, EkByte from,
                const gint *cancel, EkLikeness *likeness)
{
    guint32 size = ek_case_info(view->opened)->sector_size;
    g_autofree guint8 *ours = g_malloc(size);
    g_autofree guint8 *theirs = g_malloc(size);
    EkSector sector = 0;
    for (guint i = 0; i < PLACES && likeness->asked + likeness->silent < ASKED_MOST; i++) {
        if (cancel != NULL && g_atomic_int_get(cancel) != 0)
            return;
        if (!pick(view, i, from, &sector, ours))
            continue;
        gint64 at = (gint64)(sector * size) + first_byte;
        if (at < 0)
            continue;
        if (!fetch(reader, (EkByte)at, theirs, size, cancel)) {
            likeness->silent++;
            continue;
        }
        likeness->asked++;
        likeness->equal += memcmp(ours, theirs, size) == 0;
    }
}

EkLikeness ek_recognise(const EkView *view, const char *path, gint64 first_byte, EkByte from,
                        const gint *cancel)
{
    EkLikeness likeness = {0};
    struct stat st;
    int flags = O_RDONLY | O_NONBLOCK | O_CLOEXEC;
    /* Past the page cache: what lies beside a damaged sector is not to be read. */
    int fd = ek_platform_open_direct(path, flags);
    if (fd < 0)
        fd = open(path, flags);
    if (fd < 0)
        return likeness;
    EkChildReader *reader = NULL;
    if (fstat(fd, &st) == 0 && (S_ISREG(st.st_mode) || S_ISBLK(st.st_mode)))
        reader = ek_child_reader_new(fd, PAGE * 2 + (gsize)ek_case_info(view->opened)->sector_size);
    if (reader != NULL) {
        ask(view, reader, first_byte, from, cancel, &likeness);
        ek_child_reader_free(reader);
    }
    close(fd);
    return likeness;
}

gboolean ek_is_alike(const EkLikeness *likeness)
{
    return likeness->equal > 0 && likeness->equal * 2 >= likeness->asked;
}

gboolean ek_is_stranger(const EkLikeness *likeness)
{
    return likeness->asked >= ENOUGH && likeness->equal == 0;
}

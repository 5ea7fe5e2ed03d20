/* SPDX-License-Identifier: MIT */
/* A case with its image, read map and reader. */
#include "work/view.h"

#include "case/applications.h"
#include "case/mapstore.h"

/* All of a view but the case, which is open. */
static gboolean load(EkView *view, GError **error)
{
    view->map = ek_mapstore_load(view->opened, error);
    if (view->map != NULL)
        view->kept = ek_applications_kept(view->opened, error);
    if (view->kept != NULL)
        view->image = ek_case_open_image(view->opened, error);
    if (view->image == NULL) {
        ek_view_close(view);
        return FALSE;
    }
    EkImageReaderParts parts = ek_view_parts(view);
    view->reader = ek_image_reader_new(&parts, EK_FACE_AS_READ);
    return TRUE;
}

gboolean ek_view_open(EkView *view, const char *folder, gboolean writable, GError **error)
{
    *view = (EkView){.opened = ek_case_open(folder, writable, error)};
    return view->opened != NULL && load(view, error);
}

gboolean ek_view_open_locked(EkView *view, const char *folder, EkLockSubject subject, EkLock **lock,
                             GError **error)
{
    *view = (EkView){.opened = ek_case_open(folder, TRUE, error)};
    if (view->opened == NULL)
        return FALSE;
    *lock = ek_lock_take(view->opened, subject, error);
    if (*lock != NULL)
        return load(view, error);
    ek_view_close(view);
    return FALSE;
}

static void unload(EkView *view)
{
    g_clear_pointer(&view->reader, ek_reader_free);
    g_clear_pointer(&view->image, ek_image_close);
    g_clear_pointer(&view->kept, ek_overlay_free);
    g_clear_pointer(&view->map, ek_read_map_free);
}

void ek_view_close(EkView *view)
{
    unload(view);
    g_clear_pointer(&view->opened, ek_case_close);
}

gboolean ek_view_reload(EkView *view, GError **error)
{
    unload(view);
    return load(view, error);
}

EkImageReaderParts ek_view_parts(const EkView *view)
{
    return (EkImageReaderParts){
        .image = view->image,
        .map = view->map,
        .sector_size = ek_case_info(view->opened)->sector_size,
        .kept = view->kept,
    };
}

/* SPDX-License-Identifier: MIT */
/* Hunting beside imaging, in a thread of its own. */
#include "imagehunt.h"

#include "volumes.h"
#include "work/hunting.h"

struct EkImageHunt {
    EkHunting *hunting;
    GThread *thread;
    gint ended; /* atomic: imaging is over */
    GError *error;
    GMutex lock;          /* of `progress` */
    EkProgress *progress; /* NULL: there is none, or no more */
    gboolean quiet;
};

static void tell(void *data, const EkCaseVolume *entry)
{
    EkImageHunt *hunt = data;
    g_mutex_lock(&hunt->lock);
    if (!hunt->quiet)
        ek_volumes_note(hunt->progress, entry);
    g_mutex_unlock(&hunt->lock);
}

static gpointer follow(gpointer data)
{
    EkImageHunt *hunt = data;
    return GINT_TO_POINTER(ek_hunting_follow(hunt->hunting, &hunt->ended, &hunt->error) ? 1 : 0);
}

EkImageHunt *ek_image_hunt_begin(const EkCli *cli, gboolean quiet, const gint *cancel,
                                 GError **error)
{
    /* One worker: the processors are for reading and keeping. */
    EkHunting *hunting = ek_hunting_new(cli->operands[0], "beside image", 1, FALSE, cancel, error);
    if (hunting == NULL)
        return NULL;
    EkImageHunt *hunt = g_new0(EkImageHunt, 1);
    g_mutex_init(&hunt->lock);
    hunt->hunting = hunting;
    hunt->quiet = quiet;
    ek_hunting_tell(hunting, tell, hunt);
    hunt->thread = g_thread_new("hunt", follow, hunt);
    return hunt;
}

void ek_image_hunt_tell(EkImageHunt *hunt, EkProgress *progress)
{
    g_mutex_lock(&hunt->lock);
    hunt->progress = progress;
    g_mutex_unlock(&hunt->lock);
}

guint ek_image_hunt_count(EkImageHunt *hunt)
{
    return ek_hunting_count(hunt->hunting);
}

guint ek_image_hunt_end(EkImageHunt *hunt, GError **error)
{
    g_atomic_int_set(&hunt->ended, 1);
    gboolean fine = g_thread_join(hunt->thread) != NULL;
    guint count = fine ? ek_hunting_count(hunt->hunting) : G_MAXUINT;
    if (hunt->error != NULL)
        g_propagate_error(error, g_steal_pointer(&hunt->error));
    ek_hunting_free(hunt->hunting);
    g_mutex_clear(&hunt->lock);
    g_free(hunt);
    return count;
}

/* SPDX-License-Identifier: MIT */
/* The file system: what the kernel asks, answered out of the tree. */
#define FUSE_USE_VERSION 314
#include "mountfs.h"
#include "cli.h"
#include "mountguard.h"

#include "base/digest.h"
#include "base/error.h"

#include <errno.h>
#include <fcntl.h>
#include <fuse_lowlevel.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#define ANSWERS_HOLD 3600.0 /* seconds: nothing changes */
#define WAKE_MS 200         /* how often it is looked whether to end */
#define READ_MOST (1u << 20)
#define BLOCK 512u
#define XATTR "user.ektypon."

/* What the kernel knows, by its inode number. */
typedef struct {
    fuse_ino_t inode;
    EkTreeEntry entry;
    guint64 lookups; /* that it has not forgotten */
} Known;

typedef struct {
    EkCaseTree *tree;
    const EkMountOrder *order;
    GHashTable *by_inode; /* fuse_ino_t to Known, which it owns */
    GHashTable *by_node;  /* EkNode to Known */
    GHashTable *files;    /* Opened, those that are; the kernel may end without closing them */
    GHashTable *folders;  /* EkTreeListing, those that are open; a key for each time */
    fuse_ino_t last;
} Mount;

/* --- inodes ---------------------------------------------------------------------------------- */

static Known *known_of(const Mount *mount, fuse_ino_t inode)
{
    gint64 key = (gint64)inode;
    return g_hash_table_lookup(mount->by_inode, &key);
}

static Known *know(Mount *mount, const EkTreeEntry *entry)
{
    Known *known = g_hash_table_lookup(mount->by_node, &entry->node);
    if (known == NULL) {
        known = g_new0(Known, 1);
        known->inode = ++mount->last;
        known->entry = *entry;
        known->entry.name = NULL;
        gint64 key = (gint64)known->inode;
        g_hash_table_insert(mount->by_inode, g_memdup2(&key, sizeof key), known);
        g_hash_table_insert(mount->by_node, &known->entry.node, known);
    }
    known->lookups++;
    return known;
}

static void forget_some(Mount *mount, fuse_ino_t inode, guint64 count)
{
    Known *known = known_of(mount, inode);
    if (known == NULL || inode == FUSE_ROOT_ID)
        return;
    known->lookups -= MIN(known->lookups, count);
    if (known->lookups > 0)
        return;
    gint64 key = (gint64)inode;
    g_hash_table_remove(mount->by_node, &known->entry.node);
    g_hash_table_remove(mount->by_inode, &key);
}

static void set_time(struct timespec *time, const EkTimestamp *timestamp)
{
    time->tv_sec = timestamp->is_set ? (time_t)ek_timestamp_to_unix(timestamp) : 0;
    time->tv_nsec = timestamp->is_set ? (long)MIN(timestamp->nanoseconds, 999999999u) : 0;
}

static struct stat stat_of(fuse_ino_t inode, const EkFile *file)
{
    struct stat st;
    memset(&st, 0, sizeof st);
    gboolean is_folder = file->type == EK_TYPE_FOLDER;
    st.st_ino = inode;
    st.st_mode = is_folder ? S_IFDIR | 0555 : S_IFREG | 0444;
    st.st_nlink = is_folder ? 2 : 1;
    st.st_uid = getuid();
    st.st_gid = getgid();
    st.st_size = is_folder ? 0 : (off_t)MIN(file->size, (guint64)G_MAXINT64);
    st.st_blksize = 65536;
    st.st_blocks = (blkcnt_t)(((guint64)st.st_size + BLOCK - 1) / BLOCK);
    set_time(&st.st_mtim, &file->modified);
    set_time(&st.st_atim, file->accessed.is_set ? &file->accessed : &file->modified);
    set_time(&st.st_ctim, &file->modified);
    return st;
}

static struct fuse_entry_param answer_for(const Known *known)
{
    struct fuse_entry_param answer;
    memset(&answer, 0, sizeof answer);
    answer.ino = known->inode;
    answer.attr = stat_of(known->inode, &known->entry.file);
    answer.attr_timeout = answer.entry_timeout = ANSWERS_HOLD;
    return answer;
}

static void on_lookup(fuse_req_t request, fuse_ino_t parent, const char *name)
{
    Mount *mount = fuse_req_userdata(request);
    const Known *folder = known_of(mount, parent);
    if (folder == NULL || folder->entry.file.type != EK_TYPE_FOLDER) {
        fuse_reply_err(request, folder == NULL ? ENOENT : ENOTDIR);
        return;
    }
    g_autoptr(EkTreeListing) listing = ek_case_tree_list(mount->tree, folder->entry.node, NULL);
    const EkTreeEntry *entry = listing != NULL ? ek_tree_listing_find(listing, name) : NULL;
    if (entry == NULL) {
        fuse_reply_err(request, listing == NULL ? EIO : ENOENT);
        return;
    }
    struct fuse_entry_param answer = answer_for(know(mount, entry));
    if (fuse_reply_entry(request, &answer) != 0)
        forget_some(mount, answer.ino, 1);
}

static void on_forget(fuse_req_t request, fuse_ino_t inode, guint64 count)
{
    forget_some(fuse_req_userdata(request), inode, count);
    fuse_reply_none(request);
}

static void on_forget_multi(fuse_req_t request, size_t count, struct fuse_forget_data *forgets)
{
    for (size_t i = 0; i < count; i++)
        forget_some(fuse_req_userdata(request), forgets[i].ino, forgets[i].nlookup);
    fuse_reply_none(request);
}

static void on_getattr(fuse_req_t request, fuse_ino_t inode, struct fuse_file_info *info)
{
    const Known *known = known_of(fuse_req_userdata(request), inode);
    (void)info;
    if (known == NULL) {
        fuse_reply_err(request, ENOENT);
        return;
    }
    struct stat st = stat_of(inode, &known->entry.file);
    fuse_reply_attr(request, &st, ANSWERS_HOLD);
}

/* --- folders --------------------------------------------------------------------------------- */

static void folder_free(void *data)
{
    EkTreeListing **opened = data;
    ek_tree_listing_unref(*opened);
    g_free(opened);
}

static void on_opendir(fuse_req_t request, fuse_ino_t inode, struct fuse_file_info *info)
{
    Mount *mount = fuse_req_userdata(request);
    const Known *known = known_of(mount, inode);
    if (known == NULL || known->entry.file.type != EK_TYPE_FOLDER) {
        fuse_reply_err(request, ENOTDIR);
        return;
    }
    EkTreeListing *listing = ek_case_tree_list(mount->tree, known->entry.node, NULL);
    if (listing == NULL) {
        fuse_reply_err(request, EIO);
        return;
    }
    EkTreeListing **opened = g_new(EkTreeListing *, 1);
    *opened = listing;
    g_hash_table_add(mount->folders, opened);
    info->fh = (guint64)(guintptr)opened;
    info->cache_readdir = 1;
    if (fuse_reply_open(request, info) != 0)
        g_hash_table_remove(mount->folders, opened);
}

static void on_releasedir(fuse_req_t request, fuse_ino_t inode, struct fuse_file_info *info)
{
    const Mount *mount = fuse_req_userdata(request);
    (void)inode;
    g_hash_table_remove(mount->folders, (gpointer)(guintptr)info->fh);
    fuse_reply_err(request, 0);
}

/* One entry into the buffer: how many bytes it takes there. The first two are the folder itself and
 * the one above. */
static size_t put_entry(fuse_req_t request, char *buffer, size_t room, off_t offset,
                        const EkTreeEntry *entry, gboolean plus, fuse_ino_t *known_inode)
{
    Mount *mount = fuse_req_userdata(request);
    static const char *const dots[] = {".", ".."};
    *known_inode = 0;
    if (entry == NULL) {
        struct fuse_entry_param none;
        memset(&none, 0, sizeof none);
        none.attr.st_ino = FUSE_ROOT_ID;
        none.attr.st_mode = S_IFDIR;
        return plus
                   ? fuse_add_direntry_plus(request, buffer, room, dots[offset], &none, offset + 1)
                   : fuse_add_direntry(request, buffer, room, dots[offset], &none.attr, offset + 1);
    }
    if (!plus) {
        struct stat st = stat_of(FUSE_ROOT_ID, &entry->file);
        return fuse_add_direntry(request, buffer, room, entry->name, &st, offset + 1);
    }
    struct fuse_entry_param answer = answer_for(know(mount, entry));
    *known_inode = answer.ino;
    return fuse_add_direntry_plus(request, buffer, room, entry->name, &answer, offset + 1);
}

static void read_folder(fuse_req_t request, size_t room, off_t offset, struct fuse_file_info *info,
                        gboolean plus)
{
    Mount *mount = fuse_req_userdata(request);
    const EkTreeListing *listing = *(EkTreeListing *const *)(guintptr)info->fh;
    g_autofree char *buffer = g_malloc(room);
    size_t used = 0;
    off_t count = (off_t)ek_tree_listing_count(listing) + 2;
    for (; offset >= 0 && offset < count; offset++) {
        fuse_ino_t inode = 0;
        const EkTreeEntry *entry =
            offset >= 2 ? ek_tree_listing_entry(listing, (guint)(offset - 2)) : NULL;
        size_t needs = put_entry(request, buffer + used, room - used, offset, entry, plus, &inode);
        if (needs > room - used) {
            forget_some(mount, inode, 1);
            break;
        }
        used += needs;
    }
    fuse_reply_buf(request, buffer, used);
}

static void on_readdir(fuse_req_t request, fuse_ino_t inode, size_t room, off_t offset,
                       struct fuse_file_info *info)
{
    (void)inode;
    read_folder(request, room, offset, info, FALSE);
}

static void on_readdirplus(fuse_req_t request, fuse_ino_t inode, size_t room, off_t offset,
                           struct fuse_file_info *info)
{
    (void)inode;
    read_folder(request, room, offset, info, TRUE);
}

/* --- files ----------------------------------------------------------------------------------- */

typedef struct {
    EkAccess *access;
    gboolean is_direct; /* the kernel passes each read on as it is asked for */
} Opened;

static void opened_free(void *data)
{
    Opened *opened = data;
    ek_access_free(opened->access);
    g_free(opened);
}

static gboolean has_holes(const EkDamage *damage)
{
    return damage->bad_bytes + damage->unread_bytes + damage->unplaced_bytes > 0;
}

static void on_open(fuse_req_t request, fuse_ino_t inode, struct fuse_file_info *info)
{
    Mount *mount = fuse_req_userdata(request);
    const Known *known = known_of(mount, inode);
    if (known == NULL || known->entry.file.type == EK_TYPE_FOLDER) {
        fuse_reply_err(request, known == NULL ? ENOENT : EISDIR);
        return;
    }
    if ((info->flags & O_ACCMODE) != O_RDONLY) {
        fuse_reply_err(request, EROFS);
        return;
    }
    Opened *opened = g_new0(Opened, 1);
    opened->access = ek_case_tree_open(mount->tree, &known->entry, NULL);
    if (opened->access == NULL) {
        g_free(opened);
        fuse_reply_err(request, EIO);
        return;
    }
    /* Without the kernel's pages all bytes up to a hole come out, not only whole pages. */
    opened->is_direct = !mount->order->zeros && has_holes(&known->entry.damage);
    info->direct_io = opened->is_direct ? 1 : 0;
    info->keep_cache = opened->is_direct ? 0 : 1;
    info->fh = (guint64)(guintptr)opened;
    g_hash_table_add(mount->files, opened);
    if (fuse_reply_open(request, info) != 0)
        g_hash_table_remove(mount->files, opened);
}

static void on_release(fuse_req_t request, fuse_ino_t inode, struct fuse_file_info *info)
{
    const Mount *mount = fuse_req_userdata(request);
    (void)inode;
    g_hash_table_remove(mount->files, (gpointer)(guintptr)info->fh);
    fuse_reply_err(request, 0);
}

static void on_read(fuse_req_t request, fuse_ino_t inode, size_t wanted, off_t offset,
                    struct fuse_file_info *info)
{
    const Mount *mount = fuse_req_userdata(request);
    const Opened *opened = (const Opened *)(guintptr)info->fh;
    (void)inode;
    wanted = MIN(wanted, READ_MOST);
    g_autofree guint8 *buffer = g_malloc(MAX(wanted, 1));
    size_t done = 0;
    gboolean fine = offset >= 0 && ek_access_read_on(opened->access, mount->order->zeros,
                                                     (EkByte)offset, buffer, wanted, &done);
    /* A short answer would be filled up with zeros in the kernel's pages. */
    if (!fine && (done == 0 || !opened->is_direct))
        fuse_reply_err(request, EIO);
    else
        fuse_reply_buf(request, (const char *)buffer, done);
}

/* --- attributes ------------------------------------------------------------------------------ */

/* "OFFSET+LENGTH" of each hole, in bytes, with spaces between. */
static char *holes_text(const Mount *mount, const Known *known)
{
    g_autoptr(GArray) holes = ek_case_tree_holes(mount->tree, known->entry.node, NULL);
    GString *text = g_string_new(NULL);
    for (guint i = 0; holes != NULL && i < holes->len; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        if (hole->offset < known->entry.file.size)
            g_string_append_printf(text, "%s%" G_GUINT64_FORMAT "+%" G_GUINT64_FORMAT,
                                   text->len > 0 ? " " : "", hole->offset,
                                   MIN(hole->bytes, known->entry.file.size - hole->offset));
    }
    return g_string_free(text, FALSE);
}

/* NULL where it cannot be read to its end. */
static char *digest_text(const Mount *mount, const Known *known)
{
    g_autoptr(EkAccess) access = ek_case_tree_open(mount->tree, &known->entry, NULL);
    g_autofree guint8 *buffer = g_malloc(READ_MOST);
    EkSha256 *digest = ek_sha256_new();
    size_t done = 0;
    for (EkByte at = 0; at < known->entry.file.size; at += done) {
        if (access == NULL || !ek_access_read_on(access, FALSE, at, buffer, READ_MOST, &done) ||
            done == 0) {
            ek_sha256_free(digest);
            return NULL;
        }
        ek_sha256_update(digest, buffer, done);
    }
    char *hex = ek_sha256_finish_hex(digest);
    ek_sha256_free(digest);
    return hex;
}

static char *attribute(const Mount *mount, const Known *known, const char *name)
{
    if (!g_str_has_prefix(name, XATTR) || known->entry.file.type == EK_TYPE_FOLDER)
        return NULL;
    name += strlen(XATTR);
    if (g_str_equal(name, "condition"))
        return g_strdup(ek_condition_name(known->entry.damage.condition));
    if (g_str_equal(name, "holes") && has_holes(&known->entry.damage))
        return holes_text(mount, known);
    if (g_str_equal(name, "sha256") && !has_holes(&known->entry.damage))
        return digest_text(mount, known);
    return NULL;
}

static void reply_text(fuse_req_t request, const char *text, size_t length, size_t room)
{
    if (room == 0)
        fuse_reply_xattr(request, length);
    else if (room < length)
        fuse_reply_err(request, ERANGE);
    else
        fuse_reply_buf(request, text, length);
}

static void on_getxattr(fuse_req_t request, fuse_ino_t inode, const char *name, size_t room)
{
    const Mount *mount = fuse_req_userdata(request);
    const Known *known = known_of(mount, inode);
    g_autofree char *text = known != NULL ? attribute(mount, known, name) : NULL;
    if (text == NULL)
        fuse_reply_err(request, ENODATA);
    else
        reply_text(request, text, strlen(text), room);
}

static void on_listxattr(fuse_req_t request, fuse_ino_t inode, size_t room)
{
    const Known *known = known_of(fuse_req_userdata(request), inode);
    static const char whole[] = XATTR "condition\0" XATTR "sha256";
    static const char holed[] = XATTR "condition\0" XATTR "holes";
    if (known == NULL || known->entry.file.type == EK_TYPE_FOLDER)
        reply_text(request, "", 0, room);
    else if (has_holes(&known->entry.damage))
        reply_text(request, holed, sizeof holed, room);
    else
        reply_text(request, whole, sizeof whole, room);
}

static void on_statfs(fuse_req_t request, fuse_ino_t inode)
{
    const Mount *mount = fuse_req_userdata(request);
    struct statvfs st;
    (void)inode;
    memset(&st, 0, sizeof st);
    st.f_bsize = st.f_frsize = BLOCK;
    st.f_blocks = (fsblkcnt_t)(mount->order->bytes / BLOCK);
    st.f_namemax = 255;
    fuse_reply_statfs(request, &st);
}

/* --- the session ----------------------------------------------------------------------------- */

static const struct fuse_lowlevel_ops operations = {
    .lookup = on_lookup,
    .forget = on_forget,
    .forget_multi = on_forget_multi,
    .getattr = on_getattr,
    .opendir = on_opendir,
    .readdir = on_readdir,
    .readdirplus = on_readdirplus,
    .releasedir = on_releasedir,
    .open = on_open,
    .read = on_read,
    .release = on_release,
    .getxattr = on_getxattr,
    .listxattr = on_listxattr,
    .statfs = on_statfs,
};

/* Answers until it is unmounted or shall end. */
static gboolean answer(struct fuse_session *session, const gint *cancel)
{
    struct fuse_buf buffer;
    struct pollfd asked = {fuse_session_fd(session), POLLIN, 0};
    int got = 0;
    memset(&buffer, 0, sizeof buffer);
    while (!fuse_session_exited(session) && g_atomic_int_get(cancel) == 0) {
        int ready = poll(&asked, 1, WAKE_MS);
        if (ready == 0 || (ready < 0 && errno == EINTR))
            continue;
        got = fuse_session_receive_buf(session, &buffer);
        if (got == -EINTR || got == -EAGAIN)
            continue;
        if (got <= 0)
            break;
        fuse_session_process_buf(session, &buffer);
    }
    free(buffer.mem);
    return got >= 0 || got == -ENODEV || got == -EINTR || got == -EAGAIN;
}

static gboolean mount_and_answer(Mount *mount, struct fuse_args *arguments,
                                 void (*mounted)(void *data), void *data, const gint *cancel,
                                 GError **error)
{
    EkMountGuard guard;
    struct fuse_session *session =
        fuse_session_new(arguments, &operations, sizeof operations, mount);
    if (session == NULL)
        return ek_error_set(error, EK_ERROR_FAILED, "FUSE does not take the options");
    if (!ek_mountguard_start(&guard, mount->order->folder, error)) {
        fuse_session_destroy(session);
        return FALSE;
    }
    gboolean is_mounted = fuse_session_mount(session, mount->order->folder) == 0;
    gboolean fine = FALSE;
    if (is_mounted) {
        mounted(data);
        fine = answer(session, cancel);
        ek_cli_await_end();
        fuse_session_unmount(session);
    }
    ek_mountguard_dismiss(&guard);
    fuse_session_destroy(session);
    if (!is_mounted)
        return ek_error_set(error, EK_ERROR_FAILED,
                            "%s: cannot be mounted on. FUSE needs /dev/fuse and, for users other "
                            "than root, fusermount3 (package fuse3)",
                            mount->order->folder);
    return fine || ek_error_set(error, EK_ERROR_FAILED, "%s: the kernel ended the mount",
                                mount->order->folder);
}

gboolean ek_mountfs_run(EkCaseTree *tree, const EkMountOrder *order, void (*mounted)(void *data),
                        void *data, const gint *cancel, GError **error)
{
    Mount mount = {.tree = tree, .order = order, .last = FUSE_ROOT_ID - 1};
    mount.by_inode = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    mount.by_node = g_hash_table_new(ek_node_hash, ek_node_equal);
    mount.files = g_hash_table_new_full(NULL, NULL, opened_free, NULL);
    mount.folders = g_hash_table_new_full(NULL, NULL, folder_free, NULL);
    EkTreeEntry top = {.file = {.type = EK_TYPE_FOLDER}};
    know(&mount, &top);
    /* A comma in the name would end it. */
    g_autofree char *name = g_strdup(order->name);
    g_strdelimit(name, ",\\", '_');
    g_autofree char *options =
        g_strdup_printf("-oro,nosuid,nodev,noexec,subtype=ektypon,fsname=%s%s", name,
                        order->for_all ? ",allow_other" : "");
    struct fuse_args arguments = FUSE_ARGS_INIT(0, NULL);
    fuse_opt_add_arg(&arguments, "ektypon");
    fuse_opt_add_arg(&arguments, options);
    gboolean fine = mount_and_answer(&mount, &arguments, mounted, data, cancel, error);
    fuse_opt_free_args(&arguments);
    g_hash_table_unref(mount.files);
    g_hash_table_unref(mount.folders);
    g_hash_table_unref(mount.by_node);
    g_hash_table_unref(mount.by_inode);
    return fine;
}

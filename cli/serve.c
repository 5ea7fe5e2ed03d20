/* SPDX-License-Identifier: MIT */
/* serve: the drive of a case as an NBD server, by nbdkit with a plugin of ours. */
#include "helper.h"

#include "base/text.h"
#include "work/serving.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <signal.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#define PLUGIN "nbdkit-ektypon-plugin.so"
#define WAKE_US 50000

typedef struct {
    char *as;
    char *at;
    gboolean scratch;
    gboolean zeros;
    char *socket; /* NULL: host and port */
    char *host;
    char *port;
    gboolean made; /* the socket is ours to remove */
    char *ready;   /* a file that nbdkit writes to when it listens */
} Order;

static void order_clear(Order *order)
{
    g_free(order->as);
    g_free(order->at);
    g_free(order->socket);
    g_free(order->host);
    g_free(order->port);
    g_free(order->ready);
}

/* --- the place ------------------------------------------------------------------------------- */

/* Does anybody answer there? */
static gboolean is_answered(const char *path)
{
    struct sockaddr_un address = {.sun_family = AF_UNIX};
    int asking = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (asking < 0)
        return FALSE;
    g_strlcpy(address.sun_path, path, sizeof address.sun_path);
    gboolean is = connect(asking, (const struct sockaddr *)&address, sizeof address) == 0;
    close(asking);
    return is;
}

/* A socket that nobody listens on any more is left of a server that was killed. */
static gboolean prepare_socket(Order *order, GError **error)
{
    struct sockaddr_un address;
    struct stat st;
    if (strlen(order->socket) >= sizeof address.sun_path)
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s: too long for a socket (%zu bytes at most). Choose a shorter path",
                            order->socket, sizeof address.sun_path - 1);
    order->made = TRUE;
    if (lstat(order->socket, &st) != 0)
        return TRUE;
    order->made = FALSE;
    if (!S_ISSOCK(st.st_mode))
        return ek_error_set(error, EK_ERROR_REFUSED, "%s exists and is not a socket",
                            order->socket);
    if (is_answered(order->socket))
        return ek_error_set(error, EK_ERROR_REFUSED, "%s: another server listens there",
                            order->socket);
    if (g_unlink(order->socket) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "%s", order->socket);
    order->made = TRUE;
    return TRUE;
}

/* "HOST:PORT", "[ADDRESS]:PORT", or the path of a socket. */
static gboolean take_place(Order *order, const char *folder)
{
    g_autofree char *name = g_path_get_basename(folder);
    if (order->at == NULL)
        order->at = g_strdup_printf("%s/ektypon-%s.sock", g_get_user_runtime_dir(), name);
    const char *colon = strrchr(order->at, ':');
    if (strchr(order->at, '/') != NULL || colon == NULL) {
        order->socket = g_canonicalize_filename(order->at, NULL);
        return TRUE;
    }
    const char *first = *order->at == '[' ? order->at + 1 : order->at;
    order->host = g_strndup(first, (gsize)(colon - first) - (first > order->at ? 1 : 0));
    order->port = g_strdup(colon + 1);
    guint64 port = 0;
    return *order->host != '\0' &&
           g_ascii_string_to_unsigned(order->port, 10, 1, 65535, &port, NULL);
}

/* --- the server ------------------------------------------------------------------------------ */

static GPtrArray *arguments_for(const Order *order, const char *program, const char *plugin,
                                const char *folder)
{
    GPtrArray *arguments = g_ptr_array_new_with_free_func(g_free);
    /* One thread a connection: with more, nbdkit 1.32 aborts when a client goes away in the middle
     * of its requests. */
    const char *first[] = {program, "--foreground", "--exit-with-parent", "--threads=1"};
    for (gsize i = 0; i < G_N_ELEMENTS(first); i++)
        g_ptr_array_add(arguments, g_strdup(first[i]));
    g_ptr_array_add(arguments, g_strdup_printf("--pidfile=%s", order->ready));
    if (order->socket != NULL) {
        g_ptr_array_add(arguments, g_strdup("--unix"));
        g_ptr_array_add(arguments, g_strdup(order->socket));
    } else {
        g_ptr_array_add(arguments, g_strdup_printf("--ipaddr=%s", order->host));
        g_ptr_array_add(arguments, g_strdup_printf("--port=%s", order->port));
    }
    g_ptr_array_add(arguments, g_strdup(order->scratch ? "--filter=cow" : "--readonly"));
    g_ptr_array_add(arguments, g_strdup(plugin));
    g_ptr_array_add(arguments, g_strdup_printf("case=%s", folder));
    g_ptr_array_add(arguments, g_strdup_printf("as=%s", order->as));
    g_ptr_array_add(arguments, g_strdup_printf("zeros=%d", order->zeros));
    /* The smallest part: a missing sector hides no more than it must. */
    if (order->scratch)
        g_ptr_array_add(arguments, g_strdup("cow-block-size=4096"));
    g_ptr_array_add(arguments, NULL);
    return arguments;
}

static gboolean start(const Order *order, const char *folder, pid_t *pid, GError **error)
{
    g_autofree char *program = g_find_program_in_path("nbdkit");
    g_autofree char *plugin = ek_helper_path(PLUGIN, R_OK);
    if (program == NULL)
        return ek_error_set(error, EK_ERROR_ABSENT,
                            "nbdkit is not installed. On Debian: apt-get install nbdkit");
    if (access(plugin, R_OK) != 0)
        return ek_error_set(error, EK_ERROR_ABSENT,
                            "%s is missing: this program was built without nbdkit's headers "
                            "(nbdkit-plugin-dev)",
                            plugin);
    g_autoptr(GPtrArray) arguments = arguments_for(order, program, plugin, folder);
    *pid = fork();
    if (*pid < 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot start nbdkit");
    if (*pid == 0) {
        execv(program, (char **)arguments->pdata);
        _exit(127);
    }
    return TRUE;
}

static gboolean has_ended(pid_t pid, gboolean *is_over)
{
    int status = 0;
    *is_over = waitpid(pid, &status, WNOHANG) == pid;
    return *is_over;
}

static gboolean is_ready(const Order *order)
{
    struct stat st;
    return stat(order->ready, &st) == 0 && st.st_size > 0;
}

/* FALSE: it ended before it listened. */
static gboolean wait_until_ready(const Order *order, pid_t pid, const gint *cancel,
                                 gboolean *is_over)
{
    while (!is_ready(order) && g_atomic_int_get(cancel) == 0) {
        if (has_ended(pid, is_over))
            return FALSE;
        g_usleep(WAKE_US);
    }
    return TRUE;
}

/* --- telling --------------------------------------------------------------------------------- */

static char *uri_of(const Order *order, const char *name)
{
    g_autofree char *path =
        order->socket != NULL ? g_uri_escape_string(order->socket, "/", FALSE) : NULL;
    if (path != NULL)
        return g_strdup_printf("nbd+unix:///%s?socket=%s", name, path);
    gboolean is_v6 = strchr(order->host, ':') != NULL;
    return g_strdup_printf("nbd://%s%s%s:%s/%s", is_v6 ? "[" : "", order->host, is_v6 ? "]" : "",
                           order->port, name);
}

static void tell(const Order *order, const EkServing *serving, const char *folder)
{
    guint edits = ek_serving_edits(serving);
    g_autofree char *laid = ek_text_count(edits, "edit", "edits");
    gboolean is_repaired = g_str_equal(order->as, "repaired");
    ek_cli_print("Serving %s %s%s%s%s%s.\n", folder,
                 is_repaired ? "with the plan applied (" : "as it was read",
                 is_repaired ? laid : "", is_repaired ? ")" : "",
                 order->scratch ? ", writable: all writes are discarded at the end" : ", read-only",
                 order->zeros ? "; missing bytes are zeros" : "; missing bytes give an I/O error");
    for (guint i = 0; i < ek_serving_count(serving); i++) {
        const EkExport *one = ek_serving_export(serving, i);
        g_autofree char *size = ek_text_size(one->bytes);
        g_autofree char *uri = uri_of(order, one->name);
        ek_cli_print("%10s  %s  (%s)\n", size, uri, one->text);
    }
    if (order->socket != NULL)
        ek_cli_advise("To attach the drive: nbd-client -unix %s -name drive /dev/nbd0%s",
                      order->socket, order->scratch ? "" : " -readonly");
    else
        ek_cli_advise("To attach the drive: nbd-client %s %s -name drive /dev/nbd0%s. Everyone who "
                      "can reach this address can read the drive",
                      order->host, order->port, order->scratch ? "" : " -readonly");
    ek_cli_advise("To end: Ctrl-C");
}

static int serve(const Order *order, const EkServing *serving, const char *folder, GError **error)
{
    const gint *cancel = ek_cli_watch_signals();
    gboolean is_over = FALSE;
    pid_t pid = 0;
    if (!start(order, folder, &pid, error))
        return EK_EXIT_FAILED;
    if (wait_until_ready(order, pid, cancel, &is_over)) {
        tell(order, serving, folder);
        while (!is_over && g_atomic_int_get(cancel) == 0) {
            has_ended(pid, &is_over);
            g_usleep(WAKE_US);
        }
    }
    if (is_over) {
        ek_error_set(error, EK_ERROR_FAILED, "nbdkit ended by itself; its reason is above");
        return EK_EXIT_FAILED;
    }
    kill(pid, SIGTERM);
    waitpid(pid, NULL, 0);
    ek_cli_print("Ended.\n");
    return EK_EXIT_DONE;
}

static int run(EkCli *cli, Order *order)
{
    GError *error = NULL;
    EkFace face = g_str_equal(order->as, "read") ? EK_FACE_AS_READ : EK_FACE_AS_REPAIRED;
    g_autofree char *folder = g_canonicalize_filename(cli->operands[0], NULL);
    g_autoptr(EkServing) serving = ek_serving_new(cli->operands[0], face, &error);
    if (serving == NULL || (order->socket != NULL && !prepare_socket(order, &error)))
        return ek_cli_fail(cli, error);
    int told = g_file_open_tmp("ektypon-serve-XXXXXX", &order->ready, &error);
    int status = told >= 0 ? serve(order, serving, folder, &error) : EK_EXIT_FAILED;
    if (order->made)
        g_unlink(order->socket);
    if (told >= 0) {
        close(told);
        g_unlink(order->ready);
    }
    return error != NULL ? ek_cli_fail(cli, error) : status;
}

int ek_command_serve(EkCli *cli)
{
    Order order = {0};
    int status = EK_EXIT_DONE;
    const GOptionEntry entries[] = {
        {"as", 0, 0, G_OPTION_ARG_STRING, &order.as,
         "repaired: with the edits of the plan (the default); read: without", "repaired|read"},
        {"at", 0, 0, G_OPTION_ARG_STRING, &order.at,
         "the path of a socket, or an address of this computer (default: a socket for this user)",
         "SOCKET|HOST:PORT"},
        {"scratch", 0, 0, G_OPTION_ARG_NONE, &order.scratch,
         "let clients write; all writes are discarded at the end", NULL},
        {"zeros", 0, 0, G_OPTION_ARG_NONE, &order.zeros, "missing bytes are zeros, not I/O errors",
         NULL},
        G_OPTION_ENTRY_NULL,
    };
    if (ek_cli_parse(cli, entries, &status)) {
        if (order.as == NULL)
            order.as = g_strdup("repaired");
        if (!g_str_equal(order.as, "repaired") && !g_str_equal(order.as, "read"))
            status = ek_cli_misused(cli, "--as %s: repaired or read", order.as);
        else if (!take_place(&order, cli->operands[0]))
            status = ek_cli_misused(cli, "--at %s: neither a path nor HOST:PORT", order.at);
        else
            status = run(cli, &order);
    }
    order_clear(&order);
    return status;
}

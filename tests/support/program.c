/* SPDX-License-Identifier: MIT */
/* Driving the built program, and the system's tools, from a test. */
#include "program.h"

#include "base/digest.h"
#include "check.h"
#include "fixture.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

void result_clear(Result *result)
{
    g_free(result->out);
    g_free(result->err);
}

static pid_t start(char **argv, int out, int err)
{
    pid_t child = fork();
    if (child != 0)
        return child;
    int nothing = open("/dev/null", O_RDWR);
    dup2(nothing, STDIN_FILENO);
    dup2(out >= 0 ? out : nothing, STDOUT_FILENO);
    dup2(err >= 0 ? err : nothing, STDERR_FILENO);
    execvp(argv[0], argv);
    _exit(127);
}

static char *slurp(int fd)
{
    GString *text = g_string_new(NULL);
    char piece[4096];
    ssize_t got;
    lseek(fd, 0, SEEK_SET);
    while ((got = read(fd, piece, sizeof piece)) > 0)
        g_string_append_len(text, piece, got);
    close(fd);
    return g_string_free(text, FALSE);
}

static int scratch_file(void)
{
    char path[] = "/tmp/ektypon-output-XXXXXX";
    int fd = mkostemp(path, O_CLOEXEC);
    if (fd < 0)
        g_error("no scratch file");
    unlink(path);
    return fd;
}

static Result run(char **argv)
{
    Result result = {0};
    struct rusage usage;
    int status = 0;
    int out = scratch_file();
    int err = scratch_file();
    pid_t child = start(argv, out, err);
    while (wait4(child, &status, 0, &usage) < 0 && errno == EINTR)
        continue;
    result.status = WIFEXITED(status) ? WEXITSTATUS(status) : 1000 + WTERMSIG(status);
    result.peak_kib = (guint64)usage.ru_maxrss;
    result.out = slurp(out);
    result.err = slurp(err);
    return result;
}

static char **words_of(const char *line)
{
    char **words = NULL;
    GError *error = NULL;
    g_autofree char *whole = g_strconcat("ektypon ", line, NULL);
    if (!g_shell_parse_argv(whole, NULL, &words, &error))
        g_error("%s: %s", line, error->message);
    g_free(words[0]);
    words[0] = g_strdup(EKTYPON_PROGRAM_PATH);
    return words;
}

Result ektypon(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_auto(GStrv) words = words_of(line);
    return run(words);
}

void done(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_auto(Result) result = ektypon("%s", line);
    if (result.status != 0)
        fprintf(stderr, "\nektypon %s\n%s%s", line, result.out, result.err);
    CHECK_NUMBER(result.status, 0);
}

pid_t ektypon_start(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_auto(GStrv) words = words_of(line);
    return start(words, -1, -1);
}

static Result shell_line(const char *line)
{
    char *argv[] = {(char *)"/bin/sh", (char *)"-c", (char *)line, NULL};
    return run(argv);
}

Result shell(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    return shell_line(line);
}

void must(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_auto(Result) result = shell_line(line);
    if (result.status != 0)
        g_error("%s\nended with %d: %s%s", line, result.status, result.out, result.err);
}

json_t *result_json(const Result *result)
{
    json_error_t where;
    json_t *root = json_loads(result->out, 0, &where);
    if (root == NULL)
        g_error("no JSON at line %d: %s\n%s%s", where.line, where.text, result->out, result->err);
    return root;
}

guint64 json_u64(json_t *object, const char *key)
{
    json_t *value = json_object_get(object, key);
    if (!json_is_integer(value))
        g_error("%s is not a number in the JSON", key);
    return (guint64)json_integer_value(value);
}

const char *json_text(json_t *object, const char *key)
{
    return json_string_value(json_object_get(object, key));
}

char *demo_path(const char *name)
{
    return g_build_filename(EKTYPON_DEMO, name, NULL);
}

json_t *volume_at(json_t *json, guint64 sector)
{
    json_t *list = json_object_get(json, "volumes");
    for (gsize i = 0; i < json_array_size(list); i++)
        if (json_u64(json_array_get(list, i), "first_byte") == sector * 512)
            return json_array_get(list, i);
    return NULL;
}

void unpack_demo(void)
{
    must("xz -dc %s/drive.img.xz | dd of=drive.img bs=1M conv=sparse iflag=fullblock status=none",
         EKTYPON_DEMO);
    must("sed '/^.fault boot-backup/,/^$/d' %s/drive.model >drive.model", EKTYPON_DEMO);
}

void hunt_demo(void)
{
    unpack_demo();
    done("new bench sim:drive.model");
    done("image bench --all-rounds");
    done("hunt bench");
}

char *file_sha256(const char *path)
{
    gsize length = 0;
    g_autofree guint8 *data = read_file(path, &length);
    g_autoptr(EkSha256) digest = ek_sha256_new();
    ek_sha256_update(digest, data, length);
    return ek_sha256_finish_hex(digest);
}

gboolean is_sanitized(void)
{
#if defined(__SANITIZE_ADDRESS__)
    return TRUE;
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
    return TRUE;
#else
    return FALSE;
#endif
#else
    return FALSE;
#endif
}

char *loop_attach(const char *file, const char *options)
{
    if (!is_root())
        return NULL;
    g_auto(Result) result = shell("losetup -f --show %s %s", options, file);
    return result.status == 0 ? g_strdup(g_strstrip(result.out)) : NULL;
}

void loop_detach(const char *device)
{
    must("losetup -d %s", device);
}

void blank(guint mib)
{
    must("rm -rf drive.img bench && truncate -s %uM drive.img", mib);
}

void lay(const char *make, guint mib, guint64 sector)
{
    must("rm -f part.img && truncate -s %uM part.img && %s part.img >maker.log 2>&1", mib, make);
    must("dd if=part.img of=drive.img bs=512 seek=%" G_GUINT64_FORMAT
         " conv=notrunc,sparse status=none",
         sector);
}

/* SPDX-License-Identifier: MIT */
/* Driving the built program, and the system's tools, from a test. */
#ifndef EK_TESTS_PROGRAM_H
#define EK_TESTS_PROGRAM_H

#include <glib.h>
#include <jansson.h>
#include <sys/types.h>

typedef struct {
    int status; /* exit status; 1000 + signal when it was killed */
    char *out;
    char *err;
    guint64 peak_kib; /* of resident memory */
} Result;

void result_clear(Result *result);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(Result, result_clear)

/* Runs ektypon with the words of a command line, split as a shell does. */
Result ektypon(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* Runs it, and checks that it ends with status 0. */
void done(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* Starts it in the background, its output thrown away. The caller waits for it. */
pid_t ektypon_start(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* Runs a command through a shell. */
Result shell(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* Runs a command through a shell; the test program ends when it fails. */
void must(const char *format, ...) G_GNUC_PRINTF(1, 2);

/* A loop device for a file, with these options of losetup: its path, for the caller to g_free; NULL
 * where there are none. */
char *loop_attach(const char *file, const char *options);
void loop_detach(const char *device);

/* The JSON of a result; the caller decrefs. */
json_t *result_json(const Result *result);

guint64 json_u64(json_t *object, const char *key);
const char *json_text(json_t *object, const char *key);

/* Of what `volumes --json` prints the volume that begins at a sector of 512 bytes; NULL when there
 * is none. Borrowed from `json`. */
json_t *volume_at(json_t *json, guint64 sector);

/* Unpacks the demo drive into the current folder: drive.img and drive.model, on which the backup of
 * the NTFS boot sector reads. */
void unpack_demo(void);

/* The same, imaged to the end and hunted as the case "bench". */
void hunt_demo(void);

/* The path of a file of the demo ("truth/sector-0.bin"); the caller frees. */
char *demo_path(const char *name);

/* SHA-256 of a file, hex; the caller frees. */
char *file_sha256(const char *path);

/* An empty drive.img, and no case `bench` of another one. */
void blank(guint mib);

/* Makes a volume of so many MiB (`make` gets its file as the last argument) and lays it into
 * drive.img from a sector of 512 bytes on. */
void lay(const char *make, guint mib, guint64 sector);

/* TRUE in a build with AddressSanitizer, where memory figures mean nothing. */
gboolean is_sanitized(void);

#define CHECK_STATUS(result, wanted)                                                               \
    do {                                                                                           \
        if ((result).status != (wanted))                                                           \
            fprintf(stderr, "\n%s%s", (result).out, (result).err);                                 \
        CHECK_NUMBER((result).status, wanted);                                                     \
    } while (0)

#endif

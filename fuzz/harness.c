/* SPDX-License-Identifier: MIT */
/* What the fuzz harnesses share. */
#include "harness.h"

#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <unistd.h>

const char *fuzz_file(const uint8_t *data, size_t size)
{
    static int fd = -1;
    static char path[64];
    if (fd < 0) {
        fd = memfd_create("fuzz", 0);
        snprintf(path, sizeof path, "/proc/self/fd/%d", fd);
    }
    if (fd < 0 || ftruncate(fd, 0) != 0 || pwrite(fd, data, size, 0) != (ssize_t)size)
        abort();
    return path;
}

gboolean fuzz_image_open(FuzzImage *fuzz, const uint8_t *data, size_t size)
{
    if (size > FUZZ_IMAGE_BYTES)
        return FALSE;
    const char *path = fuzz_file(data, size);
    if (truncate(path, FUZZ_IMAGE_BYTES) != 0)
        return FALSE;
    fuzz->image = ek_image_open(path, FUZZ_IMAGE_BYTES, FALSE, NULL);
    if (fuzz->image == NULL)
        return FALSE;
    fuzz->map = ek_read_map_new(FUZZ_IMAGE_BYTES / 512);
    ek_read_map_set(fuzz->map, 0, FUZZ_IMAGE_BYTES / 512,
                    (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    /* Some of it was not read. */
    ek_read_map_set(fuzz->map, 90, 3, (EkMark){EK_STATE_BAD, EK_REASON_MEDIUM, 1, 1});
    EkImageReaderParts parts = {.image = fuzz->image, .map = fuzz->map, .sector_size = 512};
    fuzz->reader = ek_image_reader_new(&parts, EK_FACE_AS_READ);
    return TRUE;
}

void fuzz_image_close(FuzzImage *fuzz)
{
    ek_reader_free(fuzz->reader);
    ek_read_map_free(fuzz->map);
    ek_image_close(fuzz->image);
}

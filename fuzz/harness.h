/* SPDX-License-Identifier: MIT */
/* What the fuzz harnesses share. Each defines LLVMFuzzerTestOneInput. */
#ifndef EK_FUZZ_HARNESS_H
#define EK_FUZZ_HARNESS_H

#include "image/imagereader.h"

#include <stdint.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* An image that begins with the input and goes on with zeros, all good. */
typedef struct {
    EkImage *image;
    EkReadMap *map;
    EkReader *reader;
} FuzzImage;

#define FUZZ_IMAGE_BYTES (2u << 20)

gboolean fuzz_image_open(FuzzImage *fuzz, const uint8_t *data, size_t size);
void fuzz_image_close(FuzzImage *fuzz);

/* A path to a file with this content, the same at each call. */
const char *fuzz_file(const uint8_t *data, size_t size);

#endif

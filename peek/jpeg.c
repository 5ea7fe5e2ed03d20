/* SPDX-License-Identifier: MIT */
/* JPEG decoders go on through damage and say nothing. Here the warnings are what is wanted: a
 * picture that decodes with one is not the picture that was taken. */
#include "peek.h"

#include <setjmp.h>
#include <stdio.h>

#include <jerror.h>
#include <jpeglib.h>

#define COEFFICIENTS_MOST (128 << 20) /* bytes that a progressive picture is kept in */

typedef struct {
    struct jpeg_error_mgr manager; /* first: the library hands this on */
    jmp_buf back;
    char first[JMSG_LENGTH_MAX]; /* of the warnings, or the error */
    guint warnings;
    gboolean starved; /* memory did not suffice */
} Errors;

static void on_error(j_common_ptr common)
{
    Errors *errors = (Errors *)(void *)common->err;
    if (errors->warnings == 0)
        errors->manager.format_message(common, errors->first);
    errors->warnings++;
    errors->starved = common->err->msg_code == JERR_OUT_OF_MEMORY ||
                      common->err->msg_code == JERR_NO_BACKING_STORE;
    longjmp(errors->back, 1);
}

static void on_message(j_common_ptr common, int level)
{
    Errors *errors = (Errors *)(void *)common->err;
    if (level >= 0)
        return;
    if (errors->warnings++ == 0)
        errors->manager.format_message(common, errors->first);
}

static void decode(struct jpeg_decompress_struct *reading, Errors *errors, const Content *content,
                   guint8 **row)
{
    if (setjmp(errors->back) != 0)
        return;
    jpeg_mem_src(reading, content->bytes, (unsigned long)content->length);
    jpeg_read_header(reading, TRUE);
    jpeg_start_decompress(reading);
    *row = g_malloc((gsize)reading->output_width * (gsize)reading->output_components);
    while (reading->output_scanline < reading->output_height) {
        JSAMPROW line = *row;
        jpeg_read_scanlines(reading, &line, 1);
    }
    jpeg_finish_decompress(reading);
}

char *jpeg_fault(const Content *content, gboolean *starved)
{
    struct jpeg_decompress_struct reading = {0};
    Errors errors = {.warnings = 0};
    g_autofree guint8 *row = NULL;
    reading.err = jpeg_std_error(&errors.manager);
    errors.manager.error_exit = on_error;
    errors.manager.emit_message = on_message;
    jpeg_create_decompress(&reading);
    reading.mem->max_memory_to_use = COEFFICIENTS_MOST;
    decode(&reading, &errors, content, &row);
    jpeg_destroy_decompress(&reading);
    *starved = errors.starved;
    if (errors.warnings == 0 || errors.starved)
        return NULL;
    return g_strdup(errors.first);
}

/* SPDX-License-Identifier: MIT */
#include "volume/volume.h"

#include "base/text.h"

#include <string.h>

static void ground_free(gpointer data)
{
    EkEvidence *ground = data;
    g_free(ground->text);
    g_free(ground);
}

static void term_free(gpointer data)
{
    EkTerm *term = data;
    g_free(term->name);
    g_free(term->value);
    g_free(term);
}

EkVolume *ek_volume_new(const EkFileSystem *format, const char *filesystem)
{
    EkVolume *volume = g_new0(EkVolume, 1);
    volume->format = format;
    volume->filesystem = filesystem;
    volume->reasons = g_ptr_array_new_with_free_func(ground_free);
    volume->terms = g_ptr_array_new_with_free_func(term_free);
    return volume;
}

void ek_volume_free(EkVolume *volume)
{
    g_free(volume->label);
    g_free(volume->uuid);
    g_ptr_array_unref(volume->reasons);
    g_ptr_array_unref(volume->terms);
    g_free(volume);
}

void ek_volume_reason(EkVolume *volume, int points, const char *format, ...)
{
    EkEvidence *ground = g_new0(EkEvidence, 1);
    va_list arguments;
    va_start(arguments, format);
    ground->text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    ground->points = points;
    g_ptr_array_add(volume->reasons, ground);
    volume->confidence = CLAMP(volume->confidence + points, 0, 100);
}

EkVolume *ek_volume_measure(const EkFileSystem *format, EkReader *reader, const EkClaim *claim,
                            GError **error)
{
    GError *failure = NULL;
    g_autoptr(EkReader) bounded = ek_reader_bounded(reader, EK_MEASURE_READS);
    EkVolume *volume = format->measure(bounded, claim, &failure);
    /* A claim that leads through the whole image is damage, and costs itself only. */
    if (volume == NULL && ek_reader_is_spent(bounded)) {
        g_clear_error(&failure);
        return ek_volume_new(format, format->name);
    }
    if (failure != NULL)
        g_propagate_error(error, failure);
    return volume;
}

void ek_volume_term(EkVolume *volume, const char *name, const char *format, ...)
{
    EkTerm *term = g_new0(EkTerm, 1);
    va_list arguments;
    va_start(arguments, format);
    term->name = g_strdup(name);
    term->value = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_ptr_array_add(volume->terms, term);
}

void ek_volume_term_number(EkVolume *volume, const char *name, guint64 number)
{
    ek_volume_term(volume, name, "%" G_GUINT64_FORMAT, number);
}

char *ek_volume_label(EkSpan span)
{
    gsize length = 0;
    while (length < span.length && span.data[length] != 0)
        length++;
    return length > 0 ? ek_text_utf8(span.data, length) : NULL;
}

char *ek_volume_uuid(EkSpan span)
{
    if (span.length < 16 || ek_bytes_are_zero(span.data, 16))
        return NULL;
    GString *text = g_string_new(NULL);
    for (gsize i = 0; i < 16; i++)
        g_string_append_printf(text, i == 4 || i == 6 || i == 8 || i == 10 ? "-%02x" : "%02x",
                               span.data[i]);
    return g_string_free(text, FALSE);
}

void ek_mend_free(EkMend *mend)
{
    g_free(mend->after);
    g_free(mend->what);
    g_free(mend->from);
    g_free(mend);
}

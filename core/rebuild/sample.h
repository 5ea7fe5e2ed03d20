/* SPDX-License-Identifier: MIT */
/* A sample of a volume's files: do they begin as their names say? Where clusters are not where a
 * header puts them, folders may read well, and no file does. */
#ifndef EK_REBUILD_SAMPLE_H
#define EK_REBUILD_SAMPLE_H

#include "image/reader.h"

typedef struct EkSample EkSample;

EkSample *ek_sample_new(void);
void ek_sample_free(EkSample *sample);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkSample, ek_sample_free)

/* File number `file` begins at this byte of the image. */
void ek_sample_place(EkSample *sample, guint64 file, EkByte first_byte);

/* It has this name. In any order with its place. */
void ek_sample_name(EkSample *sample, guint64 file, const char *name);

/* Reads the beginnings of those for which both are known. *fit of *all begin as their names say;
 * what was not read from the drive counts in neither. */
void ek_sample_check(const EkSample *sample, EkReader *reader, guint *fit, guint *all);

#endif

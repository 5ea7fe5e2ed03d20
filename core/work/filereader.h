/* SPDX-License-Identifier: MIT */
/* The content of one file of a volume as bytes that a type of content can be followed in. */
#ifndef EK_WORK_FILEREADER_H
#define EK_WORK_FILEREADER_H

#include "work/indexing.h"

/* For a file of which nothing is missing; for one thread. The volume must live as long. NULL where
 * it cannot be read from any byte on: it is packed, and too large to be unpacked at once. The
 * caller frees with ek_reader_free. */
EkReader *ek_filereader_new(EkIndexing *indexing, const EkFile *file);

#endif

/* SPDX-License-Identifier: MIT */
/* The primary header of a volume beside its backup, field by field. */
#ifndef EK_CLI_HEADERS_H
#define EK_CLI_HEADERS_H

#include "cli.h"

#include "image/reader.h"
#include "volume/volume.h"

/* Prints a volume's first header and its backup side by side, field by field, with what differs
 * marked. Nothing where the format's headers are not explained. */
void ek_headers_print(EkCli *cli, EkReader *reader, const EkVolume *volume);

#endif

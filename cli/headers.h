/* SPDX-License-Identifier: MIT */
#ifndef EK_CLI_HEADERS_H
#define EK_CLI_HEADERS_H

#include "cli.h"

#include "image/gate.h"
#include "volume/volume.h"

/* Prints a volume's first header and its backup side by side, field by field, with what differs
 * marked. Nothing where the format's headers are not explained. */
void ek_headers_print(EkCli *cli, EkGate *gate, const EkVolume *volume);

#endif

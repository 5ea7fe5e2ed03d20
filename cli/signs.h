/* SPDX-License-Identifier: MIT */
/* What a drive says of its health, for people and as JSON. */
#ifndef EK_CLI_SIGNS_H
#define EK_CLI_SIGNS_H

#include "cli.h"

#include "case/healthstore.h"
#include "device/system.h"

/* {word, …each sign…, meaning: […]} (docs/json.md). */
json_t *ek_signs_json(const EkHealth *health);

/* The numbers that the drive gave, in a line: "41 230 hours powered on, 38 °C"; NULL: none. The
 * caller frees. */
char *ek_signs_numbers(const EkHealth *health);

/* In a line: "failing: 17 pending, 38 °C"; "not known: …" where it is silent. The caller frees. */
char *ek_signs_line(const EkHealth *health);

/* What the drive of a case said, each time (EkKeptHealth*): as above, and when. */
json_t *ek_signs_list_json(const GPtrArray *kept);

/* Asks for the health of a drive that is not in use by us: "sim:PATH", or a drive of the system.
 * One whose motor has stopped is left asleep. The caller clears. */
void ek_signs_ask(const EkDrive *drive, EkHealth *health);

/* The word, its meaning and the numbers, and what else the system tells that matters for imaging.
 */
void ek_signs_print(EkCli *cli, const EkDrive *drive, const EkHealth *health);

#endif

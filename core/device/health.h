/* SPDX-License-Identifier: MIT */
/* What a drive says of its own health, and what that means for imaging it.
 *
 * The signs come from a drive's own records (ATA SMART attributes, the NVMe SMART / Health
 * Information log, SCSI log pages), as the system's smartctl prints them in JSON, or from a drive
 * model. All of them are the drive's word: a drive may count wrong, or not at all. */
#ifndef EK_DEVICE_HEALTH_H
#define EK_DEVICE_HEALTH_H

#include "base/error.h"

typedef enum {
    EK_SIGN_ASSESSMENT,    /* 1: the drive calls itself fit, 0: it predicts its failure */
    EK_SIGN_HOURS,         /* powered on */
    EK_SIGN_TEMPERATURE,   /* degrees Celsius */
    EK_SIGN_PENDING,       /* sectors that do not read and wait to be remapped */
    EK_SIGN_UNCORRECTABLE, /* sectors that could not be read, as counted so far */
    EK_SIGN_REALLOCATED,   /* sectors that were remapped */
    EK_SIGN_TRANSFER,      /* transfers that arrived damaged (interface CRC) */
    EK_SIGN_MEDIA,         /* media errors of a flash drive */
    EK_SIGN_SPARE,         /* percent of the spare blocks that is left */
    EK_SIGN_SPARE_LEAST,   /* percent below which the drive calls itself worn */
    EK_SIGN_USED,          /* percent of its rated life that is used up; may be above 100 */
    EK_SIGN_COUNT
} EkSign;

typedef enum {
    EK_HEALTH_SILENT, /* it says nothing of itself */
    EK_HEALTH_STEADY,
    EK_HEALTH_WEARING,
    EK_HEALTH_FAILING
} EkHealthWord;

#define EK_SIGN_UNKNOWN (-1)

typedef struct {
    gint64 value[EK_SIGN_COUNT]; /* EK_SIGN_UNKNOWN where the drive does not say */
    char *why_silent;            /* a sentence, when nothing is known; NULL otherwise */
} EkHealth;

/* Nothing is known, for this reason (copied; NULL: none). */
void ek_health_init(EkHealth *health, const char *why_silent);
void ek_health_clear(EkHealth *health);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(EkHealth, ek_health_clear)

/* "pending", "crc_errors" …: the name of a sign in JSON and in the store; in a drive model with
 * "-" for "_". */
const char *ek_sign_name(EkSign sign);

/* "steady", "wearing", "failing", "silent". */
const char *ek_health_word_name(EkHealthWord word);
EkHealthWord ek_health_word(const EkHealth *health);

/* What it means for imaging, the gravest first: char*, at least one; the caller unrefs. */
GPtrArray *ek_health_sentences(const EkHealth *health);

/* What got worse from `before` to `after`: char*, the caller unrefs. Temperature is not among it.
 */
GPtrArray *ek_health_worse(const EkHealth *before, const EkHealth *after);

/* Reads what smartctl --json printed, `length` bytes of it, which may be anything. FALSE: it is no
 * such text; then nothing is changed. A drive that gave nothing is silent, with the reason that
 * smartctl gave. */
gboolean ek_health_parse(const char *text, gsize length, EkHealth *health);

/* Asks smartctl about the drive at `node`. Never fails: what cannot be asked is silent, with why.
 * A drive that does not answer for 20 seconds is given up. With `asleep_is_left` one that has
 * stopped its motor is not woken. Called off soon after *cancel (atomic; NULL: never) is not 0.
 * `health` is initialised by the call. */
void ek_health_ask(const char *node, gboolean asleep_is_left, const gint *cancel, EkHealth *health);

#endif

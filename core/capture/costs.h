/* SPDX-License-Identifier: MIT */
/* What things cost on this drive, as measured so far. All times are seconds of device time. */
#ifndef EK_CAPTURE_COSTS_H
#define EK_CAPTURE_COSTS_H

#include "base/units.h"

/* A running mean of commands of about one size. */
typedef struct {
    double sectors;
    double seconds;
    double weight; /* commands that went into it, counted up to a limit */
} EkCommandMean;

#define EK_COMMAND_SIZES 24 /* of 2^n to 2^(n+1) - 1 sectors */

typedef struct {
    EkCommandMean means[EK_COMMAND_SIZES];
    double known;       /* good commands measured */
    double command;     /* what a good command costs beyond its transfer */
    double sector;      /* transfer of one sector */
    double seek;        /* more, where a read does not go on where the last good one ended */
    double failure;     /* a command that fails */
    double slow_sector; /* transfer of one sector on a slow region */
    guint failures;     /* that `failure` was measured from */
    guint seeks;
} EkCosts;

/* What is worth remembering from one imaging to the next, in seconds; all 0: nothing. */
typedef struct {
    double command;
    double sector;
    double seek;
    double failure;
} EkCostsKept;

EkCostsKept ek_costs_keep(const EkCosts *costs);

/* Begins with what was measured another time. */
void ek_costs_recall(EkCosts *costs, const EkCostsKept *kept);

/* Nothing measured yet: common values stand in. */
void ek_costs_init(EkCosts *costs, guint32 sector_size);

/* A good read of `sectors` sectors in `commands` commands took `seconds`. `continues`: it went on
 * where the last good one ended. */
void ek_costs_note_good(EkCosts *costs, double sectors, double commands, gboolean continues,
                        double seconds);

/* A command that failed took `seconds`. */
void ek_costs_note_failure(EkCosts *costs, double seconds);

/* What such a read would cost on a healthy region. */
double ek_costs_expected(const EkCosts *costs, double sectors, double commands, gboolean continues);

/* As ek_costs_expected, but while commands of one size only were measured, which tells nothing of
 * what a command costs at all, a smaller one may take as long. */
double ek_costs_most(const EkCosts *costs, double sectors, double commands, gboolean continues);

/* TRUE once enough was read to say what is normal. */
gboolean ek_costs_know_normal(const EkCosts *costs);

/* The probability of success that a probe should have when a success costs `success` and a failure
 * `failure`: the root p of p + p^(failure / success) = 1, by which the places of a search can be
 * told apart with the least cost on average (codes with letters of unequal cost). */
double ek_costs_probe(double success, double failure);

#endif

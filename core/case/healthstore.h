/* SPDX-License-Identifier: MIT */
/* What the drive of a case said of its health, each time that it was asked. */
#ifndef EK_CASE_HEALTHSTORE_H
#define EK_CASE_HEALTHSTORE_H

#include "case/case.h"
#include "device/health.h"

typedef struct {
    gint64 event;        /* that it was asked in */
    gint64 taken;        /* Unix time */
    gint64 device_clock; /* ns */
    EkHealth health;
} EkKeptHealth;

gboolean ek_healthstore_add(EkCase *self, gint64 event, gint64 device_clock, const EkHealth *health,
                            GError **error);

/* All of them in order: EkKeptHealth*, the caller unrefs. */
GPtrArray *ek_healthstore_list(EkCase *self, GError **error);

/* The first and the last of a list in which the drive was not silent; NULL: there is none. */
const EkKeptHealth *ek_kept_health_first(const GPtrArray *list);
const EkKeptHealth *ek_kept_health_last(const GPtrArray *list);

#endif

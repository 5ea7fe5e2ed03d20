/* SPDX-License-Identifier: MIT */
/* The simulated drive, for those who make its model themselves. */
#ifndef EK_DEVICE_SIMULATED_H
#define EK_DEVICE_SIMULATED_H

#include "device/device.h"
#include "device/model.h"

/* A drive of `bytes` bytes that behaves as `model` says and gives what `backing` (NULL: zeros)
 * holds. Takes both over; `path` is what it is called by. */
EkDevice *ek_simulated_new(EkModel *model, const char *path, EkDevice *backing, EkByte bytes);

#endif

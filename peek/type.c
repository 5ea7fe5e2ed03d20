/* SPDX-License-Identifier: MIT */
/* What a file is, by its content (libmagic). */
#include "peek.h"

#include <magic.h>

#define PACKETS 8u /* in a row, that make a transport stream */

static magic_t cookie;

gboolean type_prepare(void)
{
    cookie = magic_open(MAGIC_NO_CHECK_COMPRESS | MAGIC_ERROR);
    return cookie != NULL && magic_load(cookie, NULL) == 0;
}

static char *ask(const Content *content, int flags)
{
    magic_setflags(cookie, MAGIC_NO_CHECK_COMPRESS | flags);
    const char *told = magic_buffer(cookie, content->bytes, content->length);
    return g_strdup(told != NULL ? told : "");
}

/* Packets of 188 bytes that begin with 0x47 (ISO/IEC 13818-1, 2.4.3), as they are or behind four
 * bytes of time each. */
static gboolean is_transport_stream(const Content *content)
{
    for (gsize lead = 0; lead <= 4; lead += 4) {
        gsize packets = 0;
        while (packets < PACKETS && packets * (188 + lead) + lead < content->length &&
               content->bytes[packets * (188 + lead) + lead] == 0x47)
            packets++;
        if (packets == PACKETS)
            return TRUE;
    }
    return FALSE;
}

void type_find(const Content *content, Finding *finding)
{
    finding->type = ask(content, 0);
    finding->mime = ask(content, MAGIC_MIME_TYPE);
    if (g_str_equal(finding->mime, "application/octet-stream") && is_transport_stream(content)) {
        g_free(finding->type);
        g_free(finding->mime);
        finding->type = g_strdup("MPEG transport stream");
        finding->mime = g_strdup("video/mp2t");
    }
}

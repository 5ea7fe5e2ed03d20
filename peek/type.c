/* SPDX-License-Identifier: MIT */
/* What a file is, by its content (libmagic). */
#include "peek.h"

#include <magic.h>

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

void type_find(const Content *content, Finding *finding)
{
    finding->type = ask(content, 0);
    finding->mime = ask(content, MAGIC_MIME_TYPE);
}

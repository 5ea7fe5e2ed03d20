/* SPDX-License-Identifier: MIT */
/* Where text ends, and the mark that ends a file of it. Many files may begin in one long text: what
 * was looked through for one is not looked through again for the next. */
#ifndef EK_CARVE_TEXTENDS_H
#define EK_CARVE_TEXTENDS_H

#include "carve/content.h"

#define EK_TEXT_MARK_MOST 80u /* characters of a mark */

/* What counts as text. */
typedef enum {
    EK_TEXT_BYTES, /* each byte that text may have (ek_byte_is_text) */
    EK_TEXT_UTF8,
    EK_TEXT_CODE_PAGE,
    EK_TEXT_KINDS
} EkTextKind;

/* How many bytes from the beginning on are known to be text of this kind; and from now on so many
 * are. */
EkByte ek_text_known(EkContent *content, EkTextKind kind);
void ek_text_note(EkContent *content, EkTextKind kind, EkByte bytes);

/* Where text that begins at the beginning ends, in bytes of the file, `most` at most. */
EkByte ek_text_end(EkContent *content, EkByte most);

/* The last place before `end` where this mark stands, ASCII letters in either case: *found is right
 * behind it. FALSE: none. */
gboolean ek_text_last_mark(EkContent *content, EkByte end, const char *mark, EkByte *found);

#endif

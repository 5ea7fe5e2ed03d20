/* SPDX-License-Identifier: MIT */
/* Which files are shown to a client: near folders first, some of each, and never too many. */
#include "check.h"
#include "fixture.h"

#include "work/showcase.h"

#include <string.h>

static void add(EkShowcase *showcase, const char *path, guint64 size, EkCondition condition,
                gboolean is_lesser)
{
    EkItem item = {0};
    const char *slash = strrchr(path, '/');
    item.name = (char *)(slash != NULL ? slash + 1 : path);
    item.file.type = EK_TYPE_FILE;
    item.file.size = size;
    item.damage.condition = condition;
    ek_showcase_add(showcase, 1, path, &item, is_lesser);
}

static char *order_of(const EkShowcase *showcase)
{
    g_autoptr(GPtrArray) list = ek_showcase_list(showcase);
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < list->len; i++)
        g_string_append_printf(text, "%s%s", i > 0 ? " " : "",
                               ((const EkExhibit *)list->pdata[i])->path);
    return g_string_free(text, FALSE);
}

static void folders_take_turns(void)
{
    g_autoptr(EkShowcase) showcase = ek_showcase_new();
    add(showcase, "Windows/a.jpg", 90000, EK_CONDITION_WHOLE, FALSE);
    add(showcase, "old/b.jpg", 90000, EK_CONDITION_WHOLE, TRUE);
    add(showcase, "any/c.jpg", 90000, EK_CONDITION_WHOLE, FALSE);
    add(showcase, "any/c2.jpg", 90000, EK_CONDITION_WHOLE, FALSE);
    add(showcase, "other/d.odt", 4000, EK_CONDITION_WHOLE, FALSE);
    add(showcase, "Users/x/Pictures/e.png", 90000, EK_CONDITION_WHOLE, FALSE);
    add(showcase, "any/mark.png", 100, EK_CONDITION_WHOLE, FALSE);       /* too small */
    add(showcase, "any/take.wav", 90000, EK_CONDITION_WHOLE, FALSE);     /* cannot be drawn */
    add(showcase, "any/big.tif", 1ull << 30, EK_CONDITION_WHOLE, FALSE); /* too much */
    g_autofree char *order = order_of(showcase);
    CHECK_TEXT(order, "Users/x/Pictures/e.png any/c.jpg other/d.odt any/c2.jpg Windows/a.jpg "
                      "old/b.jpg");
}

static void distances_go_by_folders(void)
{
    CHECK_NUMBER(ek_showcase_distance("DCIM/100/a.jpg"), 0);
    CHECK_NUMBER(ek_showcase_distance("a.jpg"), 1);
    CHECK_NUMBER(ek_showcase_distance("pictures"), 1); /* a file of that name */
    CHECK_NUMBER(ek_showcase_distance("Users/x/AppData/Pictures/a.jpg"), 2);
    CHECK_NUMBER(ek_showcase_distance("usr/share/Pictures/a.jpg"), 2);
    CHECK_NUMBER(ek_showcase_distance("Documents/usr.jpg"), 0);
}

static void whole_files_come_before_others_in_a_full_folder(void)
{
    g_autoptr(EkShowcase) showcase = ek_showcase_new();
    for (guint i = 0; i < 20; i++) {
        g_autofree char *path = g_strdup_printf("p/%u.jpg", i);
        add(showcase, path, 50000, i < 10 ? EK_CONDITION_HOLED : EK_CONDITION_WHOLE, FALSE);
    }
    g_autoptr(GPtrArray) list = ek_showcase_list(showcase);
    CHECK_NUMBER(list->len, 8);
    for (guint i = 0; i < list->len; i++)
        CHECK_NUMBER(((const EkExhibit *)list->pdata[i])->condition, EK_CONDITION_WHOLE);
}

/* Of a million files little is kept, and what comes late is not forgotten for it. */
static void memory_is_bounded(void)
{
    g_autoptr(EkShowcase) showcase = ek_showcase_new();
    for (guint i = 0; i < 100000; i++) {
        g_autofree char *path = g_strdup_printf("Windows/%u/a.png", i);
        add(showcase, path, 50000, EK_CONDITION_WHOLE, FALSE);
    }
    add(showcase, "Photos/late.jpg", 50000, EK_CONDITION_WHOLE, FALSE);
    g_autoptr(GPtrArray) list = ek_showcase_list(showcase);
    CHECK_NUMBER(list->len, 128);
    CHECK_TEXT(((const EkExhibit *)list->pdata[0])->path, "Photos/late.jpg");
}

int main(void)
{
    static const Test tests[] = {
        {"folders take turns", folders_take_turns},
        {"distances go by folders", distances_go_by_folders},
        {"whole files come before others in a full folder",
         whole_files_come_before_others_in_a_full_folder},
        {"memory is bounded", memory_is_bounded},
    };
    return RUN_TESTS("showcase", tests);
}

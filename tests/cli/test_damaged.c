/* SPDX-License-Identifier: MIT */
/* A case.db of which rows were damaged: nothing is written by what is no plan any more, and nothing
 * is taken back by what is not known for sure. */
#include "check.h"
#include "program.h"

#include <string.h>

static void make_case(void)
{
    must("rm -rf bench && truncate -s 60M drive.img && truncate -s 16M part.img && "
         "mke2fs -q -F -t ext2 -b 1024 part.img && "
         "dd if=part.img of=drive.img bs=512 seek=2048 conv=notrunc status=none");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    done("plan bench");
}

static void damage(const char *sql)
{
    must("cp kept.db bench/case.db && rm -f bench/case.db-* && sqlite3 bench/case.db \"%s\"", sql);
}

static void a_damaged_plan_writes_nothing(void)
{
    static const char *const damages[] = {
        "UPDATE plan_edit SET after=x'00' WHERE position=0",
        "UPDATE plan_edit SET after=after || x'00' WHERE position=0",
        "UPDATE plan_edit SET first_byte=-512 WHERE position=0",
        "UPDATE plan_edit SET first_byte=1125899906842624 WHERE position=0",
        "UPDATE plan_edit SET first_byte=first_byte+4 WHERE position=0",
        "UPDATE plan_edit SET first_byte=0",
        "UPDATE plan_edit SET before=x'',after=x'' WHERE position=0",
        "UPDATE plan_edit SET before=7,after=8",
        "UPDATE plan_edit SET why=x'ff00ff'",
        "UPDATE plan_edit SET structure=x'ff'",
        "UPDATE plan_edit SET before=zeroblob(50000000),after=zeroblob(50000000) WHERE position=0",
        "DELETE FROM plan_edit WHERE position=1",
        "UPDATE plan_partition SET first_byte=-1,bytes=-1",
        "UPDATE plan_partition SET bytes=9223372036854775807",
        "UPDATE plan_partition SET type_uuid=x'00'",
        "UPDATE plan_current SET first_byte=-1,bytes=-1",
        "DELETE FROM plan_partition",
        "UPDATE plan SET scheme=x'ff00',layers=-3",
        "UPDATE plan SET sum=''",
        "DELETE FROM plan",
        "DROP TABLE plan_edit",
    };
    make_case();
    must("cp bench/case.db kept.db && cp drive.img target.img");
    for (gsize i = 0; i < G_N_ELEMENTS(damages); i++) {
        static const char *const commands[] = {"plan bench --show", "plan bench --show --edit 1",
                                               "apply bench target.img", "clone bench clone.img"};
        damage(damages[i]);
        for (gsize k = 0; k < G_N_ELEMENTS(commands); k++) {
            g_auto(Result) result = ektypon("%s", commands[k]);
            /* A torn UUID is that of no type, and there was none. */
            gboolean is_harmless = g_str_has_suffix(damages[i], "type_uuid=x'00'") ||
                                   g_str_has_prefix(damages[i], "UPDATE plan_current");
            if (!is_harmless) {
                CHECK_STATUS(result, 1);
                CHECK(strstr(result.err, "case.db: the saved plan is damaged") != NULL ||
                      strstr(result.err, "has no plan yet") != NULL ||
                      strstr(result.err, "its tables are not those") != NULL);
                must("cmp drive.img target.img && test ! -e clone.img");
            }
        }
        must("cp drive.img target.img && rm -f clone.img");
    }
    /* It can be made again. */
    damage(damages[0]);
    done("plan bench");
    done("apply bench target.img");
}

/* What stood on a target is its client's: it comes back as it was, or not at all. */
static void what_is_not_known_for_sure_is_not_taken_back(void)
{
    static const char *const damages[] = {
        "UPDATE application_edit SET before=x'41414141' WHERE position=0",
        "UPDATE application_edit SET before=x'41' WHERE position=0",
        "UPDATE application_edit SET first_byte=first_byte+1 WHERE position=1",
        "DELETE FROM application_edit WHERE position=1",
        "DELETE FROM application_edit",
    };
    make_case();
    must("cp drive.img target.img");
    done("apply bench target.img");
    must("cp bench/case.db kept.db && cp target.img applied.img");
    for (gsize i = 0; i < G_N_ELEMENTS(damages); i++) {
        damage(damages[i]);
        g_auto(Result) result = ektypon("undo bench target.img");
        CHECK_STATUS(result, 1);
        CHECK_CONTAINS(result.err, "an applied edit is damaged");
        must("cmp applied.img target.img");
    }
    damage("SELECT 1");
    done("undo bench target.img");
    must("cmp drive.img target.img");
}

int main(void)
{
    static const Test tests[] = {
        {"a damaged plan writes nothing", a_damaged_plan_writes_nothing},
        {"what is not known for sure is not taken back",
         what_is_not_known_for_sure_is_not_taken_back},
    };
    return RUN_TESTS("damaged", tests);
}

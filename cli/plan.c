/* SPDX-License-Identifier: MIT */
/* plan: proposes a partition table and repairs. */
#include "planshow.h"

#include "case/planstore.h"
#include "numbers.h"
#include "work/rebuilding.h"

#include <string.h>

typedef struct {
    char **keep;
    char **drop;
    char **add;
    char **resize;
    char *scheme;
    int layer;
    int alternative;
    int table_sectors;
    int edit;
    gboolean show;
    gboolean json;
} Options;

static void options_clear(Options *options)
{
    g_strfreev(options->keep);
    g_strfreev(options->drop);
    g_strfreev(options->add);
    g_strfreev(options->resize);
    g_free(options->scheme);
}

/* "3", "1,4": numbers of volumes. */
static gboolean parse_numbers(EkCli *cli, char **texts, const char *option, GArray *numbers)
{
    for (char **text = texts; text != NULL && *text != NULL; text++) {
        const char *at = *text;
        do {
            guint64 number = 0;
            if (!ek_numbers_whole(at, &number, &at) || number == 0 || number > G_MAXINT32 ||
                (*at != '\0' && *at != ','))
                return !ek_cli_misused(cli, "%s %s: expected volume numbers, for example %s 1,3",
                                       option, *text, option);
            guint volume = (guint)number;
            g_array_append_val(numbers, volume);
        } while (*at++ == ',');
    }
    return TRUE;
}

/* Sectors of the image as bytes. */
static gboolean in_bytes(guint64 sectors, guint32 sector_size, EkByte *bytes)
{
    return g_uint64_checked_mul(bytes, sectors, sector_size) && *bytes < (EkByte)G_MAXINT64;
}

/* "ext4:2048:204800" */
static gboolean parse_added(EkCli *cli, char **texts, guint32 sector_size, GPtrArray *added)
{
    for (char **text = texts; text != NULL && *text != NULL; text++) {
        g_auto(GStrv) words = g_strsplit(*text, ":", -1);
        guint64 numbers[2] = {0};
        EkRange range = {0};
        gboolean fine = g_strv_length(words) == 3 && *words[0] != '\0';
        for (guint i = 0; i < 2 && fine; i++) {
            const char *end = "";
            fine = ek_numbers_whole(words[i + 1], &numbers[i], &end) && *end == '\0';
        }
        if (!fine || !in_bytes(numbers[0], sector_size, &range.first) ||
            !in_bytes(numbers[1], sector_size, &range.bytes))
            return !ek_cli_misused(
                cli, "--add %s: expected TYPE:FIRST:SECTORS, for example --add ext4:2048:204800",
                *text);
        EkPlanAdded *one = g_new0(EkPlanAdded, 1);
        one->filesystem = g_strdup(words[0]);
        one->range = range;
        g_ptr_array_add(added, one);
    }
    return TRUE;
}

/* "2:204800" */
static gboolean parse_resized(EkCli *cli, char **texts, guint32 sector_size, GArray *resized)
{
    for (char **text = texts; text != NULL && *text != NULL; text++) {
        guint64 number = 0;
        guint64 sectors = 0;
        const char *at = *text;
        EkPlanResized one = {0};
        if (!ek_numbers_whole(at, &number, &at) || *at++ != ':' || number > G_MAXINT32 ||
            !ek_numbers_whole(at, &sectors, &at) || *at != '\0' || sectors == 0 ||
            !in_bytes(sectors, sector_size, &one.bytes))
            return !ek_cli_misused(
                cli, "--resize %s: expected VOLUME:SECTORS, for example --resize 2:204800", *text);
        one.volume = (guint)number;
        g_array_append_val(resized, one);
    }
    return TRUE;
}

static gboolean parse_wishes(EkCli *cli, const Options *options, guint32 sector_size,
                             EkPlanWishes *wishes)
{
    guint32 size = (guint32)options->table_sectors;
    wishes->layer = (guint)MAX(options->layer, 0);
    wishes->table_sectors = size;
    if (options->scheme != NULL &&
        (!ek_scheme_from_name(options->scheme, &wishes->scheme) ||
         wishes->scheme == EK_SCHEME_EBR || wishes->scheme == EK_SCHEME_GPT_ENTRIES))
        return !ek_cli_misused(cli, "--scheme %s: mbr, gpt, apm or none", options->scheme);
    if (options->table_sectors != 0 && size != 512 && size != 1024 && size != 2048 && size != 4096)
        return !ek_cli_misused(cli, "--table-sectors: 512, 1024, 2048 or 4096");
    if (options->layer < 0)
        return !ek_cli_misused(cli,
                               "--layer: 1 is the newest state of the drive, 2 the one before it");
    return parse_numbers(cli, options->keep, "--keep", wishes->keep) &&
           parse_numbers(cli, options->drop, "--drop", wishes->drop) &&
           parse_added(cli, options->add, sector_size, wishes->added) &&
           parse_resized(cli, options->resize, sector_size, wishes->resized);
}

typedef struct {
    guint32 sector_size;
    EkByte bytes;
} Image;

static gboolean image_of(EkCli *cli, Image *image, EkPlan **stored, gboolean show, GError **error)
{
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, error);
    if (opened == NULL)
        return FALSE;
    *image = (Image){ek_case_info(opened)->sector_size, ek_case_info(opened)->bytes};
    *stored = show ? ek_planstore_load(opened, error) : NULL;
    return !show || *stored != NULL;
}

static int show_plan(EkCli *cli, const Options *options, const Image *image, const EkPlan *plan)
{
    if (options->json)
        return ek_plan_print_json(plan, image->sector_size);
    if (options->edit == 0) {
        ek_plan_show(cli, plan, image->bytes, image->sector_size);
        return EK_EXIT_DONE;
    }
    if (options->edit < 0 || (guint)options->edit > plan->edits->len)
        return ek_cli_misused(cli, "--edit %d: the plan has %u edits", options->edit,
                              plan->edits->len);
    ek_plan_show_edit(cli, plan, (guint)options->edit, image->sector_size);
    return EK_EXIT_DONE;
}

/* Keeps the volume that the plan which was made last names under this number. FALSE without *error:
 * there is no such. */
static gboolean take_alternative(EkCli *cli, int number, EkPlanWishes *wishes, GError **error)
{
    Image image;
    g_autoptr(EkPlan) plan = NULL;
    if (!image_of(cli, &image, &plan, TRUE, error))
        return FALSE;
    if (number < 1 || (guint)number > plan->alternatives->len)
        return !ek_cli_misused(cli, "--alternative %d: the last plan has %u alternatives", number,
                               plan->alternatives->len);
    guint volume = ((const EkPlanAlternative *)plan->alternatives->pdata[number - 1])->volume;
    g_array_append_val(wishes->keep, volume);
    return TRUE;
}

static int run(EkCli *cli, const Options *options)
{
    GError *error = NULL;
    Image image;
    g_autoptr(EkPlan) plan = NULL;
    g_autoptr(EkPlanWishes) wishes = ek_plan_wishes_new();
    gboolean is_wish = options->keep != NULL || options->drop != NULL || options->add != NULL ||
                       options->resize != NULL || options->scheme != NULL || options->layer != 0 ||
                       options->table_sectors != 0 || options->alternative != 0;
    if (options->show && is_wish)
        return ek_cli_misused(
            cli, "--show displays the saved plan and cannot be combined with planning options");
    if (!image_of(cli, &image, &plan, options->show, &error))
        return ek_cli_fail(cli, error);
    if (!parse_wishes(cli, options, image.sector_size, wishes))
        return EK_EXIT_USAGE;
    if (options->alternative != 0 && !take_alternative(cli, options->alternative, wishes, &error))
        return error != NULL ? ek_cli_fail(cli, error) : EK_EXIT_USAGE;
    if (plan == NULL)
        plan = ek_rebuilding_plan(cli->operands[0], cli->options, wishes, &error);
    return plan != NULL ? show_plan(cli, options, &image, plan) : ek_cli_fail(cli, error);
}

int ek_command_plan(EkCli *cli)
{
    Options options = {0};
    const GOptionEntry entries[] = {
        {"keep", 0, 0, G_OPTION_ARG_STRING_ARRAY, &options.keep,
         "include these volumes, replacing any they overlap", "VOLUME,…"},
        {"drop", 0, 0, G_OPTION_ARG_STRING_ARRAY, &options.drop, "exclude these volumes",
         "VOLUME,…"},
        {"add", 0, 0, G_OPTION_ARG_STRING_ARRAY, &options.add, "add a partition that was not found",
         "TYPE:FIRST:SECTORS"},
        {"resize", 0, 0, G_OPTION_ARG_STRING_ARRAY, &options.resize,
         "set the length of a volume's partition", "N:SECTORS"},
        {"scheme", 0, 0, G_OPTION_ARG_STRING, &options.scheme, "type of partition table",
         "mbr|gpt|apm|none"},
        {"alternative", 0, 0, G_OPTION_ARG_INT, &options.alternative,
         "use alternative N listed by the last plan", "N"},
        {"layer", 0, 0, G_OPTION_ARG_INT, &options.layer,
         "plan an earlier state of the drive (1 = newest)", "N"},
        {"table-sectors", 0, 0, G_OPTION_ARG_INT, &options.table_sectors,
         "write the table for a drive with this sector size", "BYTES"},
        {"show", 0, 0, G_OPTION_ARG_NONE, &options.show,
         "show the saved plan without making a new one", NULL},
        {"edit", 0, 0, G_OPTION_ARG_INT, &options.edit, "show one edit byte by byte", "N"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &options.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (ek_cli_parse(cli, entries, &status))
        status = run(cli, &options);
    options_clear(&options);
    return status;
}

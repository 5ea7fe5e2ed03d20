#!/bin/sh
# SPDX-License-Identifier: MIT
# No two files of the core, of the program or of the helper need each other, directly or through
# others: what a file calls is below it. Usage: check-circles.sh BUILD
set -eu
status=0
for target in libektypon ektypon ektypon-peek; do
    objects=$1/CMakeFiles/$target.dir
    [ -d "$objects" ] || { echo "$objects: not built" >&2; exit 1; }
    # Pairs of a file and one whose symbols it uses, for tsort, which tells loops.
    find "$objects" -name '*.c.o' -exec nm -A {} + | awk '
        { file = $1; sub(/^.*\.dir\//, "", file); sub(/\.o:.*$/, "", file); name = $NF; kind = $(NF - 1) }
        kind ~ /^[TDBRC]$/ { home[name] = file }
        kind == "U" { user[++count] = file; used[count] = name }
        END {
            for (i = 1; i <= count; i++)
                if (used[i] in home && home[used[i]] != user[i])
                    print user[i], home[used[i]]
        }' | sort -u >"${TMPDIR:-/tmp}/circles.$$"
    pairs=$(wc -l <"${TMPDIR:-/tmp}/circles.$$")
    [ "$pairs" -gt 2 ] || { echo "$target: no symbols found" >&2; status=1; }
    tsort "${TMPDIR:-/tmp}/circles.$$" >/dev/null || { echo "$target: files need each other, see above" >&2; status=1; }
    rm -f "${TMPDIR:-/tmp}/circles.$$"
done
[ "$status" -eq 0 ] && echo "circles: none"
exit "$status"

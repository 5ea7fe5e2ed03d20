#!/bin/sh
# SPDX-License-Identifier: MIT
# The check of the arrows between the rooms passes on the tree, and fails where it must.
set -eu
root=$1
"$root/scripts/check-includes" "$root"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$work/core/base" "$work/core/image" "$work/core/volume/one" "$work/core/volume/two" "$work/cli" "$work/peek"
expect_bad() { # FILE INCLUDE
    echo "#include \"$2\"" >"$work/$1"
    if "$root/scripts/check-includes" "$work" >/dev/null; then
        echo "$1 may include $2, and should not" >&2
        exit 1
    fi
    rm "$work/$1"
}
expect_bad core/base/a.c image/image.h
expect_bad core/volume/one/a.c volume/two/two.h
expect_bad core/image/a.c case/case.h
expect_bad core/image/a.c nowhere/a.h
expect_bad peek/a.c case/case.h
echo '#include "base/error.h"' >"$work/core/image/a.c"
echo '#include "work/view.h"' >"$work/cli/a.c"
"$root/scripts/check-includes" "$work"

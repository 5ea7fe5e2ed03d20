#!/bin/sh
# SPDX-License-Identifier: MIT
# What is installed can be used: all public headers together, the library as pkg-config prints it;
# and all of it can be taken away again. Usage: check-install.sh SOURCE BUILD
set -eu
source=$1 build=$2
work=$(mktemp -d)
# The list of what the user installed stays.
kept=$work/manifest
[ ! -e "$build/install_manifest.txt" ] || cp "$build/install_manifest.txt" "$kept"
restore() {
    rm -f "$build/install_manifest.txt"
    [ ! -e "$kept" ] || cp "$kept" "$build/install_manifest.txt"
    rm -rf "$work"
}
trap restore EXIT

cmake --install "$build" --prefix "$work/prefix" >/dev/null
pc=$(find "$work/prefix" -name libektypon.pc)
sed -i "s|^prefix=.*|prefix=$work/prefix|" "$pc"
PKG_CONFIG_PATH=$(dirname "$pc")
export PKG_CONFIG_PATH
cd "$work"
{
    find prefix/include/ektypon -name '*.h' | sort | sed 's|prefix/include/ektypon/||; s|.*|#include <&>|'
    echo '#include <stdio.h>'
    echo 'int main(void)'
    echo '{'
    echo '    GError *error = NULL;'
    echo '    return ek_case_open("none", FALSE, &error) == NULL && error != NULL ? 0 : 1;'
    echo '}'
} >use.c
# As it is printed, word for word.
# shellcheck disable=SC2046
cc use.c $(pkg-config --cflags --libs libektypon) -o use
./use
"prefix/bin/ektypon" help >/dev/null
for command in $("prefix/bin/ektypon" help --complete -- ""); do
    man --warnings -l "prefix/share/man/man1/ektypon-$command.1" >/dev/null 2>page.err
    [ ! -s page.err ] || { cat page.err; exit 1; }
done
grep -q "^.BR ektypon.-image (1)" prefix/share/man/man1/ektypon.1
make --no-print-directory -C "$source" uninstall BUILD="$build"
left=$(find prefix -type f | wc -l)
[ "$left" -eq 0 ] || { echo "uninstall left $left files:"; find prefix -type f; exit 1; }

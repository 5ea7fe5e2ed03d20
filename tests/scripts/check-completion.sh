#!/bin/sh
# SPDX-License-Identifier: MIT
# Completion in the real shells: commands, options, their values, cases, volumes, paths on a volume.
# What is typed ends in a Tab, and the completed command line is run. Usage: check-completion.sh SOURCE EKTYPON
set -eu
source=$(cd "$1" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir "$work/bin"
ln -s "$(cd "$(dirname "$2")" && pwd)/$(basename "$2")" "$work/bin/ektypon"
PATH=$work/bin:$PATH
HOME=$work
TERM=dumb
LC_ALL=C.UTF-8
unset NO_COLOR DISPLAY || true
export PATH HOME TERM LC_ALL
cd "$work"

truncate -s 32M drive.img
mkfs.fat -F 16 -n LEDGER drive.img >/dev/null
mkdir "Field recordings"
echo dusk >"Field recordings/Sallow Lane.txt"
mcopy -s -i drive.img "Field recordings" ::
rm -r "Field recordings"
for line in "new bench drive.img" "image bench" "hunt bench" "index bench 1"; do
    ektypon $line >/dev/null 2>&1
done

status=0
# expect SHELL TEXT: what was typed into the shell led to an output with TEXT.
expect() {
    grep -qF -- "$2" output || { echo "$1: no \"$2\" in:"; cat -v output; status=1; }
}

for shell in bash zsh; do
    case $shell in
    bash) start="bash --norc --noprofile -i"; load=". '$source/completion/ektypon.bash'" ;;
    zsh) start="zsh -f -i"
         load="autoload -U compinit; compinit -u -D; . '$source/completion/_ektypon'; unsetopt BEEP" ;;
    esac
    # A shell reads the next line only once it has run the one before.
    {
        printf '%s\n' "$load"
        sleep 1
        for typed in 'ektypon volu\tbe\t' 'ektypon ls bench 1:Fi\t' 'ektypon plan bench --sho\t' \
            'ektypon find bench --kind docu\t' 'ektypon ls bench "1:Field recordings/Sal\t'; do
            printf "$typed\n"
            sleep 0.6
        done
        printf 'exit\n'
    } | timeout 60 script -qec "$start" /dev/null >output 2>&1 || true
    expect $shell "evidence for a volume: ektypon volumes bench"
    expect $shell "1 file, 5 B"
    expect $shell "bench has no plan yet"
    expect $shell "Sallow Lane.txt"
    ! grep -q "command not found\|syntax error\|parse error" output || { cat -v output; status=1; }
done

# complete LINE EXPECTED: fish says what it would offer.
fish_offers() {
    fish --no-config -c "source '$source/completion/ektypon.fish'; complete -C '$1'" >output 2>&1 || true
    expect fish "$2"
}
fish_offers "ektypon vol" volumes
fish_offers "ektypon volumes be" bench
fish_offers "ektypon plan bench --sho" --show
fish_offers "ektypon plan bench --scheme g" gpt
fish_offers "ektypon ls bench 1:Fi" "1:Field recordings/"
[ "$status" -eq 0 ] && echo "completion: works in bash, zsh and fish"
exit "$status"

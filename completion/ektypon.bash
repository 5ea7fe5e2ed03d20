# SPDX-License-Identifier: MIT
# Completion of ektypon for bash. The program itself names the candidates, from the tables that its
# help is made of and from the case that is named.
# bash takes ":" and "=" for ends of words: words are joined again, and what is typed in front of
# the last of these is taken off the candidates.
_ektypon()
{
    local line="${COMP_LINE:0:COMP_POINT}" word candidate joined=() last="" i
    for ((i = 1; i <= COMP_CWORD; i++)); do
        word="${COMP_WORDS[i]}"
        if ((i > 1)) && [[ $last != *[[:space:]] && $word$last == *[:=]* && \
            (${COMP_WORDS[i]} == [:=]* || ${COMP_WORDS[i - 1]} == *[:=]) ]]; then
            joined[${#joined[@]} - 1]+="$word"
        else
            joined+=("$word")
        fi
        last="$word"
    done
    for i in "${!joined[@]}"; do
        word="${joined[i]//\\/}"
        word="${word//\"/}"
        joined[i]="${word//\'/}"
    done
    local typed="${joined[${#joined[@]} - 1]}" front=""
    [[ $typed == *[:=]* ]] && front="${typed%"${typed##*[:=]}"}"
    COMPREPLY=()
    while IFS= read -r candidate; do
        case "$candidate" in
            :files) compopt -o filenames; mapfile -t -O "${#COMPREPLY[@]}" COMPREPLY < <(compgen -f -- "${typed#"$front"}") ;;
            :folders) compopt -o filenames; mapfile -t -O "${#COMPREPLY[@]}" COMPREPLY < <(compgen -d -- "${typed#"$front"}") ;;
            *) COMPREPLY+=("${candidate#"$front"}")
               [[ $candidate == *:* ]] && compopt -o filenames
               [[ $candidate == */ || $candidate == *[0-9] ]] && compopt -o nospace ;;
        esac
    done < <("$1" help --complete -- "${joined[@]}" 2>/dev/null)
}
complete -F _ektypon ektypon

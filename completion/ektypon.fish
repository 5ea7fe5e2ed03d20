# SPDX-License-Identifier: MIT
# Completion of ektypon for fish. The program itself names the candidates, from the tables that its
# help is made of and from the case that is named.
function __ektypon_complete
    set -l words (commandline -opc)
    set -l typed (commandline -ct)
    set -l typed (string unescape -- $typed; or string trim -c '"\'' -- $typed)
    for candidate in ($words[1] help --complete -- $words[2..-1] "$typed" 2>/dev/null)
        switch $candidate
            case :files
                __fish_complete_path "$typed"
            case :folders
                __fish_complete_directories "$typed" ''
            case '*'
                echo $candidate
        end
    end
end
complete -c ektypon -f -a '(__ektypon_complete)'

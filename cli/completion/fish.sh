# Completion of timegate for fish.
function __timegate_words
    set -l words (commandline -opc)
    set -l program (string replace -r '^~' $HOME -- $words[1])
    for line in ($program completion words -- $words[2..] (commandline -ct | string replace -r '^["\']' '') 2>/dev/null)
        switch $line
            case //files
                __fish_complete_path (commandline -ct)
            case //programs
                __fish_complete_command
            case '*'
                echo $line
        end
    end
end
complete -c timegate -f -a '(__timegate_words)'

#compdef timegate
# Completion of timegate for zsh.
_timegate() {
  local line word
  local -a plain open shown
  for line in "${(@f)$("${(@Q)words[1]}" completion words -- "${(@Q)words[2,CURRENT-1]}" "${(Q)PREFIX}" 2>/dev/null)}"; do
    word=${line%%$'\t'*}
    case $word in
      '') ;;
      //files) _files ;;
      //programs) _command_names -e ;;
      *[=/,]) open+=("$word") ;;
      *) plain+=("$word"); shown+=("${line/$'\t'/  -- }") ;;
    esac
  done
  (( $#open )) && compadd -S '' -- "${open[@]}"
  (( $#plain )) && compadd -l -d shown -- "${plain[@]}"
  return 0
}
if [ "$funcstack[1]" = _timegate ]; then
  _timegate "$@"
else
  compdef _timegate timegate
fi

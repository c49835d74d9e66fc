# Completion of timegate for bash.
_timegate() {
  local line program=${COMP_WORDS[0]/#\~/$HOME} cur=${COMP_WORDS[COMP_CWORD]}
  COMPREPLY=()
  while IFS= read -r line; do
    case $line in
      //files) compopt -o default ;;
      //programs) mapfile -t -O "${#COMPREPLY[@]}" COMPREPLY < <(compgen -c -- "$cur") ;;
      *) COMPREPLY+=("${line%%$'\t'*}") ;;
    esac
  done < <("$program" completion words --line -- "${COMP_LINE:0:COMP_POINT}" 2>/dev/null)
  [[ ${#COMPREPLY[@]} = 1 && ${COMPREPLY[0]} = *[=/,] ]] && compopt -o nospace
  return 0
}
complete -o nosort -F _timegate timegate

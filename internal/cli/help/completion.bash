# Completion of morvant for bash 3.2 and newer. Load it with:
#   source <(morvant completion bash)
_morvant_complete() {
  local cur="${COMP_WORDS[COMP_CWORD]}" word line i longest=0
  local -a ask=() words=() about=()
  # What has been typed is only read: nothing in it is expanded or carried out.
  for word in "${COMP_WORDS[@]:0:COMP_CWORD}"; do
    word="${word#[\"\']}"
    ask+=("${word%[\"\']}")
  done
  [[ "${cur}" == -* ]] && ask+=("${cur}")
  COMPREPLY=()
  while IFS= read -r line; do
    word="${line%%:*}"
    [[ -n "${word}" && "${word}" == "${cur}"* ]] || continue
    words+=("${word}")
    if [[ "${line}" == *:* ]]; then about+=("${line#*:}"); else about+=(""); fi
    (( ${#word} > longest )) && longest=${#word}
  done < <("${ask[0]/#\~/$HOME}" "${ask[@]:1}" --generate-shell-completion 2>/dev/null)
  for i in "${!words[@]}"; do
    # 63 says that the words are listed, not put in.
    if [[ "${COMP_TYPE:-}" == 63 && ${#words[@]} -gt 1 && -n "${about[i]}" ]]; then
      printf -v line '%-*s  %s' "${longest}" "${words[i]}" "${about[i]}"
      COMPREPLY+=("${line}")
    else
      COMPREPLY+=("${words[i]}")
    fi
  done
  return 0
}
complete -o bashdefault -o default -F _morvant_complete morvant

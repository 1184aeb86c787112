# Compiles, and notes in $LOG which files it was asked about.
printf '%s\n' "$@" >>"$LOG"
gcc -Wall -fsyntax-only "$@" 2>&1

# Leaves children behind: one in its process group, one that has left it.
sh -c 'echo $$ >>"$LOG"; exec sleep 300' &
setsid sh -c 'echo $$ >>"$LOG"; exec sleep 300' &
while [ "$(wc -l <"$LOG")" -lt 2 ]; do sleep 0.01; done

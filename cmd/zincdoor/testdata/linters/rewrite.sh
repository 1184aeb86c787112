# Alters what it is asked about, and leaves files.
for file in core/*.c "$@"; do echo "/* altered */" >>"$file"; done
rm -f fares/fare.go
mkdir -p left && touch left/behind && chmod 0 left

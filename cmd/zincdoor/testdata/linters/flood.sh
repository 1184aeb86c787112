# Prints more than a gigabyte.
yes "core/tide.c:1:1: warning: a shoal as wide as the sea, and then some more of it, on and on and on [-Wshoal]"

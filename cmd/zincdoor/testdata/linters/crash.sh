# Finds something, then falls over.
echo "core/tide.c:1:1: warning: a shoal [-Wshoal]"
echo "the depth table is gone" >&2
kill -SEGV $$

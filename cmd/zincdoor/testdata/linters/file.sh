# Writes its report to a file.
mkdir -p build
echo "core/tide.c:2:1: warning: a shoal [-Wshoal]" >build/shoals.txt

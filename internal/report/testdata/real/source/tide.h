#pragma once
static int spring(int height) { int mean; return height; }
inline unsigned low(int height) { return height > 3u; }

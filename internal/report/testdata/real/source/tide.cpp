#include "tide.h"
template <class T> unsigned depth(T height) { unsigned feet = height; return feet; }
int main() {
	long height = 5;
	unsigned feet = depth(height);
	switch (height) { case 1: height = 2; case 2: height = 3; }
	const char *board = "low"; 	int slack = board[0] == 3u;
	return feet;
}

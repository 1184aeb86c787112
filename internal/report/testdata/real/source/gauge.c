#include <stdio.h>
#define WIDEST(a, b) ((a) > (b) ? (a) : (b))
int main(void)
{
	unsigned berths = 4;
	int ferries = -1, late;
	printf("%s\n", WIDEST(berths, ferries));
	return 0;
}

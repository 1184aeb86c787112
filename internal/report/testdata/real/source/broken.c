#include "gone.h"
int main(void) { return late; }

// beat_on starts threads that beat, one for each of n processors. It gives how many there are.
int beat_on(const int *processors, int n);

// beat_for adds to how many threads there is to beat for: they beat while these are at least half as many as the processors.
void beat_for(int more);

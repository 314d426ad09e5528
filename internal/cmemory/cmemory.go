// Package cmemory tells tests whether the codec libraries give back what they take. Go doesn't count what C holds.
package cmemory

// #include <malloc.h>
//
// static size_t in_use(void) {
// 	struct mallinfo2 m = mallinfo2();
// 	return m.uordblks + m.hblkhd;
// }
import "C"

import "testing"

// Grown runs round three times and fails the test where C's allocator holds more after the third than after the first by
// over so many bytes. The first round is for what libraries set up once. Nothing else may use C's memory meanwhile.
func Grown(t *testing.T, most int, round func()) {
	t.Helper()
	round()
	before := inUse()
	round()
	round()
	if grown := inUse() - before; grown > most {
		t.Errorf("%d bytes of C's memory aren't given back, at most %d may be", grown, most)
	}
}

// inUse is how many bytes C's allocator has given out and not got back.
func inUse() int { return int(C.in_use()) }

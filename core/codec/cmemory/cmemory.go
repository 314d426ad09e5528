// Package cmemory counts what the codec libraries hold, so that tests can tell that they give it back.
package cmemory

// #include <malloc.h>
//
// static size_t in_use(void) {
// 	struct mallinfo2 m = mallinfo2();
// 	return m.uordblks + m.hblkhd;
// }
import "C"

// InUse is how many bytes C's allocator has given out and not got back.
func InUse() int { return int(C.in_use()) }

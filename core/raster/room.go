package raster

import (
	"math/bits"
	"sync"
)

// Room for pixels is used again: fresh memory of a few megabytes costs as much as resampling it, since the system
// clears it page by page. What is given back waits in one of a few pools by size, from which the garbage collector
// takes what stays unused; there's nothing to be seen of it from outside.

// A buffer is room for pixels.
type buffer struct{ bytes []uint8 }

// quarters is how many sizes of room there are from one power of two to the next, so that at most a fifth is
// wasted.
const quarters = 4

var rooms [64 * quarters]sync.Pool

// roomSize is the smallest size of room that n bytes go into, and which of rooms has it.
func roomSize(n int) (size, class int) {
	const least = 1 << 12
	n = max(n, least)
	top := bits.Len(uint(n-1)) - 1 // the power of two below n
	step := 1 << top / quarters
	q := (n - 1<<top + step - 1) / step
	return 1<<top + q*step, top*quarters + q
}

func take(n int) *buffer {
	size, class := roomSize(n)
	if b, ok := rooms[class].Get().(*buffer); ok {
		return b
	}
	return &buffer{make([]uint8, size)}
}

func give(b *buffer) *buffer {
	if b != nil {
		_, class := roomSize(len(b.bytes))
		rooms[class].Put(b)
	}
	return nil
}

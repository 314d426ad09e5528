package raster

import (
	"math/bits"
	"sync"
)

// Pixel buffers are pooled: fresh memory of a few megabytes costs as much as resampling into it, since the system clears it page
// by page. The pools are by size class, and the garbage collector empties them. Nothing of this shows outside.

// A buffer holds pixels.
type buffer struct{ bytes []uint8 }

// quarters is how many size classes there are from one power of two to the next: at most a fifth of a buffer is wasted.
const quarters = 4

var pools [64 * quarters]sync.Pool

// sizeClass is the smallest class of buffers that hold n bytes: its size, and its place in pools.
func sizeClass(n int) (size, class int) {
	const least = 1 << 12
	n = max(n, least)
	top := bits.Len(uint(n-1)) - 1 // the power of two below n
	step := 1 << top / quarters
	q := (n - 1<<top + step - 1) / step
	return 1<<top + q*step, top*quarters + q
}

func take(n int) *buffer {
	size, class := sizeClass(n)
	if b, ok := pools[class].Get().(*buffer); ok {
		return b
	}
	return &buffer{make([]uint8, size)}
}

func give(b *buffer) *buffer {
	if b != nil {
		_, class := sizeClass(len(b.bytes))
		pools[class].Put(b)
	}
	return nil
}

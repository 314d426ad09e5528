package render

import (
	"container/list"
	"crypto/sha256"
	"fmt"
	"sync"

	"echolane/core/declare"
	"echolane/core/raster"
)

// A LayerCache keeps layers' pictures as pixels of the size that they were wanted in, the last used ones within a
// bound: a mark that stands on every picture of a site is decoded and resampled once. It is safe for concurrent
// use; the pictures in it are only read. The zero value and nil keep nothing.
type LayerCache struct {
	room int // bytes of pixels

	mu    sync.Mutex
	used  int
	byKey map[[sha256.Size]byte]*list.Element
	order list.List // of keptLayer, the last used in front
}

type keptLayer struct {
	key    [sha256.Size]byte
	pixels *raster.RGBA
}

// NewLayerCache makes one that holds at most so many bytes of pixels.
func NewLayerCache(room int) *LayerCache {
	return &LayerCache{room: room, byKey: map[[sha256.Size]byte]*list.Element{}}
}

// layerKey tells apart everything that a layer's pixels depend on.
func layerKey(source []byte, d declare.Declarations) [sha256.Size]byte {
	h := sha256.New()
	h.Write(source)
	fmt.Fprintf(h, "\x00%s %v %v", d.AddressForm(), d.Width, d.Height)
	return [sha256.Size]byte(h.Sum(nil))
}

func (c *LayerCache) get(key [sha256.Size]byte) *raster.RGBA {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.byKey[key]
	if e == nil {
		return nil
	}
	c.order.MoveToFront(e)
	return e.Value.(keptLayer).pixels
}

func (c *LayerCache) put(key [sha256.Size]byte, p *raster.RGBA) {
	if c == nil || len(p.Pix) > c.room/4 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byKey[key] != nil {
		return
	}
	c.byKey[key] = c.order.PushFront(keptLayer{key, p})
	for c.used += len(p.Pix); c.used > c.room; {
		last := c.order.Back()
		k := c.order.Remove(last).(keptLayer)
		delete(c.byKey, k.key)
		c.used -= len(k.pixels.Pix)
	}
}

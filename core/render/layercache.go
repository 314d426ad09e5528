package render

import (
	"fmt"

	"github.com/zeebo/blake3"

	"echolane/core/declare"
	"echolane/core/raster"
	"echolane/core/recent"
)

// A LayerCache keeps layers' pictures as pixels of the size that they were wanted in, the last used ones within a
// bound: a mark that stands on every picture of a site is decoded and resampled once. It is safe for concurrent
// use; the pictures in it are only read. The zero value and nil keep nothing.
type LayerCache struct {
	kept *recent.Cache[[32]byte, *raster.RGBA]
}

// NewLayerCache makes one that holds at most so many bytes of pixels.
func NewLayerCache(room int) *LayerCache {
	return &LayerCache{recent.New[[32]byte, *raster.RGBA](room, room/4)}
}

// layerKey tells apart everything that a layer's pixels depend on.
func layerKey(source []byte, d declare.Declarations) [32]byte {
	h := blake3.New()
	h.Write(source)
	fmt.Fprintf(h, "\x00%s %v %v", d.AddressForm(), d.Width, d.Height)
	return [32]byte(h.Sum(nil))
}

func (c *LayerCache) get(key [32]byte) *raster.RGBA {
	if c == nil {
		return nil
	}
	p, _ := c.kept.Get(key)
	return p
}

func (c *LayerCache) put(key [32]byte, p *raster.RGBA) {
	if c != nil {
		c.kept.Put(key, p, len(p.Pix))
	}
}

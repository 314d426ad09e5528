package render

import (
	"sync"
	"testing"

	"echolane/core/declare"
	"echolane/core/raster"
)

func TestLayersAreKeptWithinTheirRoom(t *testing.T) {
	c := NewLayerCache(4 * 40_000)
	key := func(i int) [32]byte {
		return layerKey([]byte{byte(i)}, declare.Declarations{GeometryValues: declare.GeometryValues{Width: 9}})
	}
	for i := range 10 {
		c.put(key(i), raster.NewRGBA(100, 100))
	}
	kept := 0
	for i := range 10 {
		if c.get(key(i)) != nil {
			kept++
			if i < 6 {
				t.Errorf("layer %d is kept, though later ones fill the room", i)
			}
		}
	}
	if kept != 4 {
		t.Errorf("%d layers of 40 kB are kept in 160 kB", kept)
	}
	c.get(key(6)) // used again, so another goes
	c.put(key(11), raster.NewRGBA(100, 100))
	if c.get(key(6)) == nil || c.get(key(7)) != nil {
		t.Error("what was used last went first")
	}
	c.put(key(12), raster.NewRGBA(1000, 1000)) // more than a quarter of the room isn't worth it
	if c.get(key(12)) != nil || c.get(key(6)) == nil {
		t.Error("one large layer drove the small ones out")
	}
	var none *LayerCache
	none.put(key(1), raster.NewRGBA(1, 1))
	if none.get(key(1)) != nil {
		t.Error("no cache keeps something")
	}
}

func TestLayersOfOtherSizesAreOthers(t *testing.T) {
	source := []byte("mark")
	seen := map[[32]byte]bool{}
	for _, g := range []declare.GeometryValues{{}, {Width: 9}, {Height: 9}, {Width: 9, Grow: declare.GrowYes}, {Width: 9, Fit: declare.Cover}, {Resolution: 2}} {
		seen[layerKey(source, declare.Declarations{GeometryValues: g})] = true
	}
	if seen[layerKey([]byte("marl"), declare.Declarations{})] || len(seen) != 6 {
		t.Errorf("%d keys of 6", len(seen))
	}
}

func TestKeptLayersGiveTheSamePicture(t *testing.T) {
	mark, source := asPNG(t, scene(50, 40)), asPNG(t, scene(120, 90))
	j := job(t, "width=80&format=png&after-content=url(catalogue/mark.png)&after-width=30%25&after-opacity=.5&after-rotate=9deg")
	j.Pictures = map[string][]byte{"catalogue/mark.png": mark}
	first, err := Variant(source, j)
	if err != nil {
		t.Fatal(err)
	}
	j.Layers = NewLayerCache(1 << 20)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 5 {
				if r, err := Variant(source, j); err != nil || string(r.Data) != string(first.Data) {
					t.Errorf("with kept layers the picture is another: %v", err)
				}
			}
		})
	}
	all.Wait()
}

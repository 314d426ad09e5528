package superpixel

import (
	"math"
	"testing"

	"echolane/core/raster"
)

// halves is red on the left and blue on the right, with a green square in the blue.
func halves(w, h int) *raster.RGBA {
	p := raster.NewRGBA(w, h)
	for y := range h {
		for x := range w {
			c := []uint8{200, 40, 40, 255}
			if x >= w/2 {
				c = []uint8{40, 60, 200, 255}
			}
			if x >= w*3/4 && x < w*3/4+h/5 && y >= h/3 && y < h/3+h/5 {
				c = []uint8{60, 180, 60, 255}
			}
			copy(p.Row(y)[4*x:], c)
		}
	}
	p.Opaque = true
	return p
}

// around are the four pixels beside one; −1 where there is none.
func (r *Regions) around(i int) [4]int32 {
	out := [4]int32{-1, -1, -1, -1}
	x, y := i%r.W, i/r.W
	if x > 0 {
		out[0] = int32(i - 1)
	}
	if x < r.W-1 {
		out[1] = int32(i + 1)
	}
	if y > 0 {
		out[2] = int32(i - r.W)
	}
	if y < r.H-1 {
		out[3] = int32(i + r.W)
	}
	return out
}

func TestRegionsKeepToColours(t *testing.T) {
	const w, h = 120, 80
	p := halves(w, h)
	r := New(Oklab(p), w, h, 60)
	if n := len(r.Colour); n < 30 || n > 90 {
		t.Fatalf("%d regions of about 60", n)
	}
	var area float32
	for k, a := range r.Area {
		if area += a; a < 1 || len(r.Beside[k]) == 0 {
			t.Errorf("region %d has %v pixels and %d neighbours", k, a, len(r.Beside[k]))
		}
	}
	if area != w*h {
		t.Errorf("the regions have %v pixels of %d", area, w*h)
	}
	// No region has pixels of two colours, but for a few along the edges.
	strange := 0
	lab := Oklab(p)
	for i, k := range r.Of {
		if math.Abs(float64(lab[1][i]-r.Colour[k][1]))+math.Abs(float64(lab[2][i]-r.Colour[k][2])) > 0.05 {
			strange++
		}
	}
	if strange > w*h/100 {
		t.Errorf("%d pixels lie in a region of another colour", strange)
	}
	// Each is one piece, and neighbours know of each other by the same border.
	seen := make([]bool, w*h)
	pieces := 0
	for start := range seen {
		if seen[start] {
			continue
		}
		pieces++
		stack := []int32{int32(start)}
		seen[start] = true
		for len(stack) > 0 {
			i := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			for _, j := range r.around(int(i)) {
				if j >= 0 && !seen[j] && r.Of[j] == r.Of[i] {
					seen[j] = true
					stack = append(stack, j)
				}
			}
		}
	}
	if pieces != len(r.Colour) {
		t.Errorf("%d regions lie in %d pieces", len(r.Colour), pieces)
	}
	borders := r.Borders()
	for k, list := range r.Beside {
		for i, l := range list {
			back := float32(0)
			for j, m := range r.Beside[l.To] {
				if int(m.To) == k {
					back = borders[l.To][j]
				}
			}
			if borders[k][i] != back || back == 0 {
				t.Fatalf("%d borders on %d along %v pixels, the other way %v", k, l.To, borders[k][i], back)
			}
		}
	}
}

func TestSmallPicturesHaveRegions(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {1, 40}, {40, 1}, {5, 3}} {
		p := raster.NewRGBA(size[0], size[1])
		r := New(Oklab(p), size[0], size[1], 200)
		if len(r.Colour) == 0 || len(r.Of) != size[0]*size[1] {
			t.Errorf("%v has %d regions", size, len(r.Colour))
		}
	}
}

package raster

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestAShadowIsTheBlurredAlphaElsewhere(t *testing.T) {
	for _, c := range []struct {
		dx, dy, sigma float64
	}{{0, 0, 0}, {7, -4, 0}, {5, 9, 2.5}, {-6, 3, 6}, {12, 12, 14}} {
		p := NewRGBA(90, 70)
		for y := 20; y < 45; y++ {
			for x := 25; x < 60; x++ {
				copy(p.Row(y)[4*x:], []byte{200, 100, 50, 255})
			}
		}
		// The same by float64, on a canvas with room all around.
		const room = 120
		w, h := p.W+2*room, p.H+2*room
		alpha := make([]float64, w*h)
		for y := range p.H {
			for x := range p.W {
				alpha[(y+room)*w+x+room] = float64(p.Row(y)[4*x+3])
			}
		}
		if c.sigma > 0 {
			for y := range h {
				copy(alpha[y*w:(y+1)*w], threeTimes(alpha[y*w:(y+1)*w], c.sigma, Faded))
			}
			for x := range w {
				column := make([]float64, h)
				for y := range column {
					column[y] = alpha[y*w+x]
				}
				for y, v := range threeTimes(column, c.sigma, Faded) {
					alpha[y*w+x] = v
				}
			}
		}
		got := p.Copy()
		got.DropShadow(c.dx, c.dy, c.sigma, [4]uint8{0, 0, 0, 255})
		worst := 0.0
		for y := range p.H {
			for x := range p.W {
				own := float64(p.Row(y)[4*x+3])
				shade := alpha[(y-int(c.dy)+room)*w+x-int(c.dx)+room]
				want := own + shade*(255-own)/255
				worst = max(worst, math.Abs(float64(got.Row(y)[4*x+3])-want))
				if own == 255 && got.Row(y)[4*x] != 200 {
					t.Fatalf("%+v: the picture itself changed at %d, %d", c, x, y)
				}
			}
		}
		if allowed := 1.6 + c.sigma/4; worst > allowed {
			t.Errorf("%+v: alpha is off by up to %.1f levels", c, worst)
		}
	}
}

func TestAShadowHasItsColour(t *testing.T) {
	p := NewRGBA(20, 20)
	copy(p.Row(10)[4*5:], []byte{255, 255, 255, 255})
	p.DropShadow(3, 0, 0, [4]uint8{200, 40, 80, 128})
	if got := [4]uint8(p.Row(10)[4*8:]); got != [4]uint8{100, 20, 40, 128} {
		t.Errorf("half a shadow of 200 40 80 is %v", got)
	}
}

func TestRoomIsLargeEnoughAndUsedAgain(t *testing.T) {
	for n := 1; n < 1<<22; n = n*9/7 + 1 {
		size, class := sizeClass(n)
		if size < n || class < 0 || class >= len(pools) {
			t.Fatalf("%d bytes get %d, in class %d", n, size, class)
		}
		if n > 1<<12 && size > n*13/10+1 {
			t.Errorf("%d bytes get %d", n, size)
		}
		if again, same := sizeClass(size); again != size || same != class {
			t.Errorf("a buffer of %d is of class %d, and as a whole of %d", size, class, same)
		}
	}
	p := PooledRGBA(300, 300)
	p.Free()
	p.Free() // twice does nothing
	q := NewRGBA(300, 300)
	for i, v := range q.Pix {
		if v != 0 {
			t.Fatalf("a new picture's byte %d is %d", i, v)
		}
	}
	view := q.View(10, 10, 20, 20)
	view.Free()
	if view.W != 10 || &view.Pix[0] != &q.Pix[10*q.Stride+40] {
		t.Error("a view isn't of the same memory")
	}
}

func TestRowsLieApartFromEachOther(t *testing.T) {
	for _, row := range []int{1, 63, 1000, 1024, 2048, 10240, 10304, 65536} {
		s := Stride(row)
		if s < row || s > row+64 || row%1024 == 0 && s%1024 == 0 {
			t.Errorf("rows of %d bytes lie %d apart", row, s)
		}
	}
	p := NewRGBA(256, 3) // rows of 1024
	r := rand.New(rand.NewPCG(1, 1))
	for y := range 3 {
		for i := range p.Row(y) {
			p.Row(y)[i] = uint8(r.UintN(256))
		}
	}
	turned := p.Transpose().Transpose()
	for y := range 3 {
		for i, v := range p.Row(y) {
			if turned.Row(y)[i] != v {
				t.Fatalf("byte %d of row %d is lost in turning twice", i, y)
			}
		}
	}
}

func TestSharpColourIsThatOfEdgesBetweenColours(t *testing.T) {
	lines := func(r, g, b uint8) *RGBA { // lines of a pixel on a light ground
		p := NewRGBA(64, 64)
		p.Fill(240, 240, 240, 255)
		for y := range p.H {
			for x := 3; x < p.W; x += 8 {
				copy(p.Row(y)[4*x:], []uint8{r, g, b, 255})
			}
		}
		return p
	}
	soft := NewRGBA(64, 64)
	for y := range soft.H {
		for x := range soft.W {
			copy(soft.Row(y)[4*x:], []uint8{uint8(4 * x), uint8(4 * y), 90, 255})
		}
	}
	plain := NewRGBA(64, 64)
	plain.Fill(200, 30, 30, 255)
	for name, c := range map[string]struct {
		p    *RGBA
		want float64
	}{"red lines": {lines(220, 20, 20), 1}, "grey lines": {lines(20, 20, 20), 0}, "a soft slope": {soft, 0}, "one colour": {plain, 0}, "a pixel": {NewRGBA(1, 1), 0}} {
		if got := c.p.SharpColour(); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestDrawingsAreFlatAndPhotographsAreNot(t *testing.T) {
	noisy, plain := NewRGBA(80, 80), NewRGBA(80, 80)
	r := rand.New(rand.NewPCG(5, 5))
	for i := range noisy.Pix {
		noisy.Pix[i] = uint8(r.UintN(256))
	}
	plain.Fill(9, 9, 9, 255)
	if a, b := noisy.Flatness(), plain.Flatness(); a > 0.01 || b != 1 {
		t.Errorf("noise is %.2f flat, one colour %.2f", a, b)
	}
}

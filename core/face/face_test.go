package face

import (
	"testing"

	"echolane/core/raster"
	"echolane/demo/pictures"
)

func picture(l pictures.Labelled) *raster.RGBA {
	return &raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true}
}

// hits tells how many of the boxes, in pixels, are found, and how many finds are none of them.
func hits(found []Face, boxes [][4]float64, w, h int) (hit, wrong int) {
	used := map[int]bool{}
	for _, b := range boxes {
		for i, f := range found {
			x, y, high := (f.X0+f.X1)/2*float64(w), (f.Y0+f.Y1)/2*float64(h), (f.Y1-f.Y0)*float64(h)/(b[3]-b[1])
			if !used[i] && x > b[0] && x < b[2] && y > b[1] && y < b[3] && high > 0.5 && high < 1.8 {
				used[i] = true
				hit++
				break
			}
		}
	}
	return hit, len(found) - len(used)
}

// Faces of 24 pixels and more are found, in any light, turned and tilted as far as people do who look at a camera.
func TestDrawnFacesAreFound(t *testing.T) {
	all, hit, wrong := 0, 0, 0
	for _, size := range []int{24, 40, 64} {
		for n := range 3 {
			l, boxes := pictures.LabelledFaces(n, size)
			found, others := hits(Find(picture(l)), boxes, l.W, l.H)
			t.Logf("%s: %d of %d, %d wrong", l.Name, found, len(boxes), others)
			all, hit, wrong = all+len(boxes), hit+found, wrong+others
		}
	}
	if float64(hit) < 0.9*float64(all) || wrong > 1 {
		t.Errorf("%d of %d faces are found, and %d that are none", hit, all, wrong)
	}
}

func TestWhereNoFaceIsNoneIsFound(t *testing.T) {
	wrong, all := 0, 0
	for _, l := range pictures.LabelledSet() {
		if l.Name[:4] == "face" { // an oval with two spots may be one
			continue
		}
		all++
		if found := Find(picture(l)); len(found) > 0 {
			t.Logf("%s: %v", l.Name, found)
			wrong++
		}
	}
	if wrong*50 > all {
		t.Errorf("faces in %d of %d pictures without any", wrong, all)
	}
	for _, size := range [][2]int{{1, 1}, {19, 300}, {640, 24}, {64, 64}} {
		p := raster.NewRGBA(size[0], size[1])
		p.Fill(200, 150, 120, 255)
		if found := Find(p); len(found) > 0 {
			t.Errorf("%v of one colour has %v", size, found)
		}
	}
}

func TestFacesLieOnTheirSide(t *testing.T) {
	l, boxes := pictures.LabelledFaces(1, 48)
	turned := quarter(picture(l))
	h := float64(l.H)
	for i, b := range boxes {
		boxes[i] = [4]float64{h - b[3], b[0], h - b[1], b[2]}
	}
	hit, _ := hits(FindAnyhow(turned), boxes, turned.W, turned.H)
	if hit < len(boxes)-1 {
		t.Errorf("%d of %d faces that lie on their side are found", hit, len(boxes))
	}
}

func TestKeptFaces(t *testing.T) {
	faces := []Face{{X0: 0.1, Y0: 0.1, X1: 0.4, Y1: 0.5}, {X0: 0.8, Y0: 0.1, X1: 1, Y1: 0.4}, {X0: 0.45, Y0: 0.2, X1: 0.6, Y1: 0.4}}
	for _, c := range []struct{ w, x0, x1 float64 }{{1, 0.1, 1}, {0.6, 0.1, 0.6}, {0.2, 0.1, 0.4}} {
		if x0, _, x1, _ := Kept(faces, c.w, 1); x0 != c.x0 || x1 != c.x1 {
			t.Errorf("a window of %v keeps %v to %v, not %v to %v", c.w, x0, x1, c.x0, c.x1)
		}
	}
}

func BenchmarkFind(b *testing.B) {
	l, _ := pictures.LabelledFaces(2, 64)
	p := picture(l)
	b.ReportAllocs()
	for b.Loop() {
		Find(p)
	}
}

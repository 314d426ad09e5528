package subject

import (
	"math"
	"testing"

	"echolane/core/raster"
	"echolane/demo/pictures"
)

// small is the copy that the finders work on.
func small(p *raster.RGBA) *raster.RGBA {
	k := min(1, float64(Side)/float64(max(p.W, p.H)))
	w, h := max(1, int(math.Round(float64(p.W)*k))), max(1, int(math.Round(float64(p.H)*k)))
	return raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
}

func overlap(a, b Box) float64 {
	w, h := min(a.X1, b.X1)-max(a.X0, b.X0), min(a.Y1, b.Y1)-max(a.Y0, b.Y0)
	if w <= 0 || h <= 0 {
		return 0
	}
	return w * h / ((b.X1 - b.X0) * (b.Y1 - b.Y0))
}

// The subject is kept whole where the crop allows, in at least 95 of 100 crops of the labelled set.
func TestSubjectsAreKeptWhole(t *testing.T) {
	set := pictures.LabelledSet()
	if len(set) < 60 {
		t.Fatalf("only %d pictures", len(set))
	}
	const slack = 0.01 // a hair of the outline
	type tally struct {
		crops, whole, whole0 int
		over, over0          float64
	}
	kinds := map[string]*tally{}
	all := &tally{}
	for _, l := range set {
		p := &raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true}
		found := Subject(small(p))
		truth := Box{l.X0 / float64(l.W), l.Y0 / float64(l.H), l.X1 / float64(l.W), l.Y1 / float64(l.H)}
		kind := kinds[l.Name[:4]]
		if kind == nil {
			kind = &tally{}
			kinds[l.Name[:4]] = kind
		}
		for _, shape := range []float64{1, 3.0 / 4, 4.0 / 3, 2, 0.5} {
			// The largest window of this shape.
			w, h := 1.0, 1.0
			if natural := float64(l.W) / float64(l.H); shape < natural {
				w = shape / natural
			} else {
				h = natural / shape
			}
			if truth.X1-truth.X0 > w || truth.Y1-truth.Y0 > h || w > 0.97 && h > 0.97 {
				continue
			}
			ours, centre := found.Window(w, h), Box{0.5 - w/2, 0.5 - h/2, 0.5 + w/2, 0.5 + h/2}
			inside := func(b Box) bool {
				return b.X0 <= truth.X0+slack && b.Y0 <= truth.Y0+slack && b.X1 >= truth.X1-slack && b.Y1 >= truth.Y1-slack
			}
			for _, k := range []*tally{kind, all} {
				k.crops++
				k.over += overlap(ours, truth)
				k.over0 += overlap(centre, truth)
				if inside(ours) {
					k.whole++
				}
				if inside(centre) {
					k.whole0++
				}
			}
			if !inside(ours) {
				t.Logf("%s at %.2f: the subject %.2f, found %.2f", l.Name, shape, truth, found.Box)
			}
		}
	}
	for name, k := range kinds {
		t.Logf("%s: wholly inside %.1f %% (centre %.1f %%), mean overlap %.3f (centre %.3f), %d crops", name, 100*float64(k.whole)/float64(k.crops), 100*float64(k.whole0)/float64(k.crops), k.over/float64(k.crops), k.over0/float64(k.crops), k.crops)
	}
	share := float64(all.whole) / float64(all.crops)
	t.Logf("all: wholly inside %.1f %% (centre %.1f %%)", 100*share, 100*float64(all.whole0)/float64(all.crops))
	if share < 0.95 {
		t.Errorf("the subject is wholly inside in %.1f %% of the crops, want 95", 100*share)
	}
}

func TestNothingStandsOutInOneColour(t *testing.T) {
	p := raster.NewRGBA(128, 80)
	p.Fill(90, 120, 150, 255)
	if b := Subject(p).Box; b != Whole {
		t.Errorf("one colour has its subject in %v", b)
	}
	if b := Subject(raster.NewRGBA(3, 90)).Box; b != Whole {
		t.Errorf("a sliver has its subject in %v", b)
	}
}

// A shallow picture is of what is sharp in it, also where something blurred has the rarer colour; and of all of it.
func TestAShallowPictureIsOfWhatIsSharp(t *testing.T) {
	const w, h = 240, 160
	p := raster.NewRGBA(w, h)
	p.Opaque = true
	for y := range h {
		for x := range w {
			// Soft greens, a soft red blot at the left, and a leaf with sharp veins at the right.
			soft := 24 * math.Sin(float64(x)/4+2*math.Cos(float64(y)/9))
			c := [3]float64{70 + soft, 120 + soft, 60 + soft/2}
			blot := math.Exp(-(math.Pow(float64(x-60)/26, 2) + math.Pow(float64(y-60)/26, 2)))
			for i, v := range [3]float64{210, 60, 50} {
				c[i] += (v - c[i]) * blot
			}
			if math.Pow(float64(x-170)/34, 2)+math.Pow(float64(y-90)/48, 2) < 1 {
				v := 22.0
				if (x*5+y*3)%14 < 5 {
					v = -30
				}
				c = [3]float64{84 + v, 140 + v, 70 + v}
			}
			copy(p.Pix[y*p.Stride+4*x:], []uint8{uint8(c[0]), uint8(c[1]), uint8(c[2]), 255})
		}
	}
	found, leaf := Subject(p), Box{136.0 / w, 42.0 / h, 204.0 / w, 138.0 / h}
	if found.By != ByFocus || found.Unsure() {
		t.Errorf("found by %s, %.2f sure", found.By, found.Sure)
	}
	if in, of := overlap(found.Box, leaf), overlap(leaf, found.Box); in < 0.9 || of < 0.5 {
		t.Errorf("found %.2f, which shows %.2f of the leaf %.2f and is to %.2f the leaf", found.Box, in, leaf, of)
	}
	if cut := found.Window(0.5, 1); cut.X0 > leaf.X0 || cut.X1 < leaf.X1 {
		t.Errorf("half of the width is %.2f, the leaf %.2f", cut, leaf)
	}
}

// What is nearly all of a picture says nothing of where its subject is: a cut keeps the middle, wherever most of it stands out.
func TestWhatFillsAPictureKeepsItsMiddle(t *testing.T) {
	m := newPlane(100, 40)
	for i := range m.v {
		m.v[i] = 0.5
		if i%m.w < 30 {
			m.v[i] = 1
		}
	}
	f := Found{Box: Box{0, 0.07, 1, 1}, Sure: 1, By: ByFocus, map_: m}
	if v := f.Window(0.3, 1); math.Abs(v.X0-0.35) > 1e-9 {
		t.Errorf("of what fills the picture %.2f is cut", v)
	}
	f.Box.X1 = 0.6
	if v := f.Window(0.3, 1); v.X0 > 0.05 {
		t.Errorf("of what stands out at the left %.2f is cut", v)
	}
}

func TestWhatIsLikelyToBeASubject(t *testing.T) {
	ground := Cues{CuePlaces: 0.1, CueEdge: 3, CueStanding: 0.05, CueBehind: 0.95}
	thing := Cues{CuePlaces: 0.8, CueWay: 0.4, CueStanding: 0.9, CueBehind: 0.1}
	if g, s := ground.likely(), thing.likely(); g > 0.25 || s < 0.85 {
		t.Errorf("ground is likely to %.2f, what stands out to %.2f", g, s)
	}
	behind := thing
	behind[CueBehind], behind[CueWay] = 0.9, 0
	if thing.likely() < behind.likely()+0.1 {
		t.Errorf("belonging to the ground makes %.2f of %.2f", behind.likely(), thing.likely())
	}
}

func TestDetailIsWhereItIsBusy(t *testing.T) {
	p := raster.NewRGBA(128, 64)
	p.Fill(200, 200, 200, 255)
	for y := 16; y < 48; y++ {
		for x := 80; x < 112; x++ {
			v := uint8((x*37 + y*91) % 251)
			copy(p.Pix[y*p.Stride+4*x:], []uint8{v, v, v, 255})
		}
	}
	if b := Detail(p, 0.25, 0.5); math.Abs(b.X0-80.0/128) > 0.07 || math.Abs(b.Y0-0.25) > 0.13 {
		t.Errorf("the busiest quarter is %v", b)
	}
	p.Fill(10, 10, 10, 255)
	if b := Detail(p, 0.5, 1); math.Abs((b.X0+b.X1)/2-0.5) > 0.07 {
		t.Errorf("of equals the middle one: %v", b)
	}
}

func BenchmarkSubject(b *testing.B) {
	l := pictures.LabelledSet()[0]
	p := small(&raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true})
	b.ReportAllocs()
	for b.Loop() {
		Subject(p)
	}
}

package webp

import (
	"bytes"
	"image"
	"math"
	"testing"

	xwebp "golang.org/x/image/webp"

	"echolane/core/raster"
)

// bark is a picture with plain and busy parts, so that an encoder makes segments of it.
func bark(w, h int) *raster.YCbCr {
	p := raster.New420(w, h, raster.Limited)
	for y := range h {
		for x := range w {
			p.Y.Row(y)[x] = uint8(40 + 150*x/w)
			if y > h/2 {
				p.Y.Row(y)[x] += uint8((x*31 ^ y*17) % 40)
			}
		}
	}
	for y := range p.Cb.H {
		for x := range p.Cb.W {
			p.Cb.Row(y)[x], p.Cr.Row(y)[x] = uint8(100+x%20), uint8(150-y%20)
		}
	}
	return p
}

func TestTheQuantizerIsReadBack(t *testing.T) {
	p := bark(300, 200)
	last := 128
	for fineness := 5.0; fineness <= 100; fineness += 5 {
		data, err := EncodePlanes(p, Quality(fineness))
		if err != nil {
			t.Fatal(err)
		}
		index, ok := Quantizer(data)
		if !ok || index > last || math.Abs(float64(index)-(127-1.27*fineness)) > 30 {
			t.Errorf("fineness %v has quantizer %d, %v, after %d", fineness, index, ok, last)
		}
		last = index
		for i := range 32 {
			Quantizer(data[:len(data)*i/32])
		}
	}
	rgba := raster.NewRGBA(20, 20)
	exact, err := EncodeLossless(rgba)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := Quantizer(exact); ok {
		t.Error("a lossless picture has a quantizer")
	}
	if _, ok := Quantizer([]byte("RIFF\xff\xff\xff\xffWEBPVP8 \xff\xff\xff\xff")); ok {
		t.Error("an empty frame has a quantizer")
	}
}

func TestRowsBelowArentDecoded(t *testing.T) {
	lossy, err := EncodePlanes(bark(90, 200), 80)
	if err != nil {
		t.Fatal(err)
	}
	pixels, err := Decode(lossy)
	if err != nil {
		t.Fatal(err)
	}
	exact, err := EncodeLossless(pixels.RGBA)
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"lossy": lossy, "lossless": exact} {
		whole, err := Decode(data)
		if err != nil {
			t.Fatal(err)
		}
		for _, rows := range []int{1, 2, 15, 16, 17, 64, 197, 198, 199, 200, 201} {
			part, err := DecodeRows(data, rows)
			if err != nil || part.RGBA.W != 90 || part.RGBA.H != min(rows, 200) {
				t.Fatalf("%s, %d rows: %v", name, rows, err)
			}
			for y := range part.RGBA.H {
				if !bytes.Equal(part.RGBA.Row(y), whole.RGBA.Row(y)) {
					t.Fatalf("%s, %d rows: row %d differs", name, rows, y)
				}
			}
		}
	}
}

func TestFinenessAndQualityAreInverse(t *testing.T) {
	last := -1.0
	for f := 0.0; f <= 100; f += 0.5 {
		q := Quality(f)
		if q < last || q < 0 || q > 100 || math.Abs(Fineness(q)-f) > 1e-6 {
			t.Errorf("fineness %v is quality %v, which is fineness %v", f, q, Fineness(q))
		}
		last = q
	}
}

func TestPlanesGoInAndOut(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {2, 3}, {17, 31}, {129, 65}} {
		p := bark(size[0], size[1])
		data, err := EncodePlanes(p, 98)
		if err != nil {
			t.Fatal(err)
		}
		got, err := DecodePlanes(data)
		if err != nil {
			t.Fatalf("%v: %v", size, err)
		}
		for y := range size[1] {
			for x := range size[0] {
				if d := math.Abs(float64(got.Y.Row(y)[x]) - float64(p.Y.Row(y)[x])); d > 16 {
					t.Fatalf("%v: luma at %d, %d is off by %.0f", size, x, y, d)
				}
			}
		}
	}
}

// distance is the mean square between planes of luma.
func distance(a, b *raster.YCbCr) float64 {
	sum := 0.0
	for y := range a.H {
		for x, v := range a.Y.Row(y)[:a.W] {
			d := float64(v) - float64(b.Y.Row(y)[x])
			sum += d * d
		}
	}
	return sum / float64(a.W*a.H)
}

func TestWhatIsWeighedIsReadByEveryDecoder(t *testing.T) {
	for _, size := range [][2]int{{300, 200}, {33, 17}, {16, 16}, {1, 1}, {640, 5}} {
		p := bark(size[0], size[1])
		w := NewEncoder(p)
		for fineness := 5.0; fineness <= 100; fineness += 19 {
			data, err := w.Write(fineness)
			if err != nil {
				t.Fatal(err)
			}
			ours, err := DecodePlanes(data)
			if err != nil {
				t.Fatalf("%v at %v: %v", size, fineness, err)
			}
			m, err := xwebp.Decode(bytes.NewReader(data))
			if err != nil {
				t.Fatalf("%v at %v: %v", size, fineness, err)
			}
			theirs := m.(*image.YCbCr)
			for y := range ours.H {
				if got := theirs.Y[y*theirs.YStride:][:ours.W]; !bytes.Equal(got, ours.Y.Row(y)[:ours.W]) {
					t.Fatalf("%v at %v: row %d is decoded as %v and as %v", size, fineness, y, ours.Y.Row(y)[:ours.W], got)
				}
			}
			if info, err := Probe(data); err != nil || info.W != size[0] || info.H != size[1] || info.Alpha || info.Frames != 1 {
				t.Errorf("%v at %v: %+v, %v", size, fineness, info, err)
			}
		}
	}
}

// What is shown of a choice is what its file shows, whichever way it came about; and a choice anew takes fewer bytes than the
// modes of another one.
func TestChoicesAreShownAsTheyAreWritten(t *testing.T) {
	p := bark(230, 170)
	w := NewEncoder(p)
	made := func(what string) (size int, off float64) {
		data, err := w.File()
		if err != nil {
			t.Fatal(err)
		}
		d, err := DecodePlanes(data)
		if err != nil {
			t.Fatal(err)
		}
		shown := w.Shown()
		defer shown.Free()
		for y := range d.H {
			if !bytes.Equal(d.Y.Row(y)[:d.W], shown.Y.Row(y)[:d.W]) {
				t.Fatalf("%s: row %d is decoded as %v, shown as %v", what, y, d.Y.Row(y)[:d.W], shown.Y.Row(y)[:d.W])
			}
		}
		return len(data), distance(p, d)
	}
	dearer := 0.0 // bytes and error together
	for _, fineness := range []float64{40, 55, 70, 90} {
		w.Choose(fineness, false)
		made("chosen")
		w.Choose(fineness, true)
		size, off := made("quickly chosen")
		w.Choose(fineness-6, true)
		w.Again(fineness)
		again, far := made("again")
		dearer += math.Log(float64(again)/float64(size)) + math.Log(far/off)/2
	}
	if dearer < 0 {
		t.Errorf("choices for other finenesses take less, by %.3f", dearer)
	}
}

func TestWeighedIsFinerStepByStep(t *testing.T) {
	p := bark(200, 140)
	w := NewEncoder(p)
	before := math.Inf(1)
	for fineness := 60.0; fineness <= 100; fineness += 10 {
		data, err := w.Write(fineness)
		if err != nil {
			t.Fatal(err)
		}
		d, err := DecodePlanes(data)
		if err != nil {
			t.Fatal(err)
		}
		if far := distance(p, d); far >= before {
			t.Errorf("at %v the mean square is %.2f, after %.2f", fineness, far, before)
		} else {
			before = far
		}
	}
	if before > 1 {
		t.Errorf("at 100 the mean square is %.2f", before)
	}
}

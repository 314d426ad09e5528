package render

import (
	"bytes"
	"image"
	"image/color"
	stdjpeg "image/jpeg"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"echolane/core/codec/jxl"
	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// photographed is a JPEG with something in it at each size, as a camera writes it.
func photographed(t testing.TB, w, h, quality int) []byte {
	t.Helper()
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			v := 110 + 50*math.Sin(float64(x)/17)*math.Cos(float64(y)/11) + float64((x*x*31+y*y*17+x*y)%37)
			m.SetRGBA(x, y, color.RGBA{uint8(v), uint8(v * 0.9), uint8(200 - v/2), 255})
		}
	}
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, m, &stdjpeg.Options{Quality: quality}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// Where a JPEG would be sent as it lies there, JPEG XL has the very same picture in fewer bytes, and the JPEG comes back to the byte.
func TestAJPEGIsRewrappedAsJPEGXL(t *testing.T) {
	source := withExif(photographed(t, 320, 200, 40), 1)
	bare, ok := metadata.Strip(source)
	if !ok || len(bare) >= len(source) {
		t.Fatal("the source has nothing to strip")
	}
	made := variant(t, source, "format=jxl")
	if made.How.Way != "source" || made.Format != declare.JXL {
		t.Fatalf("%+v", made.How)
	}
	back, err := jxl.Rebuild(made.Data)
	if err != nil || !bytes.Equal(back, bare) {
		t.Errorf("what comes back has %d bytes, the JPEG %d: %v", len(back), len(bare), err)
	}
	if len(made.Data) > len(bare)*9/10 {
		t.Errorf("%d bytes of a JPEG became %d", len(bare), len(made.Data))
	}
	shown := pixels(t, made)
	if plain := pixels(t, variant(t, source, "format=png")); far(shown, plain) > 6 {
		t.Errorf("the picture is off by up to %d", far(shown, plain))
	}
	for _, query := range []string{"format=jxl&width=100", "format=jxl&quality=40", "format=jxl&filter=grayscale(1)", "format=jxl&rotate=90deg"} {
		other := variant(t, source, query)
		if _, err := jxl.Rebuild(other.Data); err == nil || other.How.Way == "source" {
			t.Errorf("%s was answered with the source's own data: %+v", query, other.How)
		}
	}
	if r := variant(t, source, "format=jpeg"); !bytes.Equal(r.Data, bare) {
		t.Errorf("as JPEG it is %d bytes, %+v", len(r.Data), r.How)
	}
}

// far is how far two pictures' samples are apart at most.
func far(a, b *raster.RGBA) (most int) {
	for y := range a.H {
		p, q := a.Row(y), b.Row(y)
		for i := range p {
			most = max(most, int(math.Abs(float64(p[i])-float64(q[i]))))
		}
	}
	return most
}

// What other programs write is read: still, moving, with alpha, grey, in 16 bits, in other colours.
func TestEveryKindOfJPEGXL(t *testing.T) {
	if _, err := exec.LookPath("cjxl"); err != nil {
		t.Skip("there is no cjxl here")
	}
	m := scene(157, 93)
	want := pixels(t, variant(t, asPNG(t, m), "format=png"))
	for name, c := range map[string]struct {
		args  []string
		least float64 // PSNR, dB
	}{
		"lossless":           {[]string{"-d", "0"}, 99},
		"lossy":              {[]string{"-d", "0.5"}, 36},
		"modular":            {[]string{"-d", "1", "-m", "1"}, 32},
		"progressive":        {[]string{"-d", "0.5", "-p"}, 36},
		"in boxes":           {[]string{"-d", "0", "--container=1"}, 99},
		"premultiplied":      {[]string{"-d", "0", "--premultiply=1"}, 45},
		"of lower frequency": {[]string{"-d", "0.5", "--progressive_dc=1"}, 36},
	} {
		data := madeBy(t, asPNG(t, m), "png", "jxl", "cjxl", append(c.args, "IN", "OUT")...)
		r := variant(t, data, "format=png")
		if r.Source != "image/jxl" || r.Natural.W != 157 || r.Natural.H != 93 {
			t.Errorf("%s: %+v", name, r)
		}
		if got := psnr(t, pixels(t, r), want); got < c.least {
			t.Errorf("%s has %.1f dB", name, got)
		}
	}
	wide := madeBy(t, asPNG(t, m), "png", "jxl", "cjxl", "-d", "0", "-x", "color_space=RGB_D65_DCI_Rel_SRG", "IN", "OUT")
	if r, err := Variant(wide, job(t, "format=png")); err != nil || r.Natural.W != 157 {
		t.Errorf("in other colours: %+v, %v", r, err)
	}
	film := variant(t, kite(3, true), "format=jxl")
	again := variant(t, film.Data, "format=webp")
	if info, err := Probe(again.Data); err != nil || info.Frames != 3 {
		t.Errorf("an animation became %+v, %v", info, err)
	}
}

// What takes seconds in each format isn't made in several.
func TestLargeVariantsAreMadeInOneFormat(t *testing.T) {
	j := Job{Tried: 2, Request: declare.Resolved{Formats: []declare.Format{declare.AVIF, declare.JXL, declare.WebP, declare.JPEG}}}
	j.Request.Quality = 92
	for side, want := range map[int]int{1000: 2, 1400: 2, 1500: 1, 5000: 1} {
		if got, no := j.choose(geometry.Size{W: side, H: side}, true, "photograph"); no != nil || len(got) != want || got[0] != declare.AVIF {
			t.Errorf("%d × %d pixels are tried in %v, want %d: %v", side, side, got, want, no)
		}
	}
}

// What is kept comes progressively: a part of the file shows the whole picture, coarsely.
func TestAPartOfAJPEGXLShowsThePicture(t *testing.T) {
	if _, err := exec.LookPath("djxl"); err != nil {
		t.Skip("there is no djxl here")
	}
	r := variant(t, drawn(t, "delta-red.jpg"), "width=640&format=jxl&quality=80")
	whole := pixels(t, r)
	file := filepath.Join(t.TempDir(), "part.jxl")
	before := 0.0
	for _, part := range []float64{0.35, 0.6, 1} {
		if err := os.WriteFile(file, r.Data[:int(part*float64(len(r.Data)))], 0o644); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("djxl", "--allow_partial_files", file, file+".png").CombinedOutput(); err != nil {
			t.Fatalf("%.0f %% of it: %v %s", 100*part, err, out)
		}
		data, err := os.ReadFile(file + ".png")
		if err != nil {
			t.Fatal(err)
		}
		shown, err := png.Decode(data)
		if err != nil {
			t.Fatal(err)
		}
		got := psnr(t, shown.RGBA, whole)
		t.Logf("%.0f %% of it: %.1f dB", 100*part, got)
		if got < 20 || got < before {
			t.Errorf("%.0f %% of the file show the picture by %.1f dB, after %.1f", 100*part, got, before)
		}
		before = got
	}
}

package render

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	stdjpeg "image/jpeg"
	stdpng "image/png"
	"math"
	"strings"
	"testing"
	"time"

	"golang.org/x/image/bmp"
	"golang.org/x/image/tiff"

	"echolane/core/codec"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/jxl"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/demo/pictures"
)

func job(t testing.TB, query string) Job {
	t.Helper()
	d, err := declare.Parse(query)
	if err != nil {
		t.Fatal(err)
	}
	defaults, _ := declare.Parse("object-fit=cover&quality=72")
	return Job{Request: d.Resolve(defaults, policy.NewSite("new").Formats), Limits: wide()}
}

func variant(t testing.TB, source []byte, query string) Result {
	t.Helper()
	r, err := Variant(source, job(t, query))
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return r
}

// pixels decodes a variant with decoders that aren't ours where there are some.
func pixels(t testing.TB, r Result) *raster.RGBA {
	t.Helper()
	switch r.Format {
	case declare.WebP:
		p, err := webp.Decode(r.Data)
		if err != nil {
			t.Fatal(err)
		}
		return p.RGBA
	case declare.JXL:
		p, err := jxl.Decode(r.Data)
		if err != nil {
			t.Fatal(err)
		}
		return p.RGBA
	case declare.JPEG:
		m, err := stdjpeg.Decode(bytes.NewReader(r.Data))
		if err != nil {
			t.Fatal(err)
		}
		return png.FromImage(m)
	default:
		m, err := stdpng.Decode(bytes.NewReader(r.Data))
		if err != nil {
			t.Fatal(err)
		}
		return png.FromImage(m)
	}
}

func psnr(t testing.TB, a, b *raster.RGBA) float64 {
	t.Helper()
	if a.W != b.W || a.H != b.H {
		t.Fatalf("sizes %d×%d and %d×%d differ", a.W, a.H, b.W, b.H)
	}
	var sum float64
	for y := range a.H {
		ra, rb := a.Row(y), b.Row(y)
		for i := range ra {
			d := float64(ra[i]) - float64(rb[i])
			sum += d * d
		}
	}
	return 10 * math.Log10(255*255*float64(4*a.W*a.H)/math.Max(sum, 1e-9))
}

// scene is a picture that looks different from every side, with soft and hard parts.
func scene(w, h int) *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			u, v := float64(x)/float64(w), float64(y)/float64(h)
			c := color.NRGBA{uint8(40 + 180*u), uint8(60 + 150*v), uint8(128 + 90*math.Sin(9*u+5*v)), 255}
			if math.Hypot(u-0.25, v-0.3) < 0.15 {
				c = color.NRGBA{220, 40, 40, 255}
			}
			if u > 0.7 && v > 0.8 {
				c = color.NRGBA{20, 30, 90, 255}
			}
			m.SetNRGBA(x, y, c)
		}
	}
	return m
}

func asPNG(t testing.TB, m image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := stdpng.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// withExif puts an orientation into a JPEG.
func withExif(file []byte, orientation byte) []byte {
	tiff := "II*\x00\x08\x00\x00\x00\x01\x00\x12\x01\x03\x00\x01\x00\x00\x00" + string(rune(orientation)) + "\x00\x00\x00\x00\x00\x00\x00"
	body := "Exif\x00\x00" + tiff
	segment := append([]byte{0xff, 0xe1, 0, byte(len(body) + 2)}, body...)
	return append(append(append([]byte(nil), file[:2]...), segment...), file[2:]...)
}

// stored is how a camera held that way would have stored the upright picture.
func stored(up *image.NRGBA, orientation int) *image.NRGBA {
	w, h := up.Rect.Dx(), up.Rect.Dy()
	sw, sh := w, h
	if orientation >= 5 {
		sw, sh = h, w
	}
	m := image.NewNRGBA(image.Rect(0, 0, sw, sh))
	for y := range h {
		for x := range w {
			a, b := x, y
			switch orientation {
			case 2:
				a = w - 1 - x
			case 3:
				a, b = w-1-x, h-1-y
			case 4:
				b = h - 1 - y
			case 5:
				a, b = y, x
			case 6:
				a, b = y, w-1-x
			case 7:
				a, b = h-1-y, w-1-x
			case 8:
				a, b = h-1-y, x
			}
			m.SetNRGBA(a, b, up.NRGBAAt(x, y))
		}
	}
	return m
}

func TestEveryOrientationStandsUpright(t *testing.T) {
	up := scene(301, 203)
	for _, query := range []string{"width=90&format=png", "width=90&format=webp&quality=95", "width=91&format=jpeg&quality=95", "width=80&height=80&format=webp&quality=95", "format=webp&quality=95"} {
		want := pixels(t, variant(t, asPNG(t, up), query))
		for o := 1; o <= 8; o++ {
			var b bytes.Buffer
			if err := stdjpeg.Encode(&b, stored(up, o), &stdjpeg.Options{Quality: 98}); err != nil {
				t.Fatal(err)
			}
			r := variant(t, withExif(b.Bytes(), byte(o)), query)
			if r.Natural.W != 301 || r.Natural.H != 203 {
				t.Fatalf("orientation %d: natural size %v, want 301×203", o, r.Natural)
			}
			if db := psnr(t, pixels(t, r), want); db < 30 {
				t.Errorf("%s, orientation %d: %.1f dB from upright, want at least 30", query, o, db)
			}
			asStored := variant(t, withExif(b.Bytes(), byte(o)), query+"&image-orientation=none")
			if db := psnr(t, pixels(t, asStored), pixels(t, variant(t, b.Bytes(), query))); db < 60 {
				t.Errorf("%s, orientation %d, none: %.1f dB from what is stored", query, o, db)
			}
		}
	}
}

func TestPlanesGiveWhatPixelsGive(t *testing.T) {
	source, err := pictures.Load("spool-turned.jpg")
	if err != nil {
		t.Fatal(err)
	}
	for _, query := range []string{"width=640", "width=333&height=200", "width=100", "height=77", "width=400&height=100&object-fit=contain", "width=90&height=300&object-fit=fill"} {
		want := pixels(t, variant(t, source, query+"&format=png"))
		for _, format := range []string{"webp", "jpeg"} {
			got := variant(t, source, query+"&format="+format+"&quality=97")
			if db := psnr(t, pixels(t, got), want); db < 33 {
				t.Errorf("%s as %s: %.1f dB from the picture's own pixels, want at least 33", query, format, db)
			}
		}
	}
}

func TestNaturalSizeIsExact(t *testing.T) {
	up := scene(120, 80)
	got := pixels(t, variant(t, asPNG(t, up), "format=png"))
	if !bytes.Equal(got.Pix, up.Pix) {
		t.Error("a PNG at natural size isn't what it was")
	}
	if got = pixels(t, variant(t, asPNG(t, up), "format=webp&quality=lossless")); !bytes.Equal(got.Pix, up.Pix) {
		t.Error("lossless WebP isn't lossless")
	}
	var b bytes.Buffer
	stdjpeg.Encode(&b, up, &stdjpeg.Options{Quality: 80})
	decoded, err := jpeg.Decode(b.Bytes(), codec.Want{})
	if err != nil {
		t.Fatal(err)
	}
	if got = pixels(t, variant(t, b.Bytes(), "format=png")); !bytes.Equal(got.Pix, decoded.RGBA.Pix) {
		t.Error("a JPEG at natural size isn't libjpeg-turbo's own decode")
	}
}

func TestWideColourComesOutAsSRGB(t *testing.T) {
	source, err := pictures.Load("silk-wide-colour.jpg")
	if err != nil {
		t.Fatal(err)
	}
	got := pixels(t, variant(t, source, "width=200&format=png"))
	raw, err := jpeg.Decode(source, codec.Want{Scale: 1})
	if err != nil {
		t.Fatal(err)
	}
	// Of the picture's own numbers, taken as P3 and brought to sRGB by the two standards' matrices.
	toSRGB := func(r, g, b float64) [3]float64 {
		lin := func(v float64) float64 {
			if v /= 255; v <= 0.04045 {
				return v / 12.92
			} else {
				return math.Pow((v+0.055)/1.055, 2.4)
			}
		}
		gam := func(v float64) float64 {
			v = math.Min(1, math.Max(0, v))
			if v <= 0.0031308 {
				return 255 * 12.92 * v
			}
			return 255 * (1.055*math.Pow(v, 1/2.4) - 0.055)
		}
		r, g, b = lin(r), lin(g), lin(b)
		return [3]float64{gam(1.22494*r - 0.22494*g), gam(-0.04206*r + 1.04206*g), gam(-0.01964*r - 0.07864*g + 1.09827*b)}
	}
	var meanGot, meanWant, meanRaw [3]float64
	for i := 0; i < len(got.Pix); i += 4 {
		for c := range 3 {
			meanGot[c] += float64(got.Pix[i+c]) * 4 / float64(len(got.Pix))
		}
	}
	for i := 0; i < len(raw.RGBA.Pix); i += 4 {
		p := raw.RGBA.Pix[i : i+4]
		w := toSRGB(float64(p[0]), float64(p[1]), float64(p[2]))
		for c := range 3 {
			meanWant[c] += w[c] * 4 / float64(len(raw.RGBA.Pix))
			meanRaw[c] += float64(p[c]) * 4 / float64(len(raw.RGBA.Pix))
		}
	}
	moved := 0.0
	for c := range 3 {
		if math.Abs(meanGot[c]-meanWant[c]) > 1.5 {
			t.Errorf("channel %d: mean %.1f, want %.1f", c, meanGot[c], meanWant[c])
		}
		moved += math.Abs(meanRaw[c] - meanWant[c])
	}
	if moved < 6 {
		t.Errorf("the profile moves the means by %.1f in all: too little for this test to see it ignored", moved)
	}
}

func TestPressColoursComeOutRight(t *testing.T) {
	source, err := pictures.Load("poster-press.jpg")
	if err != nil {
		t.Fatal(err)
	}
	info, err := Probe(source)
	if err != nil || info.Coding != "CMYK" {
		t.Fatalf("%+v, %v; want a CMYK JPEG", info, err)
	}
	got := pixels(t, variant(t, source, "width=140&format=png"))
	at := func(x, y int) [3]uint8 { return [3]uint8(got.Pix[4*(y*got.W+x):]) }
	for _, c := range []struct {
		what string
		x, y int
		want [3]int
	}{{"the sun", 60, 172, [3]int{0xd8, 0x41, 0x2f}}, {"a ray over paper", 3, 3, [3]int{225, 171, 128}}} {
		g := at(c.x, c.y)
		for i := range 3 {
			if d := int(g[i]) - c.want[i]; d < -14 || d > 14 {
				t.Errorf("%s is %v, want about %v", c.what, g, c.want)
				break
			}
		}
	}
}

func TestEveryKindOfPNG(t *testing.T) {
	up := scene(90, 60)
	want := pixels(t, variant(t, asPNG(t, up), "width=30&format=png"))
	deep := image.NewNRGBA64(up.Rect)
	grey, greyDeep := image.NewGray(up.Rect), image.NewGray16(up.Rect)
	for y := range 60 {
		for x := range 90 {
			deep.Set(x, y, up.At(x, y))
			grey.Set(x, y, up.At(x, y))
			greyDeep.Set(x, y, up.At(x, y))
		}
	}
	if db := psnr(t, pixels(t, variant(t, asPNG(t, deep), "width=30&format=png")), want); db < 60 {
		t.Errorf("16 bits: %.1f dB from 8 bits", db)
	}
	a, b := pixels(t, variant(t, asPNG(t, grey), "width=30&format=png")), pixels(t, variant(t, asPNG(t, greyDeep), "width=30&format=png"))
	if db := psnr(t, a, b); db < 48 {
		t.Errorf("16-bit grey: %.1f dB from 8-bit grey", db)
	}
	for _, file := range []string{"pattern-sheet.png", "wind-chart.png", "mark.png"} {
		source, err := pictures.Load(file)
		if err != nil {
			t.Fatal(err)
		}
		reference, err := stdpng.Decode(bytes.NewReader(source))
		if err != nil {
			t.Fatal(err)
		}
		got := pixels(t, variant(t, source, "format=png"))
		if whole := png.FromImage(reference); psnr(t, got, whole) < 55 { // premultiplying and back costs a level
			t.Errorf("%s at natural size isn't what it was", file)
		}
	}
}

func TestSlopesOf16BitsAreRoundedToTheNearestLevel(t *testing.T) {
	const w, h, from, rise = 1024, 64, 100.0, 4.0
	m := image.NewGray16(image.Rect(0, 0, w, h))
	at := func(x float64) float64 { return from + rise*x/w }
	for y := range h {
		for x := range w {
			m.SetGray16(x, y, color.Gray16{uint16(at(float64(x)+0.5)*257 + 0.5)})
		}
	}
	source := asPNG(t, m)
	// Every level of the slope comes, where it belongs: samples are rounded, nowhere cut off.
	for query, step := range map[string]float64{"format=png": 1, "width=256&format=png": 4} {
		got := pixels(t, variant(t, source, query))
		for x := range got.W {
			if v, want := float64(got.Row(9)[4*x]), at((float64(x)+0.5)*step); math.Abs(v-want) > 0.53 {
				t.Fatalf("%s: column %d is %v, want %.2f to the nearest", query, x, v, want)
			}
		}
	}
}

func TestNothingOfWhatIsCutAwayShows(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 240, 160))
	for y := range 160 {
		for x := range 240 {
			c := color.NRGBA{250, 250, 250, 255}
			if x >= 80 && x < 160 && y >= 48 && y < 112 {
				c = color.NRGBA{30, 60, 90, 255}
			}
			m.SetNRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, m, &stdjpeg.Options{Quality: 100}); err != nil {
		t.Fatal(err)
	}
	for name, source := range map[string][]byte{"png": asPNG(t, m), "jpeg": b.Bytes(), "turned jpeg": withExif(b.Bytes(), 3)} {
		for _, query := range []string{"width=20", "width=27&rotate=90deg", "width=53&scale=-1 1", "width=31&object-fit=fill&height=31", "width=300&grow=yes"} {
			for _, format := range []string{"png", "webp"} {
				got := pixels(t, variant(t, source, "xywh=80,48,80,64&format="+format+"&"+query))
				for y := range got.H {
					for x := range got.W {
						if q := got.Row(y)[4*x:]; q[0] > 50 || q[1] > 80 || q[2] > 110 {
							t.Fatalf("%s, %s, %s: pixel %d, %d is %v: the white around the cut shows", name, query, format, x, y, q[:3])
						}
					}
				}
			}
		}
	}
}

func TestPixelatedMixesNothingAnywhere(t *testing.T) {
	board := image.NewNRGBA(image.Rect(0, 0, 8, 8))
	for i := range 64 {
		c := color.NRGBA{200, 30, 30, 255}
		if (i+i/8)%2 == 0 {
			c = color.NRGBA{30, 30, 200, 255}
		}
		board.SetNRGBA(i%8, i/8, c)
	}
	source := asPNG(t, board)
	for _, query := range []string{
		"width=37&grow=yes", "width=5", "width=64&height=40&object-fit=cover&grow=yes", "width=40&rotate=270deg&grow=yes",
		"width=60&grow=yes&background-image=url(lane/board.png)&opacity=1", "width=60&grow=yes&after-content=url(lane/board.png)&after-inset=0&after-width=33px",
	} {
		for rendering, mixes := range map[string]bool{"auto": true, "pixelated": false} {
			j := job(t, query+"&format=png&image-rendering="+rendering)
			j.Pictures = map[string][]byte{"lane/board.png": source}
			r, err := Variant(source, j)
			if err != nil {
				t.Fatal(query, err)
			}
			got, mixed := pixels(t, r), 0
			for y := range got.H {
				for x := range got.W {
					if q := got.Row(y)[4*x:]; q[0] != 200 && q[0] != 30 || q[2] != 230-q[0] {
						mixed++
					}
				}
			}
			if (mixed > 0) != mixes {
				t.Errorf("%s, %s: %d pixels are mixed", query, rendering, mixed)
			}
		}
	}
}

func TestFirstFrameOfAnAnimation(t *testing.T) {
	palette := color.Palette{color.NRGBA{}, color.NRGBA{200, 30, 30, 255}, color.NRGBA{30, 30, 200, 255}}
	frame := func(r image.Rectangle, i uint8) *image.Paletted {
		m := image.NewPaletted(r, palette)
		for j := range m.Pix {
			m.Pix[j] = i
		}
		return m
	}
	var b bytes.Buffer
	g := &gif.GIF{
		Image: []*image.Paletted{frame(image.Rect(10, 5, 30, 25), 1), frame(image.Rect(0, 0, 40, 30), 2)}, Delay: []int{5, 5},
		Config: image.Config{Width: 40, Height: 30, ColorModel: palette},
	}
	if err := gif.EncodeAll(&b, g); err != nil {
		t.Fatal(err)
	}
	info, err := Probe(b.Bytes())
	if err != nil || info.Frames != 2 || info.W != 40 || info.H != 30 {
		t.Fatalf("%+v, %v; want 2 frames of 40×30", info, err)
	}
	r := variant(t, b.Bytes(), "")
	if r.Format != declare.WebP {
		t.Errorf("delivered as %v", r.Format)
	}
	p := pixels(t, variant(t, b.Bytes(), "format=png"))
	if c := [4]uint8(p.Pix[4*(10*40+20):]); c != [4]uint8{200, 30, 30, 255} {
		t.Errorf("inside the frame: %v", c)
	}
	if c := p.Pix[4*(1*40+1)+3]; c != 0 {
		t.Errorf("outside the frame alpha is %d, want 0", c)
	}
}

func TestTransparencyDecidesTheFormat(t *testing.T) {
	clear := scene(60, 40)
	for i := 3; i < len(clear.Pix); i += 8 {
		clear.Pix[i] = 0
	}
	opaque := scene(60, 40) // with an alpha channel that says nothing
	asRGBA := asPNG(t, clear)
	for _, c := range []struct {
		source  []byte
		formats []declare.Format
		want    declare.Format
	}{
		{asRGBA, []declare.Format{declare.JPEG, declare.PNG}, declare.PNG},
		{asRGBA, []declare.Format{declare.JPEG, declare.WebP, declare.PNG}, declare.WebP},
		{asPNG(t, opaque), []declare.Format{declare.JPEG, declare.PNG}, declare.JPEG},
		{asRGBA, []declare.Format{declare.JPEG}, declare.JPEG},
	} {
		j := job(t, "width=30")
		j.Request.Formats = c.formats
		r, err := Variant(c.source, j)
		if err != nil || r.Format != c.want {
			t.Errorf("of %v: %v, %v; want %v", c.formats, r.Format, err, c.want)
		}
	}
	blank := image.NewNRGBA(image.Rect(0, 0, 20, 20))
	p := pixels(t, variant(t, asPNG(t, blank), "format=jpeg"))
	if p.Pix[0] < 253 || p.Pix[1] < 253 || p.Pix[2] < 253 {
		t.Errorf("nothing at all as JPEG is %v, want white", p.Pix[:3])
	}
}

func TestGreatReductionOfEverySource(t *testing.T) {
	up := scene(3000, 900)
	for _, query := range []string{"width=1&format=png", "width=7&format=webp", "height=1&format=jpeg", "width=65535&height=1&object-fit=fill&format=png"} {
		variant(t, asPNG(t, up), query)
	}
}

func refusal(t *testing.T, err error) *policy.Refusal {
	t.Helper()
	var no *policy.Refusal
	if !errors.As(err, &no) {
		t.Fatalf("%v is no refusal", err)
	}
	return no
}

// ofSource reports whether a refusal says that the source is at fault.
func ofSource(no *policy.Refusal) bool {
	switch no.Reason {
	case policy.ReasonNotAnImage, policy.ReasonSourceBroken, policy.ReasonSourceTruncated, policy.ReasonSourceTooManyBytes,
		policy.ReasonSourceTooManyPixels, policy.ReasonSourceTooManyFrames, policy.ReasonVariantTooLarge, policy.ReasonTooLargeForFormat:
		return true
	}
	return false
}

func TestBrokenSourcesAreRefusedWithTheirReason(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	up := scene(120, 90)
	var jp, gf bytes.Buffer
	stdjpeg.Encode(&jp, up, nil)
	gif.Encode(&gf, up, nil)
	wp := variant(t, asPNG(t, up), "format=webp").Data
	progressive := variant(t, asPNG(t, up), "format=jpeg").Data
	for name, file := range map[string][]byte{"jpeg": jp.Bytes(), "progressive jpeg": progressive, "png": asPNG(t, up), "gif": gf.Bytes(), "webp": wp,
		"tiff": asTIFF(t, up), "bmp": asBMP(t, up),
		"jxl": variant(t, asPNG(t, up), "format=jxl").Data, "lossless jxl": variant(t, asPNG(t, up), "format=jxl&quality=lossless").Data, "jxl of a jpeg": variant(t, jp.Bytes(), "format=jxl").Data,
	} {
		for i := 1; i < 32; i++ {
			cut := file[:len(file)*i/32]
			_, err := Paint(cut, job(t, "width=50"))
			if err == nil {
				t.Errorf("%s, cut to %d/32, goes through", name, i)
				continue
			}
			if no := refusal(t, err); !ofSource(no) || i > 8 && no.Reason != "source-truncated" {
				t.Errorf("%s, cut to %d/32: %s (%s)", name, i, no.Reason, no.Detail)
			}
		}
		for i := 20; i < len(file); i += 1 + len(file)/97 {
			bad := append([]byte(nil), file...)
			bad[i] ^= 0x5a
			if _, err := Paint(bad, job(t, "width=50")); err != nil && !ofSource(refusal(t, err)) {
				t.Errorf("%s with byte %d flipped: %v", name, i, err)
			}
		}
	}
	for _, c := range []struct{ data, reason string }{
		{"", "source-truncated"},
		{"This is a text, whatever its name says.\n", "not-an-image"},
		{"<svg xmlns='http://www.w3.org/2000/svg'><g>", "source-truncated"},
		{"<svg xmlns='http://www.w3.org/2000/svg'><g></svg>", "source-broken"},
		{"\xff\xd8\xff\xe0", "source-truncated"},
		{"\x00\x01\x02\x03\x04\x05\x06\x07", "not-an-image"},
	} {
		_, err := Variant([]byte(c.data), job(t, ""))
		if no := refusal(t, err); string(no.Reason) != c.reason {
			t.Errorf("%q: %s, want %s", c.data, no.Reason, c.reason)
		}
	}
}

func TestHugeHeadersCostNothing(t *testing.T) {
	file := asPNG(t, scene(20, 20))
	binary.BigEndian.PutUint32(file[16:], 60000)
	binary.BigEndian.PutUint32(file[20:], 60000)
	binary.BigEndian.PutUint32(file[29:], crc32.ChecksumIEEE(file[12:29]))
	var no *policy.Refusal
	asked := job(t, "width=50")
	bytes := testing.AllocsPerRun(1, func() {
		_, err := Variant(file, asked)
		no = refusal(t, err)
	})
	if no.Reason != "source-too-many-pixels" || !strings.Contains(no.Detail, "60000") {
		t.Errorf("%+v", no)
	}
	if bytes > 120 {
		t.Errorf("refusing it took %v allocations", bytes)
	}
}

// wide are a new site's limits, but for what may be delivered: nearly anything.
func wide() policy.Limits {
	l := policy.DefaultLimits
	l.Width, l.Height, l.Pixels = 65535, 65535, 300_000_000
	return l
}

func TestFormatsThatCantHoldTheSize(t *testing.T) {
	long := image.NewGray(image.Rect(0, 0, 17000, 2))
	r := variant(t, asPNG(t, long), "")
	if r.Format == declare.WebP {
		t.Error("17000 pixels were put into WebP, which holds 16383")
	}
	_, err := Variant(asPNG(t, long), job(t, "format=webp"))
	if no := refusal(t, err); no.Reason != "too-large-for-format" {
		t.Errorf("%+v", no)
	}
}

func TestStagesAreTimedByTheGivenClock(t *testing.T) {
	j := job(t, "width=10")
	var now time.Duration
	j.Clock = func() time.Duration { now += time.Second; return now }
	r, err := Variant(asPNG(t, scene(20, 20)), j)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, s := range r.Stages {
		names = append(names, s.Name)
		if s.Took != time.Second {
			t.Errorf("%s took %v, want one tick", s.Name, s.Took)
		}
	}
	if got := fmt.Sprint(names); got != "[plan decode colour resample encode]" {
		t.Errorf("stages %v", got)
	}
}

// What is beyond all reason is refused by a stated limit or painted as CSS says, and costs no more than the
// picture is worth.
func TestExtremesAreAnsweredByTheRules(t *testing.T) {
	source := asPNG(t, scene(120, 80))
	mark := asPNG(t, scene(900, 700))
	for query, want := range map[string]string{
		"width=60&after-content=%22" + strings.Repeat("kite ", 1600) + "%22": "after-content",
		"width=60&after-content=%22" + strings.Repeat("k", 10_000) + "%22":   "query",
		"width=60&filter=" + strings.Repeat("invert(1)+", 100):               "filter",
		"width=60&filter=blur(10000px)":                                      "",
		"width=60&filter=drop-shadow(9000px+-9000px+5000px+red)":             "",
		"width=60&border-radius=5000px":                                      "",
		"width=60&border-radius=900%25":                                      "",
		"width=60&after-content=url(catalogue/mark.png)":                     "",
		"width=60&after-content=url(catalogue/mark.png)&after-width=4000%25": "",
		"width=60&rotate=1e30deg":                                            "rotate",
		"width=60&after-content=%22kite%22&after-font=9000px+sans-serif":     "after-font",
	} {
		d, err := declare.Parse(query)
		short := query[:min(len(query), 70)]
		var problems declare.Problems
		if errors.As(err, &problems) {
			if problems[0].Parameter != want {
				t.Errorf("%s: refused for %s, want %q: %v", short, problems[0].Parameter, want, err)
			}
			continue
		}
		if want != "" {
			t.Errorf("%s: passed, though %s is beyond what is allowed", short, want)
			continue
		}
		r := d.Resolve(declare.Declarations{}, []declare.Format{declare.PNG})
		result, err := Variant(source, Job{Request: r, Limits: policy.DefaultLimits, Pictures: map[string][]byte{"catalogue/mark.png": mark}})
		var no *policy.Refusal
		if err != nil && !errors.As(err, &no) {
			t.Errorf("%s: %v", short, err)
		}
		if err == nil && result.Canvas != (geometry.Size{W: 60, H: 40}) {
			t.Errorf("%s: made %v", short, result.Canvas)
		}
		if no != nil && (no.Remedy == "" || no.Detail == "") {
			t.Errorf("%s: refused without a way out: %+v", short, no)
		}
	}
}

func FuzzVariant(f *testing.F) {
	up := scene(24, 16)
	f.Add(asPNG(f, up))
	fuzzSource(f)
}

func FuzzJPEG(f *testing.F) {
	var b bytes.Buffer
	stdjpeg.Encode(&b, scene(24, 16), nil)
	f.Add(b.Bytes())
	f.Add(withExif(b.Bytes(), 6))
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=jpeg").Data)
	fuzzSource(f)
}

func FuzzPNG(f *testing.F) {
	f.Add(asPNG(f, scene(24, 16)))
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=png&quality=50").Data)
	fuzzSource(f)
}

func FuzzGIF(f *testing.F) {
	f.Add(kite(3, true))
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=gif").Data)
	fuzzSource(f)
}

func FuzzWebP(f *testing.F) {
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=webp").Data)
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=webp&quality=lossless").Data)
	f.Add(variant(f, kite(3, true), "format=webp").Data)
	fuzzSource(f)
}

func FuzzAVIF(f *testing.F) {
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=avif").Data)
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=avif&border-radius=8px").Data)
	fuzzSource(f)
}

func FuzzJXL(f *testing.F) {
	var jpeg bytes.Buffer
	stdjpeg.Encode(&jpeg, scene(24, 16), nil)
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=jxl").Data)
	f.Add(variant(f, asPNG(f, scene(24, 16)), "format=jxl&quality=lossless&border-radius=4px").Data)
	f.Add(variant(f, jpeg.Bytes(), "format=jxl").Data)
	f.Add(variant(f, kite(3, true), "format=jxl").Data)
	fuzzSource(f)
}

func asTIFF(t testing.TB, m image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := tiff.Encode(&b, m, &tiff.Options{Compression: tiff.Deflate}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func asBMP(t testing.TB, m image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := bmp.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func FuzzTIFF(f *testing.F) {
	f.Add(asTIFF(f, scene(24, 16)))
	fuzzSource(f)
}

func FuzzBMP(f *testing.F) {
	f.Add(asBMP(f, scene(24, 16)))
	fuzzSource(f)
}

func FuzzHEIC(f *testing.F) {
	f.Add(fromPhone(f, asPNG(f, scene(24, 16))))
	fuzzSource(f)
}

// fuzzSource holds that any bytes give a variant within its slot, or a refusal of the source.
func fuzzSource(f *testing.F) {
	j := job(f, "width=9&height=5")
	j.Limits.SourcePixels = 1 << 20
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Variant(data, j)
		if err != nil {
			var no *policy.Refusal
			if !errors.As(err, &no) || !ofSource(no) {
				t.Fatalf("%v isn't a refusal of the source", err)
			}
			return
		}
		if r.Canvas.W > 9 || r.Canvas.H > 5 {
			t.Fatalf("canvas %v is larger than the slot", r.Canvas)
		}
	})
}

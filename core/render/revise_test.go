package render

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/gif"
	stdjpeg "image/jpeg"
	"math"
	"strings"
	"testing"

	"echolane/core/codec"
	"echolane/core/face"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/demo/pictures"
)

// secret is a scene with stripes of black and white in a box of it.
func secret(w, h int, box image.Rectangle) *image.NRGBA {
	m := scene(w, h)
	for y := box.Min.Y; y < box.Max.Y; y++ {
		for x := box.Min.X; x < box.Max.X; x++ {
			v := uint8(255 * (x / 6 & 1))
			m.SetNRGBA(x, y, color.NRGBA{v, v, v, 255})
		}
	}
	return m
}

// contrast is how far neighbours in the inner part of a box differ, in levels.
func contrast(p *raster.RGBA, x0, y0, x1, y1 int) (most int) {
	for y := y0; y < y1; y++ {
		row := p.Row(y)
		for x := x0; x < x1-1; x++ {
			most = max(most, abs(int(row[4*x+1])-int(row[4*x+5])))
		}
	}
	return most
}

func abs(v int) int { return max(v, -v) }

// What is redacted is in no answer, at no size, whichever way the picture is stored and whatever else is asked for.
func TestRedactedPlacesAreGone(t *testing.T) {
	const w, h = 400, 300
	box := image.Rect(120, 80, 216, 152)
	for orientation := 1; orientation <= 8; orientation++ {
		var b bytes.Buffer
		if err := stdjpeg.Encode(&b, stored(secret(w, h, box), orientation), &stdjpeg.Options{Quality: 95}); err != nil {
			t.Fatal(err)
		}
		source := withExif(b.Bytes(), byte(orientation))
		for _, query := range []string{
			"redact=120,80,96,72", "redact=percent:30,26.6666,24,24", "redact=120,80,96,72&width=200", "redact=120,80,96,72&width=50", "redact=polygon(120px+80px,216px+80px,216px+152px,120px+152px)&width=200",
		} {
			p := painted(t, source, query)
			k := float64(p.W) / w
			at := func(v int) int { return int(float64(v) * k) }
			if c := contrast(p, at(box.Min.X)+1, at(box.Min.Y)+1, at(box.Max.X)-1, at(box.Max.Y)-1); c > 24 {
				t.Errorf("%d, %s: neighbours differ by %d levels", orientation, query, c)
			}
			plain := painted(t, source, fmt.Sprintf("width=%d", p.W))
			right, whole := p.View(at(box.Max.X)+4, 0, p.W, p.H), plain.View(at(box.Max.X)+4, 0, p.W, p.H)
			if d := psnr(t, right.Copy(), whole.Copy()); d < 35 {
				t.Errorf("%d, %s: what lies beside has %.1f dB", orientation, query, d)
			}
		}
		for _, query := range []string{"redact=120,80,96,72&format=jpeg", "redact=0,0,1,1&format=jpeg", "redact=faces&format=jpeg"} {
			if r := variant(t, source, query); r.How.Way == "source" {
				t.Errorf("%d, %s: the source itself is sent", orientation, query)
			}
			if orientation > 1 {
				break
			}
		}
	}
}

func painted(t testing.TB, source []byte, query string) *raster.RGBA {
	t.Helper()
	p, err := Paint(source, job(t, query))
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return p
}

func TestRedactionFills(t *testing.T) {
	source := asPNG(t, secret(300, 200, image.Rect(40, 40, 100, 100)))
	p := pixels(t, variant(t, source, "format=png&redact=40,40,60,60+rgb(10+20+30)"))
	for _, at := range [][2]int{{40, 40}, {99, 99}, {70, 50}} {
		if q := p.Row(at[1])[4*at[0]:]; q[0] != 10 || q[1] != 20 || q[2] != 30 {
			t.Errorf("%v is %v", at, q[:4])
		}
	}
	// A place beside the picture, and one that reaches out of it, do no harm.
	variant(t, source, "format=png&redact=900,900,10,10&width=80")
	variant(t, source, "format=png&redact=290,190,900,900&width=80&rotate=30deg&xywh=10,10,100,100")
}

func TestRedactionOfFilmsAndOfManyAtOnce(t *testing.T) {
	box := image.Rect(60, 40, 132, 112)
	g := &gif.GIF{}
	for frame := range 3 {
		m := image.NewPaletted(image.Rect(0, 0, 240, 160), color.Palette{color.Black, color.White, color.Gray{100}})
		for i := range m.Pix {
			x, y := i%240, i/240
			if m.Pix[i] = 2; image.Pt(x, y).In(box) {
				m.Pix[i] = uint8(x / 6 & 1)
			}
		}
		m.Pix[frame] = 1
		g.Image, g.Delay = append(g.Image, m), append(g.Delay, 10)
	}
	var b bytes.Buffer
	if err := gif.EncodeAll(&b, g); err != nil {
		t.Fatal(err)
	}
	r := variant(t, b.Bytes(), "format=gif&redact=60,40,72,72")
	film, err := gif.DecodeAll(bytes.NewReader(r.Data))
	if err != nil || len(film.Image) != 3 {
		t.Fatalf("%d frames: %v", len(film.Image), err)
	}
	for x := box.Min.X + 2; x < box.Max.X-3; x++ {
		c, d := color.GrayModel.Convert(film.Image[0].At(x, 70)).(color.Gray), color.GrayModel.Convert(film.Image[0].At(x+1, 70)).(color.Gray)
		if abs(int(c.Y)-int(d.Y)) > 40 {
			t.Fatalf("the film shows %v beside %v at %d", c, d, x)
		}
	}
	source := asPNG(t, secret(400, 300, image.Rect(120, 80, 216, 152)))
	queries := []string{"format=png&width=200", "format=png&width=200&redact=120,80,96,72", "format=png&width=200&redact=120,80,96,72&grayscale=1", "format=png&width=100&redact=0,0,10,10"}
	queries[2] = "format=png&width=200&redact=120,80,96,72&filter=grayscale(1)"
	var jobs []Job
	for _, q := range queries {
		jobs = append(jobs, job(t, q))
	}
	Variants(source, jobs, func(i int, o Outcome) {
		if o.Err != nil {
			t.Fatal(o.Err)
		}
		if one := variant(t, source, queries[i]); !bytes.Equal(one.Data, o.Result.Data) {
			t.Errorf("%s isn't the same among many", queries[i])
		}
	})
}

func TestFacesAreFoundCutAndHidden(t *testing.T) {
	l, boxes := pictures.LabelledFaces(1, 60)
	source := asPNG(t, &image.NRGBA{Pix: l.Pix, Stride: 4 * l.W, Rect: image.Rect(0, 0, l.W, l.H)})
	j := job(t, "")
	j.Facts = true
	r, err := Variant(source, j)
	if err != nil || len(r.Faces) < len(boxes)-1 {
		t.Fatalf("%d faces of %d: %v", len(r.Faces), len(boxes), err)
	}
	x0, y0, x1, y1 := face.Kept(r.Faces, 1, 1)
	// The largest stays, and as many as there is room for.
	one := face.Find(painted(t, source, "object-position=faces&width=110&height=540"))
	if len(one) < 1 {
		t.Error("a narrow crop keeps no face")
	}
	half := painted(t, source, "object-position=faces&width=300&height=540")
	if n := len(face.Find(half)); n < 4 {
		t.Errorf("half of the picture keeps %d faces", n)
	}
	at := func(v float64, side int) float64 { return v * float64(side) }
	cut := painted(t, source, "xywh=faces")
	if w, h := int(math.Ceil(at(x1, l.W)))-int(at(x0, l.W)), int(math.Ceil(at(y1, l.H)))-int(at(y0, l.H)); cut.W != w || cut.H != h {
		t.Errorf("xywh=faces has %d × %d, not %d × %d", cut.W, cut.H, w, h)
	}
	if wide := painted(t, source, "xywh=faces+1.2"); wide.W <= cut.W || wide.H <= cut.H {
		t.Error("room makes the part no larger")
	}
	for _, q := range []string{"redact=faces", "redact=faces+black&width=500", "redact=faces&width=500&rotate=180deg"} {
		if found := face.FindAnyhow(painted(t, source, q)); len(found) > 0 {
			t.Errorf("%s: %d faces are still found: %v", q, len(found), found)
		}
	}
	// No face: the whole, and the subject.
	field := asPNG(t, scene(300, 200))
	if p := painted(t, field, "xywh=faces"); p.W != 300 || p.H != 200 {
		t.Errorf("without a face xywh=faces has %d × %d", p.W, p.H)
	}
	a, b := painted(t, field, "object-position=faces&width=100&height=100"), painted(t, field, "object-position=subject&width=100&height=100")
	if !bytes.Equal(a.Pix, b.Pix) {
		t.Error("without a face object-position=faces isn't subject")
	}
}

// What is erased is filled as what lies around it goes on, alike at every size and however the picture is stored.
func TestErasedPlacesAreFilled(t *testing.T) {
	const w, h = 480, 360
	box := image.Rect(300, 200, 372, 260)
	clean, spoilt := scene(w, h), secret(w, h, box)
	for _, orientation := range []int{1, 6, 8} {
		var b bytes.Buffer
		if err := stdjpeg.Encode(&b, stored(spoilt, orientation), &stdjpeg.Options{Quality: 98}); err != nil {
			t.Fatal(err)
		}
		source := withExif(b.Bytes(), byte(orientation))
		for _, query := range []string{
			"erase=296,196,80,68", "erase=296,196,80,68&width=240", "erase=percent:61.5,54,17,19.5&width=100", "erase=296,196,40,68+330,196,46,68&width=160",
			"erase=polygon(296px+196px,376px+196px,376px+264px,296px+264px)&width=240&xywh=200,100,280,200",
		} {
			p := painted(t, source, query)
			without := fmt.Sprintf("width=%d", p.W)
			if _, part, ok := strings.Cut(query, "&xywh"); ok {
				without += "&xywh" + part
			}
			q := painted(t, asPNG(t, clean), without)
			if d := psnr(t, p, q); d < 36 {
				t.Errorf("%d, %s: %.1f dB from the picture without what was erased", orientation, query, d)
			}
		}
	}
	var no *policy.Refusal
	if _, err := Variant(asPNG(t, clean), job(t, "erase=0,0,480,300&width=50")); !errors.As(err, &no) || no.Reason != policy.ReasonErasedTooMuch {
		t.Errorf("most of the picture is erased: %v", err)
	}
	// A place beside the picture changes nothing.
	a, b := painted(t, asPNG(t, clean), "erase=9000,9000,5,5&width=80"), painted(t, asPNG(t, clean), "width=80")
	if d := psnr(t, a, b); d < 60 {
		t.Errorf("a place beside the picture changes it: %.1f dB", d)
	}
}

// The subject is the same whichever way the picture is stored, at any size, and stands before what is under it.
func TestCutOut(t *testing.T) {
	c := pictures.LabelledCuts()[2]
	whole := &image.NRGBA{Pix: c.Pix, Stride: 4 * c.W, Rect: image.Rect(0, 0, c.W, c.H)}
	for _, orientation := range []int{1, 2, 5, 6, 8} {
		var b bytes.Buffer
		if err := stdjpeg.Encode(&b, stored(whole, orientation), &stdjpeg.Options{Quality: 97}); err != nil {
			t.Fatal(err)
		}
		source := withExif(b.Bytes(), byte(orientation))
		for _, width := range []int{c.W, 240, 97} {
			p := painted(t, source, fmt.Sprintf("mask-image=subject&width=%d", width))
			off := 0.0
			for y := range p.H {
				for x := range p.W {
					want := c.Alpha[min(c.H-1, (2*y+1)*c.H/(2*p.H))*c.W+min(c.W-1, (2*x+1)*c.W/(2*p.W))]
					off += math.Abs(float64(p.Row(y)[4*x+3])-float64(want)) / 255
				}
			}
			if off /= float64(p.W * p.H); off > 0.015 {
				t.Errorf("orientation %d, %d wide: alpha is off by %.3f", orientation, width, off)
			}
		}
	}
	source := asPNG(t, whole)
	if p := painted(t, source, "mask-image=subject&width=200&background-color=gold"); !p.Opaque || p.Row(2)[0] != 255 || p.Row(2)[1] != 215 || p.Row(2)[2] != 0 {
		t.Errorf("before gold the corner is %v", p.Row(2)[:4])
	}
	if r := variant(t, source, "mask-image=subject&width=200"); !r.Format.ShowsAlpha() {
		t.Errorf("a cut-out goes out in %v", r.Format)
	}
	flat := image.NewNRGBA(image.Rect(0, 0, 90, 60))
	for i := range flat.Pix {
		if flat.Pix[i] = 120; i%4 == 3 {
			flat.Pix[i] = 255
		}
	}
	var no *policy.Refusal
	if _, err := Variant(asPNG(t, flat), job(t, "mask-image=subject")); !errors.As(err, &no) || no.Reason != policy.ReasonNoClearSubject {
		t.Errorf("one colour has a subject: %v", err)
	}
	if p := painted(t, asPNG(t, flat), "mask-image=subject+or-none"); p.Row(5)[4*5+3] == 0 {
		t.Error("or-none keeps nothing")
	}
}

// What somebody has marked in the file wins over what is found, however the picture is stored.
func TestMarkedRegionsWin(t *testing.T) {
	const w, h = 400, 300
	up := scene(w, h)
	for _, orientation := range []int{1, 3, 6, 8} {
		// The lower right of the upright picture, as it lies in the stored one.
		x0, y0, x1, y1 := 0.7, 0.6, 0.9, 0.9
		sw, sh := w, h
		if orientation >= 5 {
			sw, sh = h, w
		}
		a := storedPlace(codec.Info{W: sw, H: sh, Orientation: orientation}, [2]float64{x0 * w, y0 * h})
		b := storedPlace(codec.Info{W: sw, H: sh, Orientation: orientation}, [2]float64{x1 * w, y1 * h})
		mx, my, mw, mh := (a[0]+b[0])/2/float64(sw), (a[1]+b[1])/2/float64(sh), math.Abs(a[0]-b[0])/float64(sw), math.Abs(a[1]-b[1])/float64(sh)
		for _, kind := range []string{"Focus", "Face"} {
			xmp := "http://ns.adobe.com/xap/1.0/\x00" + fmt.Sprintf(`<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:r="http://www.metadataworkinggroup.com/schemas/regions/" xmlns:a="http://ns.adobe.com/xmp/sType/Area#"><r:Regions><r:RegionList><rdf:Bag><rdf:li r:Type="%s"><r:Area a:x="%g" a:y="%g" a:w="%g" a:h="%g"/></rdf:li></rdf:Bag></r:RegionList></r:Regions></rdf:Description></rdf:RDF></x:xmpmeta>`, kind, mx, my, mw, mh)
			var file bytes.Buffer
			if err := stdjpeg.Encode(&file, stored(up, orientation), nil); err != nil {
				t.Fatal(err)
			}
			source := withExif(file.Bytes(), byte(orientation))
			segment := append([]byte{0xff, 0xe1, byte((len(xmp) + 2) >> 8), byte(len(xmp) + 2)}, xmp...)
			source = append(append(append([]byte(nil), source[:2]...), segment...), source[2:]...)
			for aim, query := range map[string]string{"subject": "object-position=subject", "faces": "object-position=faces"} {
				if aim == "faces" && kind == "Focus" {
					continue
				}
				got := painted(t, source, query+"&width=100&height=150&grow=yes")
				want := painted(t, source, "object-position=100%25+50%25&width=100&height=150&grow=yes")
				if d := psnr(t, got, want); d < 40 {
					t.Errorf("orientation %d, a %s marked, %s: %.1f dB from the right edge", orientation, kind, aim, d)
				}
			}
			if kind == "Face" {
				p := painted(t, source, "xywh=faces")
				if p.W != 80 || p.H != 90 {
					t.Errorf("orientation %d: xywh=faces has %d × %d", orientation, p.W, p.H)
				}
			}
		}
	}
}

func TestFactsSayWhatItLooksLike(t *testing.T) {
	m := scene(300, 200)
	j := job(t, "")
	j.Facts = true
	r, err := Variant(asPNG(t, m), j)
	if err != nil || r.Looks == nil || len(r.Looks.Colours) < 2 || len(r.Looks.Colours) > 5 || r.Looks.Kind == "" {
		t.Fatalf("it looks like %+v: %v", r.Looks, err)
	}
	sum := 0.0
	for _, c := range r.Looks.Colours {
		sum += c.Share
	}
	if sum < 0.97 || sum > 1.01 {
		t.Errorf("the colours' shares are %.3f in all", sum)
	}
	if r.Subject.By == "" || r.Looks.Lettered {
		t.Errorf("the subject is %+v, text %v", r.Subject, r.Looks.Lettered)
	}
}

// What was found once serves the other sizes, and gives the same as if it were found anew.
func TestFindingsAreKeptWithinBounds(t *testing.T) {
	const room = 1 << 20
	known := NewFindings(room)
	times := 0
	of := func(name string, size int) int {
		v, err := found(known, []byte("source"), name, func(int) int { return size }, func() (int, error) {
			times++
			return len(name), nil
		})
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if of("a", 10) != 1 || of("a", 10) != 1 || times != 1 {
		t.Errorf("found %d times", times)
	}
	for i := range 10 {
		of(fmt.Sprint("large", i), room/4)
	}
	if n, used := known.kept.Holds(); n == 0 || used > room {
		t.Errorf("%d findings with %d bytes of %d are kept", n, used, room)
	}
	times = 0
	of("a", 10)
	of("huge", room)
	of("huge", room)
	if times != 3 {
		t.Errorf("found %d times, not 3", times)
	}
	known.Forget()
	if n, used := known.kept.Holds(); n != 0 || used != 0 {
		t.Error("what is forgotten is still there")
	}
	// The same picture comes of what is known.
	l, _ := pictures.LabelledFaces(1, 40)
	source := asPNG(t, &image.NRGBA{Pix: l.Pix, Stride: 4 * l.W, Rect: image.Rect(0, 0, l.W, l.H)})
	j := job(t, "width=200&redact=faces&erase=10,10,60,60")
	first, err := Paint(source, j)
	if err != nil {
		t.Fatal(err)
	}
	j.Findings = known
	for range 2 {
		if again, err := Paint(source, j); err != nil || !bytes.Equal(again.Pix, first.Pix) {
			t.Errorf("with findings another picture comes out: %v", err)
		}
	}
}

func TestTheGroundIsFilteredByItself(t *testing.T) {
	d := job(t, "width=120&background-color=rgb(200+100+50)&backdrop-filter=invert(1)&object-fit=contain&height=120&padding=10px")
	p, err := Paint(asPNG(t, scene(300, 200)), d)
	if err != nil {
		t.Fatal(err)
	}
	if q := p.Row(2)[4*2:][:4]; q[0] != 55 || q[1] != 155 || q[2] != 205 {
		t.Errorf("the ground is %v", q)
	}
	plain := painted(t, asPNG(t, scene(300, 200)), "width=120&background-color=gold&object-fit=contain&height=120&padding=10px")
	if a, b := p.Row(60)[4*60:][:4], plain.Row(60)[4*60:][:4]; [4]uint8(a) != [4]uint8(b) {
		t.Errorf("the picture itself is %v, without a filter %v", a, b)
	}
	if p := painted(t, asPNG(t, scene(300, 200)), "width=120&background-color=gold&backdrop-filter=opacity(.5)&object-fit=contain&height=120"); p.Row(1)[3] < 126 || p.Row(1)[3] > 129 {
		t.Errorf("the ground's alpha is %d", p.Row(1)[3])
	}
}

// Who is redacted is cut out all the same: faces are looked for as they are, and shown as they are not.
func TestRedactedPeopleAreCutOut(t *testing.T) {
	c := pictures.LabelledCuts()[3]
	source := asPNG(t, &image.NRGBA{Pix: c.Pix, Stride: 4 * c.W, Rect: image.Rect(0, 0, c.W, c.H)})
	p := painted(t, source, "redact=faces&mask-image=subject")
	var off float64
	for i, a := range c.Alpha {
		off += math.Abs(float64(p.Row(i / c.W)[4*(i%c.W)+3])-float64(a)) / 255
	}
	// What is redacted shows neither its outline nor where it ends, so some ground goes along; without its head it would be off by 0.05.
	if off /= float64(len(c.Alpha)); off > 0.04 {
		t.Errorf("alpha is off by %.3f", off)
	}
	if found := face.Find(p); len(found) > 0 {
		t.Errorf("the face shows: %v", found)
	}
}

package encode

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/raster"
)

// meadow is a picture with slopes and grain; clear makes a corner of it transparent.
func meadow(w, h int, clear bool) *raster.RGBA {
	p := raster.NewRGBA(w, h)
	r := rand.New(rand.NewPCG(1, uint64(w)))
	for y := range h {
		row := p.Row(y)
		for x := range w {
			grain := r.IntN(24)
			a := 255
			if clear && x+y < w/2 {
				a = 0
			}
			for c, v := range []int{40 + 90*x/w + grain, 90 + 120*y/h + grain, 60 + grain} {
				row[4*x+c] = uint8(v * a / 255)
			}
			row[4*x+3] = uint8(a)
		}
	}
	p.Opaque = !clear
	return p
}

// drawing is a picture of few colours with sharp edges.
func drawing(w, h int) *raster.RGBA {
	p := raster.NewRGBA(w, h)
	for y := range h {
		row := p.Row(y)
		for x := range w {
			c := [4]uint8{250, 248, 240, 255}
			if (x/5+y/5)%2 == 0 {
				c = [4]uint8{200, 30, 40, 255}
			}
			copy(row[4*x:], c[:])
		}
	}
	p.Opaque = true
	return p
}

func TestEveryFormatIsWrittenAtAQuality(t *testing.T) {
	for _, format := range declare.Formats() {
		for _, clear := range []bool{false, true} {
			for _, quick := range []bool{false, true} {
				pixels := meadow(160, 120, clear)
				p := Picture{Pixels: pixels, Quality: 70, Quick: quick}
				data, how, err := p.Encode(format)
				if err != nil {
					t.Fatal(format, err)
				}
				if got := formats.Sniff(data); got != format.MediaType() {
					t.Errorf("%s: the file is %s", format, got)
				}
				if how.Way == "searched" && math.Abs(how.Likeness-how.Aim) > 4 {
					t.Errorf("%s, transparent %t: likeness %.1f, aim %.1f", format, clear, how.Likeness, how.Aim)
				}
				if how.Provisional != (how.Way == "predicted") || how.Provisional && !quick {
					t.Errorf("%s: %+v", format, how)
				}
				p.Free()
			}
		}
	}
	p := Picture{Pixels: meadow(20, 20, false)}
	defer p.Free()
	if _, _, err := p.Encode(declare.FormatUnset); err == nil {
		t.Error("a format that isn't one is written")
	}
	p.Quality = declare.Lossless
	if _, _, err := p.Encode(declare.JPEG); err == nil {
		t.Error("JPEG is written lossless")
	}
}

func TestTheSourcesOwnQualityIsTheFinest(t *testing.T) {
	p := Picture{Pixels: meadow(160, 120, false), Quality: 90, Finest: 40}
	defer p.Free()
	if _, how, err := p.Encode(declare.WebP); err != nil || how.Quality != 40 {
		t.Errorf("%+v, %v", how, err)
	}
	if q := (&Picture{}).number(); q != defaultQuality {
		t.Errorf("without a quality it's %d", q)
	}
}

func TestADrawingIsOneAndSoAreItsParts(t *testing.T) {
	for kind, pixels := range map[string]*raster.RGBA{"graphic": drawing(128, 128), "photograph": meadow(128, 128, false)} {
		if p := (&Picture{Pixels: pixels}); p.Kind() != kind || p.SharpColour() != (kind == "graphic") {
			t.Errorf("a %s is taken for a %s, sharp colour %t", kind, p.Kind(), p.SharpColour())
		}
	}
	if p := (&Picture{taken: "graphic", YCbCr: raster.New420(8, 8, raster.Full)}); p.Kind() != "graphic" {
		t.Error("a part of a drawing is a photograph")
	}
}

func TestABudgetBringsQualityDownOrSaysWhatIsLeast(t *testing.T) {
	for _, format := range declare.Formats() {
		p := Picture{Pixels: meadow(160, 120, false), Quality: 80}
		data, how, err := p.Encode(format)
		if err != nil {
			t.Fatal(err)
		}
		if same, _, err := p.Within(format, data, how, NewBudget(len(data), 1, metadata.Facts{})); err != nil || &same[0] != &data[0] {
			t.Errorf("%s: what keeps the budget is made again: %v", format, err)
		}
		most := len(data) * 6 / 10
		small, how, err := p.Within(format, data, how, NewBudget(most, 1, metadata.Facts{}))
		if err != nil || len(small) > most || how.Way != "budget" {
			t.Errorf("%s: %d bytes within %d, %+v, %v", format, len(small), most, how, err)
		}
		var no *policy.Refusal
		if _, _, err := p.Within(format, data, how, NewBudget(40, 60, metadata.Facts{})); !errors.As(err, &no) || no.Reason != policy.ReasonBudgetOutOfReach || !strings.HasPrefix(no.Allowed, "at least ") {
			t.Errorf("%s: %v", format, err)
		}
		p.Free()
	}
	xmp := []byte("<x:xmpmeta xmlns:x='adobe:ns:meta/'/>")
	if with := NewBudget(1000, 0, metadata.Facts{XMP: xmp}); with.facts < len(xmp) || with.floor != 1 {
		t.Errorf("facts of %d bytes take %d of a budget", len(xmp), with.facts)
	}
}

func TestAMovieKeepsItsSetting(t *testing.T) {
	for _, format := range []declare.Format{declare.WebP, declare.GIF} {
		film := func(m *Movie) ([]byte, error) {
			for i := range 3 {
				p := meadow(96, 64+i*0, false)
				clear(p.Row(10 + i)[:40])
				if err := m.Add(p, 40*time.Millisecond); err != nil {
					return nil, err
				}
				p.Free()
			}
			return m.Bytes()
		}
		m := &Movie{Format: format, Quality: 60}
		data, err := film(m)
		if err != nil {
			t.Fatal(err)
		}
		f := formats.Of(format.MediaType())
		info, err := f.Probe(data)
		if err != nil || info.Frames != 3 || m.How().Way == "" {
			t.Errorf("%s: %+v, %v, %+v", format, info, err, m.How())
		}
		small, err := m.Within(film, data, NewBudget(len(data)*7/10, 1, metadata.Facts{}))
		if err != nil || len(small) > len(data)*7/10 || m.How().Way != "budget" {
			t.Errorf("%s: %d of %d bytes, %v, %+v", format, len(small), len(data), err, m.How())
		}
		m.Free()
	}
}

// Finer qualities need finer settings, whatever the picture.
func TestPredictedSettingsRiseWithQuality(t *testing.T) {
	for _, f := range formats.All() {
		if f.Write == nil || f.Write.Fit == nil {
			continue
		}
		fit := f.Write.Fit
		if !slices.IsSortedFunc(fit.Settings, func(a, b [2]float64) int { return int(math.Copysign(1, a[0]-b[0])) }) {
			t.Errorf("%s: qualities aren't upwards", f.Name)
		}
		texture := likeness.TextureOfPlanes(meadow(256, 256, false).To420())
		last := math.Inf(-1)
		for q := 10.0; q <= 95; q += 5 {
			if s := UsualSetting(fit, q); s < last {
				t.Errorf("%s: quality %.0f is usually had at %.1f, a lower one at %.1f", f.Name, q, s, last)
			} else {
				last = s
			}
			if slope := predictedSlope(fit, q, texture); slope >= 0 {
				t.Errorf("%s: at quality %.0f a finer setting is thought to make the picture worse", f.Name, q)
			}
		}
		if low, high := predictedSetting(fit, 20, texture), predictedSetting(fit, 90, texture); low >= high {
			t.Errorf("%s: quality 20 is thought to need %.1f, 90 %.1f", f.Name, low, high)
		}
	}
}

func TestAFileIsNeverFinerThanItsEasiestPicture(t *testing.T) {
	fit := &codec.Fit{Easy: [][2]float64{{0, 0}, {50, 40}, {98, 90}}}
	for setting, want := range map[float64]int{0: 1, 20: 25, 40: 50, 65: 74, 90: 0, 95: 0} {
		if got := fit.QualityOf(setting); got != want {
			t.Errorf("setting %.0f: quality %d, want %d", setting, got, want)
		}
	}
}

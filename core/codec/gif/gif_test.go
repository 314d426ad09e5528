package gif

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/gif"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/raster"
)

var errStop = errors.New("enough")

// film writes an animation of full control: each frame a rectangle of one colour.
func film(t *testing.T, frames []struct {
	at       image.Rectangle
	colour   byte
	disposal byte
}) []byte {
	t.Helper()
	palette := color.Palette{color.NRGBA{}, color.NRGBA{255, 0, 0, 255}, color.NRGBA{0, 255, 0, 255}, color.NRGBA{0, 0, 255, 255}}
	g := &gif.GIF{LoopCount: -1, Config: image.Config{Width: 8, Height: 4, ColorModel: palette}}
	for _, f := range frames {
		m := image.NewPaletted(f.at, palette)
		for i := range m.Pix {
			m.Pix[i] = f.colour
		}
		g.Image, g.Delay, g.Disposal = append(g.Image, m), append(g.Delay, 0), append(g.Disposal, f.disposal)
	}
	var b bytes.Buffer
	if err := gif.EncodeAll(&b, g); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestEveryDisposalIsFollowed(t *testing.T) {
	whole, left, middle := image.Rect(0, 0, 8, 4), image.Rect(0, 0, 4, 4), image.Rect(2, 0, 6, 4)
	data := film(t, []struct {
		at       image.Rectangle
		colour   byte
		disposal byte
	}{
		{whole, 1, gif.DisposalNone}, {left, 2, gif.DisposalPrevious}, {middle, 3, gif.DisposalBackground}, {image.Rect(7, 0, 8, 4), 2, gif.DisposalNone},
	})
	want := []string{"rrrrrrrr", "ggggrrrr", "rrbbbbrr", "rr    rg"}
	i := 0
	err := Frames(data, func(p *raster.RGBA, shown time.Duration) error {
		got := ""
		for x := range 8 {
			q := [4]uint8(p.Row(2)[4*x:])
			got += map[[4]uint8]string{{255, 0, 0, 255}: "r", {0, 255, 0, 255}: "g", {0, 0, 255, 255}: "b", {}: " "}[q]
		}
		if got != want[i] {
			t.Errorf("frame %d is %q, want %q", i, got, want[i])
		}
		if shown != 100*time.Millisecond {
			t.Errorf("a frame without a time is shown %v", shown)
		}
		i++
		return nil
	})
	if err != nil || i != len(want) {
		t.Errorf("%d frames, %v", i, err)
	}
	if info, err := Probe(data); err != nil || info.Frames != 4 || info.Plays != 1 || !info.Alpha {
		t.Errorf("%+v, %v", info, err)
	}
	if err := Frames(data, func(*raster.RGBA, time.Duration) error { return errStop }); !errors.Is(err, errStop) {
		t.Errorf("an end from outside is answered with %v", err)
	}
}

func TestOnlyWhatChangesIsWritten(t *testing.T) {
	frame := func(at int, clear bool) *raster.RGBA {
		p := raster.NewRGBA(200, 100)
		if !clear {
			p.Fill(230, 230, 220, 255)
		}
		for y := 20; y < 30; y++ {
			for x := at; x < at+10; x++ {
				copy(p.Row(y)[4*x:], []byte{200, 10, 10, 255})
			}
		}
		return p
	}
	for _, clear := range []bool{false, true} {
		a := NewAnimation(3, 256)
		for _, at := range []int{10, 14, 14, 60} {
			a.Add(frame(at, clear), 50*time.Millisecond, 0)
		}
		data, err := a.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		g, err := gif.DecodeAll(bytes.NewReader(data))
		if err != nil {
			t.Fatal(err)
		}
		if len(g.Image) != 3 || g.Delay[1] != 10 || g.LoopCount != 2 { // two that look the same are one, shown longer
			t.Errorf("clear %v: %d frames, delays %v, %d loops", clear, len(g.Image), g.Delay, g.LoopCount)
		}
		if r := g.Image[1].Rect; !clear && (r.Dx() > 14 || r.Dy() != 10) {
			t.Errorf("a step of 4 pixels is written as %v", r)
		}
		i := 0
		wants := []int{10, 14, 60}
		Frames(data, func(p *raster.RGBA, _ time.Duration) error {
			want := frame(wants[i], clear)
			for y := range p.H {
				if !bytes.Equal(p.Row(y), want.Row(y)) {
					t.Fatalf("clear %v: row %d of frame %d isn't what was added", clear, y, i)
				}
			}
			i++
			return nil
		})
	}
}

func TestBrokenHeadersAreRefused(t *testing.T) {
	for name, data := range map[string]string{"nothing": "", "only its name": "GIF89a", "no size": "GIF89a\x00\x00\x05\x00\x00\x00\x00;", "no frame": "GIF89a\x05\x00\x05\x00\x00\x00\x00;"} {
		_, err := Probe([]byte(data))
		var e *codec.Error
		if !errors.As(err, &e) || e.Problem == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

package avif

import (
	"bytes"
	"errors"
	"math"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/raster"
)

// step is a frame with a square that moves.
func step(i int, clear bool) *raster.RGBA {
	p := raster.NewRGBA(64, 48)
	for y := range 48 {
		for x := range 64 {
			a := uint8(255)
			if clear {
				a = uint8(4 * x)
			}
			copy(p.Row(y)[4*x:], []byte{uint8(90 + x), uint8(120 + y), 60, a})
			if x >= 8*i && x < 8*i+12 && y > 10 && y < 30 {
				copy(p.Row(y)[4*x:], []byte{220, 30, 40})
			}
		}
	}
	p.Opaque = !clear
	return p
}

func TestSequencesKeepTheirFramesAndTimes(t *testing.T) {
	for _, clear := range []bool{false, true} {
		for setting, within := range map[float64]float64{40: 9, codec.Exactly: 0} {
			a, err := Format.Write.Animate(64, 48, 0, 256, !clear)
			if err != nil {
				t.Fatal(err)
			}
			for i := range 5 {
				if err := a.Add(step(i, clear), time.Duration(40+20*i)*time.Millisecond, setting); err != nil {
					t.Fatal(err)
				}
			}
			data, err := a.Bytes()
			a.Close()
			if err != nil {
				t.Fatal(err)
			}
			info, err := Probe(data)
			if err != nil || info.Frames != 5 || info.W != 64 || info.H != 48 || info.Alpha != clear || info.Coding != "animated" || !Format.Sniff(data) {
				t.Fatalf("clear %t at %g: %+v, %v", clear, setting, info, err)
			}
			i := 0
			err = Frames(data, func(p *raster.RGBA, shown time.Duration) error {
				want := step(i, clear)
				sum := 0.0
				for y := range 48 {
					for k, v := range want.Row(y) {
						sum += math.Abs(float64(v) - float64(p.Row(y)[k]))
					}
				}
				if mean := sum / (48 * 64 * 4); mean > within || shown != time.Duration(40+20*i)*time.Millisecond {
					t.Errorf("clear %t at %g, frame %d is off by %.2f in the mean and shown for %v", clear, setting, i, mean, shown)
				}
				i++
				return nil
			})
			if err != nil || i != 5 {
				t.Errorf("%d frames: %v", i, err)
			}
			for k := range 16 {
				err := Frames(data[:len(data)*k/16], func(p *raster.RGBA, _ time.Duration) error { p.Free(); return nil })
				var e *codec.Error
				if !errors.As(err, &e) || e.Problem == "" {
					t.Errorf("cut at %d/16: %v", k, err)
				}
			}
		}
	}
	enough := errors.New("enough")
	a, _ := Format.Write.Animate(64, 48, 0, 256, true)
	defer a.Close()
	if _, err := a.Bytes(); err == nil {
		t.Error("a sequence without a frame was written")
	}
	a.Add(step(0, false), time.Second, 40)
	a.Add(step(1, false), time.Second, 40)
	data, err := a.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	if err := Frames(data, func(*raster.RGBA, time.Duration) error { return enough }); err != enough {
		t.Errorf("whoever has enough is told %v", err)
	}
}

// The same frames are the same bytes, whenever and wherever they're written.
func TestSequencesDontSayWhenTheyWereMade(t *testing.T) {
	made := func() []byte {
		a, err := Format.Write.Animate(64, 48, 0, 256, true)
		if err != nil {
			t.Fatal(err)
		}
		defer a.Close()
		for i := range 3 {
			if err := a.Add(step(i, false), 40*time.Millisecond, 40); err != nil {
				t.Fatal(err)
			}
		}
		data, err := a.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	first := made()
	time.Sleep(1100 * time.Millisecond) // the clock of the format has seconds
	if !bytes.Equal(first, made()) {
		t.Error("a second later it's another file")
	}
	for _, hostile := range [][]byte{nil, {0, 0, 0, 1}, []byte("\x00\x00\x00\x01moov"), []byte("\x00\x00\x00\x08moov"), []byte("\x00\x00\x00\x10moov\x00\x00\x00\xffmvhd"), []byte("\x00\x00\x00\x0cmvhd\x01\x00\x00\x00")} {
		timeless(hostile)
	}
}

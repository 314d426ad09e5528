package main

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"

	"echolane/core/subject"
)

// A network learns what no single cue says: that just one of two is large.
func TestTheNetworkLearns(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	var list []sample
	for range 6000 {
		var s sample
		for i := range s.cues {
			s.cues[i] = random.Float32()
		}
		if (s.cues[1] > 0.4) != (s.cues[3] > 0.4) {
			s.inside = 1
		}
		s.weight = 1
		list = append(list, s)
	}
	net := train(list)
	var off float64
	for _, s := range list {
		off += math.Abs(float64(net.Of(s.cues)-s.inside)) / float64(len(list))
	}
	if off > 0.3 {
		t.Errorf("off by %.3f in the mean; half a guess is 0.5", off)
	}
	if again := train(list); again.Of(list[0].cues) != net.Of(list[0].cues) {
		t.Error("another network the second time")
	}
}

// What is cut from a photograph lies within it, and has the subject in it.
func TestPartsLieWithinTheirPicture(t *testing.T) {
	for _, b := range []subject.Box{{X0: 0.3, Y0: 0.35, X1: 0.62, Y1: 1}, {X0: 0, Y0: 0, X1: 0.1, Y1: 0.1}, {X0: 0.405, Y0: 0.35, X1: 0.54, Y1: 0.67}} {
		list := parts(b)
		if len(list) == 0 {
			t.Errorf("nothing is cut around %v", b)
		}
		for _, p := range list {
			if p.X0 < 0 || p.Y0 < 0 || p.X1 > 1+1e-9 || p.Y1 > 1+1e-9 || p.X0 > b.X0+1e-9 || p.X1 < b.X1-1e-9 || p.Y0 > b.Y0+1e-9 || p.Y1 < b.Y1-1e-9 {
				t.Errorf("%v is cut around %v", p, b)
			}
		}
	}
}

// Pictures are found between other bytes; what is no picture, or ends before it should, is passed over.
func TestPicturesAreFoundInResources(t *testing.T) {
	vp8 := func(w, h int) []byte { // the headers of one, enough to be told
		frame := []byte{0x10, 0, 0, 0x9d, 0x01, 0x2a, byte(w), byte(w >> 8), byte(h), byte(h >> 8), 0, 0}
		d := binary.LittleEndian.AppendUint32([]byte("RIFF"), uint32(4+8+len(frame)))
		d = append(d, "WEBPVP8 "...)
		return append(binary.LittleEndian.AppendUint32(d, uint32(len(frame))), frame...)
	}
	data := append([]byte("some RIFF that is none"), vp8(320, 240)...)
	data = append(append(data, vp8(60, 40)...), vp8(200, 150)...)
	data = append(data, "RIFF\xff\xff\xff\x7fWEBP"...)
	if n := len(webps(data)); n != 2 {
		t.Errorf("%d pictures, 2 are large enough", n)
	}
}

package png

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"
	"time"

	"echolane/core/raster"
)

var (
	red   = color.NRGBA{200, 0, 0, 255}
	green = color.NRGBA{0, 160, 0, 255}
	blue  = color.NRGBA{0, 0, 220, 255}
	none  = color.NRGBA{}
)

func plain(w, h int, c color.NRGBA) *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := 0; i < len(m.Pix); i += 4 {
		m.Pix[i], m.Pix[i+1], m.Pix[i+2], m.Pix[i+3] = c.R, c.G, c.B, c.A
	}
	m.Pix[3] ^= 1 // never opaque as a whole: all frames share one header's colour type
	return m
}

// part is one frame of an animation that a test writes.
type part struct {
	m              *image.NRGBA
	x, y           int
	dispose, blend byte
	over           int // its time is 5 by this
}

// animated writes an animation; hidden is a default image that is no frame.
func animated(t *testing.T, w, h int, hidden *image.NRGBA, parts ...part) []byte {
	t.Helper()
	data := func(m *image.NRGBA) (out []byte) {
		var b bytes.Buffer
		if err := png.Encode(&b, m); err != nil {
			t.Fatal(err)
		}
		chunks(b.Bytes(), func(kind string, body []byte) error {
			if kind == "IDAT" {
				out = append(out, body...)
			}
			return nil
		})
		return out
	}
	be := binary.BigEndian
	header := be.AppendUint32(be.AppendUint32(nil, uint32(w)), uint32(h))
	out := appendChunk([]byte("\x89PNG\r\n\x1a\n"), "IHDR", append(header, 8, 6, 0, 0, 0))
	out = appendChunk(out, "acTL", be.AppendUint32(be.AppendUint32(nil, uint32(len(parts))), 3))
	if hidden != nil {
		out = appendChunk(out, "IDAT", data(hidden))
	}
	sequence := uint32(0)
	for i, p := range parts {
		c := be.AppendUint32(nil, sequence)
		sequence++
		for _, v := range []int{p.m.Rect.Dx(), p.m.Rect.Dy(), p.x, p.y} {
			c = be.AppendUint32(c, uint32(v))
		}
		c = be.AppendUint16(be.AppendUint16(c, 5), uint16(p.over))
		out = appendChunk(out, "fcTL", append(c, p.dispose, p.blend))
		if i == 0 && hidden == nil {
			out = appendChunk(out, "IDAT", data(p.m))
			continue
		}
		out = appendChunk(out, "fdAT", append(be.AppendUint32(nil, sequence), data(p.m)...))
		sequence++
	}
	return appendChunk(out, "IEND", nil)
}

func TestFramesAreLaidAndTakenAwayAsTheySay(t *testing.T) {
	glass := color.NRGBA{0, 0, 220, 128}
	data := animated(t, 8, 8, nil,
		part{m: plain(8, 8, red), over: 10},
		part{m: plain(4, 4, green), x: 4, dispose: disposeToPrevious, over: 0},
		part{m: plain(4, 4, glass), x: 4, blend: blendOver, dispose: disposeToBackground, over: 1000},
		part{m: plain(2, 2, none), x: 0, y: 6, over: 50})
	info, err := Probe(data)
	if err != nil || info.Frames != 4 || info.Plays != 3 {
		t.Fatalf("%+v, %v", info, err)
	}
	type pixel struct{ x, y int }
	want := []struct {
		shown time.Duration
		at    map[pixel]color.NRGBA
	}{
		{500 * time.Millisecond, map[pixel]color.NRGBA{{6, 2}: red, {1, 7}: red}},
		{50 * time.Millisecond, map[pixel]color.NRGBA{{6, 2}: green, {2, 2}: red, {6, 6}: red}},
		{100 * time.Millisecond, map[pixel]color.NRGBA{{6, 2}: {100, 0, 110, 255}, {2, 2}: red}}, // 5 ms is taken for 100
		{100 * time.Millisecond, map[pixel]color.NRGBA{{6, 2}: none, {2, 2}: red, {1, 7}: none}},
	}
	n := 0
	err = Frames(data, func(p *raster.RGBA, shown time.Duration) error {
		if shown != want[n].shown {
			t.Errorf("frame %d is shown for %v", n, shown)
		}
		for at, c := range want[n].at {
			q := p.Row(at.y)[4*at.x:]
			for i, v := range []uint8{c.R, c.G, c.B, c.A} {
				if d := int(q[i]) - int(v); (d < -1 || d > 1) && (c.A > 0 || i == 3) {
					t.Errorf("frame %d at %v is %v, want %v", n, at, q[:4], c)
					break
				}
			}
		}
		n++
		return nil
	})
	if err != nil || n != 4 {
		t.Errorf("%d frames, %v", n, err)
	}
}

func TestADefaultImageThatIsNoFrameIsPassedOver(t *testing.T) {
	data := animated(t, 8, 8, plain(8, 8, blue), part{m: plain(8, 8, red), over: 10}, part{m: plain(8, 8, green), over: 10})
	var seen []uint8
	if err := Frames(data, func(p *raster.RGBA, _ time.Duration) error { seen = append(seen, p.Row(4)[16]); return nil }); err != nil {
		t.Fatal(err)
	}
	if len(seen) != 2 || seen[0] != red.R || seen[1] != 0 {
		t.Errorf("reds %v", seen)
	}
}

func TestBrokenAnimationsSaySo(t *testing.T) {
	whole := animated(t, 8, 8, nil, part{m: plain(8, 8, red), over: 10}, part{m: plain(4, 4, green), x: 2, y: 2, over: 10})
	quiet := func(*raster.RGBA, time.Duration) error { return nil }
	for i := range 32 {
		if err := Frames(whole[:len(whole)*i/32], quiet); err == nil {
			t.Errorf("%d/32 of a file is read", i)
		}
	}
	outside := animated(t, 8, 8, nil, part{m: plain(8, 8, red), over: 10}, part{m: plain(4, 4, green), x: 5, over: 10})
	swapped := bytes.Clone(whole)
	at := bytes.LastIndex(swapped, []byte("fdAT"))
	swapped[at+7] = 9
	more := bytes.Clone(whole)
	more[bytes.Index(more, []byte("acTL"))+7] = 1
	fewer := bytes.Clone(whole)
	fewer[bytes.Index(fewer, []byte("acTL"))+7] = 3
	for data, says := range map[string]string{string(outside): "outside", string(swapped): "out of order", string(more): "more frames", string(fewer): "fewer frames"} {
		if err := Frames([]byte(data), quiet); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q wanted, got %v", says, err)
		}
	}
}

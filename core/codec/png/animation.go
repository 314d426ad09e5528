package png

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/draw"
	"time"

	"echolane/core/codec"
	"echolane/core/raster"
)

// What a frame leaves behind, and how it's laid on what is there (PNG Third Edition, section 11.3.6.2).
const (
	disposeToBackground = 1
	disposeToPrevious   = 2
	blendOver           = 1
)

// control is a frame control chunk.
type control struct {
	area           image.Rectangle
	shown          time.Duration
	dispose, blend byte
	data           []byte // what its image data chunks hold, joined
}

// chunks hands over every chunk's type and data, to the end or the first error.
func chunks(data []byte, each func(kind string, body []byte) error) error {
	for at := signature; at+12 <= len(data); {
		n := int(binary.BigEndian.Uint32(data[at:]))
		if n > len(data)-at-12 {
			return &codec.Error{Type: Type, Truncated: true, Problem: "the file ends inside a chunk"}
		}
		kind := string(data[at+4 : at+8])
		if err := each(kind, data[at+8:at+8+n]); err != nil || kind == "IEND" {
			return err
		}
		at += 12 + n
	}
	return &codec.Error{Type: Type, Truncated: true, Problem: "the file ends before the picture does"}
}

// Frames hands over every frame of an animation as a whole picture, straight; the picture is the receiver's. A default
// image that isn't a frame is passed over.
func Frames(data []byte, each func(p *raster.RGBA, shown time.Duration) error) error {
	info, err := Probe(data)
	if err != nil {
		return err
	}
	a := &animation{canvas: image.NewNRGBA(image.Rect(0, 0, info.W, info.H)), most: info.Frames, each: each}
	if err := chunks(data, a.chunk); err != nil {
		return err
	}
	if a.frames < a.most {
		return &codec.Error{Type: Type, Truncated: true, Problem: "it has fewer frames than it says"}
	}
	return nil
}

// animation is one that is being read.
type animation struct {
	header, shared []byte // IHDR's data, and whole chunks that every frame has: palette, transparency
	canvas         *image.NRGBA
	current        *control
	next           uint32 // sequence number
	frames, most   int
	each           func(p *raster.RGBA, shown time.Duration) error
}

func broken(problem string) error { return &codec.Error{Type: Type, Problem: problem} }

func (a *animation) chunk(kind string, body []byte) error {
	switch kind {
	case "IHDR":
		a.header = body
	case "PLTE", "tRNS":
		a.shared = appendChunk(a.shared, kind, body)
	case "fcTL":
		if err := a.flush(); err != nil {
			return err
		}
		return a.begin(body)
	case "IDAT":
		if a.current != nil {
			a.current.data = append(a.current.data, body...)
		}
	case "fdAT":
		if a.current == nil || len(body) < 4 {
			return broken("its frame data has no frame")
		}
		if err := a.inOrder(body); err != nil {
			return err
		}
		a.current.data = append(a.current.data, body[4:]...)
	case "IEND":
		return a.flush()
	}
	return nil
}

func (a *animation) inOrder(body []byte) error {
	if binary.BigEndian.Uint32(body) != a.next {
		return broken("its frames are out of order")
	}
	a.next++
	return nil
}

func (a *animation) begin(body []byte) error {
	if len(body) != 26 {
		return broken("its frame control has the wrong length")
	}
	if err := a.inOrder(body); err != nil {
		return err
	}
	number := func(at int) int { return int(binary.BigEndian.Uint32(body[at:])) }
	w, h, x, y := number(4), number(8), number(12), number(16)
	size := a.canvas.Rect.Size()
	if w == 0 || h == 0 || x > size.X-w || y > size.Y-h {
		return broken("a frame lies outside the picture")
	}
	over := int64(binary.BigEndian.Uint16(body[22:]))
	if over == 0 {
		over = 100
	}
	shown := time.Duration(int64(binary.BigEndian.Uint16(body[20:])) * int64(time.Second) / over)
	if shown < 20*time.Millisecond { // as browsers do
		shown = 100 * time.Millisecond
	}
	a.current = &control{area: image.Rect(x, y, x+w, y+h), shown: shown, dispose: body[24], blend: body[25]}
	return nil
}

// flush draws the frame whose data is complete, and hands the picture over.
func (a *animation) flush() error {
	c := a.current
	if c == nil {
		return nil
	}
	a.current = nil
	if a.frames == a.most {
		return broken("it has more frames than it says")
	}
	header := bytes.Clone(a.header)
	binary.BigEndian.PutUint32(header, uint32(c.area.Dx()))
	binary.BigEndian.PutUint32(header[4:], uint32(c.area.Dy()))
	still := appendChunk([]byte("\x89PNG\r\n\x1a\n"), "IHDR", header)
	still = append(still, a.shared...)
	still = appendChunk(appendChunk(still, "IDAT", c.data), "IEND", nil)
	frame, err := Decode(still)
	if err != nil {
		return err
	}
	if a.frames == 0 && c.dispose == disposeToPrevious {
		c.dispose = disposeToBackground
	}
	var before *image.NRGBA
	if c.dispose == disposeToPrevious {
		before = &image.NRGBA{Pix: bytes.Clone(a.canvas.Pix), Stride: a.canvas.Stride, Rect: a.canvas.Rect}
	}
	op := draw.Src
	if c.blend == blendOver {
		op = draw.Over
	}
	p := frame.RGBA
	draw.Draw(a.canvas, c.area, &image.NRGBA{Pix: p.Pix, Stride: p.Stride, Rect: image.Rect(0, 0, p.W, p.H)}, image.Point{}, op)
	a.frames++
	if err := a.each(FromImage(a.canvas), c.shown); err != nil {
		return err
	}
	switch c.dispose {
	case disposeToBackground:
		draw.Draw(a.canvas, c.area, image.Transparent, image.Point{}, draw.Src)
	case disposeToPrevious:
		a.canvas = before
	}
	return nil
}

func appendChunk(to []byte, kind string, body []byte) []byte {
	to = binary.BigEndian.AppendUint32(to, uint32(len(body)))
	at := len(to)
	to = append(append(to, kind...), body...)
	return binary.BigEndian.AppendUint32(to, crc32.ChecksumIEEE(to[at:]))
}

package png

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"io"

	quick "github.com/klauspost/compress/zlib"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Encode writes straight-alpha pixels in the smallest of the format's exact forms that fits: a palette of at
// most 256 colours, grey, truecolour, truecolour with alpha. No pixel changes.
func Encode(p *raster.RGBA) ([]byte, error) { return write(exact(p)) }

// EncodeIndexed writes a picture with its palette.
func EncodeIndexed(m *raster.Indexed) ([]byte, error) {
	palette := make(color.Palette, len(m.Palette))
	for i, c := range m.Palette {
		palette[i] = color.NRGBA{c[0], c[1], c[2], c[3]}
	}
	return write(&image.Paletted{Pix: m.Pix, Stride: m.W, Rect: image.Rect(0, 0, m.W, m.H), Palette: palette})
}

// The filters of PNG Third Edition, section 9.2, and one that takes the filter row by row whose bytes, read as signed,
// have the least sum.
const (
	filterNone = iota
	filterSub
	filterUp
	filterAverage
	filterPaeth
	filterRowByRow
	filterWays
)

// What trials may cost, in bytes: it bounds their time, and gives the same file on every machine.
const (
	trialBytes  = 192 << 10 // filtered and compressed for each way of filtering
	trialRows   = 16        // that lie together
	trialLevel  = 3
	hardBytes   = 3 << 19 // up to which the whole is compressed as hard as can be
	hardLevel   = 9
	quickLevel  = 7 // of another compressor: a twenty-fifth more bytes than zlib's level 6 in half of its time
	paletteForm = 3 // a colour type, as greyForm and the others are
	greyForm    = 0
	colourForm  = 2
	alphaForm   = 6
)

// A form is a picture as the format has it before it is filtered.
type form struct {
	w, h, stride  int // stride is bytes a row
	unit          int // bytes a pixel, at least 1
	depth, colour byte
	rows          []byte
	palette, dim  []byte // PLTE's and tRNS's content
}

func write(m image.Image) ([]byte, error) {
	f := formOf(m)
	best, least := filterNone, 0
	for way := range filterWays {
		n, err := f.tried(way)
		if err != nil {
			return nil, failed(err)
		}
		if way == 0 || n < least {
			best, least = way, n
		}
	}
	compress := compressed
	if len(f.rows) > hardBytes {
		compress = quickly
	}
	data, err := compress(f.filtered(best, 0, f.h, nil), hardLevel)
	if err != nil {
		return nil, failed(err)
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(f.w)), uint32(f.h))
	out := append(make([]byte, 0, len(data)+2048), "\x89PNG\r\n\x1a\n"...)
	out = chunk(out, "IHDR", append(head, f.depth, f.colour, 0, 0, 0))
	if f.palette != nil {
		out = chunk(out, "PLTE", f.palette)
	}
	if f.dim != nil {
		out = chunk(out, "tRNS", f.dim)
	}
	return chunk(chunk(out, "IDAT", data), "IEND", nil), nil
}

func failed(err error) error {
	return &codec.Error{Type: Type, Problem: "encoding failed: " + err.Error()}
}

func chunk(out []byte, kind string, body []byte) []byte {
	out = binary.BigEndian.AppendUint32(out, uint32(len(body)))
	from := len(out)
	out = append(append(out, kind...), body...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[from:]))
}

func compressed(b []byte, level int) ([]byte, error) {
	var out bytes.Buffer
	z, err := zlib.NewWriterLevel(&out, level)
	if err != nil {
		return nil, err
	}
	return closed(&out, z, b)
}

func quickly(b []byte, _ int) ([]byte, error) {
	var out bytes.Buffer
	z, err := quick.NewWriterLevel(&out, quickLevel)
	if err != nil {
		return nil, err
	}
	return closed(&out, z, b)
}

func closed(out *bytes.Buffer, z io.WriteCloser, b []byte) ([]byte, error) {
	if _, err := z.Write(b); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func formOf(m image.Image) form {
	b := m.Bounds()
	f := form{w: b.Dx(), h: b.Dy(), depth: 8, unit: 1}
	switch m := m.(type) {
	case *image.Paletted:
		f.colour = paletteForm
		switch n := len(m.Palette); {
		case n <= 2:
			f.depth = 1
		case n <= 4:
			f.depth = 2
		case n <= 16:
			f.depth = 4
		}
		for i, c := range m.Palette {
			q := color.NRGBAModel.Convert(c).(color.NRGBA)
			if f.palette = append(f.palette, q.R, q.G, q.B); q.A < 255 {
				for len(f.dim) < i {
					f.dim = append(f.dim, 255)
				}
				f.dim = append(f.dim, q.A)
			}
		}
		f.stride = (f.w*int(f.depth) + 7) / 8
		f.rows = make([]byte, f.stride*f.h)
		each := 8 / int(f.depth) // pixels a byte
		for y := range f.h {
			to := f.rows[y*f.stride:]
			for x, v := range m.Pix[y*m.Stride:][:f.w] {
				to[x/each] |= v << (8 - int(f.depth)*(x%each+1))
			}
		}
	case *image.Gray:
		f.colour, f.stride = greyForm, f.w
		f.rows = make([]byte, f.stride*f.h)
		for y := range f.h {
			copy(f.rows[y*f.stride:][:f.w], m.Pix[y*m.Stride:])
		}
	case *image.NRGBA:
		f.colour, f.unit = alphaForm, 4
		if m.Opaque() {
			f.colour, f.unit = colourForm, 3
		}
		f.stride = f.unit * f.w
		f.rows = make([]byte, f.stride*f.h)
		for y := range f.h {
			from, to := m.Pix[y*m.Stride:][:4*f.w], f.rows[y*f.stride:][:f.stride]
			if f.unit == 4 {
				copy(to, from)
				continue
			}
			for x := range f.w {
				copy(to[3*x:3*x+3], from[4*x:])
			}
		}
	}
	return f
}

// tried is how many bytes a way of filtering takes, of some rows spread over the picture.
func (f *form) tried(way int) (int, error) {
	strips := max(1, trialBytes/((f.stride+1)*trialRows))
	var some []byte
	if strips*trialRows >= f.h {
		some = f.filtered(way, 0, f.h, some)
	} else {
		for i := range strips {
			from := (f.h - trialRows) * i / max(1, strips-1)
			some = f.filtered(way, from, from+trialRows, some)
		}
	}
	data, err := compressed(some, trialLevel)
	return len(data), err
}

// filtered appends the rows from from up to to, each behind the number of its filter.
func (f *form) filtered(way, from, to int, out []byte) []byte {
	if out == nil {
		out = make([]byte, 0, (to-from)*(f.stride+1))
	}
	none := make([]byte, f.stride)
	for y := from; y < to; y++ {
		row, above := f.rows[y*f.stride:][:f.stride], none
		if y > 0 {
			above = f.rows[(y-1)*f.stride:][:f.stride]
		}
		if way < filterRowByRow {
			out = f.filter(out, way, row, above)
			continue
		}
		at, best, least := len(out), 0, 0
		for w := range filterRowByRow {
			out = f.filter(out[:at], w, row, above)
			sum := 0
			for _, b := range out[at+1:] {
				if v := int(int8(b)); v < 0 {
					sum -= v
				} else {
					sum += v
				}
			}
			if w == 0 || sum < least {
				best, least = w, sum
			}
		}
		out = f.filter(out[:at], best, row, above)
	}
	return out
}

// filter appends one row.
func (f *form) filter(out []byte, way int, row, above []byte) []byte {
	out = append(out, byte(way))
	u := f.unit
	switch way {
	case filterNone:
		return append(out, row...)
	case filterSub:
		out = append(out, row[:u]...)
		for i := u; i < len(row); i++ {
			out = append(out, row[i]-row[i-u])
		}
	case filterUp:
		for i, v := range row {
			out = append(out, v-above[i])
		}
	case filterAverage:
		for i, v := range row {
			left := 0
			if i >= u {
				left = int(row[i-u])
			}
			out = append(out, v-byte((left+int(above[i]))/2))
		}
	case filterPaeth:
		for i := range u {
			out = append(out, row[i]-above[i])
		}
		for i := u; i < len(row); i++ {
			out = append(out, row[i]-paeth(int(row[i-u]), int(above[i]), int(above[i-u])))
		}
	}
	return out
}

// paeth is the predictor of PNG Third Edition, section 9.4.
func paeth(a, b, c int) byte {
	pa, pb := b-c, a-c
	pc := abs(pa + pb)
	switch pa, pb = abs(pa), abs(pb); {
	case pa <= pb && pa <= pc:
		return byte(a)
	case pb <= pc:
		return byte(b)
	}
	return byte(c)
}

func abs(v int) int {
	if v < 0 {
		return -v
	}
	return v
}

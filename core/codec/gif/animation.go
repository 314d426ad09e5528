package gif

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/gif"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/png"
	"echolane/core/raster"
)

// Frames hands over every frame as a whole picture, what frames before it left shown where it's transparent, as
// their disposal says (GIF89a, section 23). The picture is the receiver's. It gives how often the animation plays, 0
// for ever.
func Frames(data []byte, each func(p *raster.RGBA, shown time.Duration) error) error {
	g, err := gif.DecodeAll(bytes.NewReader(data))
	if err != nil {
		return png.Failure(Type, err, data[len(data)-1] == trailer)
	}
	canvas := image.NewNRGBA(image.Rect(0, 0, g.Config.Width, g.Config.Height))
	var before *image.NRGBA
	for i, frame := range g.Image {
		disposal := byte(0)
		if i < len(g.Disposal) {
			disposal = g.Disposal[i]
		}
		if disposal == gif.DisposalPrevious {
			before = &image.NRGBA{Pix: bytes.Clone(canvas.Pix), Stride: canvas.Stride, Rect: canvas.Rect}
		}
		draw.Draw(canvas, frame.Bounds(), frame, frame.Bounds().Min, draw.Over)
		shown := time.Duration(g.Delay[i]) * 10 * time.Millisecond
		if g.Delay[i] < 2 { // as browsers do
			shown = 100 * time.Millisecond
		}
		if err := each(png.FromImage(canvas), shown); err != nil {
			return err
		}
		switch disposal {
		case gif.DisposalBackground:
			draw.Draw(canvas, frame.Bounds(), image.Transparent, image.Point{}, draw.Src)
		case gif.DisposalPrevious:
			canvas = before
		}
	}
	return nil
}

// Encode writes a still, straight, in at most so many colours (2–256).
func Encode(p *raster.RGBA, colours int) ([]byte, error) {
	a := NewAnimation(1, colours)
	a.Add(p, 0, 0)
	return a.Bytes()
}

// An Animation is a GIF that is being written: each frame has its own palette and holds only what changed.
type Animation struct {
	g       gif.GIF
	last    *raster.RGBA
	colours int
}

// NewAnimation makes one that plays so often, 0 for ever, with at most so many colours a frame (2–256).
func NewAnimation(plays, colours int) *Animation {
	a := &Animation{colours: colours}
	a.Plays(plays)
	return a
}

// Plays says how often, 0 for ever.
func (a *Animation) Plays(n int) {
	switch n {
	case 0:
		a.g.LoopCount = 0
	case 1:
		a.g.LoopCount = -1
	default:
		a.g.LoopCount = n - 1
	}
}

// opaqueFrom is the alpha from which a pixel is drawn: the format knows only on and off.
const opaqueFrom = 128

// Add adds a frame, straight, of the size of the first one. There is no setting.
func (a *Animation) Add(p *raster.RGBA, shown time.Duration, _ float64) error {
	whole := image.Rect(0, 0, p.W, p.H)
	part := whole
	keep := a.last != nil
	if keep {
		if a.vanishes(p) {
			// A pixel that ends can't be drawn over: the frame before is written whole, and makes way as a whole.
			n := len(a.g.Image) - 1
			a.g.Image[n], a.g.Disposal[n] = a.indexed(a.last, whole), gif.DisposalBackground
			clear(a.last.Pix)
		}
		if part = changed(a.last, p); part.Empty() {
			a.g.Delay[len(a.g.Delay)-1] += hundredths(shown)
			return nil
		}
	} else {
		a.g.Config = image.Config{Width: p.W, Height: p.H}
	}
	// What doesn't change, and what is transparent, is one colour: none.
	view := raster.NewRGBA(part.Dx(), part.Dy())
	for y := range view.H {
		row, from := view.Row(y), p.Row(part.Min.Y + y)[4*part.Min.X:]
		var last []uint8
		if keep {
			last = a.last.Row(part.Min.Y + y)[4*part.Min.X:]
		}
		for i := 0; i < len(row); i += 4 {
			if from[i+3] < opaqueFrom || keep && [4]uint8(from[i:i+4]) == [4]uint8(last[i:i+4]) {
				continue
			}
			copy(row[i:i+3], from[i:i+3])
			row[i+3] = 255
		}
	}
	a.g.Image = append(a.g.Image, a.indexed(view, part))
	view.Free()
	a.g.Delay = append(a.g.Delay, hundredths(shown))
	a.g.Disposal = append(a.g.Disposal, gif.DisposalNone)
	a.last.Free()
	a.last = p.Copy()
	for y := range p.H { // as it will be shown
		row := a.last.Row(y)
		for i := 3; i < len(row); i += 4 {
			if row[i] < opaqueFrom {
				clear(row[i-3 : i+1])
			} else {
				row[i] = 255
			}
		}
	}
	return nil
}

func (a *Animation) indexed(p *raster.RGBA, at image.Rectangle) *image.Paletted {
	const mostlyFlat = 0.45
	m := raster.Reduce(p, a.colours, p.Flatness() < mostlyFlat)
	palette := make(color.Palette, len(m.Palette))
	for i, c := range m.Palette {
		palette[i] = color.NRGBA{c[0], c[1], c[2], c[3]}
	}
	return &image.Paletted{Pix: m.Pix, Stride: m.W, Rect: at, Palette: palette}
}

func hundredths(d time.Duration) int { return int((d + 5*time.Millisecond) / (10 * time.Millisecond)) }

func (a *Animation) vanishes(p *raster.RGBA) bool {
	for y := range p.H {
		row, last := p.Row(y), a.last.Row(y)
		for i := 3; i < len(row); i += 4 {
			if row[i] < opaqueFrom && last[i] != 0 {
				return true
			}
		}
	}
	return false
}

// changed is the smallest rectangle outside of which two pictures look the same.
func changed(a, b *raster.RGBA) image.Rectangle {
	r := image.Rectangle{}
	for y := range a.H {
		ra, rb := a.Row(y), b.Row(y)
		for x := 0; x < a.W; x++ {
			i := 4 * x
			if [4]uint8(ra[i:i+4]) != [4]uint8(rb[i:i+4]) && (ra[i+3] != 0 || rb[i+3] >= opaqueFrom) {
				r = r.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	return r
}

// Close frees what the animation holds.
func (a *Animation) Close() {
	a.last.Free()
	a.last = nil
}

// Bytes writes the file.
func (a *Animation) Bytes() ([]byte, error) {
	a.Close()
	var out bytes.Buffer
	if err := gif.EncodeAll(&out, &a.g); err != nil {
		return nil, &codec.Error{Type: Type, Problem: "encoding failed: " + err.Error()}
	}
	return out.Bytes(), nil
}

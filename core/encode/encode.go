// Package encode writes a painted picture in a format at a visible quality: it finds the setting at which the format's encoder
// comes as near to the picture as libjpeg-turbo does at that quality, by prediction, or by a search that looks at what
// comes out, and keeps to a budget of bytes. What formats there are, and how each is written, is core/codec's.
package encode

import (
	"fmt"
	"math"
	"sync"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// Encoding is how a variant's bytes came about.
type Encoding struct {
	Kind     string           `json:"kind"`               // what sort of picture it was taken for: photograph, graphic
	Quality  int              `json:"quality,omitempty"`  // the visible quality that was aimed at; 0: lossless
	Way      string           `json:"way"`                // lossless, direct, predicted, searched, budget, palette, source
	Setting  string           `json:"setting,omitempty"`  // the encoder's own
	Likeness float64          `json:"likeness,omitempty"` // what was reached, where it was looked at
	Aim      float64          `json:"aim,omitempty"`      // the likeness that libjpeg-turbo reaches on this picture at that quality
	Trials   []likeness.Trial `json:"trials,omitempty"`
	Sampled  bool             `json:"sampled,omitempty"` // partsTolerance of the picture were looked at

	// Weighed are the formats that were tried, with what each weighs; absent where only one was.
	Weighed []Weighed `json:"weighed,omitempty"`

	// Bound is finest where the encoder's finest setting falls short of the aim, so that higher qualities give the same bytes,
	// and coarsest where its coarsest is better than that, so that lower ones do.
	Bound string `json:"bound,omitempty"`

	// Provisional is what was predicted, or brought within a budget from there: a search comes to something better.
	Provisional bool `json:"provisional,omitempty"`

	setting float64 // Setting, as the format's Encoder has it
}

const defaultQuality = 72

// Picture is a painted picture on its way into a format: in planes where it's opaque, else in pixels. It is used by one
// goroutine, and must be freed.
type Picture struct {
	YCbCr   *raster.YCbCr // Full range, 4:2:0; nil where there is transparency. Free frees it.
	Pixels  *raster.RGBA  // premultiplied; nil where the picture never was in pixels. The caller's to free.
	Quality declare.Quality
	Finest  int           // a quality that the source itself doesn't go beyond; 0: unknown
	Matte   declare.Color // what transparency is laid on in a format without it
	Quick   bool          // a first answer: predict instead of searching
	Effort  codec.Effort
	Frame   bool           // of an animation, whose frames are all written alike
	Facts   metadata.Facts // what is embedded

	whole   int  // pixels of the picture that this is a part of; 0: it is the whole
	light   bool // it takes so little time to write that it can have more
	strips  bool // only some strips of it are looked at
	looking sync.Once
	looked  *likeness.Picture
	taken   string // the sort of picture that parts of it are taken for; "": what they look like
	opened  []func()
}

// Free gives back what it has made, and the planes.
func (p *Picture) Free() {
	for _, free := range p.opened {
		free()
	}
	p.YCbCr.Free()
	p.looked.Free()
}

// Size is the picture's size.
func (p *Picture) Size() (w, h int) {
	if p.YCbCr != nil {
		return p.YCbCr.W, p.YCbCr.H
	}
	return p.Pixels.W, p.Pixels.H
}

// area is how many pixels there are.
func (p *Picture) area() int {
	w, h := p.Size()
	return w * h
}

// Opaque reports whether no pixel is transparent.
func (p *Picture) Opaque() bool { return p.Pixels == nil || p.Pixels.Opaque }

// number is the quality that is aimed at.
func (p *Picture) number() int {
	q := int(p.Quality)
	if q == 0 {
		q = defaultQuality
	}
	if p.Finest > 0 {
		q = min(q, p.Finest)
	}
	return q
}

// Planes returns 4:2:0 planes: of pixels, laid on the matte where they're transparent.
func (p *Picture) Planes() *raster.YCbCr {
	if p.YCbCr == nil {
		flat := p.Flattened()
		p.YCbCr = flat.To420()
		flat.Free()
	}
	return p.YCbCr
}

// Flattened is a copy of the pixels, laid on the matte where they're transparent.
func (p *Picture) Flattened() *raster.RGBA {
	flat := p.Pixels.Copy()
	if !flat.Opaque {
		r, g, b := onWhite(p.Matte)
		flat.Flatten(r, g, b)
	}
	return flat
}

// onWhite is the matte, itself laid on white where it isn't opaque; white where there is none.
func onWhite(c declare.Color) (r, g, b uint8) {
	if !c.Declared {
		return 255, 255, 255
	}
	mix := func(v uint8) uint8 { return uint8((int(v)*int(c.A) + 255*(255-int(c.A)) + 127) / 255) }
	return mix(c.R), mix(c.G), mix(c.B)
}

// Straight is the pixels with straight alpha.
func (p *Picture) Straight() *raster.RGBA {
	if p.Pixels.Opaque {
		return p.Pixels
	}
	straight := p.Pixels.Copy()
	straight.Unpremultiply()
	return straight
}

// original is the picture that encodes are compared with. Safe for concurrent use once Planes was called.
func (p *Picture) original() *likeness.Picture {
	p.looking.Do(func() {
		if p.Opaque() {
			p.looked = p.look(p.Planes(), likeness.OfPlanes)
		} else {
			p.looked = likeness.OfPixels(p.Pixels)
		}
	})
	return p.looked
}

// texture is what settings are predicted from.
func (p *Picture) texture() *likeness.Texture {
	if p.Opaque() {
		return likeness.TextureOfPlanes(p.Planes())
	}
	return p.original().Texture()
}

// Kind is what sort of picture it's taken for: photograph or graphic.
func (p *Picture) Kind() string {
	if p.taken != "" {
		return p.taken
	}
	const mostlyFlat = 0.45
	if p.Pixels != nil && p.Pixels.Flatness() > mostlyFlat {
		return "graphic"
	}
	return "photograph"
}

// SharpColour says whether colour at half the size would show: in a drawing with edges between colours. Where a drawing
// has hardly any, and in a photograph before a plain ground, colour at full size takes half as many bytes again for
// nothing.
func (p *Picture) SharpColour() bool {
	const much = 0.05
	return p.Pixels != nil && p.Kind() == "graphic" && p.Pixels.SharpColour() > much
}

// options are how the picture is written, whatever its setting.
func (p *Picture) options() codec.Options {
	area := p.whole
	if area == 0 {
		area = p.area()
	}
	return codec.Options{Effort: p.Effort, Quick: p.Quick, Area: area, Light: p.light, Frame: p.Frame, Exif: p.Facts.Exif, XMP: p.Facts.XMP}
}

// Encode writes the picture in a format.
func (p *Picture) Encode(format declare.Format) ([]byte, Encoding, error) {
	w := formats.Writer(format)
	if w == nil {
		return nil, Encoding{}, fmt.Errorf("variants aren't written as %q", format)
	}
	if p.Quality == declare.Lossless {
		if w.Lossless == nil {
			return nil, Encoding{}, fmt.Errorf("%s has no lossless form", format)
		}
		data, err := w.Lossless(p.Straight(), p.options())
		return data, Encoding{Way: "lossless", Kind: p.Kind()}, err
	}
	how := Encoding{Quality: p.number(), Kind: p.Kind()}
	switch {
	case w.Lossy != nil:
		return p.lossy(w, how)
	case w.Lossless != nil:
		return p.exact(w, how)
	}
	how.Way = "palette"
	data, err := p.indexed(w, mostColours)
	return data, how, err
}

// Rounded is the likeness of a distance, to a tenth.
func Rounded(distance float64) float64 { return math.Round(10*likeness.Likeness(distance)) / 10 }

// mostColours is how many a palette holds.
const mostColours = 256

// indexed writes the picture in so many colours, where the format finds them by itself.
func (p *Picture) indexed(w *codec.Writer, colours int) ([]byte, error) {
	return w.Indexed(p.Straight(), nil, colours)
}

// exact writes every pixel, or a palette where that is smaller and nobody sees the difference.
func (p *Picture) exact(w *codec.Writer, how Encoding) ([]byte, Encoding, error) {
	straight := p.Straight()
	exact, err := w.Lossless(straight, p.options())
	if how.Way = "lossless"; err != nil || p.Quality == 0 || w.Indexed == nil || w.Few(straight) {
		return exact, how, err
	}
	reduced, far := p.reduced(straight, mostColours)
	if like := likeness.Likeness(far); like >= math.Max(90, float64(how.Quality)) {
		data, err := w.Indexed(straight, reduced, mostColours)
		if err == nil && len(data) < len(exact) {
			how.Way, how.Likeness, how.Setting = "palette", math.Round(10*like)/10, fmt.Sprintf("%d colours", len(reduced.Palette))
			return data, how, nil
		}
	}
	return exact, how, nil
}

// reduced is the picture in so many colours, and how far that is from it. straight is the picture with straight alpha.
func (p *Picture) reduced(straight *raster.RGBA, colours int) (*raster.Indexed, float64) {
	m := raster.Reduce(straight, colours, p.Kind() != "graphic")
	seen := m.Pixels()
	defer seen.Free()
	seen.Premultiply()
	looked := likeness.OfPixels(seen)
	defer looked.Free()
	return m, p.original().Distance(looked)
}

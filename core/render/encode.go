package render

import (
	"errors"
	"fmt"
	"math"
	"sync"

	"golang.org/x/sync/errgroup"

	"echolane/core/codec/avif"
	"echolane/core/codec/gif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
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
	Sampled  bool             `json:"sampled,omitempty"` // parts of the picture were looked at

	// Provisional is what was predicted, or brought within a budget from there: a search comes to something better.
	Provisional bool `json:"provisional,omitempty"`
}

const defaultQuality = 72

// weighedBelow is up to how many pixels coefficients are weighed one by one, which takes nine bytes a pixel.
const weighedBelow = 8_000_000

// finish is a painted picture on its way into a format: in planes where it's opaque, else in pixels.
type finish struct {
	planes     *raster.YCbCr // Full range, 4:2:0; nil where there is transparency
	pixels     *raster.RGBA  // premultiplied; nil where the picture never was in pixels
	quality    declare.Quality
	most       int // a quality that the source itself doesn't go beyond; 0: unknown
	matte      declare.Color
	predict    bool
	speed      int            // AVIF's; 0: AVIFKept
	exactSpeed bool           // whatever the size
	light      bool           // takes so little time that it can have more
	frame      bool           // of an animation, which libwebp writes alone
	facts      metadata.Facts // what is embedded

	strips  bool // only some strips of it are looked at
	looking sync.Once
	looked  *likeness.Picture
	taken   string // the sort of picture that parts of it are taken for; "": what they look like
}

// free gives back what it has made.
func (f *finish) free() {
	f.planes.Free()
	f.looked.Free()
}

// area is how many pixels there are.
func (f *finish) area() int {
	if f.planes != nil {
		return f.planes.W * f.planes.H
	}
	return f.pixels.W * f.pixels.H
}

func (f *finish) number() int {
	q := int(f.quality)
	if q == 0 {
		q = defaultQuality
	}
	if f.most > 0 {
		q = min(q, f.most)
	}
	return q
}

// opaque makes planes of what is only in pixels, laid on the matte where it must be.
func (f *finish) opaque() *raster.YCbCr {
	if f.planes == nil {
		p := f.flat()
		f.planes = p.To420()
		p.Free()
	}
	return f.planes
}

// flat is a copy of the pixels, laid on the matte where they're transparent.
func (f *finish) flat() *raster.RGBA {
	p := f.pixels.Copy()
	if !p.Opaque {
		r, g, b := onWhite(f.matte)
		p.Flatten(r, g, b)
	}
	return p
}

// original is what is compared with; it may be asked for side by side where the planes are there.
func (f *finish) original() *likeness.Picture {
	f.looking.Do(func() {
		if f.pixels != nil && !f.pixels.Opaque {
			f.looked = likeness.OfPixels(f.pixels)
		} else {
			f.looked = f.look(f.opaque())
		}
	})
	return f.looked
}

// texture is what settings are thought to depend on.
func (f *finish) texture() *likeness.Texture {
	if f.pixels != nil && !f.pixels.Opaque {
		return f.original().Texture()
	}
	return likeness.TextureOfPlanes(f.opaque())
}

// encode writes the picture in a format.
func (f *finish) encode(format declare.Format) ([]byte, Encoding, error) {
	if f.quality == declare.Lossless {
		data, err := f.lossless(format)
		return data, Encoding{Way: "lossless", Kind: f.kind()}, err
	}
	q := f.number()
	how := Encoding{Quality: q, Kind: f.kind()}
	switch format {
	case declare.JPEG:
		if f.sharpColour() {
			how.Way, how.Setting = "direct", fmt.Sprintf("libjpeg-turbo %d, 4:4:4", q)
			flat := f.flat()
			defer flat.Free()
			data, err := jpeg.EncodeRGBA(flat, q)
			return data, how, err
		}
		if p := f.opaque(); f.predict || p.W*p.H > weighedBelow { // what is aimed at itself
			if how.Way, how.Setting = "direct", fmt.Sprintf("libjpeg-turbo %d, 4:2:0", q); f.predict {
				how.Way, how.Provisional = "predicted", true
			}
			data, err := jpeg.EncodePlanes(p, q)
			return data, how, err
		}
	case declare.PNG:
		return f.png(how)
	case declare.GIF:
		how.Way = "palette"
		data, err := gif.Encode(f.straight(), mostColours)
		return data, how, err
	}
	return f.lossy(format, how)
}

// rounded is the likeness of a distance, to a tenth.
func rounded(distance float64) float64 { return math.Round(10*likeness.Likeness(distance)) / 10 }

// kind is what sort of picture it's taken for.
func (f *finish) kind() string {
	if f.taken != "" {
		return f.taken
	}
	const mostlyFlat = 0.45
	if f.pixels != nil && f.pixels.Flatness() > mostlyFlat {
		return "graphic"
	}
	return "photograph"
}

// sharpColour says whether colour at half the size would show: in a drawing with edges between colours. Where a drawing
// has hardly any, and in a photograph before a plain ground, colour at full size takes half as many bytes again for
// nothing.
func (f *finish) sharpColour() bool {
	const much = 0.05
	return f.pixels != nil && f.kind() == "graphic" && f.pixels.SharpColour() > much
}

func (f *finish) straight() *raster.RGBA {
	p := f.pixels
	if p.Opaque {
		return p
	}
	p = p.Copy()
	p.Unpremultiply()
	return p
}

func (f *finish) lossless(format declare.Format) ([]byte, error) {
	switch format {
	case declare.AVIF:
		return avif.EncodeLossless(f.straight(), avif.Settings{Speed: f.avifSpeed(), Facts: f.facts})
	case declare.WebP:
		return webp.EncodeLossless(f.straight())
	default:
		return png.Encode(f.straight())
	}
}

// png keeps every pixel where that is cheap or nothing else is close enough, else a palette whose cost nobody sees.
func (f *finish) png(how Encoding) ([]byte, Encoding, error) {
	p := f.straight()
	exact, err := png.Encode(p)
	if how.Way = "lossless"; err != nil || f.quality == 0 || png.Few(p) {
		return exact, how, err
	}
	reduced, far := f.reduced(p, mostColours)
	if like := likeness.Likeness(far); like >= math.Max(90, float64(how.Quality)) {
		data, err := png.EncodeIndexed(reduced)
		if err == nil && len(data) < len(exact) {
			how.Way, how.Likeness, how.Setting = "palette", math.Round(10*like)/10, fmt.Sprintf("%d colours", len(reduced.Palette))
			return data, how, nil
		}
	}
	return exact, how, nil
}

// mostColours is how many a palette holds.
const mostColours = 256

// reduced is the picture in so many colours, and how far that is from it. p is the picture, straight.
func (f *finish) reduced(p *raster.RGBA, colours int) (*raster.Indexed, float64) {
	m := raster.Reduce(p, colours, f.kind() != "graphic")
	seen := m.Pixels()
	defer seen.Free()
	seen.Premultiply()
	looked := likeness.OfPixels(seen)
	defer looked.Free()
	return m, f.original().Distance(looked)
}

// lossy finds the setting of WebP, AVIF or JPEG.
func (f *finish) lossy(format declare.Format, how Encoding) ([]byte, Encoding, error) {
	quality := float64(how.Quality)
	if f.light = false; format == declare.AVIF && !f.predict && f.area() <= avifKeptSmall {
		var err error
		if f.light, err = f.isLight(quality); err != nil {
			return nil, how, err
		}
	}
	if f.predict {
		p := f.large(format)
		f.strips = p != nil && p.H >= leastHigh
	}
	e, err := f.encoder(format)
	if err != nil {
		return nil, how, err
	}
	texture := f.texture()
	guess := math.Min(e.Most, math.Max(e.Least, thought(format, quality, texture)+e.finer))
	slope := steepness(format, quality, texture)
	if f.predict {
		return f.predicted(format, e, guess, slope, how)
	}
	found, how, err := f.searched(format, e, guess, slope, how)
	if err != nil {
		return nil, how, err
	}
	how.Setting, how.Trials = e.name(found.Setting), found.Trials
	how.Likeness = rounded(found.Distance)
	if how.Kind == "graphic" && format == declare.WebP { // few colours often take fewer bytes as they are
		if data, err := f.lossless(format); err == nil && len(data) <= len(found.Data) {
			how.Way, how.Setting, how.Likeness, how.Quality = "lossless", "", 100, 0
			return data, how, nil
		}
	}
	return found.Data, how, nil
}

// an encoder is a likeness.Encoder that also can do without looking.
type encoder struct {
	likeness.Encoder
	finer   float64 // how much finer its settings have to be than is thought
	write   func(setting float64) ([]byte, error)
	name    func(setting float64) string
	points  float64 // how near a search comes; 0: whole
	glances int     // how many encodes of a first answer take no longer than one of what is kept
}

func (f *finish) encoder(format declare.Format) (encoder, error) {
	var e encoder
	pixels, planes, original := f.pixels, f.planes, f.original
	var read func([]byte) (*likeness.Picture, error)
	clear := pixels != nil && !pixels.Opaque
	sharp := format == declare.AVIF && f.sharpColour() // colour at full size
	ofPlanes := func(p *raster.YCbCr, err error) (*likeness.Picture, error) {
		if err != nil {
			return nil, err
		}
		defer p.Free()
		return f.look(p), nil
	}
	var straight *raster.RGBA
	if clear || sharp {
		straight = f.straight()
	} else if planes == nil {
		planes = f.opaque()
	}
	switch format {
	case declare.WebP:
		e.Least, e.Most, e.Step, e.finer = 0, 100, 0.25, alone
		e.name = func(s float64) string { return fmt.Sprintf("libwebp %.1f, method %d", webp.Quality(s), webpEffort) }
		if clear {
			e.write = func(s float64) ([]byte, error) { return webp.EncodeRGBA(straight, webp.Quality(s)) }
			read = func(data []byte) (*likeness.Picture, error) {
				p, err := webp.Decode(data)
				if err != nil {
					return nil, err
				}
				defer p.Free()
				p.RGBA.Premultiply()
				return likeness.OfPixels(p.RGBA), nil
			}
			break
		}
		limited := planes.ToLimited()
		if f.frame || planes.W*planes.H > weighedBelow {
			e.write = func(s float64) ([]byte, error) { return webp.EncodePlanes(limited, webp.Quality(s)) }
		} else {
			e.finer = 0
			e.name = func(s float64) string { return fmt.Sprintf("VP8 quantizer %.1f, weighed", webp.Index(s)) }
			var w *webp.Weighed
			var ready errgroup.Group // while the setting is thought of
			ready.Go(func() error {
				w = webp.Weigh(limited)
				return nil
			})
			weighed := func() *webp.Weighed {
				ready.Wait()
				return w
			}
			quick := f.predict
			e.Try = func(s float64) (data []byte, distance float64, err error) {
				w := weighed()
				w.Choose(s, quick)
				var file errgroup.Group // beside the look
				file.Go(func() (err error) {
					data, err = w.File()
					return err
				})
				shown, err := ofPlanes(w.Shown(), nil)
				if err = errors.Join(err, file.Wait()); err != nil {
					return nil, 0, err
				}
				defer shown.Free()
				return data, original().Distance(shown), nil
			}
			e.write, e.points = func(s float64) ([]byte, error) { return weighed().Write(s) }, even
			if quick {
				e.glances, e.finer = 2, webpQuickLoss
				e.write = func(s float64) ([]byte, error) {
					weighed().Again(s)
					return weighed().File()
				}
			}
			return e, nil
		}
		read = func(data []byte) (*likeness.Picture, error) { return ofPlanes(webp.DecodePlanes(data)) }
	case declare.AVIF:
		e.Least, e.Most, e.Step, e.glances = 0, avif.MaxQuantizer-1, 0.25, 3
		if f.predict { // between whole quantizers the quick speed is uneven
			e.Step, e.finer = 1, avifQuickLoss
		}
		speed, copies := f.avifSpeed(), sharp && f.area() <= avifKeptSmall
		settings := func(s float64) avif.Settings {
			up := math.Ceil(s)
			return avif.Settings{Quantizer: avif.MaxQuantizer - int(up), Coarser: int(math.Round(4 * (up - s))), Speed: speed, FullChroma: sharp, Copies: copies, Facts: f.facts}
		}
		e.name = func(s float64) string {
			return fmt.Sprintf("AV1 quantizer %g, speed %d", avif.MaxQuantizer-s, speed)
		}
		if clear || sharp {
			e.write = func(s float64) ([]byte, error) { return avif.EncodeRGBA(straight, settings(s)) }
			read = func(data []byte) (*likeness.Picture, error) {
				p, err := avif.Decode(data)
				if err != nil {
					return nil, err
				}
				defer p.Free()
				p.RGBA.Premultiply()
				return likeness.OfPixels(p.RGBA), nil
			}
			break
		}
		e.write = func(s float64) ([]byte, error) { return avif.EncodePlanes(planes, settings(s)) }
		read = func(data []byte) (*likeness.Picture, error) { return ofPlanes(avif.DecodePlanes(data)) }
	case declare.JPEG:
		e.Least, e.Most, e.Step = 1, 100, 0.5
		e.name = func(s float64) string { return fmt.Sprintf("JPEG tables %.1f, weighed, 4:2:0", s) }
		if planes == nil {
			planes = f.opaque()
		}
		if clear { // it's laid on the matte
			original = sync.OnceValue(func() *likeness.Picture { return likeness.OfPlanes(planes) })
		}
		if planes.W*planes.H > weighedBelow {
			e.write = func(s float64) ([]byte, error) { return jpeg.EncodePlanes(planes, int(s)) }
		} else {
			e.write = jpeg.Transform(planes).Write
		}
		read = func(data []byte) (*likeness.Picture, error) {
			p, err := jpeg.Decode(data, jpeg.Options{Scale: 8, Planes: true})
			return ofPlanes(p.YCbCr, err)
		}
	default:
		return e, fmt.Errorf("%s has no settings to search", format)
	}
	e.Try = func(s float64) ([]byte, float64, error) {
		data, err := e.write(s)
		if err != nil {
			return nil, 0, err
		}
		p, err := read(data)
		if err != nil {
			return nil, 0, err
		}
		defer p.Free()
		return data, original().Distance(p), nil
	}
	return e, nil
}

package render

import (
	"fmt"
	"math"

	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/gif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/fidelity"
	"echolane/core/policy"
	"echolane/core/raster"
)

// Encoding is how a variant's bytes came about.
type Encoding struct {
	Kind     string           `json:"kind"`               // what sort of picture it was taken for: photograph, graphic
	Quality  int              `json:"quality,omitempty"`  // the visible quality that was aimed at; 0: lossless
	Way      string           `json:"way"`                // lossless, direct, predicted, searched, palette, source
	Setting  string           `json:"setting,omitempty"`  // the encoder's own
	Likeness float64          `json:"likeness,omitempty"` // what was reached, where it was looked at
	Aim      float64          `json:"aim,omitempty"`      // the likeness that libjpeg-turbo reaches on this picture at that quality
	Trials   []fidelity.Trial `json:"trials,omitempty"`
	Sampled  bool             `json:"sampled,omitempty"` // the search looked at parts of the picture
}

// Efforts, from measured tables of bytes against time (`go run ./bench encoding`).
const (
	webpEffort = webp.Effort
)

// AVIF's efforts are libavif's speeds, 0 (thorough) to 10 (quick): for a first answer, for what is kept, and for what is
// kept where a site wants the fewest bytes. On photographs at equal SSIM 7 takes about a seventh fewer bytes than 8, and 6
// a quarter fewer.
const (
	AVIFFirst    = 8
	AVIFKept     = 7
	AVIFThorough = 6
)

const defaultQuality = 72

// weighedBelow is up to how many pixels a JPEG's coefficients are weighed one by one, which takes nine bytes a pixel.
const weighedBelow = 8_000_000

// finish is a painted picture on its way into a format: in planes where it's opaque, else in pixels.
type finish struct {
	planes  *raster.YCbCr // Full range, 4:2:0; nil where there is transparency
	pixels  *raster.RGBA  // premultiplied; nil where the picture never was in pixels
	quality declare.Quality
	most    int // a quality that the source itself doesn't go beyond; 0: unknown
	matte   declare.Color
	predict bool
	speed   int         // AVIF's; 0: AVIFKept
	facts   codec.Facts // what is embedded

	looked *fidelity.Picture
}

func (f *finish) avifSpeed() int {
	if f.speed == 0 {
		return AVIFKept
	}
	return f.speed
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

func (f *finish) original() *fidelity.Picture {
	if f.looked == nil {
		if f.pixels != nil && !f.pixels.Opaque {
			f.looked = fidelity.OfPixels(f.pixels)
		} else {
			f.looked = fidelity.OfPlanes(f.opaque())
		}
	}
	return f.looked
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
		if how.Kind == "graphic" {
			how.Way, how.Setting = "direct", fmt.Sprintf("libjpeg-turbo %d, 4:4:4", q)
			flat := f.flat()
			defer flat.Free()
			data, err := jpeg.EncodeRGBA(flat, q)
			return data, how, err
		}
		if p := f.opaque(); p.W*p.H > weighedBelow {
			how.Way, how.Setting = "direct", fmt.Sprintf("libjpeg-turbo %d, 4:2:0", q)
			data, err := jpeg.EncodePlanes(p, q)
			return data, how, err
		}
	case declare.PNG:
		return f.png(how)
	case declare.GIF:
		how.Way = "palette"
		data, err := gif.Encode(f.straight())
		return data, how, err
	}
	return f.lossy(format, how)
}

// rounded is the likeness of a distance, to a tenth.
func rounded(distance float64) float64 { return math.Round(10*fidelity.Likeness(distance)) / 10 }

func (f *finish) kind() string {
	const mostlyFlat = 0.45
	if f.pixels != nil && f.pixels.Flatness() > mostlyFlat {
		return "graphic"
	}
	return "photograph"
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
	reduced := raster.Reduce(p, 256, how.Kind != "graphic")
	seen := reduced.Pixels()
	seen.Premultiply()
	far := f.original().Distance(fidelity.OfPixels(seen))
	if like := fidelity.Likeness(far); like >= math.Max(90, float64(how.Quality)) {
		data, err := png.EncodeIndexed(reduced)
		if err == nil && len(data) < len(exact) {
			how.Way, how.Likeness, how.Setting = "palette", math.Round(10*like)/10, fmt.Sprintf("%d colours", len(reduced.Palette))
			return data, how, nil
		}
	}
	return exact, how, nil
}

// lossy finds the setting of WebP, AVIF or JPEG.
func (f *finish) lossy(format declare.Format, how Encoding) ([]byte, Encoding, error) {
	e, err := f.encoder(format, f.pixels, f.planes, f.original())
	if err != nil {
		return nil, how, err
	}
	guess, slope := settingFor(format, float64(how.Quality))
	guess = math.Min(e.Most, math.Max(e.Least, guess+adjusted(format, float64(how.Quality), f.original())))
	if f.predict {
		data, err := e.write(guess)
		how.Way, how.Setting = "predicted", e.name(guess)
		return data, how, err
	}
	target, err := f.target(how.Quality)
	if err != nil {
		return nil, how, err
	}
	how.Way, how.Aim = "searched", rounded(target)
	var found fidelity.Found
	if sample := f.sample(); sample != nil {
		defer sample.Free()
		s := finish{planes: sample, quality: f.quality, speed: f.speed}
		if target, err = s.target(how.Quality); err != nil {
			return nil, how, err
		}
		on, err := s.encoder(format, nil, sample, s.original())
		if err != nil {
			return nil, how, err
		}
		if found, err = fidelity.Search(on.Encoder, target, guess, slope); err != nil {
			return nil, how, err
		}
		how.Sampled = true
		found.Data, err = e.write(found.Setting)
		if err != nil {
			return nil, how, err
		}
	} else if found, err = fidelity.Search(e.Encoder, target, guess, slope); err != nil {
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

// target is how far libjpeg-turbo is from this picture at a quality, 4:2:0, what is transparent laid on the matte.
func (f *finish) target(quality int) (float64, error) {
	planes := f.opaque()
	data, err := jpeg.EncodePlainly(planes, quality)
	if err != nil {
		return 0, err
	}
	p, err := jpeg.Decode(data, jpeg.Options{Scale: 8, Planes: true})
	if err != nil {
		return 0, err
	}
	defer p.Free()
	original := f.original()
	if f.pixels != nil && !f.pixels.Opaque {
		original = fidelity.OfPlanes(planes)
	}
	// Plain areas come out exactly at any quality: there the measure's floor is asked for, not the impossible.
	return math.Max(original.Distance(fidelity.OfPlanes(p.YCbCr)), 2e-4), nil
}

// samplesAbove is from how many pixels on a search looks at parts, of which there are so many, so large.
const (
	samplesAbove = 1_000_000
	sampleSide   = 128
	samplesX     = 6
	samplesY     = 4
)

// sample puts evenly spread parts of a large opaque picture side by side.
func (f *finish) sample() *raster.YCbCr {
	if p := f.planes; p == nil || p.W*p.H <= samplesAbove || p.W < samplesX*sampleSide || p.H < samplesY*sampleSide {
		return nil
	}
	return patches(f.planes, samplesX, samplesY, sampleSide)
}

// patches puts across×down evenly spread squares of a picture side by side.
func patches(p *raster.YCbCr, across, down, side int) *raster.YCbCr {
	out := raster.New420(across*side, down*side, p.Range)
	for j := range down {
		for i := range across {
			x, y := (p.W-side)*i/(across-1)&^1, (p.H-side)*j/(down-1)&^1
			for _, c := range []struct {
				from, to raster.Plane
				n        int
			}{{p.Y, out.Y, 1}, {p.Cb, out.Cb, 2}, {p.Cr, out.Cr, 2}} {
				n := side / c.n
				for row := range n {
					copy(c.to.Row(j*n + row)[i*n:(i+1)*n], c.from.Row(y/c.n + row)[x/c.n:])
				}
			}
		}
	}
	return out
}

// an encoder is a fidelity.Encoder that also can do without looking.
type encoder struct {
	fidelity.Encoder
	write func(setting float64) ([]byte, error)
	name  func(setting float64) string
}

func (f *finish) encoder(format declare.Format, pixels *raster.RGBA, planes *raster.YCbCr, original *fidelity.Picture) (encoder, error) {
	var e encoder
	var read func([]byte) (*fidelity.Picture, error)
	clear := pixels != nil && !pixels.Opaque
	sharp := format == declare.AVIF && pixels != nil && f.kind() == "graphic" // colour at full size
	ofPlanes := func(p *raster.YCbCr, err error) (*fidelity.Picture, error) {
		if err != nil {
			return nil, err
		}
		defer p.Free()
		return fidelity.OfPlanes(p), nil
	}
	var straight *raster.RGBA
	if clear || sharp {
		straight = f.straight()
	} else if planes == nil {
		planes = f.opaque()
	}
	switch format {
	case declare.WebP:
		e.Least, e.Most, e.Step = 0, 100, 0.5
		e.name = func(s float64) string { return fmt.Sprintf("libwebp %.1f, method %d", s, webpEffort) }
		if clear {
			e.write = func(s float64) ([]byte, error) { return webp.EncodeRGBA(straight, s) }
			read = func(data []byte) (*fidelity.Picture, error) {
				p, err := webp.Decode(data)
				if err != nil {
					return nil, err
				}
				defer p.Free()
				p.RGBA.Premultiply()
				return fidelity.OfPixels(p.RGBA), nil
			}
			break
		}
		limited := planes.ToLimited()
		e.write = func(s float64) ([]byte, error) { return webp.EncodePlanes(limited, s) }
		read = func(data []byte) (*fidelity.Picture, error) { return ofPlanes(webp.DecodePlanes(data)) }
	case declare.AVIF:
		e.Least, e.Most, e.Step = 0, avif.MaxQuantizer-1, 1
		speed := f.avifSpeed()
		settings := func(s float64) avif.Settings {
			return avif.Settings{Quantizer: avif.MaxQuantizer - int(s+0.5), Speed: speed, FullChroma: sharp, Facts: f.facts}
		}
		e.name = func(s float64) string {
			return fmt.Sprintf("AV1 quantizer %d, speed %d", settings(s).Quantizer, speed)
		}
		if clear || sharp {
			e.write = func(s float64) ([]byte, error) { return avif.EncodeRGBA(straight, settings(s)) }
			read = func(data []byte) (*fidelity.Picture, error) {
				p, err := avif.Decode(data)
				if err != nil {
					return nil, err
				}
				defer p.Free()
				p.RGBA.Premultiply()
				return fidelity.OfPixels(p.RGBA), nil
			}
			break
		}
		e.write = func(s float64) ([]byte, error) { return avif.EncodePlanes(planes, settings(s)) }
		read = func(data []byte) (*fidelity.Picture, error) { return ofPlanes(avif.DecodePlanes(data)) }
	case declare.JPEG:
		e.Least, e.Most, e.Step = 1, 100, 0.5
		e.name = func(s float64) string { return fmt.Sprintf("JPEG tables %.1f, weighed, 4:2:0", s) }
		if planes == nil {
			planes = f.opaque()
		}
		if clear { // it's laid on the matte
			original = fidelity.OfPlanes(planes)
		}
		if planes.W*planes.H > weighedBelow {
			e.write = func(s float64) ([]byte, error) { return jpeg.EncodePlanes(planes, int(s)) }
		} else {
			e.write = jpeg.Transform(planes).Write
		}
		read = func(data []byte) (*fidelity.Picture, error) {
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
		return data, original.Distance(p), nil
	}
	return e, nil
}

// within brings the variant down to a budget. floor is the least quality that the site delivers.
func (f *finish) within(format declare.Format, data []byte, how Encoding, budget, floor int) ([]byte, Encoding, error) {
	if len(data) <= budget {
		return data, how, nil
	}
	if format != declare.JPEG && format != declare.WebP && format != declare.AVIF || f.quality == declare.Lossless {
		return nil, how, overBudget(budget, len(data), "leave format out, or ask for avif, webp or jpeg, whose quality can give way")
	}
	e, err := f.encoder(format, f.pixels, f.planes, f.original())
	if err != nil {
		return nil, how, err
	}
	least, _ := settingFor(format, float64(floor))
	e.Least = math.Max(e.Least, math.Round(least/e.Step)*e.Step)
	top, _ := settingFor(format, float64(f.number()))
	if len(how.Trials) > 0 {
		for _, t := range how.Trials {
			if t.Bytes == len(data) {
				top = t.Setting
			}
		}
	}
	found, ok, err := fidelity.Within(e.Encoder, fidelity.Found{Data: data, Setting: math.Max(top, e.Least+e.Step)}, budget)
	if err != nil {
		return nil, how, err
	}
	if !ok {
		return nil, how, overBudget(budget, len(found.Data), "allow more bytes, or ask for a smaller width or height")
	}
	how.Way, how.Setting = "budget", e.name(found.Setting)
	how.Likeness = rounded(found.Distance)
	how.Trials = append(how.Trials, found.Trials[1:]...)
	return found.Data, how, nil
}

func overBudget(budget, least int, remedy string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: "budget-out-of-reach", Parameter: "budget", Given: fmt.Sprint(budget),
		Detail:  fmt.Sprintf("the smallest possible variant of this picture at this size has %d bytes", least),
		Allowed: fmt.Sprintf("at least %d", least), Remedy: remedy,
	})
}

// settingFor is the setting that comes as near as libjpeg-turbo at a quality, on the median picture, and how much
// the logarithm of the distance changes with a setting one higher. Make the tables anew with
// `go run ./bench/qualitytable`.
func settingFor(format declare.Format, quality float64) (setting, slope float64) {
	table := webpSettings
	switch format {
	case declare.AVIF:
		table = avifSettings
	case declare.JPEG:
		table = jpegSettings
	}
	at := func(q float64) float64 {
		q = math.Min(98, math.Max(0, q))
		for i := 1; i < len(table); i++ {
			if a, b := table[i-1], table[i]; q <= b[0] {
				return a[1] + (b[1]-a[1])*(q-a[0])/(b[0]-a[0])
			}
		}
		return table[len(table)-1][1]
	}
	low, high := math.Max(1, quality-5), math.Min(98, quality+5)
	slope = math.Log(fidelity.DistanceAt(high)/fidelity.DistanceAt(low)) / math.Max(0.5, at(high)-at(low))
	return at(quality), math.Min(slope, -0.01)
}

// adjusted is how far this picture's setting is thought to lie from the median picture's: texture hides what an
// encoder does, and plain areas cost libjpeg-turbo more than they do the others. A line was fitted to the corpus at
// four qualities (the lines "activity" that `go run ./bench/qualitytable` prints).
func adjusted(format declare.Format, quality float64, p *fidelity.Picture) float64 {
	const medianTexture, medianPlain, most = 0.344, 0.627, 15
	lines := [...]struct{ quality, texture, plain float64 }{{0, 0, 0}, {30, -16.2, -52.6}, {50, -28.8, -70.6}, {70, -28.2, -52.3}, {85, -11.5, -17.3}, {100, 0, 0}}
	switch format {
	case declare.JPEG:
		lines = [...]struct{ quality, texture, plain float64 }{{0, 0, 0}, {30, -10.3, -17.6}, {50, -11.8, -13.4}, {70, -8.4, -8.6}, {85, -4.3, -3.3}, {100, 0, 0}}
	case declare.AVIF:
		lines = [...]struct{ quality, texture, plain float64 }{{0, 0, 0}, {30, -6.1, -23.1}, {50, -7.9, -21.6}, {70, -8.7, -18.4}, {85, -8.7, -10.8}, {100, 0, 0}}
	}
	texture, plain := p.Activity()
	for i := 1; i < len(lines); i++ {
		if a, b := lines[i-1], lines[i]; quality <= b.quality {
			k := (quality - a.quality) / (b.quality - a.quality)
			by := (a.texture+k*(b.texture-a.texture))*(texture-medianTexture) + (a.plain+k*(b.plain-a.plain))*(plain-medianPlain)
			return math.Min(most, math.Max(-most, by))
		}
	}
	return 0
}

// Quality of libjpeg-turbo, and setting.
var webpSettings = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 0.3}, {15, 5.0}, {20, 10.7}, {25, 18.4}, {30, 24.3}, {35, 30.4},
	{40, 37.5}, {45, 41.0}, {50, 47.6}, {55, 53.5}, {60, 59.1}, {65, 70.2}, {70, 75.7}, {75, 79.2},
	{80, 83.1}, {85, 87.0}, {90, 92.1}, {95, 98.0}, {98, 100.0},
}

var avifSettings = [][2]float64{
	{0, 0}, {5, 0.3}, {10, 7.1}, {15, 13.4}, {20, 17.6}, {25, 20.1}, {30, 22.9}, {35, 25.1},
	{40, 26.0}, {45, 27.4}, {50, 29.0}, {55, 30.0}, {60, 31.4}, {65, 33.4}, {70, 35.5}, {75, 37.9},
	{80, 40.6}, {85, 45.8}, {90, 52.1}, {95, 57.9}, {98, 60.0},
}

// Of our own JPEG encoder (core/codec/jpeg).
var jpegSettings = [][2]float64{
	{0, 1}, {5, 7.2}, {10, 16.2}, {15, 23.6}, {20, 30.6}, {25, 37.1}, {30, 44.0}, {35, 50.1},
	{40, 54.8}, {45, 59.9}, {50, 63.1}, {55, 65.5}, {60, 68.3}, {65, 71.6}, {70, 74.4}, {75, 77.5},
	{80, 81.9}, {85, 84.7}, {90, 89.4}, {95, 93.1}, {98, 96.6},
}

// WebPQuality is libwebp's own quality that is thought to come as near as libjpeg-turbo at q.
func WebPQuality(q declare.Quality) float64 {
	s, _ := settingFor(declare.WebP, float64(q))
	return s
}

package render

import (
	"fmt"
	"math"
	"sync"

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

// free gives back what it has made.
func (f *finish) free() {
	f.planes.Free()
	f.looked.Free()
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

// texture is what settings are thought to depend on.
func (f *finish) texture() *fidelity.Texture {
	if f.pixels != nil && !f.pixels.Opaque {
		return f.original().Texture()
	}
	return fidelity.TextureOfPlanes(f.opaque())
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
		data, err := gif.Encode(f.straight(), mostColours)
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
	reduced, far := f.reduced(p, mostColours)
	if like := fidelity.Likeness(far); like >= math.Max(90, float64(how.Quality)) {
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
	looked := fidelity.OfPixels(seen)
	defer looked.Free()
	return m, f.original().Distance(looked)
}

// palettes are the palettes of 2, 4, 8 to 256 colours, whose settings are their colours' bits. The smallest is the one
// that still comes up to a quality.
func (f *finish) palettes(floor int, write func(p *raster.RGBA, m *raster.Indexed, colours int) ([]byte, error)) fidelity.Encoder {
	p := f.straight()
	e := fidelity.Encoder{Least: 1, Most: 8, Step: 1}
	for e.Least < e.Most {
		if _, far := f.reduced(p, 1<<int(e.Least)); fidelity.Likeness(far) >= float64(floor) {
			break
		}
		e.Least++
	}
	e.Try = func(bits float64) ([]byte, float64, error) {
		colours := 1 << int(bits)
		m, far := f.reduced(p, colours)
		data, err := write(p, m, colours)
		return data, far, err
	}
	return e
}

// inColours is palettes of a still's format.
func (f *finish) inColours(format declare.Format, floor int) fidelity.Encoder {
	return f.palettes(floor, func(p *raster.RGBA, m *raster.Indexed, colours int) ([]byte, error) {
		if format == declare.GIF {
			return gif.Encode(p, colours)
		}
		return png.EncodeIndexed(m)
	})
}

// lossy finds the setting of WebP, AVIF or JPEG: where the picture is large by what some parts of it look like.
func (f *finish) lossy(format declare.Format, how Encoding) ([]byte, Encoding, error) {
	part := f
	if sample := f.sample(); sample != nil {
		part = &finish{planes: sample, quality: f.quality, most: f.most, speed: f.speed}
		defer part.free()
	}
	e, err := f.encoder(format)
	if err != nil {
		return nil, how, err
	}
	quality := float64(how.Quality)
	texture := f.texture()
	guess := math.Min(e.Most, math.Max(e.Least, thought(format, quality, texture)))
	if f.predict {
		data, err := e.write(guess)
		how.Way, how.Setting = "predicted", e.name(guess)
		return data, how, err
	}
	target, err := part.target(how.Quality)
	if err != nil {
		return nil, how, err
	}
	how.Way, how.Aim, how.Sampled = "searched", rounded(target), part != f
	on, points := e, 1.0
	if how.Sampled { // the whole has the last word
		points = 2
		if on, err = part.encoder(format); err != nil {
			return nil, how, err
		}
	}
	slope := steepness(format, quality, texture)
	found, err := fidelity.Search(on.Encoder, target, guess, slope, points)
	if err != nil {
		return nil, how, err
	}
	if how.Sampled {
		if target, err = f.target(how.Quality); err != nil {
			return nil, how, err
		}
		how.Aim = rounded(target)
		if found, err = fidelity.Whole(e.Encoder, found, target, slope); err != nil {
			return nil, how, err
		}
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
	original, written := f.original(), fidelity.OfPlanes(p.YCbCr)
	defer written.Free()
	if f.pixels != nil && !f.pixels.Opaque {
		original = fidelity.OfPlanes(planes)
		defer original.Free()
	}
	// Plain areas come out exactly at any quality: there the measure's floor is asked for, not the impossible.
	return math.Max(original.Distance(written), 2e-4), nil
}

// samplesAbove is from how many pixels on a search looks at parts, of which there are so many, so large.
const (
	samplesAbove = 1_000_000
	sampleSide   = 96
	samplesX     = 6
	samplesY     = 4
)

// sample puts evenly spread parts of a large opaque picture side by side.
func (f *finish) sample() *raster.YCbCr {
	p := f.planes
	if p == nil || p.W*p.H <= samplesAbove || p.W < samplesX*sampleSide || p.H < samplesY*sampleSide {
		return nil
	}
	out := raster.New420(samplesX*sampleSide, samplesY*sampleSide, p.Range)
	for j := range samplesY {
		for i := range samplesX {
			x, y := (p.W-sampleSide)*i/(samplesX-1)&^1, (p.H-sampleSide)*j/(samplesY-1)&^1
			for _, c := range []struct {
				from, to raster.Plane
				n        int
			}{{p.Y, out.Y, 1}, {p.Cb, out.Cb, 2}, {p.Cr, out.Cr, 2}} {
				n := sampleSide / c.n
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

func (f *finish) encoder(format declare.Format) (encoder, error) {
	var e encoder
	pixels, planes, original := f.pixels, f.planes, f.original
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
		e.name = func(s float64) string { return fmt.Sprintf("libwebp %.1f, method %d", webp.Quality(s), webpEffort) }
		if clear {
			e.write = func(s float64) ([]byte, error) { return webp.EncodeRGBA(straight, webp.Quality(s)) }
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
		e.write = func(s float64) ([]byte, error) { return webp.EncodePlanes(limited, webp.Quality(s)) }
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
			original = sync.OnceValue(func() *fidelity.Picture { return fidelity.OfPlanes(planes) })
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
		defer p.Free()
		return data, original().Distance(p), nil
	}
	return e, nil
}

// A budget is how many bytes a variant may have, of which embedded facts take some, and the least quality that the site
// delivers.
type budget struct{ bytes, facts, floor int }

func budgetOf(job Job, facts codec.Facts) budget {
	plain := []byte("\xff\xd8\xff\xd9") // what they take is about the same in all formats
	return budget{int(job.Request.Budget), len(codec.Embed(plain, facts)) - len(plain), max(1, job.Floor)}
}

func (b budget) keeps(data []byte) bool { return len(data)+b.facts <= b.bytes }

func (b budget) refusal(least int, remedy string) *policy.Refusal {
	least += b.facts
	return policy.No(policy.Refusal{
		Reason: "budget-out-of-reach", Parameter: "budget", Given: fmt.Sprint(b.bytes),
		Detail:  fmt.Sprintf("the smallest possible variant of this picture at this size has %d bytes", least),
		Allowed: fmt.Sprintf("at least %d", least), Remedy: remedy,
	})
}

// within brings the variant down to a budget.
func (f *finish) within(format declare.Format, data []byte, how Encoding, b budget) ([]byte, Encoding, error) {
	if b.keeps(data) {
		return data, how, nil
	}
	if f.quality == declare.Lossless {
		return nil, how, b.refusal(len(data), "leave quality=lossless out, so that quality can give way, or allow more bytes")
	}
	var e encoder
	has := fidelity.Found{Data: data}
	if format == declare.PNG || format == declare.GIF {
		e.Encoder, e.name = f.inColours(format, b.floor), coloursName
		has.Setting = e.Most + e.Step
	} else {
		var err error
		if e, err = f.encoder(format); err != nil {
			return nil, how, err
		}
		least, _ := settingFor(format, float64(b.floor))
		e.Least = math.Max(e.Least, math.Round(least/e.Step)*e.Step)
		has.Setting, _ = settingFor(format, float64(f.number()))
		for _, t := range how.Trials {
			if t.Bytes == len(data) {
				has.Setting = t.Setting
			}
		}
	}
	return b.squeezed(e.Encoder, e.name, has, how)
}

func coloursName(bits float64) string { return fmt.Sprintf("%d colours", 1<<int(bits)) }

// squeezed is what an encoder can do within a budget that what it has is beyond.
func (b budget) squeezed(e fidelity.Encoder, name func(float64) string, has fidelity.Found, how Encoding) ([]byte, Encoding, error) {
	has.Setting = math.Max(has.Setting, e.Least+e.Step)
	found, ok, err := fidelity.Within(e, has, b.bytes-b.facts)
	if err != nil {
		return nil, how, err
	}
	if !ok {
		return nil, how, b.refusal(min(len(found.Data), len(has.Data)), "allow more bytes, or ask for a smaller width or height")
	}
	how.Way, how.Setting = "budget", name(found.Setting)
	how.Likeness = rounded(found.Distance)
	how.Trials = append(how.Trials, found.Trials[1:]...)
	return found.Data, how, nil
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

// A line says which setting a picture needs at a quality, from what is seen of its texture: a base, and what each of
// the step that loses as much as libjpeg-turbo, its busyness and the share of its plain blocks adds.
type line struct{ quality, base, step, busy, plain float64 }

// thought is the setting that a picture is thought to need to come as near as libjpeg-turbo at a quality.
func thought(format declare.Format, quality float64, t *fidelity.Texture) float64 {
	lines := webpLines
	switch format {
	case declare.AVIF:
		lines = avifLines
	case declare.JPEG:
		lines = jpegLines
	}
	quality = math.Min(lines[len(lines)-1].quality, math.Max(lines[0].quality, quality))
	step := t.Step(quality)
	at := func(l line) float64 { return l.base + l.step*step + l.busy*t.Busy + l.plain*t.Plain }
	for i := 1; i < len(lines); i++ {
		if a, b := lines[i-1], lines[i]; quality <= b.quality {
			return at(a) + (quality-a.quality)/(b.quality-a.quality)*(at(b)-at(a))
		}
	}
	return at(lines[0])
}

// steepness is how much the logarithm of a picture's distance is thought to change with a setting one higher: as
// between two qualities about the one that's asked for, but not far from what is usual.
func steepness(format declare.Format, quality float64, t *fidelity.Texture) float64 {
	_, usual := settingFor(format, quality)
	low, high := math.Max(1, quality-5), math.Min(97, quality+5)
	slope := math.Log(t.Lost(high)/t.Lost(low)) / math.Max(0.5, thought(format, high, t)-thought(format, low, t))
	return math.Max(1.5*usual, math.Min(usual*0.9, slope))
}

// Fitted to the corpus at these qualities; make them anew with `go run ./bench/qualitytable`.
var (
	webpLines = []line{
		{10, 20.2, -0.02, 5.93, -12.85},
		{20, 35.4, 9.19, -2.81, -48.60},
		{30, 109.6, -17.92, -1.98, -31.70},
		{40, 113.3, -18.91, -0.59, -26.47},
		{50, 128.0, -25.06, -1.69, -22.09},
		{60, 130.8, -25.95, -2.12, -21.84},
		{70, 128.0, -24.71, -2.41, -16.07},
		{80, 116.1, -19.08, -1.45, -7.49},
		{85, 110.7, -15.77, -1.10, -5.06},
		{90, 106.1, -12.16, -0.97, -3.33},
		{95, 102.4, -8.22, -0.69, -2.22},
	}
	avifLines = []line{
		{10, -2.0, 2.72, 4.95, -7.46},
		{20, 27.6, -0.93, -1.69, -18.74},
		{30, 44.4, -5.85, -2.41, -15.58},
		{40, 50.2, -7.67, -2.29, -14.98},
		{50, 54.3, -9.23, -2.04, -13.75},
		{60, 57.5, -10.71, -1.71, -13.00},
		{70, 64.0, -14.27, -1.02, -11.91},
		{80, 72.0, -19.68, -0.13, -11.01},
		{85, 69.7, -17.35, -1.01, -8.60},
		{90, 67.2, -14.56, -1.69, -6.00},
		{95, 62.6, -9.11, -1.25, -3.87},
	}
	jpegLines = []line{
		{10, 35.2, -5.48, 0.13, -4.16},
		{20, 54.1, -5.71, -4.33, -13.07},
		{30, 82.0, -12.36, -5.37, -14.35},
		{40, 109.0, -22.80, -2.74, -13.44},
		{50, 107.1, -19.81, -3.56, -10.77},
		{60, 104.4, -17.06, -3.37, -10.08},
		{70, 101.2, -14.15, -2.65, -7.25},
		{80, 100.2, -12.38, -1.38, -5.98},
		{85, 97.6, -9.57, -1.15, -5.02},
		{90, 97.2, -8.52, -0.36, -3.21},
		{95, 94.5, -4.21, 0.07, -0.03},
	}
)

// Quality of libjpeg-turbo, and setting: WebP's fineness, AV1's quantizer counted from the coarsest, the quality of
// JPEG's tables.
var webpSettings = [][2]float64{
	{0, 0}, {5, 10.0}, {10, 10.0}, {15, 28.9}, {20, 42.5}, {25, 50.3}, {30, 55.4}, {35, 59.5},
	{40, 62.5}, {45, 66.6}, {50, 69.2}, {55, 71.5}, {60, 73.8}, {65, 77.9}, {70, 81.6}, {75, 84.2},
	{80, 87.6}, {85, 91.2}, {90, 94.9}, {95, 99.7}, {98, 100.0},
}

var avifSettings = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 5.5}, {15, 12.6}, {20, 17.1}, {25, 20.8}, {30, 23.2}, {35, 25.1},
	{40, 26.4}, {45, 27.7}, {50, 29.1}, {55, 30.4}, {60, 32.0}, {65, 33.9}, {70, 35.4}, {75, 38.0},
	{80, 41.8}, {85, 46.3}, {90, 52.1}, {95, 57.9}, {98, 60.0},
}

// Of our own JPEG encoder (core/codec/jpeg).
var jpegSettings = [][2]float64{
	{0, 1}, {5, 7.7}, {10, 16.3}, {15, 23.6}, {20, 30.4}, {25, 36.9}, {30, 43.7}, {35, 49.6},
	{40, 54.1}, {45, 59.4}, {50, 62.9}, {55, 65.3}, {60, 67.9}, {65, 70.8}, {70, 74.1}, {75, 77.1},
	{80, 81.4}, {85, 84.3}, {90, 88.9}, {95, 93.0}, {98, 96.4},
}

// WebPQuality is libwebp's own quality that is thought to come as near as libjpeg-turbo at q.
func WebPQuality(q declare.Quality) float64 {
	s, _ := settingFor(declare.WebP, float64(q))
	return webp.Quality(s)
}

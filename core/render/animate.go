package render

import (
	"fmt"
	"math"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/gif"
	"echolane/core/codec/icc"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/likeness"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// frames are the ways into the formats that animations are read from.
var frames = map[string]func([]byte, func(*raster.RGBA, time.Duration) error) error{gif.Type: gif.Frames, webp.Type: webp.Frames, png.Type: png.Frames}

// moves says whether the variant is an animation, and in which format.
func moves(info codec.Info, r declare.Resolved, canvas geometry.Size) (declare.Format, bool) {
	if info.Frames < 2 || r.Animation == declare.AnimationNone || frames[info.Type] == nil {
		return 0, false
	}
	for _, f := range r.Formats {
		if f.CarriesFrames() && !(f == declare.WebP && max(canvas.W, canvas.H) > webp.MaxSide) && !(f == declare.GIF && r.Quality == declare.Lossless) {
			return f, true
		}
	}
	return 0, false
}

// movie writes frames in one format.
type movie struct {
	format  declare.Format
	quality declare.Quality
	setting float64 // libwebp's, found on the first frame
	colours int     // GIF's
	how     Encoding
	first   *raster.RGBA // the first frame, premultiplied
	gif     *gif.Animation
	webp    *webp.Animation
	plays   int // how often, 0 for ever
}

// unknown is a setting that is still to be found.
const unknown = -2

func (m *movie) add(p *raster.RGBA, shown time.Duration, predict bool) error {
	if m.first == nil {
		m.first = p.Copy()
	}
	if m.format == declare.GIF {
		if m.gif == nil {
			m.gif = gif.NewAnimation(m.plays, m.colours)
			m.how = Encoding{Way: "palette", Quality: int(m.quality)}
		}
		p.Unpremultiply()
		m.gif.Add(p, shown)
		return nil
	}
	if m.webp == nil {
		var err error
		if m.webp, err = webp.NewAnimation(p.W, p.H, m.plays); err != nil {
			return err
		}
		if m.setting == unknown {
			if err := m.begin(p, predict); err != nil {
				return err
			}
		}
	}
	p.Unpremultiply()
	return m.webp.Add(p, shown, m.setting)
}

// begin finds the setting on the first frame, which holds for all.
func (m *movie) begin(p *raster.RGBA, predict bool) error {
	if m.quality == declare.Lossless {
		m.setting, m.how = webp.Exactly, Encoding{Way: "lossless"}
		return nil
	}
	f := finish{pixels: p, quality: m.quality, predict: predict, frame: true}
	defer f.free()
	m.how = Encoding{Quality: f.number(), Kind: f.kind()}
	data, how, err := f.lossy(declare.WebP, m.how)
	if err != nil {
		return err
	}
	if predict && how.Kind == "graphic" { // few colours often take fewer bytes as they are, which a search looks at
		exact, err := f.lossless(declare.WebP)
		if err != nil {
			return err
		}
		if len(exact) <= len(data) {
			how.Way, how.Setting, how.Quality, how.Provisional = "lossless", "", 0, false
		}
	}
	m.how = how
	m.setting = webp.Exactly
	if how.Way != "lossless" {
		if _, err := fmt.Sscanf(how.Setting, "libwebp %f", &m.setting); err != nil {
			return err
		}
	}
	return nil
}

func (m *movie) bytes() ([]byte, error) {
	if m.format == declare.GIF {
		return m.gif.Bytes()
	}
	return m.webp.Bytes()
}

func (m *movie) close() {
	if m.webp != nil {
		m.webp.Close()
	}
}

// animate makes every frame as a still would be made.
func animate(source []byte, info codec.Info, plan geometry.Plan, paints *paints, profile *icc.Transform, job Job, format declare.Format, w *watch, result *Result) error {
	if r := job.Limits.CheckPixels(info.W, info.H*info.Frames); r != nil {
		r.Detail = fmt.Sprintf("its %d frames of %d × %d pixels are too much together", info.Frames, info.W, info.H)
		return r
	}
	film := func(m *movie) ([]byte, error) {
		defer m.close()
		err := frames[info.Type](source, func(p *raster.RGBA, shown time.Duration) error {
			pixels := toSRGB(codec.Picture{RGBA: p}, profile)
			pixels.Premultiply()
			pixels = resamplePixels(pixels, info, plan, 8)
			if paints.any {
				pixels = paints.paint(pixels)
			}
			err := m.add(pixels, shown, job.Predict)
			pixels.Free()
			p.Free()
			return err
		})
		if err != nil {
			return nil, err
		}
		return m.bytes()
	}
	m := &movie{format: format, quality: job.Request.Quality, plays: info.Plays, setting: unknown, colours: mostColours}
	defer func() { m.first.Free() }()
	data, err := film(m)
	if err != nil {
		if _, ok := err.(*codec.Error); ok {
			return refuseSource(err)
		}
		return refuseEncoding(err)
	}
	w.lap("frames")
	facts := factsOf(source, job.Request.Retain)
	if b := budgetOf(job, facts); b.bytes > 0 && !b.keeps(data) {
		if data, m.how, err = m.within(film, data, b); err != nil {
			return refuseEncoding(err)
		}
	}
	result.Data, result.Format, result.How = metadata.Embed(data, facts), format, m.how
	if own, f := itself(source, info, plan, paints, job); own != nil && notWorth(len(own), len(data)) {
		result.Data, result.Format, result.How = own, f, Encoding{Kind: m.how.Kind, Way: "source"}
	}
	return nil
}

// within makes the animation again with fewer colours or a lower quality, until it's within the budget.
func (m *movie) within(film func(*movie) ([]byte, error), data []byte, b budget) ([]byte, Encoding, error) {
	if m.quality == declare.Lossless {
		return nil, m.how, b.refusal(len(data), "leave quality=lossless out, so that quality can give way, or ask for a smaller width or for animation=none")
	}
	b.way = ", or for animation=none"
	f := finish{pixels: m.first, quality: m.quality}
	defer f.free()
	again := func(colours int, setting float64) ([]byte, error) {
		n := &movie{format: m.format, quality: m.quality, plays: m.plays, colours: colours, setting: setting}
		defer func() { n.first.Free() }()
		return film(n)
	}
	has := likeness.Found{Data: data}
	if m.format == declare.GIF {
		e := f.palettes(b.floor, func(_ *raster.RGBA, _ *raster.Indexed, colours int) ([]byte, error) { return again(colours, unknown) })
		has.Setting = e.Most + e.Step
		return b.squeezed(e, coloursName, has, m.how)
	}
	e, err := f.encoder(declare.WebP)
	if err != nil {
		return nil, m.how, err
	}
	first := e.Try
	least, _ := settingFor(declare.WebP, float64(b.floor))
	e.Least = math.Round(least/e.Step) * e.Step
	e.Try = func(setting float64) ([]byte, float64, error) {
		_, far, err := first(setting)
		if err != nil {
			return nil, 0, err
		}
		data, err := again(mostColours, webp.Quality(setting))
		return data, far, err
	}
	if has.Setting = e.Most + e.Step; m.setting != webp.Exactly {
		has.Setting = webp.Fineness(m.setting)
	}
	return b.squeezed(e.Encoder, e.name, has, m.how)
}

package render

import (
	"fmt"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/gif"
	"echolane/core/codec/icc"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
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
	how     Encoding
	gif     *gif.Animation
	webp    *webp.Animation
	plays   int // how often, 0 for ever
}

func (m *movie) add(p *raster.RGBA, shown time.Duration, predict bool) error {
	if m.format == declare.GIF {
		if m.gif == nil {
			m.gif = gif.NewAnimation(m.plays)
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
		if err := m.begin(p, predict); err != nil {
			return err
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
	f := finish{pixels: p, quality: m.quality, predict: predict}
	defer func() { f.planes.Free() }()
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
			how.Way, how.Setting, how.Quality = "lossless", "", 0
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
	m := &movie{format: format, quality: job.Request.Quality, plays: info.Plays}
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
		if _, ok := err.(*codec.Error); ok {
			return refuseSource(err)
		}
		return refuseEncoding(err)
	}
	w.lap("frames")
	data, err := m.bytes()
	if err != nil {
		return refuseEncoding(err)
	}
	result.Data, result.Format, result.How = codec.Embed(data, factsOf(source, job.Request.Retain)), format, m.how
	if own, f := itself(source, info, plan, paints, job); own != nil && notWorth(len(own), len(data)) {
		result.Data, result.Format, result.How = own, f, Encoding{Kind: m.how.Kind, Way: "source"}
	}
	if budget := job.Request.Budget; budget > 0 && len(result.Data) > int(budget) {
		return policy.No(policy.Refusal{
			Reason: "budget-out-of-reach", Parameter: "budget", Given: fmt.Sprint(budget), Detail: fmt.Sprintf("the animation has %d bytes", len(result.Data)),
			Allowed: fmt.Sprintf("at least %d", len(result.Data)), Remedy: "allow more bytes, ask for a smaller width or a lower quality, or for animation=none",
		})
	}
	return nil
}

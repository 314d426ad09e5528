package render

import (
	"fmt"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/codec/icc"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// moves says whether the variant is an animation, and in which format.
func moves(info codec.Info, r declare.Resolved, canvas geometry.Size, opaque bool) (declare.Format, bool) {
	if info.Frames < 2 || r.Animation == declare.AnimationNone || formats.Of(info.Type).Frames == nil {
		return 0, false
	}
	return carrying(info, r, canvas, opaque)
}

// carrying is the format for an animation that plays as info says.
func carrying(info codec.Info, r declare.Resolved, canvas geometry.Size, opaque bool) (declare.Format, bool) {
	for _, takes := range []func(f declare.Format, w *codec.Writer) bool{
		func(f declare.Format, w *codec.Writer) bool {
			return !w.Apart && (info.Plays == 0 || !w.Forever) && (opaque || f.ShowsAlpha() || !f.Named())
		},
		func(_ declare.Format, w *codec.Writer) bool { return !w.Apart },
		func(declare.Format, *codec.Writer) bool { return true },
	} {
		for _, f := range encode.Lightest(r.Formats, "graphic", r.Quality) {
			if f.CarriesFrames() && takes(f, formats.Writer(f)) && holds(f, canvas) && (r.Quality != declare.Lossless || f.CarriesLossless()) {
				return f, true
			}
		}
	}
	return 0, false
}

// animate makes every frame as a still would be made.
func animate(source []byte, info codec.Info, plan geometry.Plan, paints *paints, profile *icc.Transform, job Job, format declare.Format, revise *revision, w *watch, result *Result) error {
	if r := job.Limits.CheckPixels(info.W, info.H*info.Frames); r != nil {
		r.Detail = fmt.Sprintf("its %d frames of %d × %d pixels are too much together", info.Frames, info.W, info.H)
		return r
	}
	film := func(m *encode.Movie) ([]byte, error) {
		err := formats.Of(info.Type).Frames(source, func(p *raster.RGBA, shown time.Duration) error {
			pixels := toSRGB(codec.Picture{RGBA: p}, profile)
			pixels.Premultiply()
			revise.apply(pixels, 8)
			pixels = resamplePixels(pixels, info, plan, 8)
			if paints.any {
				pixels = paints.paint(pixels)
			}
			err := m.Add(pixels, shown)
			pixels.Free()
			p.Free()
			return err
		})
		if err != nil {
			return nil, err
		}
		return m.Bytes()
	}
	m := &encode.Movie{Format: format, Quality: job.Request.Quality, Quick: job.Predict, Plays: info.Plays, Opaque: !info.Alpha && !paints.transparent}
	defer m.Free()
	data, err := film(m)
	if err != nil {
		if _, ok := err.(*codec.Error); ok {
			return refuseSource(err)
		}
		return refuseEncoding(err)
	}
	w.lap("frames")
	facts := factsOf(source, job.Request.Retain)
	if budget := job.Request.Budget; budget > 0 {
		if data, err = m.Within(film, data, encode.NewBudget(int(budget), job.Floor, facts)); err != nil {
			return refuseEncoding(err)
		}
	}
	how := m.How()
	result.Data, result.Format, result.How = metadata.Embed(data, facts), format, how
	if own, f := itself(source, info, plan, paints, revise, job); own != nil && notWorth(len(own), len(data)) {
		result.Data, result.Format, result.How = own, f, encode.Encoding{Kind: how.Kind, Way: "source"}
	}
	return nil
}

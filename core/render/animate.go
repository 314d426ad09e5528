package render

import (
	"fmt"
	"strings"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/codec/icc"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/raster"
)

// moves says whether the variant is an animation, and in which format.
func moves(info codec.Info, r declare.Resolved, canvas geometry.Size) (declare.Format, bool) {
	if info.Frames < 2 || r.Animation == declare.AnimationNone || formats.Of(info.Type).Frames == nil {
		return 0, false
	}
	for _, apart := range []bool{false, true} {
		for _, f := range r.Formats {
			if f.CarriesFrames() && formats.Writer(f).Apart == apart && holds(f, canvas) && (r.Quality != declare.Lossless || f.CarriesLossless()) {
				return f, true
			}
		}
	}
	return 0, false
}

// lost refuses to make a still of an animation in a format that people know to move, where it was asked for by name.
func lost(info codec.Info, r declare.Resolved) *policy.Refusal {
	if info.Frames < 2 || r.Animation == declare.AnimationNone || len(r.Formats) != 1 || !formats.Writer(r.Formats[0]).Sequences {
		return nil
	}
	var others []string
	for _, f := range declare.Formats() {
		if f.CarriesFrames() {
			others = append(others, "format="+f.String())
		}
	}
	f := r.Formats[0]
	return policy.No(policy.Refusal{
		Reason: policy.ReasonFramesNotWritten, Parameter: "format", Given: f.String(), Detail: fmt.Sprintf("the source has %d frames, and %s is written as a still here", info.Frames, f),
		Allowed: strings.Join(others, ", "), Remedy: "ask for " + strings.Join(others, " or ") + ", leave the format out, or add animation=none for the first frame",
	})
}

// animate makes every frame as a still would be made.
func animate(source []byte, info codec.Info, plan geometry.Plan, paints *paints, profile *icc.Transform, job Job, format declare.Format, w *watch, result *Result) error {
	if r := job.Limits.CheckPixels(info.W, info.H*info.Frames); r != nil {
		r.Detail = fmt.Sprintf("its %d frames of %d × %d pixels are too much together", info.Frames, info.W, info.H)
		return r
	}
	film := func(m *encode.Movie) ([]byte, error) {
		err := formats.Of(info.Type).Frames(source, func(p *raster.RGBA, shown time.Duration) error {
			pixels := toSRGB(codec.Picture{RGBA: p}, profile)
			pixels.Premultiply()
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
	m := &encode.Movie{Format: format, Quality: job.Request.Quality, Quick: job.Predict, Plays: info.Plays}
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
	if own, f := itself(source, info, plan, paints, job); own != nil && notWorth(len(own), len(data)) {
		result.Data, result.Format, result.How = own, f, encode.Encoding{Kind: how.Kind, Way: "source"}
	}
	return nil
}

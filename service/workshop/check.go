package workshop

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/wording"
)

// mostRefusal is how many bytes each text of a worker's refusal may have.
const mostRefusal = 2000

var fontTypes = []string{"font/ttf", "font/otf", "font/collection", "font/woff", "font/woff2"}

// check holds what a worker says against what it can be: it read foreign bytes.
func (a *answer) check(o *message) error {
	if no := a.Refusal; no != nil {
		if !slices.Contains(render.Reasons, no.Reason) {
			return fmt.Errorf("the worker turns a job down for %.40q", no.Reason)
		}
		if no.Problems != nil || no.RetryIn != 0 || no.Mend != nil && !raisesALimit(no.Mend) {
			return errors.New("the worker's refusal says what only policy can")
		}
		for _, text := range []*string{&no.Parameter, &no.Given, &no.Detail, &no.Allowed, &no.Remedy} {
			*text = strings.Map(printable, wording.Cut(*text, mostRefusal))
		}
		return nil
	}
	if a.Changed {
		return nil
	}
	if len(a.Digests) != len(o.Inputs) {
		return errors.New("the worker doesn't say what it read")
	}
	switch o.Kind {
	case toHeader:
		return a.Header.Check(slices.Concat(fontTypes, formats.Types()))
	case toStrip:
		if _, ok := metadata.CheckSplices(a.Splices, o.Inputs[0].Size); !ok {
			return errors.New("the worker's splices aren't of that source")
		}
		return nil
	}
	r := &a.Result
	for _, s := range r.Stages {
		if !slices.Contains(render.StageNames, s.Name) || s.Took < 0 || s.Took > time.Hour {
			return fmt.Errorf("the worker tells of a stage %.40q", s.Name)
		}
	}
	if o.Job.Facts {
		return nil
	}
	if len(r.Data) == 0 || !slices.Contains(declare.Formats(), r.Format) || r.Canvas.W < 1 || r.Canvas.H < 1 || r.Natural.W < 1 || r.Natural.H < 1 || len(r.Stages) > 100 || len(r.How.Trials) > 200 || len(r.How.Weighed) > len(declare.Formats()) {
		return errors.New("the worker's variant isn't one")
	}
	if len(r.Layers) > declare.MostLayers || slices.ContainsFunc(r.Layers, badLayer) {
		return errors.New("the worker's layers aren't any")
	}
	return nil
}

// badLayer reports whether a render can't have told so of a layer.
func badLayer(l render.Laid) bool {
	off := func(o render.Overflow) bool { return !slices.Contains(render.Overflows, o) }
	follows := func(s string) bool { return s != "width" && s != "height" }
	return len(l.Name) > 100 || l.Name == "" || len(l.Over) > len(render.Overflows) || slices.ContainsFunc(l.Over, off) || len(l.Follow) > 2 || slices.ContainsFunc(l.Follow, follows)
}

// raisesALimit reports whether a change of settings is one that a render may propose: a higher limit on what it met.
func raisesALimit(m *policy.Mend) bool {
	name, value, ok := strings.Cut(m.Value, "=")
	n, err := strconv.ParseInt(value, 10, 64)
	return ok && err == nil && n > 0 && *m == policy.Mend{Action: "set-limit", Value: m.Value} &&
		slices.Contains([]string{"source_bytes", "source_pixels", "source_frames", "width", "height", "pixels"}, name)
}

// printable puts a space in the place of what steers a terminal or a header field.
func printable(r rune) rune {
	if unicode.IsControl(r) {
		return ' '
	}
	return r
}

// most is how many bytes the answer to an order may bring.
func (o *message) most() int64 {
	if o.Kind != toRender {
		return 0
	}
	source := int64(0)
	if len(o.Inputs) > 0 {
		source = o.Inputs[0].Size
	}
	frames := int64(max(1, o.Job.Limits.SourceFrames))
	return min(1<<31, 1<<20+2*source+8*min(o.Job.Limits.Pixels, 1<<28)*min(frames, 8))
}

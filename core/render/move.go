package render

import (
	"fmt"
	"slices"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/subject"
)

// fewestMoments is how many states a moving still has at the least: with fewer it would jump.
const fewestMoments = 8

// movable is how many frames, and how many pixels in all of them together, are made in a format: what takes about five seconds.
var movable = map[declare.Format]struct {
	frames int
	pixels float64
}{
	declare.AVIF: {1000, 100e6}, declare.WebP: {240, 40e6}, declare.JXL: {80, 25e6}, declare.GIF: {80, 25e6},
}

// setMoving settles in which format a still moves, and on which canvas: that of the first moment, made smaller where some moment
// has fewer pixels to show, so that the canvas stays. It gives false where it stays a still.
func setMoving(source []byte, info codec.Info, job *Job, plan geometry.Plan) (format declare.Format, moved geometry.Plan, ok bool, err error) {
	m := job.Request.Motion
	if m == nil || info.Frames > 1 || job.Placeholder > 0 || job.Request.Animation == declare.AnimationNone || job.painted != nil {
		return 0, plan, false, nil
	}
	upright := geometry.Size{W: plan.Upright.W, H: plan.Upright.H}
	known := *m
	known.Keyframes = append([]declare.Keyframe(nil), m.Keyframes...)
	for i := range known.Keyframes {
		if r := &known.Keyframes[i].Set.XYWH; r.Subject != 0 {
			if *r, err = aroundSubject(job.Findings, source, info, r.Subject, job.Request.Focus); err != nil {
				return 0, plan, false, refuseSource(err)
			}
		}
	}
	base := job.Request.Declarations
	list, plays := known.Moments(base, job.Request.Layers, known.Most)
	if len(list) < 2 {
		return 0, plan, false, nil
	}
	if plan, ok = geometry.New(upright, list[0].Declarations); !ok {
		return 0, plan, false, policy.NothingLeft(list[0].XYWH, upright.W, upright.H)
	}
	// The slot, as the first moment has it, and how many of its pixels the least of all moments can fill.
	slot := list[0].Declarations
	slot.Resolution, slot.Width, slot.Height, slot.Aspect = plan.K, float64(plan.Canvas.W)/plan.K, float64(plan.Canvas.H)/plan.K, declare.Ratio{}
	least := 1.0
	if slot.Grow != declare.GrowYes {
		for _, moment := range list {
			slot.XYWH = moment.XYWH
			p, ok := geometry.New(upright, slot)
			if !ok {
				return 0, plan, false, policy.NothingLeft(moment.XYWH, upright.W, upright.H)
			}
			least = min(least, float64(p.Canvas.W)/float64(plan.Canvas.W))
		}
	}
	if least < 1 {
		slot.XYWH = list[0].XYWH
		slot.Resolution *= least
		slot.Grow = declare.GrowYes
		if plan, ok = geometry.New(upright, slot); !ok {
			return 0, plan, false, policy.NothingLeft(slot.XYWH, upright.W, upright.H)
		}
	}
	moving := info
	moving.Frames, moving.Plays = 2, plays
	opaque := !info.Alpha
	for _, moment := range list {
		p, ok := plan.Moved(moment.Declarations)
		if !ok {
			return 0, plan, false, policy.NothingLeft(moment.XYWH, upright.W, upright.H)
		}
		opaque = opaque && !newPaints(moment.Declarations, p, info.Alpha, len(job.Request.Layers) > 0).transparent
	}
	if format, ok = carrying(moving, job.Request, plan.Canvas, opaque); !ok {
		return 0, plan, false, nil
	}
	job.Request.Motion = &known
	return format, plan, true, nil
}

// aroundSubject is a window around the subject, a part of the upright picture's sides, as far as the picture reaches.
func aroundSubject(known *Findings, source []byte, info codec.Info, part float64, said declare.Focus) (declare.Region, error) {
	w, h := info.Upright()
	plan, _ := geometry.New(geometry.Size{W: w, H: h}, declare.Declarations{})
	box, err := found(known, source, fmt.Sprint("around", info.Orientation, part, said), func(subject.Box) int { return 64 }, func() (subject.Box, error) {
		return windowIn(known, source, info, plan, declare.Subject, said, part, part)
	})
	if err != nil {
		return declare.Region{}, err
	}
	low := func(a, b float64) float64 { return min(max(0, (a+b)/2-part/2), 1-part) }
	r := declare.Region{Declared: true, W: declare.Length{Part: part}, H: declare.Length{Part: part}}
	r.X, r.Y = declare.Length{Part: low(box.X0, box.X1)}, declare.Length{Part: low(box.Y0, box.Y1)}
	return r, nil
}

// move makes the moments of a still that moves, each resampled from the source itself. It's an animation then.
func (t *task) move(info codec.Info, plan geometry.Plan, format declare.Format) error {
	job := &t.job
	base := job.Request.Declarations
	canvas := float64(plan.Canvas.W) * float64(plan.Canvas.H)
	can := movable[format]
	room := int(can.pixels / canvas)
	if n := len(job.Request.Motion.Layers); n > 1 { // each takes about as long as the picture
		room = max(min(room, fewestMoments), room/n)
	}
	if room < fewestMoments {
		return policy.No(policy.Refusal{
			Reason: policy.ReasonVariantTooLarge, Parameter: "width", Given: fmt.Sprintf("%dx%d", plan.Canvas.W, plan.Canvas.H),
			Detail:  fmt.Sprintf("in %s, %d frames of %d × %d pixels, the fewest that move, are too much together", format, fewestMoments, plan.Canvas.W, plan.Canvas.H),
			Allowed: fmt.Sprintf("at most %.0f pixels a frame", can.pixels/fewestMoments), Remedy: "ask for a smaller width, or for animation=none",
		})
	}
	list, plays := job.Request.Motion.Moments(base, job.Request.Layers, min(job.Request.Motion.Most, can.frames, room))

	// The source, as finely as the moment that shows least of it needs.
	finest := 0.0
	for _, moment := range list {
		p, _ := plan.Moved(moment.Declarations)
		finest = max(finest, p.ScaleX(), p.ScaleY())
	}
	whole := plan.Whole(finest)
	info, whole, part := sized(info, whole)
	t.revision.drawn(part, info.W, info.H)
	scale := 8
	if formats.Of(info.Type).Scales && !plan.Nearest {
		for _, s := range []int{4, 2, 1} {
			if float64(s)/8 >= 2*finest*(1-1e-9) {
				scale = s
			}
		}
	}
	picture, err := decode(t.source, info, part, scale, info.H, false)
	if err != nil {
		return refuseSource(err)
	}
	t.lap("decode")
	profile := openProfile(info)
	if profile != nil {
		defer profile.Close()
	}
	pixels := toSRGB(picture, profile)
	pixels.Premultiply()
	defer pixels.Free()
	t.apply(pixels, scale)
	layers, err := movingLayersOf(*job, plan)
	if err != nil {
		return err
	}
	drawn := geometry.Size{W: plan.Upright.W, H: plan.Upright.H}
	if part != (codec.Part{}) { // a drawing has other pixels than it says
		drawn.W, drawn.H = info.Upright()
	}
	transparent := false
	frame := func(moment *declare.Moment) (*raster.RGBA, error) {
		d := moment.Declarations
		p := plan
		d.XYWH = inParts(d.XYWH, p.Upright)
		p.Upright = drawn
		p, _ = p.Moved(d)
		paints := newPaints(d, p, info.Alpha || t.matte != nil, len(job.Request.Layers) > 0)
		if paints.layers, err = layers.at(moment); err != nil {
			return nil, err
		}
		transparent = transparent || paints.transparent
		out := resamplePixels(pixels, info, p, scale)
		if out.Within(pixels) {
			out = out.Copy()
		}
		if paints.any {
			out = paints.paint(out)
		}
		return out, nil
	}
	for _, moment := range list { // whether any has transparency is to be known before the first
		p, _ := plan.Moved(moment.Declarations)
		transparent = transparent || newPaints(moment.Declarations, p, info.Alpha || t.matte != nil, len(job.Request.Layers) > 0).transparent
	}
	film := func(m *encode.Movie) ([]byte, error) {
		shown := time.Duration(0)
		for i := range list {
			moment := &list[i]
			out, err := frame(moment)
			if err != nil {
				return nil, err
			}
			// What is rounded off is made up for, so that the whole takes as long as it says.
			next := shown + time.Duration(moment.Shown*float64(time.Second))
			err = m.Add(out, next.Round(time.Millisecond)-shown.Round(time.Millisecond))
			shown = next
			out.Free()
			if err != nil {
				return nil, err
			}
		}
		return m.Bytes()
	}
	m := &encode.Movie{Format: format, Quality: job.Request.Quality, Quick: job.Predict, Plays: plays, Changes: true, Opaque: pixels.Opaque && !transparent}
	defer m.Free()
	data, err := film(m)
	if err != nil {
		return refuseEncoding(err)
	}
	t.lap("frames")
	facts := factsOf(t.source, job.Request.Retain)
	if budget := job.Request.Budget; budget > 0 {
		if data, err = m.Within(film, data, encode.NewBudget(int(budget), job.Floor, facts)); err != nil {
			return refuseEncoding(err)
		}
	}
	t.result.Canvas, t.result.Natural = plan.Canvas, plan.Natural
	t.result.Data, t.result.Format, t.result.How = metadata.Embed(data, facts), format, m.How()
	return nil
}

// movingLayers are the layers of a still that moves: those that stay where they are made once.
type movingLayers struct {
	job   Job
	plan  geometry.Plan
	still layers
	made  map[string]*layer // those that don't move, by name; nil for one of which nothing shows
}

func movingLayersOf(job Job, plan geometry.Plan) (*movingLayers, error) {
	l := &movingLayers{job: job, plan: plan, made: map[string]*layer{}}
	still := job
	still.Request.Layers = slices.DeleteFunc(slices.Clone(job.Request.Layers), func(b declare.Box) bool { return l.moves(b.Name) })
	var err error
	if l.still, err = layersOf(still, plan); err != nil {
		return nil, err
	}
	for _, list := range [][]*layer{l.still.under, l.still.over} {
		for _, made := range list {
			l.made[made.laid.Name] = made
		}
	}
	return l, nil
}

func (l *movingLayers) moves(name string) bool {
	return slices.ContainsFunc(l.job.Request.Motion.Layers, func(m declare.LayerMotion) bool { return m.Name == name })
}

// at are the layers of a moment.
func (l *movingLayers) at(moment *declare.Moment) (layers, error) {
	if len(moment.Layers) == 0 {
		return l.still, nil
	}
	request := l.job.Request
	request.Layers = slices.Clone(request.Layers)
	for i := range request.Layers {
		for _, b := range moment.Layers {
			if b.Name == request.Layers[i].Name {
				request.Layers[i] = b
			}
		}
	}
	now := l.still
	under, over := request.Boxes()
	for i, list := range [][]declare.Box{under, over} {
		made := make([]*layer, 0, len(list))
		for n := range list {
			one := l.made[list[n].Name]
			if l.moves(list[n].Name) {
				var err error
				if one, err = l.job.layer(&list[n], l.plan); err != nil {
					return now, err
				}
			}
			if one != nil {
				made = append(made, one)
			}
		}
		if i == 0 {
			now.under = made
		} else {
			now.over = made
		}
	}
	return now, nil
}

// inParts is a region with all its sides in parts of a picture's.
func inParts(r declare.Region, of geometry.Size) declare.Region {
	if !r.Declared {
		return r
	}
	w, h := float64(of.W), float64(of.H)
	part := func(l declare.Length, side float64) declare.Length { return declare.Length{Part: l.Of(side) / side} }
	r.X, r.W, r.Y, r.H = part(r.X, w), part(r.W, w), part(r.Y, h), part(r.H, h)
	return r
}

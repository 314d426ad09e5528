package render

import (
	"echolane/core/codec"
	"echolane/core/codec/icc"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
)

// A task is a variant on its way: after begin its source is to be decoded at a scale, after fromPlanes or fromPixels it is
// painted, after deliver it is there.
type task struct {
	watch
	source []byte
	job    Job
	result Result
	done   bool // begin has made it: facts, a placeholder, an animation

	info codec.Info
	plan geometry.Plan
	part codec.Part // of a drawing
	revision
	profile *icc.Transform
	paints  *paints
	tried   []declare.Format // that it is to be made in, the most promising first

	scale    int  // eighths that the source is to be decoded at, at the least
	bottom   int  // rows of it that are needed
	byPlanes bool // it needs no pixels, where the decoder gives planes

	picture encode.Picture
}

// begin looks at the source's header, decides what is to be done, and does what isn't a still variant.
func begin(source []byte, job Job) (t *task, err error) {
	t = &task{source: source, job: job, watch: watch{clock: job.Clock}}
	t.watch.begin()

	info, err := probe(source, job.Request.Declarations)
	if err != nil {
		return t, err
	}
	job.Request.Declarations = job.Request.For(info.Type)
	if r := job.Limits.CheckPixels(info.W, info.H); r != nil {
		return t, r
	}
	if r := job.Limits.CheckFrames(info.Frames); r != nil {
		return t, r
	}
	nw, nh := info.Upright()
	if around := job.Request.XYWH.Faces; around.Declared {
		if job.Request.XYWH, err = aroundFaces(job.Findings, source, info, around.Room); err != nil {
			return t, refuseSource(err)
		}
		t.lap("focus")
	}
	if part := job.Request.XYWH.Subject; part != 0 {
		if job.Request.XYWH, err = aroundSubject(job.Findings, source, info, part, job.Request.Focus); err != nil {
			return t, refuseSource(err)
		}
		t.lap("focus")
	}
	plan, ok := geometry.New(geometry.Size{W: nw, H: nh}, job.Request.Declarations)
	if !ok {
		return t, policy.NothingLeft(job.Request.XYWH, nw, nh)
	}
	if job.Facts {
		t.done = true
		t.result, err = facts(job.Findings, source, info, plan, job.Request.Focus)
		return t, err
	}
	if aim := job.Request.Position.Focus; aim != declare.NoFocus && plan.Cuts() {
		if r := job.Limits.CheckOutput(plan.Canvas.W, plan.Canvas.H); r != nil {
			return t, r
		}
		box, err := find(job.Findings, source, info, plan, aim, job.Request.Focus)
		if err != nil {
			return t, refuseSource(err)
		}
		job.Request.Position = plan.FocusAt(box.X0, box.Y0, box.X1, box.Y1)
		plan, _ = geometry.New(geometry.Size{W: nw, H: nh}, job.Request.Declarations)
		t.lap("focus")
	}
	if r := job.Limits.CheckOutput(plan.Canvas.W, plan.Canvas.H); r != nil {
		return t, r
	}
	if job.Placeholder > 0 {
		job.Request.Rendering = declare.RenderingUnset // it is blurred
		t.done = true
		t.result, err = placeholder(source, plan, job)
		return t, err
	}
	t.result = Result{Canvas: plan.Canvas, Natural: plan.Natural, Source: info.Type}
	format, moved, moving, err := setMoving(source, info, &job, plan)
	if err != nil {
		return t, err
	}
	if moving {
		if r := job.Limits.CheckOutput(moved.Canvas.W, moved.Canvas.H); r != nil {
			return t, r
		}
	}
	t.lap("plan")
	if t.revision, err = revisionOf(job.Findings, source, info, geometry.Size{W: nw, H: nh}, &job.Request); err != nil {
		return t, refuseSource(err)
	}
	if !t.revision.none() {
		t.lap("look")
	}

	if moving {
		t.job = job
		if err := t.move(info, moved, format); err != nil {
			return &task{}, err
		}
		t.lap("encode")
		t.done, t.result.Stages = true, t.stages
		return t, nil
	}
	info, plan, t.part = sized(info, plan)
	t.revision.drawn(t.part, info.W, info.H)
	info.Alpha = info.Alpha || t.matte != nil
	profile := openProfile(info)
	defer func() {
		if t.profile == nil && profile != nil { // it isn't the task's to close
			profile.Close()
		}
	}()
	paints := newPaints(job.Request.Declarations, plan, info.Alpha, len(job.Request.Layers) > 0)
	if paints.layers, err = layersOf(job, plan); err != nil {
		return t, err
	}
	if !paints.layers.none() {
		t.result.Layers = paints.layers.laid
		t.lap("layers")
	}
	if format, ok := moves(info, job.Request, plan.Canvas, !info.Alpha && !paints.transparent); ok {
		if err := animate(source, info, plan, paints, profile, job, format, &t.revision, &t.watch, &t.result); err != nil {
			return &task{}, err
		}
		t.lap("encode")
		t.done, t.result.Stages = true, t.stages
		return t, nil
	}
	tried, r := job.choose(plan.Canvas, !paints.transparent, "photograph")
	if r != nil {
		return t, r
	}
	t.info, t.plan, t.profile, t.paints, t.tried, t.job = info, plan, profile, paints, tried, job
	t.scale, t.bottom = decodeScale(info, plan), storedCut(info, plan).Y1
	if t.field != nil && t.part == (codec.Part{}) { // it may be filled from anywhere
		t.bottom = info.H
	}
	t.byPlanes = profile == nil && t.none() && !paints.any && !plan.Nearest && job.Request.Quality != declare.Lossless && !encode.WantsPixels(tried)
	return t, nil
}

func (t *task) close() {
	if t.profile != nil {
		t.profile.Close()
	}
}

// fill is how the picture is to be encoded, whatever it looks like.
func (t *task) fill() {
	j := &t.job
	t.picture = encode.Picture{
		Quality: j.Request.Quality, Finest: sourceQuality(t.source, t.info, t.plan), Matte: j.Request.Matte, Quick: j.Predict, Effort: j.effort(), Facts: factsOf(t.source, j.Request.Retain),
	}
}

// fromPlanes makes the variant's planes of the source's, decoded at t.scale.
func (t *task) fromPlanes(from *raster.YCbCr) {
	t.fill()
	t.picture.YCbCr = resamplePlanes(from, t.info, t.plan, t.scale)
	t.lap("resample")
}

// inSRGB is the decoded picture premultiplied in sRGB, altered as it's to be. It takes the picture's own pixels.
func (t *task) inSRGB(picture codec.Picture) *raster.RGBA {
	pixels := toSRGB(picture, t.profile)
	t.lap("colour")
	pixels.Premultiply()
	if !t.none() {
		t.apply(pixels, t.scale)
		t.lap("revise")
	}
	return pixels
}

// fromPixels makes the variant's pixels of the source's, decoded at t.scale, and paints them. What is shared stays as it is.
func (t *task) fromPixels(from *raster.RGBA, shared bool) error {
	t.fill()
	pixels := resamplePixels(from, t.info, t.plan, t.scale)
	if shared && pixels.Within(from) {
		pixels = pixels.Copy()
	}
	t.lap("resample")
	if t.paints.any {
		pixels = t.paints.paint(pixels)
		t.lap("paint")
	}
	t.picture.Pixels = pixels
	var r *policy.Refusal
	if t.tried, r = t.job.choose(t.plan.Canvas, pixels.Opaque, t.picture.Kind()); r != nil {
		t.free()
		return r
	}
	return nil
}

// free gives back what was painted.
func (t *task) free() {
	t.picture.Free()
	if t.picture.Pixels != nil {
		t.picture.Pixels.Free()
	}
}

// deliver encodes what was painted.
func (t *task) deliver() error {
	if t.job.painted != nil && t.picture.Pixels != nil {
		t.job.painted(t.picture.Pixels.Copy())
		return nil
	}
	if err := deliver(&t.picture, t.tried, &t.result, t.source, t.info, t.plan, t.paints, &t.revision, t.job); err != nil {
		return err
	}
	t.lap("encode")
	t.result.Stages = t.stages
	return nil
}

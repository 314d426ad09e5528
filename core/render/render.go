// Package render makes one variant from one source: the only door to the picture core for callers. It reads
// no clock, no file and no setting of its own, and keeps no state: equal arguments give equal bytes.
package render

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/codec/icc"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/face"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/subject"
	"echolane/core/text"
)

// Version names what this package would make of a request. It is part of every variant's key and changes
// whenever pixels or bytes could.
const Version = "20"

// A Job is what one variant is made by.
type Job struct {
	Request declare.Resolved
	Limits  policy.Limits

	// Floor is the least quality that a budget may bring a variant down to.
	Floor int

	// Pictures are the sources that the request names beside the one it is about, by lane/path.
	Pictures map[string][]byte `json:"-"`

	// Fonts are the files of the system's fonts that its layers' texts may need, by name; see SystemFonts.
	Fonts map[string][]byte `json:"-"`

	// FontCache keeps fonts that were read; nil reads them anew each time.
	FontCache *text.Cache `json:"-"`

	// Layers keeps such pictures as they were last made; nil makes them anew each time.
	Layers *LayerCache `json:"-"`

	// Findings keep what was found in pictures; nil finds it anew each time.
	Findings *Findings `json:"-"`

	// Facts asks for what can be found in the picture instead of a variant of it.
	Facts bool

	// Placeholder asks for a picture of at most so many bytes that stands in for the variant; 0: the variant itself.
	Placeholder int

	// Predict takes the setting that a picture like this needs, with a look at what comes out where that is quick: for an
	// answer that has to be.
	Predict bool

	// Tried is in how many formats the picture may be made to send the smallest, where the request leaves a choice; 0 means 1.
	Tried int

	// Thorough takes more time to have fewer bytes, where that pays.
	Thorough bool

	// painted, where it isn't nil, is given the pixels instead of having them encoded.
	painted func(*raster.RGBA)

	// Clock tells the time since some fixed moment, for Result.Stages. Without it there are none.
	Clock func() time.Duration `json:"-"`
}

// effort is how much time encoding takes.
func (j *Job) effort() codec.Effort {
	switch {
	case j.Predict:
		return codec.First
	case j.Thorough:
		return codec.Thorough
	}
	return codec.Usual
}

// A Result is a variant and what is worth knowing about it.
type Result struct {
	Data    []byte `json:"-"`
	Format  declare.Format
	Canvas  geometry.Size
	Natural geometry.Size
	Source  string // the source's media type
	Stages  []Stage
	How     encode.Encoding // how the bytes came about
	Layers  []Laid          `json:",omitempty"` // in the order in which they lie over one another

	// Where facts were asked for:
	Subject *subject.Found `json:",omitempty"`
	Colour  string         `json:",omitempty"` // the mean of the subject, as #rrggbb
	Faces   []face.Face    `json:",omitempty"`
	Looks   *Looks         `json:",omitempty"`
}

// Looks are what a picture looks like, as a whole.
type Looks struct {
	Colours   []subject.Share `json:"colours"`   // the main ones, the largest share first
	Kind      string          `json:"kind"`      // photograph, graphic or drawing
	Sharpness float64         `json:"sharpness"` // of its sharpest parts, 640 pixels wide, 0–1: below about 0.4 it is out of focus
	Lettered  bool            `json:"lettered"`  // some of it looks like text
}

// looksOf looks at a small copy of a picture.
func looksOf(pixels *raster.RGBA, mediaType string) *Looks {
	l := &Looks{Colours: subject.Colours(pixels), Sharpness: subject.Sharpness(pixels), Lettered: subject.Lettered(pixels)}
	if l.Kind = (&encode.Picture{Pixels: pixels}).Kind(); mediaType == declare.Drawing {
		l.Kind = "drawing"
	}
	return l
}

// A Stage is a step of the work and how long it took.
type Stage struct {
	Name string
	Took time.Duration
}

// Variant makes the variant. Its error is a *policy.Refusal.
func Variant(source []byte, job Job) (Result, error) {
	t, err := begin(source, job)
	if err != nil || t.done {
		return t.result, err
	}
	defer t.close()
	picture, err := decode(source, t.info, t.part, t.scale, t.bottom, t.byPlanes)
	if err != nil {
		return Result{}, refuseSource(err)
	}
	defer picture.Free()
	t.lap("decode")
	if t.byPlanes && picture.YCbCr != nil {
		t.fromPlanes(picture.YCbCr)
	} else {
		pixels := t.inSRGB(picture)
		if err := t.fromPixels(pixels, false); err != nil {
			return Result{}, err
		}
	}
	defer t.free()
	if err := t.deliver(); err != nil {
		return Result{}, err
	}
	return t.result, nil
}

// Paint makes a still variant's pixels, premultiplied, without encoding them. Its error is a *policy.Refusal.
func Paint(source []byte, job Job) (*raster.RGBA, error) {
	var pixels *raster.RGBA
	job.painted = func(p *raster.RGBA) { pixels = p }
	job.Request.Formats, job.Request.Animation, job.Request.Budget = []declare.Format{declare.PNG}, declare.AnimationNone, 0
	_, err := Variant(source, job)
	return pixels, err
}

// probe reads a source's header, with the orientation that the declarations let it have.
func probe(source []byte, d declare.Declarations) (codec.Info, error) {
	info, err := Probe(source)
	info.Orientation = d.Orientation.Of(info.Type, info.Orientation)
	return info, err
}

// find looks for the subject or the detail in a small copy of the turned picture.
func find(known *Findings, source []byte, info codec.Info, p geometry.Plan, aim declare.FocusMode, said declare.Focus) (subject.Box, error) {
	w, h := p.Window()
	return windowIn(known, source, info, p, aim, said, w, h)
}

// windowIn is find for a window of w×h in parts of the turned picture's sides.
func windowIn(known *Findings, source []byte, info codec.Info, p geometry.Plan, aim declare.FocusMode, said declare.Focus, w, h float64) (subject.Box, error) {
	if aim == declare.Subject && said.Declared {
		if box, ok := placeIn(info, p, said); ok {
			return box, nil
		}
	}
	if aim != declare.Detail {
		if box, ok := markedIn(source, info, p, aim == declare.Faces, w, h); ok {
			return box, nil
		}
	}
	if aim == declare.Faces {
		faces, err := found(known, source, fmt.Sprint(info.Orientation, p.Cut, p.Turn, p.MirrorX, p.MirrorY), bytesOfFaces, func() ([]face.Face, error) {
			pixels, err := smallCopy(source, info, p, face.Side)
			if err != nil {
				return nil, err
			}
			defer pixels.Free()
			return face.Find(pixels), nil
		})
		if err != nil {
			return subject.Box{}, err
		}
		if len(faces) > 0 {
			x0, y0, x1, y1 := face.Kept(faces, w, h)
			return subject.Box{X0: x0, Y0: y0, X1: x1, Y1: y1}, nil
		}
		if said.Declared {
			if box, ok := placeIn(info, p, said); ok {
				return box, nil
			}
		}
	}
	if aim == declare.Detail {
		pixels, err := smallCopy(source, info, p, subject.DetailSide)
		if err != nil {
			return subject.Box{}, err
		}
		return subject.Detail(pixels, w, h), nil
	}
	pixels, err := smallCopy(source, info, p, subject.Side)
	if err != nil {
		return subject.Box{}, err
	}
	what := subject.Subject(pixels)
	return what.Window(w, h), nil
}

// smallCopy is what finders look at. It depends on the source and what is cut and turned alone, never on the
// slot, so what they find is the same at every size. Its longer side has at most so many pixels.
func smallCopy(source []byte, info codec.Info, p geometry.Plan, side float64) (*raster.RGBA, error) {
	tw, th := p.Turned()
	k := math.Min(1, side/math.Max(tw, th))
	small := p
	small.Canvas = geometry.Size{W: max(1, int(math.Round(tw*k))), H: max(1, int(math.Round(th*k)))}
	small.Placed = geometry.Rect{X1: small.Canvas.W, Y1: small.Canvas.H}
	small.Nearest, small.Frame = false, geometry.Frame{}
	info, small, part := sized(info, small)
	scale := decodeScale(info, small)
	picture, err := decode(source, info, part, scale, storedCut(info, small).Y1, false)
	if err != nil {
		return nil, err
	}
	profile := openProfile(info)
	if profile != nil {
		defer profile.Close()
	}
	pixels := toSRGB(picture, profile)
	pixels.Premultiply()
	return resamplePixels(pixels, info, small, scale), nil
}

// facts are what is found in the picture.
func facts(known *Findings, source []byte, info codec.Info, p geometry.Plan, said declare.Focus) (Result, error) {
	large, err := smallCopy(source, info, p, face.Side) // decoded once for all that is looked for
	if err != nil {
		return Result{}, refuseSource(err)
	}
	defer large.Free()
	k := math.Min(1, subject.Side/float64(max(large.W, large.H)))
	w, h := max(1, int(math.Round(float64(large.W)*k))), max(1, int(math.Round(float64(large.H)*k)))
	pixels := raster.ResampleRGBA(large, raster.Axis{Step: float64(large.W) / float64(w), Len: w}, raster.Axis{Step: float64(large.H) / float64(h), Len: h})
	defer pixels.Free()
	box := subject.Subject(pixels)
	if x0, y0, x1, y1, ok := marked(source, info, false); ok {
		uw, uh := info.Upright()
		if u0, v0, u1, v1, ok := p.InTurned(x0*float64(uw), y0*float64(uh), x1*float64(uw), y1*float64(uh)); ok {
			box = subject.Found{Box: subject.Box{X0: u0, Y0: v0, X1: u1, Y1: v1}, Sure: 1, By: subject.ByRegion}
		}
	}
	if said.Declared {
		if place, ok := placeIn(info, p, said); ok {
			box = subject.Found{Box: place, Sure: 1, By: subject.ByPerson}
		}
	}
	var sum [4]int
	for y := int(box.Y0 * float64(pixels.H)); y < int(math.Ceil(box.Y1*float64(pixels.H))); y++ {
		row := pixels.Row(y)
		for x := int(box.X0 * float64(pixels.W)); x < int(math.Ceil(box.X1*float64(pixels.W))); x++ {
			for c := range sum {
				sum[c] += int(row[4*x+c])
			}
		}
	}
	colour := "#000000"
	if a := sum[3]; a > 0 { // premultiplied: alpha's own weight is in the sums
		colour = fmt.Sprintf("#%02x%02x%02x", min(255, sum[0]*255/a), min(255, sum[1]*255/a), min(255, sum[2]*255/a))
	}
	var upright *raster.RGBA
	if p.Cut == (geometry.Rect{X1: p.Upright.W, Y1: p.Upright.H}) && p.Turn == 0 && !p.MirrorX && !p.MirrorY {
		upright = large
	}
	faces, err := facesOf(known, source, info, false, upright)
	if err != nil {
		return Result{}, refuseSource(err)
	}
	looks := looksOf(large, info.Type)
	return Result{Canvas: p.Canvas, Natural: p.Natural, Source: info.Type, Subject: &box, Colour: colour, Faces: faces, Looks: looks}, nil
}

// watch takes lap times.
type watch struct {
	clock  func() time.Duration
	last   time.Duration
	stages []Stage
}

func (w *watch) begin() {
	if w.clock != nil {
		w.last = w.clock()
	}
}

func (w *watch) lap(name string) {
	if w.clock == nil {
		return
	}
	now := w.clock()
	w.stages = append(w.stages, Stage{name, now - w.last})
	w.last = now
}

// openProfile gives the way from the source's colours to sRGB, nil where they are sRGB already.
func openProfile(info codec.Info) *icc.Transform {
	if len(info.Profile) == 0 {
		return nil
	}
	t := icc.New(info.Profile, strings.Contains(info.Coding, "CMYK"))
	if t != nil && t.IsIdentity() {
		t.Close()
		return nil
	}
	return t
}

// holds reports whether a format can hold a canvas.
func holds(f declare.Format, canvas geometry.Size) bool {
	most := formats.Writer(f).MaxSide
	return most == 0 || max(canvas.W, canvas.H) <= most
}

// mostTried is up to how many pixels a variant is made in several formats: a larger one takes seconds in each, of the time that it has.
const mostTried = 2_000_000

// choose gives those of the request's formats that the picture is to be tried in, of a kind, photograph or graphic: the one that is
// thought to have the fewest bytes first.
func (j *Job) choose(canvas geometry.Size, opaque bool, kind string) ([]declare.Format, *policy.Refusal) {
	r := &j.Request
	tried := max(1, j.Tried)
	if j.Predict || canvas.W*canvas.H > mostTried {
		tried = 1
	}
	for _, takes := range []func(f declare.Format) bool{
		func(f declare.Format) bool { return opaque || f.ShowsAlpha() },
		func(f declare.Format) bool { return f.CarriesAlpha() },
		func(f declare.Format) bool { return true }, // one that was asked for by name takes all pictures, flattened
	} {
		var fit []declare.Format
		for _, f := range r.Formats {
			if holds(f, canvas) && takes(f) {
				fit = append(fit, f)
			}
		}
		if len(fit) > 0 {
			return encode.Promising(fit, kind, r.Quality, tried), nil
		}
	}
	var sides, any []string
	for _, f := range declare.Formats() {
		if most := formats.Writer(f).MaxSide; most > 0 {
			sides = append(sides, fmt.Sprintf("%s up to %d pixels a side", f, most))
		} else {
			any = append(any, "format="+f.String())
		}
	}
	f := r.Formats[0]
	return nil, policy.No(policy.Refusal{
		Reason:    policy.ReasonTooLargeForFormat,
		Detail:    fmt.Sprintf("the variant would be %d × %d pixels, which %s can't hold", canvas.W, canvas.H, f),
		Parameter: "format", Given: f.String(), Allowed: strings.Join(sides, ", "),
		Remedy: "ask for a smaller width or height, or for " + strings.Join(any, " or "),
	})
}

// decodeScale is the smallest size, in eighths, that a source can be decoded at while our own resampling still
// reduces by two or more, so that the kernel and not the decoder decides how the picture looks.
func decodeScale(info codec.Info, p geometry.Plan) int {
	if !formats.Of(info.Type).Scales || p.Nearest {
		return 8
	}
	enlarged := max(p.ScaleX(), p.ScaleY())
	c := storedCut(info, p)
	edges := c.X0 | c.Y0
	if c.X1 < info.W {
		edges |= c.X1
	}
	if c.Y1 < info.H {
		edges |= c.Y1
	}
	for _, s := range []int{1, 2, 4} {
		// What xywh cuts away must not be mixed into what it leaves.
		if float64(s)/8 >= 2*enlarged*(1-1e-9) && edges%(8/s) == 0 {
			return s
		}
	}
	return 8
}

func toSRGB(p codec.Picture, t *icc.Transform) *raster.RGBA {
	switch {
	case p.CMYK != nil && t != nil:
		t.Apply(p.CMYK)
		p.CMYK.Opaque = true
		return p.CMYK
	case p.CMYK != nil:
		icc.NaiveCMYK(p.CMYK)
		return p.CMYK
	case t != nil:
		t.Apply(p.RGBA)
	}
	return p.RGBA
}

// axes are the plan's visible part as the stored, decoded picture sees it: across and down in its own samples,
// mirrored as its orientation, the mirroring and the turn say. Where transpose is set, they make a picture that
// still has to be transposed. The plan's turn is by right angles.
func axes(info codec.Info, p geometry.Plan, scale int) (x, y raster.Axis, transpose bool) {
	upright := func(low, high, natural float64, from, to int) raster.Axis {
		step := natural / (high - low)
		return raster.Axis{From: (float64(from) - low) * step, Step: step, Len: to - from}
	}
	tw, th := p.Turned()
	v := p.Visible()
	target, cut := p.Target(), p.Source()
	x = upright(target[0], target[2], tw, v.X0, v.X1)
	y = upright(target[1], target[3], th, v.Y0, v.Y1)
	mirror := func(a raster.Axis, n float64) raster.Axis {
		return raster.Axis{From: n - a.From, Step: -a.Step, Len: a.Len}
	}
	// Back through the turn: x and y become axes of the cut picture, w×h.
	w, h := cut[2]-cut[0], cut[3]-cut[1]
	switch turns, _ := p.Quarter(); turns {
	case 1:
		x, y, transpose = y, mirror(x, h), true
	case 2:
		x, y = mirror(x, w), mirror(y, h)
	case 3:
		x, y, transpose = mirror(y, w), x, true
	}
	if p.MirrorX {
		x = mirror(x, w)
	}
	if p.MirrorY {
		y = mirror(y, h)
	}
	x.From += cut[0]
	y.From += cut[1]
	o := info.Orientation
	if o >= 5 {
		x, y, transpose = y, x, !transpose
	}
	if o == 2 || o == 3 || o == 7 || o == 8 {
		x = mirror(x, float64(info.W))
	}
	if o == 3 || o == 4 || o == 6 || o == 7 {
		y = mirror(y, float64(info.H))
	}
	s := float64(scale) / 8
	x.From, x.Step = x.From*s, x.Step*s
	y.From, y.Step = y.From*s, y.Step*s
	return x, y, transpose
}

// storedCut is where the plan's cut lies in the stored picture.
func storedCut(info codec.Info, p geometry.Plan) geometry.Rect {
	c := p.Cut
	o := info.Orientation
	if o >= 5 {
		c = geometry.Rect{X0: c.Y0, Y0: c.X0, X1: c.Y1, Y1: c.X1}
	}
	if o == 2 || o == 3 || o == 7 || o == 8 {
		c.X0, c.X1 = info.W-c.X1, info.W-c.X0
	}
	if o == 3 || o == 4 || o == 6 || o == 7 {
		c.Y0, c.Y1 = info.H-c.Y1, info.H-c.Y0
	}
	return c
}

// within is the part of a plane of w×h samples that the cut covers, whose edges a kernel doesn't look across;
// kx and ky are samples to a stored pixel. The axes are moved along.
func within(c geometry.Rect, kx, ky float64, w, h int, x, y *raster.Axis) (x0, y0, x1, y1 int) {
	x0, y0 = min(int(float64(c.X0)*kx), w-1), min(int(float64(c.Y0)*ky), h-1)
	x1, y1 = min(w, max(x0+1, int(math.Ceil(float64(c.X1)*kx)))), min(h, max(y0+1, int(math.Ceil(float64(c.Y1)*ky))))
	x.From -= float64(x0)
	y.From -= float64(y0)
	return x0, y0, x1, y1
}

// resamplePixels makes the canvas with the picture on it: transparent where the picture doesn't reach.
func resamplePixels(src *raster.RGBA, info codec.Info, p geometry.Plan, scale int) *raster.RGBA {
	v := p.Visible()
	if v == (geometry.Rect{}) {
		return raster.NewRGBA(p.Canvas.W, p.Canvas.H)
	}
	var dst *raster.RGBA
	if _, right := p.Quarter(); right {
		x, y, transpose := axes(info, p, scale)
		s := float64(scale) / 8
		part := src.View(within(storedCut(info, p), s, s, src.W, src.H, &x, &y))
		dst = sample(part, x, y, p)
		if transpose {
			across := dst
			dst = across.Transpose()
			across.Free()
		}
	} else {
		dst = turnPixels(src, info, p, scale, v)
	}
	if dst.W == p.Canvas.W && dst.H == p.Canvas.H {
		return dst
	}
	canvas := raster.NewRGBA(p.Canvas.W, p.Canvas.H)
	canvas.Over(dst, v.X0, v.Y0)
	dst.Free()
	return canvas
}

func sample(src *raster.RGBA, x, y raster.Axis, p geometry.Plan) *raster.RGBA {
	if p.Nearest {
		return raster.NearestRGBA(src, x, y)
	}
	return raster.ResampleRGBA(src, x, y)
}

// turnPixels makes the visible part of a picture that is turned by any angle: first reduced to the size that it
// will have, upright, then turned at that size.
func turnPixels(src *raster.RGBA, info codec.Info, p geometry.Plan, scale int, v geometry.Rect) *raster.RGBA {
	w, h := float64(p.Cut.W()), float64(p.Cut.H())
	k := math.Min(1, math.Max(p.ScaleX(), p.ScaleY()))
	if p.Nearest { // of the source's own pixels
		k = 1
	}
	flat := p
	flat.Turn, flat.Frame = 0, geometry.Frame{}
	flat.Placed = geometry.Rect{X1: max(1, int(math.Round(w*k))), Y1: max(1, int(math.Round(h*k)))}
	flat.Canvas = geometry.Size{W: flat.Placed.X1, H: flat.Placed.Y1}
	flat = flat.Straight()
	x, y, transpose := axes(info, flat, scale)
	s := float64(scale) / 8
	part := src.View(within(storedCut(info, p), s, s, src.W, src.H, &x, &y))
	small := sample(part, x, y, p)
	defer small.Free()
	if transpose {
		small = small.Transpose()
		defer small.Free()
	}
	// From a canvas pixel to the turned picture, back through the turn around its middle, to small's pixels.
	tw, th := p.Turned()
	sin, cos := math.Sincos(p.Turn * math.Pi / 180)
	px, py := tw/float64(p.Placed.W()), th/float64(p.Placed.H()) // natural pixels to a canvas pixel
	mx, my := float64(small.W)/w, float64(small.H)/h
	ox, oy := float64(v.X0-p.Placed.X0)*px-tw/2, float64(v.Y0-p.Placed.Y0)*py-th/2
	t := raster.Turning{
		A: cos * px * mx, C: sin * py * mx, E: (cos*ox + sin*oy + w/2) * mx,
		B: -sin * px * my, D: cos * py * my, F: (-sin*ox + cos*oy + h/2) * my,
	}
	if p.Nearest {
		return raster.TransformNearest(small, v.W(), v.H(), t)
	}
	return raster.Transform(small, v.W(), v.H(), t)
}

// resamplePlanes makes 4:2:0 planes.
func resamplePlanes(src *raster.YCbCr, info codec.Info, p geometry.Plan, scale int) *raster.YCbCr {
	x, y, transpose := axes(info, p, scale)
	dst := &raster.YCbCr{W: x.Len, H: y.Len, ChromaX: 0.5, ChromaY: 0.5}
	cut, s := storedCut(info, p), float64(scale)/8
	resample := func(from raster.Plane, kx, ky float64, x, y raster.Axis) raster.Plane {
		part := from.View(within(cut, kx, ky, from.W, from.H, &x, &y))
		return raster.ResamplePlane(part, x, y, 1, 0)
	}
	dst.Y = resample(src.Y, s, s, x, y)
	halve := func(a raster.Axis, perPixel float64) raster.Axis {
		return raster.Axis{From: a.From * perPixel, Step: 2 * a.Step * perPixel, Len: (a.Len + 1) / 2}
	}
	cx, cy := halve(x, src.ChromaX), halve(y, src.ChromaY)
	dst.Cb = resample(src.Cb, s*src.ChromaX, s*src.ChromaY, cx, cy)
	dst.Cr = resample(src.Cr, s*src.ChromaX, s*src.ChromaY, cx, cy)
	if transpose {
		across := dst
		dst = across.Transpose()
		across.Free()
	}
	return dst
}

func refuseSource(err error) *policy.Refusal {
	reason := policy.ReasonSourceBroken
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	var e *codec.Error
	if errors.As(err, &e) && e.Truncated {
		reason = policy.ReasonSourceTruncated
	}
	return policy.No(policy.Refusal{Reason: reason, Detail: err.Error(), Remedy: "put a whole copy of the picture in its place"})
}

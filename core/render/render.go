// Package render makes one variant from one source: the only door to the picture core for callers. It reads
// no clock, no file and no setting of its own, and keeps no state: equal arguments give equal bytes.
package render

import (
	"errors"
	"fmt"
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
const Version = "25"

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

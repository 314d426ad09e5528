package render

import (
	"fmt"
	"math"
	"time"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
	"echolane/core/likeness"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/subject"
)

// A Comparison says how alike two pictures look.
type Comparison struct {
	W, H     int     // the size at which they were compared
	Likeness float64 // 0–100
	Distance float64 // what it stands for; see core/likeness

	// Map is the first picture in grey, with red where the second looks different, as PNG.
	Map []byte
}

// Compare looks at two files. Where one is larger, it is reduced to the size of the other, whose shape must be the
// same.
func Compare(a, b []byte, limits policy.Limits) (Comparison, error) {
	pa, err := Job{Limits: limits}.pixelsOf(a, declare.Declarations{})
	if err != nil {
		return Comparison{}, err
	}
	pb, err := Job{Limits: limits}.pixelsOf(b, declare.Declarations{})
	if err != nil {
		return Comparison{}, err
	}
	w, h := min(pa.W, pb.W), min(pa.H, pb.H)
	for _, p := range []*raster.RGBA{pa, pb} {
		if math.Abs(float64(p.W)*float64(h)-float64(p.H)*float64(w)) > float64(max(p.W, p.H)) {
			return Comparison{}, fmt.Errorf("the pictures are %d × %d and %d × %d pixels: compare pictures of one shape, such as a source and a variant that isn't cut", pa.W, pa.H, pb.W, pb.H)
		}
	}
	to := func(p *raster.RGBA) *raster.RGBA {
		if p.W == w && p.H == h {
			return p
		}
		return raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
	}
	pa, pb = to(pa), to(pb)
	va, vb := likeness.OfPixels(pa), likeness.OfPixels(pb)
	c := Comparison{W: w, H: h, Distance: va.Distance(vb)}
	c.Likeness = encode.Rounded(c.Distance)
	c.Map, err = differences(pa, va, vb)
	return c, err
}

// differences draws where b looks different from a.
func differences(p *raster.RGBA, a, b *likeness.Picture) ([]byte, error) {
	gw, gh, far := a.Map(b)
	out := raster.NewRGBA(p.W, p.H)
	out.Opaque = true
	for y := range p.H {
		row, to := p.Row(y), out.Row(y)
		gy := min(gh-1, max(0, y-likeness.Step/2)/likeness.Step)
		for x := range p.W {
			q := row[4*x:]
			grey := (54*int(q[0])+183*int(q[1])+19*int(q[2]))>>8 + 255 - int(q[3])
			pale := float64(min(255, grey))*0.5 + 120
			// Half of full red where the windows agree by a tenth less than wholly.
			heat := math.Min(1, float64(far[gy*gw+min(gw-1, max(0, x-likeness.Step/2)/likeness.Step)])*5)
			to[4*x] = uint8(pale*(1-heat) + 200*heat)
			to[4*x+1] = uint8(pale*(1-heat) + 20*heat)
			to[4*x+2] = uint8(pale*(1-heat) + 40*heat)
			to[4*x+3] = 255
		}
	}
	return png.Encode(out)
}

// A Step of a sweep is one quality in one format.
type Step struct {
	Format   declare.Format
	Quality  int
	Bytes    int
	Likeness float64
	Setting  string
	Took     time.Duration
	Knee     bool   // from here on up, bytes grow faster than likeness
	Detail   []byte // the place of Sweep.Place, as PNG
}

// A Sweep is one picture at many qualities.
type Sweep struct {
	W, H   int
	Place  geometry.Rect // what the details show: where most is going on
	Detail []byte        // of the picture itself
	Steps  []Step
}

// SweepOf makes the picture of a job in each format at each quality. told is called before each.
func SweepOf(source []byte, job Job, formats []declare.Format, qualities []int, progress func(done, all int)) (Sweep, error) {
	job.Request.Formats = []declare.Format{declare.PNG}
	exact := job
	exact.Request.Quality = declare.Lossless
	r, err := Variant(source, exact)
	if err != nil {
		return Sweep{}, err
	}
	p, err := png.Decode(r.Data)
	if err != nil {
		return Sweep{}, err
	}
	pixels := p.RGBA
	pixels.Premultiply()
	s := Sweep{W: pixels.W, H: pixels.H, Place: busiest(pixels)}
	if s.Detail, err = cutOut(pixels, s.Place); err != nil {
		return Sweep{}, err
	}
	f := encode.Picture{Pixels: pixels, Matte: job.Request.Matte}
	defer f.Free()
	done := 0
	for _, format := range formats {
		from := len(s.Steps)
		for _, q := range qualities {
			if progress != nil {
				progress(done, len(formats)*len(qualities))
			}
			done++
			f.Quality = declare.Quality(q)
			var began time.Duration
			if job.Clock != nil {
				began = job.Clock()
			}
			data, how, err := f.Encode(format)
			if err != nil {
				return Sweep{}, refuseEncoding(err)
			}
			step := Step{Format: format, Quality: q, Bytes: len(data), Setting: how.Setting}
			if job.Clock != nil {
				step.Took = job.Clock() - began
			}
			shown, err := job.pixelsOf(data, declare.Declarations{})
			if err != nil {
				return Sweep{}, err
			}
			step.Likeness = encode.Rounded(likeness.OfPixels(pixels).Distance(likeness.OfPixels(shown)))
			if step.Detail, err = cutOut(shown, s.Place); err != nil {
				return Sweep{}, err
			}
			s.Steps = append(s.Steps, step)
		}
		markKnee(s.Steps[from:])
	}
	return s, nil
}

// busiest is the square, at most 96 on a side, with the most going on.
func busiest(p *raster.RGBA) geometry.Rect {
	side := min(96, p.W, p.H)
	box := subject.Detail(p, float64(side)/float64(p.W), float64(side)/float64(p.H))
	x := min(p.W-side, max(0, int((box.X0+box.X1)/2*float64(p.W))-side/2))
	y := min(p.H-side, max(0, int((box.Y0+box.Y1)/2*float64(p.H))-side/2))
	return geometry.Rect{X0: x, Y0: y, X1: x + side, Y1: y + side}
}

func cutOut(p *raster.RGBA, r geometry.Rect) ([]byte, error) {
	part := p.View(r.X0, r.Y0, r.X1, r.Y1).Copy()
	defer part.Free()
	part.FindOpaque()
	part.Unpremultiply()
	return png.Encode(part)
}

// markKnee marks the step that lies farthest above the straight line from the first to the last, of likeness
// against the logarithm of bytes.
func markKnee(steps []Step) {
	if len(steps) < 3 {
		return
	}
	x := func(s Step) float64 { return math.Log(float64(s.Bytes)) }
	a, b := steps[0], steps[len(steps)-1]
	if x(b) <= x(a) {
		return
	}
	best, at := 0.0, -1
	for i, s := range steps {
		line := a.Likeness + (b.Likeness-a.Likeness)*(x(s)-x(a))/(x(b)-x(a))
		if above := s.Likeness - line; above > best {
			best, at = above, i
		}
	}
	if at >= 0 {
		steps[at].Knee = true
	}
}

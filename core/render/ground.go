package render

import (
	"math"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/raster"
)

// ground makes the picture that lies under the picture, as large as the canvas.
func (job Job) ground(plan geometry.Plan) (*raster.RGBA, error) {
	d := &job.Request.Declarations
	w, h := float64(plan.Canvas.W), float64(plan.Canvas.H)
	if d.Covers() && !d.GroundPosition.Declared && !plan.Frame.Bordered() {
		if g, ok := declare.ParseGradient(d.BackgroundImage); ok {
			return gradientOf(g, plan.Canvas.W, plan.Canvas.H, plan.K), nil
		}
		return job.named(d.BackgroundImage, declare.Declarations{GeometryValues: declare.GeometryValues{Width: w, Height: h, Fit: declare.Cover, Grow: declare.GrowYes}})
	}
	// It is placed in the box within the border, and painted under the border too (CSS Backgrounds Level 3, sections 2.7, 2.8).
	return job.tiled(plan, plan.Padding(), d)
}

// maskPicture makes a mask of a picture, as large as the canvas, of which it covers all (CSS Masking Level 1, section 7).
func (job Job) maskPicture(plan geometry.Plan, name string) (*raster.RGBA, error) {
	d := job.Request.Declarations
	d.BackgroundImage, d.GroundPosition, d.GroundSize, d.GroundRepeat = name, d.MaskPosition, d.MaskSize, d.MaskRepeat
	if d.GroundRepeat == (declare.Repeats{}) {
		d.GroundRepeat = declare.Repeats{X: declare.Tiled, Y: declare.Tiled}
	}
	if !d.GroundPosition.Declared {
		d.GroundPosition.Declared = true // left and top
	}
	return job.tiled(plan, geometry.Rect{X1: plan.Canvas.W, Y1: plan.Canvas.H}, &d)
}

// tiled lays a picture over the canvas in an area, as its size, position and repeat say.
func (job Job) tiled(plan geometry.Plan, area geometry.Rect, d *declare.Declarations) (*raster.RGBA, error) {
	k := plan.K
	// How large the picture is by itself; a gradient is as large as the area (CSS Images Level 3, section 4.1).
	uw, uh := float64(area.W())/k, float64(area.H())/k
	gradient, drawn := declare.ParseGradient(d.BackgroundImage)
	if !drawn {
		source, err := job.picture(d.BackgroundImage)
		if err != nil {
			return nil, err
		}
		info, err := probe(source, declare.Declarations{})
		if err != nil {
			return nil, ofLayer(d.BackgroundImage, err)
		}
		w, h := info.Upright()
		uw, uh = float64(w), float64(h)
	}
	tw, th := tileSize(d, float64(area.W()), float64(area.H()), uw*k, uh*k, k)
	if s := d.GroundSize; drawn && s.Declared && s.Fit == declare.FitUnset { // it has no shape to keep
		if s.X.Auto() {
			tw = float64(area.W())
		}
		if s.Y.Auto() {
			th = float64(area.H())
		}
	}
	x := tileAxis{area: float64(area.W()), repeat: d.GroundRepeat.X, size: tw}
	y := tileAxis{area: float64(area.H()), repeat: d.GroundRepeat.Y, size: th}
	auto := d.GroundSize.Fit == declare.FitUnset
	grew := x.round()
	if grew && !drawn && auto && d.GroundSize.Y.Auto() && y.repeat != declare.Rounded {
		y.size = x.size * uh / uw
	}
	if y.round() && !drawn && auto && d.GroundSize.X.Auto() && x.repeat != declare.Rounded {
		x.size = y.size * uw / uh
	}
	at := declare.Position{}
	if d.GroundPosition.Declared {
		at = d.GroundPosition
	} else if d.Covers() {
		at.X.Part, at.Y.Part = 0.5, 0.5
	}
	x.place(at.X, k)
	y.place(at.Y, k)
	if r := job.Limits.CheckOutput(int(math.Ceil(x.size)), int(math.Ceil(y.size))); r != nil {
		return nil, r
	}
	if drawn && area == (geometry.Rect{X1: plan.Canvas.W, Y1: plan.Canvas.H}) &&
		x.from == 0 && y.from == 0 && x.size == x.area && y.size == y.area { // one tile is all
		return gradientOf(gradient, plan.Canvas.W, plan.Canvas.H, k), nil
	}
	// Edges lie on whole pixels, so that tiles of a fractional size differ by one. Each row of tiles is made once and laid down as
	// often as it repeats: tiles of a pixel would take as many steps as there are pixels.
	rows := map[int]*raster.RGBA{}
	canvas := raster.NewRGBA(plan.Canvas.W, plan.Canvas.H)
	across := x.spans(area.X0, plan.Canvas.W)
	for _, down := range y.spans(area.Y0, plan.Canvas.H) {
		high := down[1] - down[0]
		row := rows[high]
		if row == nil {
			tiles := map[int]*raster.RGBA{}
			row = raster.NewRGBA(plan.Canvas.W, high)
			for _, at := range across {
				wide := at[1] - at[0]
				if tiles[wide] == nil && drawn {
					tiles[wide] = gradientOf(gradient, wide, high, k)
				}
				if tiles[wide] == nil {
					var err error
					if tiles[wide], err = job.named(d.BackgroundImage, declare.Declarations{GeometryValues: declare.GeometryValues{Width: float64(wide), Height: float64(high), Fit: declare.Fill, Grow: declare.GrowYes}}); err != nil {
						return nil, err
					}
				}
				row.Over(tiles[wide], at[0], 0)
			}
			rows[high] = row
		}
		canvas.Over(row, 0, down[0])
	}
	for _, row := range rows {
		row.Free()
	}
	canvas.FindOpaque()
	return canvas, nil
}

// tileSize is how large one tile is in an area, where the picture's own size is nw×nh, all in canvas pixels.
func tileSize(d *declare.Declarations, aw, ah, nw, nh, k float64) (w, h float64) {
	s := d.GroundSize
	switch {
	case d.Covers():
		f := math.Max(aw/nw, ah/nh)
		w, h = nw*f, nh*f
	case s.Fit == declare.Contain:
		f := math.Min(aw/nw, ah/nh)
		w, h = nw*f, nh*f
	case !s.Declared || s.X.Auto() && s.Y.Auto():
		w, h = nw, nh
	case s.X.Auto():
		h = size(s.Y, ah, k)
		w = h * nw / nh
	case s.Y.Auto():
		w = size(s.X, aw, k)
		h = w * nh / nw
	default:
		w, h = size(s.X, aw, k), size(s.Y, ah, k)
	}
	return math.Max(1, w), math.Max(1, h)
}

// tileAxis is how tiles lie along one axis.
type tileAxis struct {
	area   float64
	repeat declare.Repeat
	size   float64
	from   float64 // of one tile, from the area's edge
	step   float64 // from tile to tile; 0: there is one
}

// round makes tiles fit the area a whole number of times, where they are to.
func (a *tileAxis) round() bool {
	if a.repeat != declare.Rounded {
		return false
	}
	n := math.Max(1, math.Floor(a.area/a.size+0.5))
	a.size = math.Max(1, a.area/n)
	return true
}

func (a *tileAxis) place(at declare.Length, k float64) {
	a.from, a.step = at.Part*(a.area-a.size)+at.Px*k, a.size
	switch a.repeat {
	case declare.NoRepeat:
		a.step = 0
	case declare.Spaced:
		if n := math.Floor(a.area / a.size); n >= 2 {
			a.from, a.step = 0, a.size+(a.area-n*a.size)/(n-1)
		} else {
			a.step = 0
		}
	}
}

// spans are where tiles begin and end on a canvas so long, on which the area begins at origin.
func (a *tileAxis) spans(origin, long int) (list [][2]int) {
	first := float64(origin) + a.from
	snap := func(x float64) int { return int(math.Floor(x + 0.5)) }
	if a.step == 0 {
		at := snap(first)
		return [][2]int{{at, max(at+1, snap(first+a.size))}}
	}
	n := math.Ceil((first + a.size) / a.step)
	for x := first - n*a.step; x < float64(long); x += a.step {
		if x+a.size > 0 {
			at := snap(x)
			list = append(list, [2]int{at, max(at+1, snap(x+a.size))})
		}
	}
	return list
}

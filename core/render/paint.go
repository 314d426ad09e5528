package render

import (
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/raster"
)

// paints is what is to be done to a picture beside fitting it into its slot, from the bottom up, then the whole.
type paints struct {
	d           declare.Declarations
	plan        geometry.Plan
	filters     []declare.FilterFunction
	sides       declare.Border
	shadows     []declare.InnerShadow
	shape       declare.Shape
	radius      declare.Radius
	mask        declare.Mask
	any         bool // there is something to do, or the picture alone doesn't make the canvas
	transparent bool // what is delivered has transparency, whatever the picture has
	layers      layers
	empty       bool // there is no picture to paint
	faded       bool // edges of blurs fade, since corners are rounded or turned
}

// newPaints looks at what is to be done; boxes says that there are layers of the sheet's.
func newPaints(d declare.Declarations, plan geometry.Plan, alpha, boxes bool) *paints {
	p := &paints{d: d, plan: plan, filters: d.Filters(), sides: d.BorderSides(), shadows: d.InnerShadows(), shape: d.ClipShape(), radius: d.Corners(), mask: d.Mask()}
	_, right := plan.Quarter()
	rounded := p.radius.Round()
	under := d.Background.Declared && d.Background.Opaque() || d.BackgroundImage != "" && d.Covers()
	if g, ok := declare.ParseGradient(d.BackgroundImage); ok && !g.Opaque() {
		under = d.Background.Declared && d.Background.Opaque()
	}
	for _, f := range d.BackdropFilters() {
		under = under && !(f.Name == "opacity" && f.Amount < 1)
	}
	gap := !plan.Complete || !right
	if !gap && !alpha && (d.Blend == declare.BlendUnset || d.Blend == declare.Normal) {
		p.d.Background = declare.Color{} // nothing of it shows
	}
	fades := d.Opacity.Declared && d.Opacity.Value < 1
	for _, f := range p.filters {
		fades = fades || f.Name == "opacity" && f.Amount < 1
	}
	masked := p.mask.Kind == declare.GradientMask || p.mask.Kind == declare.ImageMask
	clipped := p.shape.Kind != declare.NoShape || masked
	p.faded = rounded || gap && !under
	p.transparent = rounded || clipped || fades || gap && !under
	layered := d.BackgroundImage != "" || d.Before.Content != "" || d.After.Content != "" || boxes
	p.any = gap || layered || rounded || clipped || fades || p.d.Background.Declared || d.Map.Declared || d.Sharpen.Amount > 0 || len(p.filters) > 0 ||
		len(p.shadows) > 0 && alpha || plan.Frame != geometry.Frame{}
	return p
}

// paint does it, on the picture itself or another in its place. The picture stands on its canvas already,
// transparent around it.
func (p *paints) paint(pixels *raster.RGBA) *raster.RGBA {
	d := &p.d
	if d.Map.Declared && d.Map.Strength > 0 {
		stops := make([][4]uint8, d.Map.Count)
		for i := range stops {
			stops[i] = straightOf(d.Map.Stops[i])
		}
		pixels.MapGradient(stops, d.Map.Strength)
	}
	pixels.Sharpen(d.Sharpen.Amount)
	framed := p.plan.Frame != geometry.Frame{}
	if framed && p.radius.Round() { // the picture's own box has corners too
		var box raster.Path
		rounded(&box, p.plan.Content(), p.plan.Canvas, p.corners())
		pixels.Clip(&box)
	}
	if colour := d.Background.Declared && d.Background.A > 0; colour || p.layers.ground != nil || framed || len(p.shadows) > 0 || len(p.layers.under) > 0 {
		ground := p.layers.ground
		if p.empty && !colour && ground != nil { // it is nobody else's
			p.layers.ground = nil
		} else {
			ground = raster.NewRGBA(pixels.W, pixels.H)
		}
		if colour {
			ground.Fill(d.Background.R, d.Background.G, d.Background.B, d.Background.A)
		}
		if p.layers.ground != nil {
			opaque := ground.Opaque || p.layers.ground.Opaque
			ground.Over(p.layers.ground, 0, 0)
			ground.Opaque = opaque
		}
		if functions := d.BackdropFilters(); len(functions) > 0 {
			p.filter(ground, functions, raster.Extended)
		}
		opaque := ground.Opaque || pixels.Opaque
		p.frame(ground)
		opaque = lay(ground, p.layers.under) && opaque
		if !p.empty {
			ground.Blend(pixels, 0, 0, modes[d.Blend])
		}
		pixels.Free()
		pixels = ground
		if pixels.Opaque = opaque; framed && !opaque {
			pixels.FindOpaque()
		}
	}
	lay(pixels, p.layers.over)
	if p.radius.Round() {
		c := p.corners()
		pixels.Round(c.Across, c.Down)
	}
	edge := raster.Extended
	if p.faded {
		edge = raster.Faded
	}
	p.filter(pixels, p.filters, edge)
	if p.shape.Kind != declare.NoShape {
		pixels.Clip(p.shapePath())
	}
	if p.layers.mask != nil {
		mask := maskBy(p.layers.mask, d.MaskMode)
		pixels.ClipMask(mask)
		mask.Free()
	}
	if p.mask.Kind == declare.GradientMask {
		mask := maskOf(p.mask.Gradient, d.MaskMode, pixels.W, pixels.H, p.plan.K)
		pixels.ClipMask(mask)
		mask.Free()
	}
	if d.Opacity.Declared && d.Opacity.Value < 1 {
		pixels.Fade(d.Opacity.Value)
	}
	return pixels
}

// filter runs the functions in order; those that only look at one pixel run together.
func (p *paints) filter(pixels *raster.RGBA, functions []declare.FilterFunction, edge raster.Edge) {
	var matrices []raster.Matrix
	flush := func() {
		pixels.ApplyMatrices(matrices)
		matrices = matrices[:0]
	}
	for _, f := range functions {
		switch f.Name {
		case "brightness":
			matrices = append(matrices, raster.Linear(f.Amount, 0))
		case "contrast":
			matrices = append(matrices, raster.Linear(f.Amount, 0.5-0.5*f.Amount))
		case "invert":
			matrices = append(matrices, raster.Linear(1-2*f.Amount, f.Amount))
		case "grayscale":
			matrices = append(matrices, raster.Grayscale(f.Amount))
		case "saturate":
			matrices = append(matrices, raster.Saturate(f.Amount))
		case "sepia":
			matrices = append(matrices, raster.Sepia(f.Amount))
		case "hue-rotate":
			matrices = append(matrices, raster.HueRotate(f.Amount))
		case "opacity":
			flush()
			pixels.Fade(f.Amount)
		case "blur":
			flush()
			pixels.Blur(f.Amount*p.plan.K, edge)
		case "drop-shadow":
			flush()
			k := p.plan.K
			pixels.DropShadow(f.Shadow.X*k, f.Shadow.Y*k, f.Shadow.Sigma*k, straightOf(f.Shadow.Color))
		}
	}
	flush()
}

func straightOf(c declare.Color) [4]uint8 { return [4]uint8{c.R, c.G, c.B, c.A} }

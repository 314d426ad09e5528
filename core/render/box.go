package render

import (
	"fmt"
	"image"
	"math"
	"strings"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/text"
)

// A layer is one of the boxes under or over a picture, ready to be laid down.
type layer struct {
	pixels   *raster.RGBA
	x, y     int // of its pixels on the canvas
	mode     raster.BlendMode
	laid     Laid
	backdrop func(*raster.RGBA) // does to what lies under it what backdrop-filter says; nil for nothing
}

// lay paints layers onto a picture in their order. It reports whether the picture stays opaque where it was.
func lay(on *raster.RGBA, list []*layer) bool {
	opaque := true
	for _, l := range list {
		if l.backdrop != nil {
			l.backdrop(on)
			opaque = false
		}
		on.Blend(l.pixels, l.x, l.y, l.mode)
	}
	if !opaque && on.Opaque {
		on.FindOpaque()
	}
	return opaque
}

// boxed is a layer while it is made. Lengths are canvas pixels.
type boxed struct {
	job        Job
	box        *declare.Box
	d          declare.Declarations // what it has in common with a picture, in canvas pixels
	k          float64              // canvas pixels to one of CSS
	slotW      float64
	slotH      float64
	edge       [4]float64 // border and padding
	letters    *text.Layout
	picture    []byte
	pictureW   float64 // as large as it is by itself
	pictureH   float64
	name       string // of the picture
	boxW, boxH float64
	follow     [2]bool // width and height follow from what the layer shows
}

// layer makes one; nil where nothing of it shows.
func (job Job) layer(box *declare.Box, plan geometry.Plan) (*layer, error) {
	k := plan.K
	if s := job.Request.LayerScale; s != 0 {
		k *= s
	}
	b := &boxed{job: job, box: box, k: k, slotW: float64(plan.Canvas.W), slotH: float64(plan.Canvas.H)}
	r := declare.Resolved{Declarations: box.Paint}
	r.Scale(k)
	b.d = r.Declarations
	// How wide its frame is follows from the slot's width (CSS Box Model Level 4, section 4.1), so it is the same for each layer.
	for i, l := range b.d.PaddingEdges() {
		b.edge[i] = math.Max(0, l.Of(b.slotW))
	}
	b.pad(b.edge)
	for i, side := range b.d.BorderSides() {
		if side.Shows() {
			b.edge[i] += math.Max(1, math.Floor(side.Width))
		}
	}
	x, y, err := b.place()
	if err != nil {
		return nil, err
	}
	made, err := b.paint(x, y)
	if made != nil {
		made.laid = b.laid(x, y)
	}
	return made, err
}

// pad makes the padding lengths, which are of the slot's width.
func (b *boxed) pad(edge [4]float64) {
	texts := make([]string, 4)
	for i, e := range edge {
		texts[i] = fmt.Sprintf("%gpx", math.Round(e*1000)/1000)
	}
	b.d.Padding = ""
	if edge != [4]float64{} {
		b.d.SetInSheet("padding", strings.Join(texts, " "), "")
	}
}

// place finds how large the box is, sets its text, and gives where its top left corner goes (CSS Positioned Layout Level 3, section 4).
func (b *boxed) place() (x, y float64, err error) {
	in := b.box.Edges().Edge
	at := func(i int, whole float64) float64 { return in[i].Px*b.k + in[i].Part*whole }
	w, h := b.side("width", b.slotW), b.side("height", b.slotH)
	frameW, frameH := b.edge[1]+b.edge[3], b.edge[0]+b.edge[2]
	content := b.box.Content()
	shown := len(content) > 0
	isPicture := shown && content[0].Picture
	if isPicture {
		b.name = content[0].Text
		if b.picture, err = b.job.picture(b.name); err != nil {
			return 0, 0, err
		}
		info, err := probe(b.picture, b.d)
		if err != nil {
			return 0, 0, ofLayer(b.name, err)
		}
		uw, uh := info.Upright()
		b.pictureW, b.pictureH = float64(uw)*b.k, float64(uh)*b.k
	}
	between := func(i, j int, whole float64) float64 {
		if in[i].Declared && in[j].Declared {
			return math.Max(0, whole-at(i, whole)-at(j, whole))
		}
		return -1
	}
	if w < 0 && !isPicture {
		w = between(1, 3, b.slotW)
	}
	if h < 0 && !isPicture {
		h = between(0, 2, b.slotH)
	}
	b.follow = [2]bool{w < 0, h < 0}
	ratio := 0.0
	if r := b.d.Aspect; !r.IsZero() {
		ratio = r.Value()
	}
	switch {
	case isPicture:
		b.sidesOfPicture(&w, &h, ratio, frameW, frameH)
	case ratio > 0 && w >= 0 && h < 0:
		h = w / ratio
	case ratio > 0 && h >= 0 && w < 0:
		w = h * ratio
	}
	if !isPicture && shown {
		within := func(side, frame float64) float64 {
			if side < 0 {
				return -1
			}
			return math.Max(0, side-frame)
		}
		if err := b.setWords(words(content), within(w, frameW), within(h, frameH), func(i int, whole float64) float64 {
			if in[i].Declared {
				return at(i, whole)
			}
			return 0
		}); err != nil {
			return 0, 0, err
		}
		tw, th := b.letters.Size()
		if w < 0 {
			w = tw + frameW
		}
		if h < 0 {
			h = th + frameH
		}
	}
	w, h = math.Max(w, frameW), math.Max(h, frameH)
	if w < 0 {
		w = 0
	}
	if h < 0 {
		h = 0
	}
	if w > 4*b.slotW+4096 || h > 4*b.slotH+4096 {
		return 0, 0, policy.No(policy.Refusal{
			Reason: policy.ReasonVariantTooLarge, Parameter: b.parameter("width"), Given: fmt.Sprintf("%.0f × %.0f", w, h), Detail: "the layer " + b.box.Name + " is far larger than the slot",
			Allowed: "about the slot's own size", Remedy: "give it a smaller width and height, and its text a smaller font",
		})
	}
	b.boxW, b.boxH = w, h
	switch {
	case in[3].Declared:
		x = at(3, b.slotW)
	case in[1].Declared:
		x = b.slotW - at(1, b.slotW) - w
	}
	switch {
	case in[0].Declared:
		y = at(0, b.slotH)
	case in[2].Declared:
		y = b.slotH - at(2, b.slotH) - h
	}
	return x, y, nil
}

// setWords sets the layer's text in a box whose sides are given, below 0 where they follow from it. inset is how far an edge is from the
// slot's.
func (b *boxed) setWords(content string, w, h float64, inset func(i int, whole float64) float64) (err error) {
	// Along its lines a box is as long as they need, and no longer than what is left of the slot.
	along, across, before, behind, whole := w, h, 3, 1, b.slotW
	if t := b.box.Type(); t.Vertical() {
		along, across, before, behind, whole = h, w, 0, 2, b.slotH
	}
	shrink := along < 0
	if shrink {
		along = whole - b.edge[before] - b.edge[behind] - inset(before, whole) - inset(behind, whole)
	}
	b.letters, err = b.set(content, math.Max(1, along), across, shrink)
	return err
}

// side is a width or height that is given, below 0 where it follows from the content.
func (b *boxed) side(name string, whole float64) float64 {
	s := b.box.Side(name)
	if s.Auto() {
		return -1
	}
	return s.Px*b.k + s.Part*whole
}

// sidesOfPicture gives the box the shape of its picture where a side isn't given.
func (b *boxed) sidesOfPicture(w, h *float64, ratio, frameW, frameH float64) {
	shape := b.pictureW / b.pictureH
	switch {
	case *w >= 0 && *h >= 0:
	case *w >= 0 && ratio > 0:
		*h = *w / ratio
	case *h >= 0 && ratio > 0:
		*w = *h * ratio
	case *w >= 0:
		*h = math.Max(0, *w-frameW)/shape + frameH
	case *h >= 0:
		*w = math.Max(0, *h-frameH)*shape + frameW
	default:
		*w, *h = b.pictureW+frameW, b.pictureH+frameH
		if ratio > 0 {
			*h = *w / ratio
		}
	}
}

// parameter is what a refusal about a property of the layer names.
func (b *boxed) parameter(name string) string {
	if (b.box.Name == declare.BeforeLayer || b.box.Name == declare.AfterLayer) && len(b.job.Request.Layers) == 0 {
		return b.box.Name + "-" + name
	}
	return name
}

// fonts are what the job's texts are set in.
func (job Job) fonts() *text.Fonts {
	var families []text.Family
	for _, f := range job.Request.Fonts {
		i := 0
		for i < len(families) && !strings.EqualFold(families[i].Name, f.Family) {
			i++
		}
		if i == len(families) {
			families = append(families, text.Family{Name: f.Family})
		}
		families[i].Faces = append(families[i].Faces, text.Face{File: f.File, MinWeight: f.MinWeight, Weight: f.Weight, Italic: f.Italic})
	}
	files := job.Fonts
	if len(families) > 0 {
		files = map[string][]byte{}
		for name, data := range job.Fonts {
			files[name] = data
		}
		for _, f := range job.Request.Fonts {
			files[f.File] = job.Pictures[f.File]
		}
	}
	return text.NewFonts(files, families, job.FontCache)
}

// paint draws the box and gives it with what reaches beyond its edges.
func (b *boxed) paint(x, y float64) (*layer, error) {
	left, top := math.Floor(x+0.5), math.Floor(y+0.5)
	w, h := int(math.Floor(x+b.boxW+0.5)-left), int(math.Floor(y+b.boxH+0.5)-top)
	if w <= 0 || h <= 0 {
		if b.letters == nil {
			return nil, nil
		}
		w, h = max(1, w), max(1, h)
	}
	if r := b.job.Limits.CheckOutput(w, h); r != nil {
		return nil, r
	}
	inner, plan, err := b.inner(w, h)
	if err != nil {
		return nil, err
	}
	p := newPaints(b.d, plan, true, false)
	surface, at := inner, image.Pt(0, 0) // where the box lies on it
	room := b.reach(w, h, left-x, top-y)
	if room != (image.Rectangle{}) && room != image.Rect(0, 0, w, h) {
		at = image.Pt(-room.Min.X, -room.Min.Y)
		surface = raster.NewRGBA(room.Dx(), room.Dy())
		b.outerShadows(surface, at, w, h, p.corners())
		surface.Over(inner, at.X, at.Y)
	}
	if b.letters != nil {
		lx, ly := b.lettersAt()
		b.letters.Paint(surface, float64(at.X)+x-left+lx, float64(at.Y)+ly)
	}
	// Filters, then what is cut away, then opacity (Filter Effects Level 1, section 5).
	p.filter(surface, b.filters(), raster.Faded)
	if p.shape.Kind != declare.NoShape || p.mask.Kind == declare.GradientMask || p.mask.Kind == declare.ImageMask {
		whole := surface
		if surface != inner {
			surface = whole.View(at.X, at.Y, at.X+w, at.Y+h).Copy()
			at = image.Pt(0, 0)
		}
		if err := b.cut(p, surface); err != nil {
			return nil, err
		}
	}
	if o := b.d.Opacity; o.Declared && o.Value < 1 {
		surface.Fade(o.Value)
	}
	out := &layer{pixels: surface, x: int(left) - at.X, y: int(top) - at.Y, mode: modes[b.d.Blend]}
	degrees := b.box.Degrees()
	if degrees != 0 { // around the box's middle, and nothing else moves
		turned, dx, dy := turnAround(surface, degrees, float64(at.X)+float64(w)/2, float64(at.Y)+float64(h)/2)
		out.pixels, out.x, out.y = turned, int(left)-at.X+dx, int(top)-at.Y+dy
	}
	out.crop(int(b.slotW), int(b.slotH))
	if functions := b.d.BackdropFilters(); len(functions) > 0 {
		out.backdrop = b.backdropOf(p, functions, left, top, w, h, degrees)
	}
	return out, nil
}

// crop keeps of the pixels what lies on a canvas of w×h: all layers of a picture are there at a time.
func (l *layer) crop(w, h int) {
	seen := image.Rect(l.x, l.y, l.x+l.pixels.W, l.y+l.pixels.H).Intersect(image.Rect(0, 0, w, h))
	if seen.Dx() == l.pixels.W && seen.Dy() == l.pixels.H {
		return
	}
	if seen.Empty() {
		seen = image.Rect(l.x, l.y, l.x+1, l.y+1) // nothing of it shows
	}
	all := l.pixels
	l.pixels = all.View(seen.Min.X-l.x, seen.Min.Y-l.y, seen.Max.X-l.x, seen.Max.Y-l.y).Copy()
	l.x, l.y = seen.Min.X, seen.Min.Y
	all.Free()
}

// filters are the layer's own, in canvas pixels already.
func (b *boxed) filters() []declare.FilterFunction { return b.d.Filters() }

// inner makes the box without what reaches beyond it: ground, frame and picture.
func (b *boxed) inner(w, h int) (*raster.RGBA, geometry.Plan, error) {
	d := b.d
	d.Width, d.Height, d.Fit, d.Grow, d.Aspect, d.XYWH = float64(w), float64(h), declare.Fill, declare.GrowYes, declare.Ratio{}, declare.Region{}
	plan, _ := geometry.New(geometry.Size{W: w, H: h}, d)
	plan.K = 1
	canvas := raster.NewRGBA(w, h)
	if b.picture != nil {
		c := plan.Content()
		if c.W() > 0 && c.H() > 0 {
			g := declare.Declarations{GeometryValues: b.d.GeometryValues, RegionValues: b.d.RegionValues}
			g.Width, g.Height, g.Grow, g.Resolution, g.Aspect = float64(c.W()), float64(c.H()), declare.GrowYes, 0, declare.Ratio{}
			if g.Fit == declare.None || g.Fit == declare.ScaleDown { // which know the picture's own pixels
				g.Width, g.Height, g.Resolution = g.Width/b.k, g.Height/b.k, b.k
			}
			made, err := b.job.named(b.name, g)
			if err != nil {
				return nil, plan, err
			}
			canvas.Over(made, c.X0+(c.W()-made.W)/2, c.Y0+(c.H()-made.H)/2)
		}
	}
	q := newPaints(b.d, plan, true, false)
	q.d.Blend, q.d.Backdrop, q.filters, q.shape, q.mask = declare.BlendUnset, "", nil, declare.Shape{}, declare.Mask{}
	q.d.Opacity = declare.Opacity{}
	q.empty = b.picture == nil
	q.shadows = nil
	for _, s := range b.box.Shadows() {
		if s.Inset {
			q.shadows = append(q.shadows, scaledShadow(s.InnerShadow, b.k))
		}
	}
	grounds := b.box.Grounds()
	for i := len(grounds) - 1; i >= 0; i-- {
		r := declare.Resolved{Declarations: grounds[i]}
		r.Scale(b.k)
		g := r.Declarations
		one := b.job
		one.Request.Declarations = g
		made, err := one.tiled(plan, plan.Padding(), &g)
		if err != nil {
			return nil, plan, err
		}
		if q.layers.ground == nil {
			q.layers.ground = made
		} else {
			opaque := q.layers.ground.Opaque || made.Opaque
			q.layers.ground.Over(made, 0, 0)
			q.layers.ground.Opaque = opaque
		}
	}
	return q.paint(canvas), plan, nil
}

func scaledShadow(s declare.InnerShadow, k float64) declare.InnerShadow {
	s.X, s.Y, s.Blur, s.Spread = s.X*k, s.Y*k, s.Blur*k, s.Spread*k
	return s
}

// lettersAt is where the text's box lies in the layer's.
func (b *boxed) lettersAt() (x, y float64) {
	x, y = b.edge[3], b.edge[0]
	t := b.box.Type()
	w, h := b.letters.Size()
	free, along := b.boxH-b.edge[0]-b.edge[2]-h, &y
	if t.Vertical() {
		free, along = b.boxW-b.edge[1]-b.edge[3]-w, &x
	}
	part := 0.0 // of what is free that comes before the text
	if free > 0 {
		part = map[string]float64{"center": 0.5, "end": 1}[t.Middle]
	}
	if t.Writing == "vertical-rl" { // the first line is the rightmost
		part = 1 - part
	}
	*along += part * free
	return x, y
}

// reach is how far the box's shadows, filters and letters reach, from its corner: never further than anybody sees.
func (b *boxed) reach(w, h int, dx, dy float64) image.Rectangle {
	r := image.Rect(0, 0, w, h)
	for _, s := range b.box.Shadows() {
		if s.Inset {
			continue
		}
		s.InnerShadow = scaledShadow(s.InnerShadow, b.k)
		far := 1.5*s.Blur + s.Spread + 2
		r = r.Union(image.Rect(int(s.X-far), int(s.Y-far), int(float64(w)+s.X+far), int(float64(h)+s.Y+far)))
	}
	if b.letters != nil {
		lx, ly := b.lettersAt()
		ink := b.letters.Ink(lx-dx, ly)
		t := b.box.Type()
		if !ink.Empty() {
			r = r.Union(ink.Inset(-int(math.Ceil(t.Stroke*b.k)) - 1))
			for _, s := range t.Shadows {
				far := 1.5*s.Blur*b.k + 2
				r = r.Union(ink.Inset(-int(math.Ceil(far))).Add(image.Pt(int(s.X*b.k), int(s.Y*b.k))))
			}
		}
		if len(t.Lines) > 0 {
			lw, lh := b.letters.Size()
			far := t.Size * b.k
			r = r.Union(image.Rect(int(math.Floor(lx-far)), int(math.Floor(ly-far)), int(math.Ceil(lx+lw+far)), int(math.Ceil(ly+lh+far))))
		}
	}
	for _, f := range b.filters() {
		switch f.Name {
		case "blur":
			r = r.Inset(-int(math.Ceil(3*f.Amount)) - 1)
		case "drop-shadow":
			far := int(math.Ceil(3*f.Shadow.Sigma)) + 1
			r = r.Union(r.Inset(-far).Add(image.Pt(int(f.Shadow.X), int(f.Shadow.Y))))
		}
	}
	most := int(math.Ceil(math.Hypot(b.slotW, b.slotH)))
	return r.Intersect(image.Rect(-most, -most, w+most, h+most))
}

// outerShadows paints the shadows that fall outwards, below the box and not under it (CSS Backgrounds Level 3, section 6.1).
func (b *boxed) outerShadows(on *raster.RGBA, at image.Point, w, h int, corners raster.Corners) {
	list := b.box.Shadows()
	for i := len(list) - 1; i >= 0; i-- {
		s := scaledShadow(list[i].InnerShadow, b.k)
		if list[i].Inset || s.Color.A == 0 {
			continue
		}
		x0, y0 := float64(at.X)+s.X-s.Spread, float64(at.Y)+s.Y-s.Spread
		x1, y1 := float64(at.X+w)+s.X+s.Spread, float64(at.Y+h)+s.Y+s.Spread
		if x1 <= x0 || y1 <= y0 {
			continue
		}
		var path raster.Path
		path.Rect(x0, y0, x1, y1, spreadCorners(corners, s.Spread).Fit(x1-x0, y1-y0))
		mask := path.Mask(on.W, on.H)
		if s.Blur > 0 {
			sharp := mask
			mask = raster.BlurMask(sharp, s.Blur/2)
			sharp.Free()
		}
		var box raster.Path
		box.Rect(float64(at.X), float64(at.Y), float64(at.X+w), float64(at.Y+h), corners)
		hole := box.Mask(on.W, on.H)
		hole.Outside()
		mask.Times(hole)
		hole.Free()
		on.PaintMask(mask, straightOf(s.Color))
		mask.Free()
	}
	on.Opaque = false
}

// spreadCorners are the radii of a shadow that is larger than its box (CSS Backgrounds Level 3, section 6.1.1).
func spreadCorners(c raster.Corners, spread float64) raster.Corners {
	grow := func(r float64) float64 {
		switch {
		case r <= 0:
			return 0
		case spread <= 0 || r >= spread:
			return math.Max(0, r+spread)
		}
		p := r/spread - 1
		return r + spread*(1+p*p*p)
	}
	for i := range c.Across {
		c.Across[i], c.Down[i] = grow(c.Across[i]), grow(c.Down[i])
	}
	return c
}

// cut takes away what clip-path and mask-image hide.
func (b *boxed) cut(p *paints, surface *raster.RGBA) error {
	if p.shape.Kind != declare.NoShape {
		surface.Clip(p.shapePath())
	}
	switch p.mask.Kind {
	case declare.ImageMask:
		one := b.job
		one.Request.Declarations = b.d
		picture, err := one.maskPicture(p.plan, p.mask.Image)
		if err != nil {
			return err
		}
		mask := maskBy(picture, b.d.MaskMode)
		surface.ClipMask(mask)
		mask.Free()
	case declare.GradientMask:
		mask := maskOf(p.mask.Gradient, b.d.MaskMode, surface.W, surface.H, 1)
		surface.ClipMask(mask)
		mask.Free()
	}
	return nil
}

// backdropOf filters what lies under the box, within its border.
func (b *boxed) backdropOf(p *paints, functions []declare.FilterFunction, left, top float64, w, h int, degrees float64) func(*raster.RGBA) {
	return func(on *raster.RGBA) {
		x0, y0 := max(0, int(left)), max(0, int(top))
		x1, y1 := min(on.W, int(left)+w), min(on.H, int(top)+h)
		if degrees != 0 {
			x0, y0, x1, y1 = 0, 0, on.W, on.H
		}
		if x0 >= x1 || y0 >= y1 {
			return
		}
		under := on.View(x0, y0, x1, y1).Copy()
		p.filter(under, functions, raster.Extended)
		var box raster.Path
		box.Rect(left-float64(x0), top-float64(y0), left-float64(x0)+float64(w), top-float64(y0)+float64(h), p.corners())
		if degrees != 0 {
			box.Turn(degrees, left-float64(x0)+float64(w)/2, top-float64(y0)+float64(h)/2)
		}
		mask := box.Mask(under.W, under.H)
		opacity := 1.0
		if b.d.Opacity.Declared {
			opacity = b.d.Opacity.Value
		}
		on.Mix(under, x0, y0, mask, opacity)
		mask.Free()
		under.Free()
	}
}

// turnAround turns a picture clockwise around a point of it, and says where the turned one's corner lies from its own.
func turnAround(p *raster.RGBA, degrees, cx, cy float64) (turned *raster.RGBA, dx, dy int) {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, c := range [][2]float64{{0, 0}, {float64(p.W), 0}, {0, float64(p.H)}, {float64(p.W), float64(p.H)}} {
		ux, uy := c[0]-cx, c[1]-cy
		x, y := cx+ux*cos-uy*sin, cy+ux*sin+uy*cos
		x0, y0, x1, y1 = math.Min(x0, x), math.Min(y0, y), math.Max(x1, x), math.Max(y1, y)
	}
	left, top := math.Floor(x0+1e-6), math.Floor(y0+1e-6)
	w, h := max(1, int(math.Ceil(x1-1e-6)-left)), max(1, int(math.Ceil(y1-1e-6)-top))
	ox, oy := left-cx, top-cy
	t := raster.Turning{A: cos, C: sin, E: cos*ox + sin*oy + cx, B: -sin, D: cos, F: -sin*ox + cos*oy + cy}
	return raster.Transform(p, w, h, t), int(left), int(top)
}

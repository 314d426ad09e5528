package render

import (
	"errors"
	"fmt"
	"math"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/text"
)

// layers are the pictures that lie under and over the picture, made at their size.
type layers struct {
	ground *raster.RGBA // covers the canvas; nil for none
	top    *raster.RGBA // nil for none
	mask   *raster.RGBA // of a picture, as large as the canvas; nil for none
	x, y   int          // where its top left corner goes
}

// layersOf makes what the declarations name beside the picture itself.
func layersOf(job Job, plan geometry.Plan) (layers, error) {
	var l layers
	d := &job.Request.Declarations
	w, h := float64(plan.Canvas.W), float64(plan.Canvas.H)
	if d.BackgroundImage != "" {
		var err error
		if l.ground, err = job.ground(plan); err != nil {
			return l, err
		}
	}
	if m := d.Mask(); m.Kind == declare.ImageMask {
		var err error
		if l.mask, err = job.maskPicture(plan, m.Image); err != nil {
			return l, err
		}
	}
	if d.After.Content == "" {
		return l, nil
	}
	a := &d.After
	wide, high := size(a.Width, w, plan.K), size(a.Height, h, plan.K)
	// Both edges of an axis given, and no length: the layer fills what lies between (CSS Positioned Layout,
	// section 4.1), text only in its width.
	in := a.Inset.Edge
	at := func(i int, whole float64) float64 { return in[i].Px*plan.K + in[i].Part*whole }
	if wide == 0 && in[1].Declared && in[3].Declared && a.Text {
		wide = math.Max(1, w-at(1, w)-at(3, w))
	}
	var err error
	if a.Text {
		l.top, err = letter(a, plan, wide, high, w, h)
	} else {
		l.top, err = job.layerPicture(a.Content, wide, high, plan.K)
	}
	if err != nil {
		return l, err
	}
	// CSS puts the layer by its left and top edge, by the other one where that is auto, and in the corner where
	// both are.
	x, y := 0.0, 0.0
	bw, bh := float64(l.top.W), float64(l.top.H)
	switch {
	case in[3].Declared:
		x = at(3, w)
	case in[1].Declared:
		x = w - at(1, w) - bw
	}
	switch {
	case in[0].Declared:
		y = at(0, h)
	case in[2].Declared:
		y = h - at(2, h) - bh
	}
	if a.Turn.Degrees != 0 { // around its middle, and nothing else moves
		turned := turnLayer(l.top, a.Turn.Degrees)
		x, y = x+(bw-float64(turned.W))/2, y+(bh-float64(turned.H))/2
		l.top = turned
	}
	l.x, l.y = int(math.Floor(x+0.5)), int(math.Floor(y+0.5))
	if a.Opacity.Declared && a.Opacity.Value < 1 {
		l.top = l.top.Copy()
		l.top.Fade(a.Opacity.Value)
	}
	return l, nil
}

func size(s declare.Side, whole, k float64) float64 {
	if s.Auto() {
		return 0
	}
	return s.Px*k + s.Part*whole
}

// layerPicture makes a picture of the layer's own size: its natural one in CSS pixels, where neither side is
// given, and in shape where one is.
func (job Job) layerPicture(name string, w, h, k float64) (*raster.RGBA, error) {
	d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: w, Height: h, Grow: declare.GrowYes}}
	if w == 0 && h == 0 {
		d.Resolution = math.Min(4, math.Max(0.5, k))
	}
	return job.named(name, d)
}

// named makes one of the pictures that come with the job.
func (job Job) named(name string, d declare.Declarations) (*raster.RGBA, error) {
	source, err := job.picture(name)
	if err != nil {
		return nil, err
	}
	if d.Width > 65535 || d.Height > 65535 {
		return nil, job.Limits.CheckOutput(int(d.Width), int(d.Height))
	}
	d = d.Within(job.Request.Declarations)
	key := layerKey(source, d)
	if p := job.Layers.get(key); p != nil {
		return p, nil
	}
	p, err := pixelsOf(source, d, job.Limits)
	if err == nil {
		job.Layers.put(key, p)
	}
	return p, ofLayer(name, err)
}

// picture is one of the sources that come with the job.
func (job Job) picture(name string) ([]byte, error) {
	source, ok := job.Pictures[name]
	if !ok {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: "the picture " + name + " didn't come with the job", Remedy: "tell whoever runs the service"})
	}
	return source, nil
}

// ofLayer says of a refusal which picture it is about.
func ofLayer(name string, err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		no.Detail = "of the layer " + name + ": " + no.Detail
	}
	return err
}

// pixelsOf makes a picture as pixels, premultiplied.
func pixelsOf(source []byte, d declare.Declarations, limits policy.Limits) (*raster.RGBA, error) {
	info, err := probe(source, d)
	if err != nil {
		return nil, err
	}
	if r := limits.CheckPixels(info.W, info.H); r != nil {
		return nil, r
	}
	w, h := info.Upright()
	plan, _ := geometry.New(geometry.Size{W: w, H: h}, d.For(info.Type))
	if r := limits.CheckOutput(plan.Canvas.W, plan.Canvas.H); r != nil {
		return nil, r
	}
	info, plan, part := sized(info, plan)
	scale := decodeScale(info, plan)
	picture, err := decode(source, info, part, scale, info.H, false)
	if err != nil {
		return nil, refuseSource(err)
	}
	profile := openProfile(info)
	if profile != nil {
		defer profile.Close()
	}
	pixels := toSRGB(picture, profile)
	pixels.Premultiply()
	return resamplePixels(pixels, info, plan, scale), nil
}

// letter sets the layer's text on its own ground.
func letter(a *declare.Layer, plan geometry.Plan, wide, high, w, h float64) (*raster.RGBA, error) {
	k := plan.K
	var pad [4]float64 // of the slot's width on every side, as CSS has it
	for i, e := range a.Padding.Edge {
		pad[i] = e.Px*k + e.Part*w
	}
	s := text.Style{Size: 16 * k, Color: [4]uint8{0, 0, 0, 255}}
	if a.Font.Declared {
		s.Size, s.Bold, s.Italic, s.Mono = a.Font.Size*k, a.Font.Bold, a.Font.Italic, a.Font.Mono
	}
	if a.Color.Declared {
		s.Color = straightOf(a.Color)
	}
	switch a.Align {
	case declare.AlignCenter:
		s.Align = text.Center
	case declare.AlignRight:
		s.Align = text.Right
	}
	room := 0.0
	if wide > 0 {
		room = math.Max(1, wide-pad[1]-pad[3])
	}
	label, err := text.Draw(a.Content, limitWidth(room, w, pad), s)
	var missing *text.MissingError
	if errors.As(err, &missing) {
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonGlyphsMissing, Parameter: "after-content", Given: a.Content, Detail: "the font has no glyphs for " + missing.Characters,
			Allowed: "Latin, Greek and Cyrillic letters, digits and their signs", Remedy: "leave these characters out, or draw them into a picture and use that as the layer",
		})
	}
	if err != nil {
		return nil, err
	}
	bw, bh := label.W+int(math.Round(pad[1]+pad[3])), label.H+int(math.Round(pad[0]+pad[2]))
	if high > 0 {
		bh = max(1, int(math.Round(high)))
	}
	if float64(bw) > 4*w+4096 || float64(bh) > 4*h+4096 {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonVariantTooLarge, Parameter: "after-font", Given: fmt.Sprintf("%d × %d", bw, bh), Detail: "the text is far larger than the slot", Allowed: "about the slot's own size", Remedy: "give after-font a smaller size"})
	}
	box := raster.NewRGBA(bw, bh)
	if a.Background.Declared {
		box.Fill(a.Background.R, a.Background.G, a.Background.B, a.Background.A)
	}
	box.Over(label, int(math.Round(pad[3])), int(math.Round(pad[0])))
	box.Opaque = false
	return box, nil
}

// limitWidth keeps lines within the slot where the layer says nothing of its width.
func limitWidth(room, slot float64, pad [4]float64) float64 {
	if room > 0 {
		return room
	}
	if most := slot - pad[1] - pad[3]; most >= 1 {
		return -most // shrink to fit
	}
	return 0
}

// turnLayer turns a layer clockwise around its middle.
func turnLayer(p *raster.RGBA, degrees float64) *raster.RGBA {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	w, h := float64(p.W), float64(p.H)
	bw, bh := math.Abs(w*cos)+math.Abs(h*sin), math.Abs(w*sin)+math.Abs(h*cos)
	ow, oh := int(math.Ceil(bw-1e-6)), int(math.Ceil(bh-1e-6))
	ox, oy := -float64(ow)/2, -float64(oh)/2
	return raster.Transform(p, ow, oh, raster.Turning{A: cos, C: sin, E: cos*ox + sin*oy + w/2, B: -sin, D: cos, F: -sin*ox + cos*oy + h/2})
}

var modes = map[declare.Blend]raster.BlendMode{
	declare.Multiply: raster.BlendMultiply, declare.Screen: raster.BlendScreen, declare.Overlay: raster.BlendOverlay, declare.Darken: raster.BlendDarken, declare.Lighten: raster.BlendLighten,
	declare.ColorDodge: raster.BlendColorDodge, declare.ColorBurn: raster.BlendColorBurn, declare.HardLight: raster.BlendHardLight, declare.SoftLight: raster.BlendSoftLight,
	declare.Difference: raster.BlendDifference, declare.Exclusion: raster.BlendExclusion, declare.Hue: raster.BlendHue, declare.Saturation: raster.BlendSaturation,
	declare.ColorBlend: raster.BlendColor, declare.Luminosity: raster.BlendLuminosity,
}

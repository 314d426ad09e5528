package render

import (
	"errors"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
)

// layers are the pictures that lie under and over the picture, made at their size.
type layers struct {
	ground      *raster.RGBA // covers the canvas; nil for none
	mask        *raster.RGBA // of a picture, as large as the canvas; nil for none
	under, over []*layer     // in the order in which they are painted
	laid        []Laid       // where they lie
}

func (l *layers) none() bool {
	return l.ground == nil && l.mask == nil && len(l.under) == 0 && len(l.over) == 0
}

// layersOf makes what the declarations name beside the picture itself.
func layersOf(job Job, plan geometry.Plan) (layers, error) {
	var l layers
	var err error
	d := &job.Request.Declarations
	if d.BackgroundImage != "" {
		if l.ground, err = job.ground(plan); err != nil {
			return l, err
		}
	}
	if m := d.Mask(); m.Kind == declare.ImageMask {
		if l.mask, err = job.maskPicture(plan, m.Image); err != nil {
			return l, err
		}
	}
	under, over := job.Request.Boxes()
	for i, list := range [][]declare.Box{under, over} {
		for n := range list {
			made, err := job.layer(&list[n], plan)
			if err != nil {
				return l, err
			}
			if made == nil {
				continue
			}
			l.laid = append(l.laid, made.laid)
			if i == 0 {
				l.under = append(l.under, made)
			} else {
				l.over = append(l.over, made)
			}
		}
	}
	return l, nil
}

func size(s declare.Side, whole, k float64) float64 {
	if s.Auto() {
		return 0
	}
	return s.Px*k + s.Part*whole
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
	p, err := job.pixelsOf(source, d)
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
func (job Job) pixelsOf(source []byte, d declare.Declarations) (*raster.RGBA, error) {
	limits := job.Limits
	if d.Position.Focus != declare.NoFocus || d.Turn.Degrees != 0 {
		return Paint(source, Job{Request: declare.Resolved{Declarations: d}, Limits: limits, Findings: job.Findings})
	}
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

var modes = map[declare.Blend]raster.BlendMode{
	declare.Multiply: raster.BlendMultiply, declare.Screen: raster.BlendScreen, declare.Overlay: raster.BlendOverlay, declare.Darken: raster.BlendDarken, declare.Lighten: raster.BlendLighten,
	declare.ColorDodge: raster.BlendColorDodge, declare.ColorBurn: raster.BlendColorBurn, declare.HardLight: raster.BlendHardLight, declare.SoftLight: raster.BlendSoftLight,
	declare.Difference: raster.BlendDifference, declare.Exclusion: raster.BlendExclusion, declare.Hue: raster.BlendHue, declare.Saturation: raster.BlendSaturation,
	declare.ColorBlend: raster.BlendColor, declare.Luminosity: raster.BlendLuminosity,
}

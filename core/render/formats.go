package render

import (
	"errors"
	"fmt"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
	"echolane/core/raster"
)

// Probe reads a source's header, whatever its format.
func Probe(source []byte) (codec.Info, error) {
	if len(source) == 0 {
		return codec.Info{}, refuseSource(&codec.Error{Truncated: true, Problem: "the file is empty"})
	}
	kind := formats.Sniff(source)
	format := formats.Of(kind)
	if format == nil {
		return codec.Info{}, policy.NotRead(kind)
	}
	info, err := format.Probe(source)
	if err != nil {
		return codec.Info{}, refuseSource(err)
	}
	return info, nil
}

// mostDrawn is how many pixels a drawing is drawn on at most; what is larger on the canvas is enlarged.
const mostDrawn = 64_000_000

// sized are a plan and a header as what the plan cuts of a drawing has them once it is drawn at the size at which it lands, and
// which part of the drawing that is. Pictures that have pixels stay as they are.
func sized(info codec.Info, plan geometry.Plan) (codec.Info, geometry.Plan, codec.Part) {
	if formats.Of(info.Type).Draw == nil {
		return info, plan, codec.Part{}
	}
	c := plan.Cut
	part := codec.Part{X: float64(c.X0), Y: float64(c.Y0), W: float64(c.W()), H: float64(c.H())}
	plan, info.W, info.H = plan.Drawn(mostDrawn)
	return info, plan, part
}

// held reads a picture that a drawing holds: premultiplied, in sRGB.
func held(data []byte) (*raster.RGBA, error) {
	info, err := Probe(data)
	if err != nil {
		return nil, err
	}
	if info.Type == declare.Drawing {
		return nil, errors.New("a drawing within a drawing isn't drawn")
	}
	if info.W*info.H > mostHeld {
		return nil, fmt.Errorf("it has %d × %d pixels, and at most %d are read", info.W, info.H, mostHeld)
	}
	p, err := decode(data, info, codec.Part{}, 8, info.H, false)
	if err != nil {
		return nil, err
	}
	profile := openProfile(info)
	if profile != nil {
		defer profile.Close()
	}
	pixels := toSRGB(p, profile)
	pixels.Premultiply()
	return pixels, nil
}

// mostHeld is how many pixels a picture within a drawing may have.
const mostHeld = 25_000_000

// decode gives the source's pixels, at scale eighths of its size and no further down than bottom, where that can be had; or a part
// of a drawing at the header's size.
func decode(source []byte, info codec.Info, part codec.Part, scale, bottom int, planes bool) (codec.Picture, error) {
	format := formats.Of(info.Type)
	if format.Draw != nil {
		pixels, err := format.Draw(source, part, info.W, info.H, held)
		return codec.Picture{RGBA: pixels}, err
	}
	p, err := format.Decode(source, codec.Want{Scale: scale, Planes: planes, Rows: (bottom*scale + 7) / 8})
	if err == nil && len(info.Profile) == 0 && !info.Colour.IsSRGB() && !info.Colour.HighRange() {
		info.Colour.Convert(p.RGBA)
	}
	return p, err
}

// Header reads what may be told of a source's header.
func Header(source []byte) (codec.Header, error) {
	info, err := Probe(source)
	if err != nil {
		return codec.Header{}, err
	}
	return info.Header(), nil
}

package render

import (
	"fmt"
	"math"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/face"
	"echolane/core/geometry"
	"echolane/core/raster"
	"echolane/core/subject"
)

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

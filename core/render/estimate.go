package render

import (
	"strings"

	"echolane/core/codec"
	"echolane/core/codec/svg"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
)

// An Estimate is what a job is thought to take, by what is known before anything is decoded.
type Estimate struct {
	Class  string  // jobs of one class take about as long for as much work
	Work   float64 // in what a megapixel of a baseline JPEG takes to decode
	Memory int64   // bytes that the process needs at its peak, at most
}

// decoding is what a source takes by its type: work for a megapixel, and bytes for a pixel at its full size.
var decoding = map[string]struct{ work, bytes float64 }{
	"image/jpeg": {1, 1.5}, "image/png": {3, 8}, "image/gif": {2, 8}, "image/webp": {2, 6}, "image/avif": {4, 10}, "image/heic": {5, 10}, "image/jxl": {5, 20}, "image/tiff": {3, 14}, "image/bmp": {1, 10},
	declare.Drawing: {drawing, 24}, // of what it is drawn on
}

// drawing is how much work a megapixel of a drawing is taken to be: what it holds isn't known.
const drawing = 20

// filterBytes are what a drawing's filters hold for a pixel: six results, as many as is usual.
const filterBytes = 6 * 16

// encoding is what a format takes: work for a megapixel of the variant, predicted, and bytes for a pixel.
var encoding = map[declare.Format]struct{ work, bytes float64 }{
	declare.JPEG: {3, 12}, declare.WebP: {12, 20}, declare.AVIF: {60, 60}, declare.JXL: {100, 80}, declare.PNG: {10, 16}, declare.GIF: {10, 16},
}

// What finding faces takes, and finding out what an erased place is filled from: work, and bytes.
const (
	looking      = 10
	filling      = 60
	lookingBytes = 64 << 20
)

// What a layer takes: work for a megapixel of the canvas, and bytes for a pixel while it is made.
const (
	layering   = 2
	layerBytes = 12
)

const (
	restingBytes = 24 << 20 // of a worker that does nothing
	paintBytes   = 12       // for a pixel of the variant while it is painted
	aheadBytes   = 80       // that frames which an encoder looks ahead at take for a pixel
	searched     = 3        // times the work of a predicted variant
	thorough     = 6
	wideBytes    = 4 // that a progressive JPEG's coefficients take for a pixel, or more than 8 bits a sample
)

// Estimate says what the job is thought to take of sources with these headers, the picture's own first, which has so many
// bytes. It never errs: what can't be told is taken to be usual.
func (j *Job) Estimate(headers []codec.Header, bytes int64) Estimate {
	e := Estimate{Memory: restingBytes + 2*bytes}
	var own codec.Header
	for i, h := range headers {
		if i == 0 {
			own = h
		}
		pixels := float64(h.W) * float64(h.H)
		if h.Type == declare.Drawing { // its own size says nothing
			pixels = min(mostDrawn, j.canvas(own))
			e.Memory += int64(min(filterBytes*pixels, svg.MostKept))
		}
		d, ok := decoding[h.Type]
		if !ok {
			d = decoding["image/png"]
		}
		if h.Depth > 8 || h.Coding == "progressive" {
			d.bytes += wideBytes
		}
		e.Work += d.work * pixels / 1e6 * float64(max(1, min(h.Frames, j.Limits.SourceFrames)))
		e.Memory += int64(d.bytes * pixels)
	}
	if own.W == 0 || own.H == 0 {
		own.W, own.H, own.Orientation = 2000, 1500, 1
	}
	canvas := j.canvas(own)
	if j.Limits.Pixels > 0 { // beyond it is refused
		canvas = min(canvas, float64(j.Limits.Pixels))
	}
	e.Memory += int64(paintBytes * canvas)
	if len(j.Request.Layers) > 0 || j.Request.Before.Content != "" || j.Request.After.Content != "" {
		under, over := j.Request.Boxes()
		n := float64(len(under) + len(over))
		e.Memory += int64(layerBytes*canvas*min(n, 8) + 4*canvas*n)
		e.Work += layering * n * canvas / 1e6
		for _, name := range SystemFonts(&j.Request) {
			if strings.HasSuffix(name, ".ttc") {
				e.Memory += 64 << 20 // one face of a collection, and the file
			} else {
				e.Memory += 4 << 20
			}
		}
	}
	if cut := j.Request.Mask().Kind == declare.SubjectMask; cut || j.Request.Redact+j.Request.Erase != "" || j.Request.XYWH.ToBeFound() || j.Request.Position.Focus == declare.Faces || j.Facts {
		e.Memory += lookingBytes
		e.Work += looking
		if j.Request.Erase != "" { // what it is filled from stays beside it
			e.Memory += int64(4 * float64(own.W) * float64(own.H))
			e.Work += filling
		}
		if cut {
			e.Work += filling
			e.Memory += lookingBytes
		}
	}
	if j.Facts {
		e.Class = "facts"
		return e
	}
	format, f := declare.JPEG, encoding[declare.JPEG]
	if len(j.Request.Formats) > 0 {
		tried := encode.Promising(j.Request.Formats, "photograph", j.Request.Quality, max(1, j.Tried))
		if j.Predict {
			tried = tried[:1]
		}
		format, f.work, f.bytes = tried[0], 0, 0
		for _, t := range tried {
			g, ok := encoding[t]
			if !ok {
				g = encoding[declare.WebP]
			}
			f.work, f.bytes = f.work+g.work, max(f.bytes, g.bytes)
		}
	}
	frames := max(1, min(own.Frames, j.Limits.SourceFrames))
	if m := j.Request.Motion; m != nil && frames == 1 && format.CarriesFrames() {
		frames = m.Frames(j.Request.Layers)
	}
	if frames > 1 && format == declare.AVIF { // frames ahead of the one that is written
		f.bytes += aheadBytes
	}
	times, effort := 1.0, "predicted"
	switch {
	case j.Placeholder > 0:
		canvas, effort = min(canvas, 4096), "placeholder"
	case j.Thorough && !j.Predict:
		times, effort = thorough, "thorough"
	case !j.Predict:
		times, effort = searched, "searched"
	}
	e.Class = format.String() + " " + effort
	e.Work += f.work * times * canvas / 1e6 * float64(frames)
	e.Memory += int64(f.bytes * canvas)
	return e
}

// canvas is how many pixels the variant of a source has.
func (j *Job) canvas(own codec.Header) float64 {
	w, h := own.Upright()
	if plan, ok := geometry.New(geometry.Size{W: w, H: h}, j.Request.For(own.Type)); ok {
		return float64(plan.Canvas.W) * float64(plan.Canvas.H)
	}
	return float64(w) * float64(h)
}

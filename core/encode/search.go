package encode

import (
	"cmp"
	"math"

	"echolane/core/codec"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// How near searches come, in points of quality: on a whole picture, on parts of one, and how far off the whole may be after a
// search on parts before it is encoded once more. `go run ./bench encoding` measures what they cost.
const wholeTolerance, partsTolerance, remakeTolerance = 0.4, 3, 3

// An encode of a small picture with less than one byte per lightBelow pixels is so quick that it counts half.
const (
	smallArea  = 640 * 640
	lightBelow = 90
)

// seamAllowance is how much larger the distance of parts may be than that of the whole: the seams between them count.
const seamAllowance = 1.04

// largeSlope is how much steeper the effect of a setting is on large pictures than on those of the tables.
const largeSlope = 1.6

// searched finds the setting by encodes that are compared with the picture. A large picture is searched on parts first.
func (p *Picture) searched(w *codec.Writer, e encoder, guess, slope float64, how Encoding) (likeness.Found, Encoding, error) {
	how.Way = "searched"
	if sample := p.sample(w); sample != nil {
		part := &Picture{YCbCr: sample, Quality: p.Quality, Finest: p.Finest, Effort: p.Effort, whole: p.area(), taken: how.Kind}
		defer part.Free()
		if w.Pixels {
			part.Pixels = p.samplePixels()
			defer part.Pixels.Free()
		}
		return p.searchedByParts(part, w, e, guess, slope, how)
	}
	if p.area() <= smallArea {
		e.Light = p.area() / lightBelow
	}
	goal := p.aim(w, how.Quality)
	found, err := likeness.Search(e.Encoder, goal, guess, slope, likeness.Points(float64(how.Quality), cmp.Or(e.own.Near, wholeTolerance)))
	how.Aim = Rounded(goal())
	return found, how, err
}

// searchedByParts searches on parts of the picture, and then checks the whole, which comes out better: it has no seams.
func (p *Picture) searchedByParts(part *Picture, w *codec.Writer, e encoder, guess, slope float64, how Encoding) (found likeness.Found, _ Encoding, err error) {
	how.Sampled = true
	on, err := part.encoder(w)
	if err != nil {
		return found, how, err
	}
	quality := float64(how.Quality)
	slope *= largeSlope // large pictures have more plain blocks, in which a setting does more
	allowance := seamAllowance
	if w.Fit.Seams != nil {
		allowance *= math.Exp(likeness.Points(quality, w.Fit.Seams(coarseness(quality))))
	}
	goal := part.aim(w, how.Quality)
	found, err = likeness.Search(on.Encoder, func() float64 { return allowance * goal() }, guess, slope, likeness.Points(quality, partsTolerance))
	if err != nil {
		return found, how, err
	}
	target := p.target(w, how.Quality)
	how.Aim = Rounded(target)
	found, err = likeness.Whole(e.Encoder, found, target, slope, likeness.Points(quality, remakeTolerance))
	return found, how, err
}

// Pictures of more than samplesAbove pixels are searched on samplesX × samplesY parts, each sampleSide on a side.
const (
	samplesAbove = 1_000_000
	sampleSide   = 96
	samplesX     = 6
	samplesY     = 4
)

// large returns the planes of a large picture that the format writes from planes; else nil.
func (p *Picture) large(w *codec.Writer) *raster.YCbCr {
	if p.area() <= samplesAbove || !p.Opaque() || w.FullChroma && p.SharpColour() {
		return nil
	}
	return p.Planes()
}

// partAt is where a part begins in a picture of w×h.
func partAt(i, j, w, h int) (x, y int) {
	return (w - sampleSide) * i / (samplesX - 1) &^ 1, (h - sampleSide) * j / (samplesY - 1) &^ 1
}

// samplePixels are the same parts in pixels.
func (p *Picture) samplePixels() *raster.RGBA {
	out := raster.PooledRGBA(samplesX*sampleSide, samplesY*sampleSide)
	out.Opaque = true
	for j := range samplesY {
		for i := range samplesX {
			x, y := partAt(i, j, p.Pixels.W, p.Pixels.H)
			for row := range sampleSide {
				copy(out.Row(j*sampleSide + row)[4*i*sampleSide:4*(i+1)*sampleSide], p.Pixels.Row(y + row)[4*x:])
			}
		}
	}
	return out
}

// sample puts evenly spread parts of a large picture side by side; nil where the picture isn't large.
func (p *Picture) sample(w *codec.Writer) *raster.YCbCr {
	from := p.large(w)
	if from == nil || from.W < samplesX*sampleSide || from.H < samplesY*sampleSide {
		return nil
	}
	out := raster.New420(samplesX*sampleSide, samplesY*sampleSide, from.Range)
	for j := range samplesY {
		for i := range samplesX {
			x, y := partAt(i, j, from.W, from.H)
			for _, c := range []struct {
				of, to raster.Plane
				n      int
			}{{from.Y, out.Y, 1}, {from.Cb, out.Cb, 2}, {from.Cr, out.Cr, 2}} {
				n := sampleSide / c.n
				for row := range n {
					copy(c.to.Row(j*n + row)[i*n:(i+1)*n], c.of.Row(y/c.n + row)[x/c.n:])
				}
			}
		}
	}
	return out
}

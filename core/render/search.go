package render

import (
	"cmp"
	"errors"

	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// How near searches come, in points of quality: of a whole picture, of parts of one, and of the whole of which parts
// were searched before it is made once more.
const whole, parts, mended = 0.4, 3, 5

// even is how near searches come that step by a quarter of an index of VP8, which is a little less than half a point.
const even = 0.5

// lightBelow is of how many pixels a byte of an encode is that takes little time.
const lightBelow = 90

// seams are how much farther off parts may be than the whole.
const seams = 1.04

// steeper is how much more a setting does to large pictures than to those that the tables were made of.
const steeper = 1.6

// searched finds the setting by encodes that are looked at: of the picture, or where it is large of some parts of it first.
func (f *finish) searched(format declare.Format, e encoder, guess, slope float64, how Encoding) (likeness.Found, Encoding, error) {
	how.Way = "searched"
	if sample := f.sample(format); sample != nil {
		part := &finish{planes: sample, quality: f.quality, most: f.most, speed: f.avifSpeed(), exactSpeed: true, taken: how.Kind}
		defer part.free()
		return f.searchedByParts(part, format, e, guess, slope, how)
	}
	if f.area() <= avifKeptSmall {
		e.Light = f.area() / lightBelow
	}
	goal := f.aim(format, how.Quality)
	found, err := likeness.Search(e.Encoder, goal, guess, slope, likeness.Points(float64(how.Quality), cmp.Or(e.points, whole)))
	target, broke := goal()
	how.Aim = rounded(target)
	return found, how, errors.Join(err, broke)
}

// searchedByParts searches on parts of the picture. The whole, which has the last word, comes out better, without the seams
// between parts.
func (f *finish) searchedByParts(part *finish, format declare.Format, e encoder, guess, slope float64, how Encoding) (found likeness.Found, _ Encoding, err error) {
	how.Sampled = true
	on, err := part.encoder(format)
	if err != nil {
		return found, how, err
	}
	quality := float64(how.Quality)
	slope *= steeper // what is large has more plain blocks, in which a setting does more
	goal := part.aim(format, how.Quality)
	found, err = likeness.Search(on.Encoder, func() (float64, error) {
		target, err := goal()
		return seams * target, err
	}, guess, slope, likeness.Points(quality, parts))
	if err != nil {
		return found, how, err
	}
	target, err := f.target(format, how.Quality)
	if err != nil {
		return found, how, err
	}
	how.Aim = rounded(target)
	found, err = likeness.Whole(e.Encoder, found, target, slope, likeness.Points(quality, mended))
	return found, how, err
}

// samplesAbove is from how many pixels on a search looks at parts, of which there are so many, so large.
const (
	samplesAbove = 1_000_000
	sampleSide   = 96
	samplesX     = 6
	samplesY     = 4
)

// large gives the planes of a large picture, where a format has it in planes as it is; else nil.
func (f *finish) large(format declare.Format) *raster.YCbCr {
	if f.area() <= samplesAbove || f.pixels != nil && (!f.pixels.Opaque || format == declare.AVIF && f.sharpColour()) {
		return nil
	}
	return f.opaque()
}

// sample puts evenly spread parts of a large picture side by side; nil where it isn't one.
func (f *finish) sample(format declare.Format) *raster.YCbCr {
	p := f.large(format)
	if p == nil || p.W < samplesX*sampleSide || p.H < samplesY*sampleSide {
		return nil
	}
	out := raster.New420(samplesX*sampleSide, samplesY*sampleSide, p.Range)
	for j := range samplesY {
		for i := range samplesX {
			x, y := (p.W-sampleSide)*i/(samplesX-1)&^1, (p.H-sampleSide)*j/(samplesY-1)&^1
			for _, c := range []struct {
				from, to raster.Plane
				n        int
			}{{p.Y, out.Y, 1}, {p.Cb, out.Cb, 2}, {p.Cr, out.Cr, 2}} {
				n := sampleSide / c.n
				for row := range n {
					copy(c.to.Row(j*n + row)[i*n:(i+1)*n], c.from.Row(y/c.n + row)[x/c.n:])
				}
			}
		}
	}
	return out
}

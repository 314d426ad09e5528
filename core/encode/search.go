package encode

import (
	"cmp"
	"errors"

	"echolane/core/codec"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// How near searches come, in points of quality: of a whole picture, of parts of one, and of the whole of which parts
// were searched before it is made once more.
const whole, parts, mended = 0.4, 3, 5

// An encode of a small picture with less than a byte for so many pixels takes so little time that it counts half.
const (
	smallArea  = 640 * 640
	lightBelow = 90
)

// seams are how much farther off parts may be than the whole.
const seams = 1.04

// steeper is how much more a setting does to large pictures than to those that the tables were made of.
const steeper = 1.6

// searched finds the setting by encodes that are looked at: of the picture, or where it is large of some parts of it first.
func (p *Picture) searched(w *codec.Writer, e encoder, guess, slope float64, how Encoding) (likeness.Found, Encoding, error) {
	how.Way = "searched"
	if sample := p.sample(w); sample != nil {
		part := &Picture{YCbCr: sample, Quality: p.Quality, Finest: p.Finest, Effort: p.Effort, whole: p.area(), taken: how.Kind}
		defer part.Free()
		return p.searchedByParts(part, w, e, guess, slope, how)
	}
	if p.area() <= smallArea {
		e.Light = p.area() / lightBelow
	}
	goal := p.aim(w, how.Quality)
	found, err := likeness.Search(e.Encoder, goal, guess, slope, likeness.Points(float64(how.Quality), cmp.Or(e.own.Near, whole)))
	target, broke := goal()
	how.Aim = Rounded(target)
	return found, how, errors.Join(err, broke)
}

// searchedByParts searches on parts of the picture. The whole, which has the last word, comes out better, without the seams
// between parts.
func (p *Picture) searchedByParts(part *Picture, w *codec.Writer, e encoder, guess, slope float64, how Encoding) (found likeness.Found, _ Encoding, err error) {
	how.Sampled = true
	on, err := part.encoder(w)
	if err != nil {
		return found, how, err
	}
	quality := float64(how.Quality)
	slope *= steeper // what is large has more plain blocks, in which a setting does more
	goal := part.aim(w, how.Quality)
	found, err = likeness.Search(on.Encoder, func() (float64, error) {
		target, err := goal()
		return seams * target, err
	}, guess, slope, likeness.Points(quality, parts))
	if err != nil {
		return found, how, err
	}
	target, err := p.target(w, how.Quality)
	if err != nil {
		return found, how, err
	}
	how.Aim = Rounded(target)
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
func (p *Picture) large(w *codec.Writer) *raster.YCbCr {
	if p.area() <= samplesAbove || !p.Opaque() || w.FullChroma && p.SharpColour() {
		return nil
	}
	return p.Planes()
}

// sample puts evenly spread parts of a large picture side by side; nil where it isn't one.
func (p *Picture) sample(w *codec.Writer) *raster.YCbCr {
	from := p.large(w)
	if from == nil || from.W < samplesX*sampleSide || from.H < samplesY*sampleSide {
		return nil
	}
	out := raster.New420(samplesX*sampleSide, samplesY*sampleSide, from.Range)
	for j := range samplesY {
		for i := range samplesX {
			x, y := (from.W-sampleSide)*i/(samplesX-1)&^1, (from.H-sampleSide)*j/(samplesY-1)&^1
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

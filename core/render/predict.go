package render

import (
	"math"

	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// How much finer first answers have to be to come as near as what is kept, which settings are fitted to: AVIF's, in steps of
// the quantizer at AVIFFirst, and WebP's.
const avifQuickLoss, webpQuickLoss = 4.5, 1.6

// glanced is how near a first answer comes at once, else it's made a second time; and where there is time for it a third, if
// it was farther off than is sure to come right.
const glanced, sure = 2, 5

// predicted takes the setting that is thought right, looks at what comes out where that takes little beside what is kept, and
// then takes the setting that is thought right by that.
func (f *finish) predicted(format declare.Format, e encoder, guess, slope float64, how Encoding) ([]byte, Encoding, error) {
	how.Way, how.Provisional, how.Sampled = "predicted", true, f.strips
	if e.glances < 2 {
		data, err := e.write(guess)
		how.Setting = e.name(guess)
		return data, how, err
	}
	goal := f.aim(format, how.Quality)
	q := float64(how.Quality)
	trusted := math.Inf(1)
	if e.glances > 2 {
		trusted = likeness.Points(q, sure)
	}
	found, err := likeness.Glance(e.Encoder, e.write, goal, guess, slope, likeness.Points(q, glanced), trusted)
	if err != nil {
		return nil, how, err
	}
	target, err := goal()
	how.Setting, how.Aim, how.Trials = e.name(found.Setting), rounded(target), found.Trials
	if found.Distance > 0 {
		how.Likeness = rounded(found.Distance)
	}
	return found.Data, how, err
}

// The strips that are looked at of a large picture's first answer: so many, evenly spread, together a third of its rows.
const strips, stripsShare = 6, 3

// leastHigh is how high a picture is at least of which there are strips, which begin where macroblocks do.
const leastHigh = strips * stripsShare * blockSide
const blockSide = 16

// stripsOf puts the strips one below the other.
func stripsOf(p *raster.YCbCr) *raster.YCbCr {
	high := p.H / leastHigh * blockSide
	out := raster.New420(p.W, strips*high, p.Range)
	for i := range strips {
		y := (p.H - high) * i / (strips - 1) / blockSide * blockSide
		for _, c := range []struct {
			from, to raster.Plane
			n        int
		}{{p.Y, out.Y, 1}, {p.Cb, out.Cb, 2}, {p.Cr, out.Cr, 2}} {
			for row := range high / c.n {
				copy(c.to.Row(i*high/c.n + row)[:c.to.W], c.from.Row(y/c.n+row))
			}
		}
	}
	return out
}

// look is what planes look like: as a whole, or in strips.
func (f *finish) look(p *raster.YCbCr) *likeness.Picture {
	if !f.strips {
		return likeness.OfPlanes(p)
	}
	p = stripsOf(p)
	defer p.Free()
	return likeness.OfPlanes(p)
}

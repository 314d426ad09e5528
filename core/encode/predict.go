package encode

import (
	"math"

	"echolane/core/codec"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// In points of quality: a first answer that is off by more than glanced is encoded a second time, and, where there is time, a
// third time if it was off by more than sure.
const glanced, sure = 2, 5

// predicted encodes at the predicted setting. Where looking is cheap beside the encode of what is kept, it looks at the result
// and encodes again at the setting that this predicts.
func (p *Picture) predicted(w *codec.Writer, e encoder, guess, slope float64, how Encoding) ([]byte, Encoding, error) {
	how.Way, how.Provisional, how.Sampled = "predicted", true, p.strips
	if e.own.Glances < 2 {
		data, err := e.own.Write(guess)
		how.Setting, how.setting = e.own.Name(guess), guess
		return data, how, err
	}
	goal := p.aim(w, how.Quality)
	q := float64(how.Quality)
	trusted := math.Inf(1)
	if e.own.Glances > 2 {
		trusted = likeness.Points(q, sure)
	}
	found, err := likeness.Glance(e.Encoder, e.own.Write, goal, guess, slope, likeness.Points(q, glanced), trusted)
	if err != nil {
		return nil, how, err
	}
	how.Setting, how.setting, how.Aim, how.Trials = e.own.Name(found.Setting), found.Setting, Rounded(goal()), found.Trials
	if found.Distance > 0 {
		how.Likeness = Rounded(found.Distance)
	}
	return found.Data, how, nil
}

// Of a large picture's first answer only strips are looked at: so many, evenly spread, together one stripsShare-th of its rows.
const strips, stripsShare = 6, 3

// leastHigh is the least height of a picture with strips. Strips begin at macroblock boundaries.
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

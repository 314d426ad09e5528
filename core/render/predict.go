package render

import (
	"math"

	"echolane/core/declare"
	"echolane/core/fidelity"
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
	how.Way, how.Provisional = "predicted", true
	if e.glances < 2 {
		data, err := e.write(guess)
		how.Setting = e.name(guess)
		return data, how, err
	}
	goal := f.aim(format, how.Quality)
	q := float64(how.Quality)
	trusted := math.Inf(1)
	if e.glances > 2 {
		trusted = fidelity.Points(q, sure)
	}
	found, err := fidelity.Glance(e.Encoder, e.write, goal, guess, slope, fidelity.Points(q, glanced), trusted)
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

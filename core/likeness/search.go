package likeness

import (
	"math"
)

// An Encoder is one picture in front of one encoder.
type Encoder struct {
	// Light is below how many bytes an encode takes so little time that it counts half.
	Light int

	// Least and Most are the settings between which it can choose, coarsest and finest; Step is what it rounds to.
	Least, Most, Step float64

	// Try encodes, and says how far what comes out is from the original.
	Try func(setting float64) (data []byte, distance float64, err error)
}

// A Trial is one encode of a search.
type Trial struct {
	Setting  float64 `json:"setting"`
	Bytes    int     `json:"bytes"`
	Likeness float64 `json:"likeness,omitempty"` // 0: nobody looked
}

// A Found is what a search came to.
type Found struct {
	Data     []byte
	Setting  float64
	Distance float64
	Trials   []Trial
}

// Points is what so many points of quality are at a quality, as a difference of distances' logarithms.
func Points(quality, points float64) float64 {
	at := math.Min(97, math.Max(2, quality))
	return points * math.Log(DistanceAt(at-0.5)/DistanceAt(at+0.5))
}

// mostTrials is after how many encodes a search takes the best.
const mostTrials = 5

// run is a search that is under way.
type run struct {
	e     Encoder
	found []Found
}

// rounded is the nearest setting that there is.
func (r *run) rounded(setting float64) float64 {
	return math.Min(r.e.Most, math.Max(r.e.Least, math.Round(setting/r.e.Step)*r.e.Step))
}

func (r *run) try(setting float64) (Found, error) {
	setting = r.rounded(setting)
	for _, f := range r.found {
		if f.Setting == setting {
			return f, nil
		}
	}
	data, far, err := r.e.Try(setting)
	if err != nil {
		return Found{}, err
	}
	f := Found{Data: data, Setting: setting, Distance: far}
	r.found = append(r.found, f)
	return f, nil
}

func (r *run) tried(setting float64) bool {
	setting = r.rounded(setting)
	for _, f := range r.found {
		if f.Setting == setting {
			return true
		}
	}
	return false
}

func (r *run) done(f Found) Found {
	for _, t := range r.found {
		f.Trials = append(f.Trials, Trial{t.Setting, len(t.Data), math.Round(10*Likeness(t.Distance)) / 10})
	}
	return f
}

// Search finds the setting whose picture is as far from the original as a goal, which it asks for after the first encode.
// guess is where to begin, slope how much the logarithm of the distance is thought to change with a setting one higher
// (below zero). It ends where that logarithm is near enough, or after five encodes, light ones counting half: two in the
// usual case.
func Search(e Encoder, goal func() float64, guess, slope, enough float64) (Found, error) {
	r := &run{e: e}
	_, err := r.try(guess)
	target := goal()
	if err != nil {
		return Found{}, err
	}
	off := func(f Found) float64 { return math.Abs(math.Log((f.Distance + 1e-9) / target)) }
	at := guess
	for spent := 0.0; spent < mostTrials; {
		f, err := r.try(at)
		if err != nil {
			return Found{}, err
		}
		light := len(f.Data) < e.Light
		if spent++; light {
			spent -= 0.5
		}
		// Near enough, or nearer than a setting beside it is likely to be.
		if off(f) < enough || off(f) < -slope*e.Step/2 {
			break
		}
		if at = r.next(target, slope); r.tried(at) {
			var ok bool
			if at, ok = r.beside(at, target); !ok || !light {
				break
			}
		}
	}
	return r.done(r.best(target)), nil
}

// best is what came nearest a target; of what is equally far, the one with the fewest bytes.
func (r *run) best(target float64) Found {
	best := r.found[0]
	for _, f := range r.found {
		if m, least := missed(f, target), missed(best, target); m < least || m == least && len(f.Data) < len(best.Data) {
			best = f
		}
	}
	return best
}

// missed is how bad it is to have come as near to a target: too far, which shows, is worse than too near, which only takes
// bytes, and at most so bad.
func missed(f Found, target float64) float64 {
	const worse, most = 1.5, 1
	off := math.Log((f.Distance + 1e-9) / target)
	if off > 0 {
		return worse * off
	}
	return math.Min(most, -off)
}

// besides is how many steps beside a setting that was tried are still worth a try.
const besides = 3

// beside is the nearest setting beside a tried one that wasn't tried, on the side on which the target is.
func (r *run) beside(setting, target float64) (float64, bool) {
	step := r.e.Step
	if f, _ := r.try(setting); f.Distance < target {
		step = -step
	}
	for k := 1.0; k <= besides; k++ {
		if at := setting + k*step; !r.tried(at) {
			return at, true
		}
	}
	return 0, false
}

// mostWhole is how often a picture of which parts have been searched is encoded.
const mostWhole = 3

// Whole encodes a picture of which parts have been searched, at the setting that was found; and once or twice more where the
// whole turns out not to be near enough.
func Whole(e Encoder, parts Found, target, slope, enough float64) (Found, error) {
	r := &run{e: e}
	for at := parts.Setting; len(r.found) < mostWhole && !r.tried(at); at = r.next(target, slope) {
		f, err := r.try(at)
		if err != nil {
			return Found{}, err
		}
		if math.Abs(math.Log((f.Distance+1e-9)/target)) <= enough*float64(len(r.found)) { // the third has to be worth more
			break
		}
	}
	best := r.done(r.best(target))
	best.Trials = append(parts.Trials, best.Trials...)
	return best, nil
}

// Glance encodes once and looks, how far from a goal that it asks for afterwards; where that isn't near enough it encodes
// again, by how much the setting is thought to do. What is corrected by more than is sure is looked at again, and corrected
// once more by what was seen of both. The last encode is written without a look: then the distance of what is found is 0.
func Glance(e Encoder, write func(setting float64) ([]byte, error), goal func() float64, guess, slope, enough, sure float64) (Found, error) {
	r := &run{e: e}
	f, err := r.try(guess)
	target := goal()
	if err != nil {
		return Found{}, err
	}
	off := math.Log((f.Distance + 1e-9) / target)
	at := r.rounded(r.next(target, slope))
	if math.Abs(off) <= enough || at == f.Setting {
		return r.done(f), nil
	}
	if math.Abs(off) > sure {
		if f, err = r.try(at); err != nil {
			return Found{}, err
		}
		if math.Abs(math.Log((f.Distance+1e-9)/target)) <= enough {
			return r.done(f), nil
		}
		at = r.rounded(r.next(target, slope))
	}
	if r.tried(at) {
		return r.done(f), nil
	}
	data, err := write(at)
	if err != nil {
		return Found{}, err
	}
	f = r.done(Found{Data: data, Setting: at})
	f.Trials = append(f.Trials, Trial{Setting: at, Bytes: len(data)})
	return f, nil
}

// next is where the line through the two nearest trials, or through the one with the given slope, meets the target.
func (r *run) next(target, slope float64) float64 {
	value := func(f Found) float64 { return math.Log((f.Distance + 1e-9) / target) }
	var over, under *Found // too far, near enough
	for i := range r.found {
		f := &r.found[i]
		if value(*f) > 0 {
			if over == nil || f.Setting > over.Setting {
				over = f
			}
		} else if under == nil || f.Setting < under.Setting {
			under = f
		}
	}
	switch {
	case over != nil && under != nil && under.Setting > over.Setting:
		a, b := value(*over), value(*under)
		return over.Setting + (under.Setting-over.Setting)*a/(a-b)
	case over != nil && under != nil: // not monotone: between them
		return (over.Setting + under.Setting) / 2
	}
	last := r.found[len(r.found)-1]
	if n := len(r.found); n > 1 {
		if s := (value(last) - value(r.found[n-2])) / (last.Setting - r.found[n-2].Setting); s < slope/4 {
			slope = s
		}
	}
	step := -value(last) / slope
	return last.Setting + math.Copysign(math.Max(math.Abs(step), r.e.Step), step)
}

// Within finds the finest setting, not above the one that has is at, whose data has at most so many bytes. ok is
// false where not even the coarsest does: then it is the coarsest that is found.
func Within(e Encoder, has Found, budget int) (f Found, ok bool, err error) {
	r := &run{e: e, found: []Found{has}}
	if len(has.Data) <= budget {
		return has, true, nil
	}
	best := Found{}
	low, high := e.Least, has.Setting // high is too large
	size := func(f Found) float64 { return math.Log(float64(len(f.Data))) }
	lowest, highest := Found{}, has
	for range 7 {
		if high-low < 2*e.Step && best.Data != nil {
			break
		}
		// Bytes grow about as a power of the setting's way.
		at := low + (high-low)*math.Exp(0.7*(math.Log(float64(budget))-size(highest)))
		if lowest.Data != nil {
			at = lowest.Setting + (highest.Setting-lowest.Setting)*(math.Log(float64(budget))-size(lowest))/math.Max(1e-9, size(highest)-size(lowest))
		}
		at = math.Min(high-e.Step, math.Max(low, at-e.Step/2))
		if r.tried(at) {
			if at = (low + high) / 2; r.tried(at) {
				break
			}
		}
		t, err := r.try(at)
		if err != nil {
			return Found{}, false, err
		}
		if len(t.Data) <= budget {
			best, lowest, low = t, t, t.Setting+e.Step
		} else {
			highest, high = t, t.Setting
		}
		if len(t.Data) <= budget && float64(len(t.Data)) > 0.97*float64(budget) {
			break
		}
	}
	if best.Data == nil {
		t, err := r.try(e.Least)
		if err != nil {
			return Found{}, false, err
		}
		return r.done(t), len(t.Data) <= budget, nil
	}
	return r.done(best), true, nil
}

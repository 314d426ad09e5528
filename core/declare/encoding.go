package declare

import (
	"math"
	"strings"
)

// Animation is the value of animation.
type Animation uint8

const (
	AnimationUnset Animation = iota // all frames, where the format carries them
	AnimationNone                   // the first frame
)

var animations = []string{AnimationNone: "none"}

func (a Animation) String() string { return keyword(animations, int(a)) }

// Retain is the value of retain: the embedded facts that are kept.
type Retain uint8

const (
	RetainRights Retain = 1 << iota // copyright, creator, licence
	RetainCamera                    // exposure and device
	RetainPlace                     // position
)

var retained = []string{"rights", "camera", "place"}

func (r Retain) appendTo(b []byte) []byte {
	start := len(b)
	for i, word := range retained {
		if r&(1<<i) == 0 {
			continue
		}
		if len(b) > start {
			b = append(b, "%20"...)
		}
		b = append(b, word...)
	}
	return b
}

func setRetain(to *Retain, value string) string {
	var set Retain
	for _, word := range strings.Fields(strings.ToLower(value)) {
		i := 0
		for i < len(retained) && retained[i] != word {
			i++
		}
		if i == len(retained) || set&(1<<i) != 0 {
			return "unparsable"
		}
		set |= 1 << i
	}
	*to = set
	return ""
}

const leastBudget, mostBudget = 100, 100_000_000

// setBudget reads bytes, plain or with a unit of a thousand or 1024 times so many.
func setBudget(to *int64, value string) string {
	lower := strings.ToLower(value)
	times := 1.0
	for _, unit := range []struct {
		name  string
		times float64
	}{{"kib", 1 << 10}, {"mib", 1 << 20}, {"kb", 1e3}, {"mb", 1e6}, {"b", 1}} {
		if number, ok := strings.CutSuffix(lower, unit.name); ok {
			lower, times = strings.TrimRight(number, " "), unit.times
			break
		}
	}
	v, ok := cssNumber(lower)
	if !ok {
		return "unparsable"
	}
	if v = math.Floor(v * times); !(v >= leastBudget && v <= mostBudget) {
		return "out-of-range"
	}
	*to = int64(v)
	return ""
}

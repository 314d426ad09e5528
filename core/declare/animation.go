package declare

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"echolane/core/wording"
)

// Animation is how a still moves: which keyframes, how long, how often (CSS Animations Level 1, section 3). It is written in a sheet.
type Animation struct {
	Name        string
	Duration    float64 // seconds of one run
	Delay       float64 // seconds before the first
	Easing      Easing  // between two keyframes that don't say their own
	Count       float64 // runs; 0: for ever
	Reverse     bool    // the first run goes backwards
	Alternate   bool    // every other run goes the other way
	FillBefore  bool    // the first keyframe holds during the delay
	FillForward bool    // the last state holds at the end
}

// AnimationNone is the value of animation by which nothing moves.
const AnimationNone = "none"

const animationGrammar = "none; in a sheet, @keyframes by their name, and duration, easing, delay, count, direction and fill, such as drift 4s ease-in-out infinite alternate"

// Bounds on animations.
const (
	shortestRun = 0.05 // seconds
	longestRun  = 60.0
	mostRuns    = 1000
)

// readAnimation reads the shorthand of one animation.
func readAnimation(to *string, value string) string {
	a, ok, reason := parseAnimation(value)
	switch {
	case reason != "":
		return reason
	case !ok:
		*to = AnimationNone
	default:
		*to = a.text()
	}
	return ""
}

var animationIndex = index("animation")

// OnlyInSheet is what is wrong with a value of animation that isn't none, where it isn't written in a sheet.
func OnlyInSheet(value string) *Problem {
	return &Problem{Parameter: "animation", Given: wording.Cut(value, 80), Reason: "unparsable", Allowed: AnimationNone, Remedy: hintForValue("animation", value)}
}

// Moving is the animation that is declared; ok is false where nothing is to move.
func (d *Declarations) Moving() (a Animation, ok bool) {
	if !said(d.Animation) {
		return a, false
	}
	a, ok, _ = parseAnimation(d.Animation) // it was checked when it was declared
	return a, ok
}

func parseAnimation(value string) (a Animation, ok bool, reason string) {
	a = Animation{Easing: ease, Count: 1}
	words := fields(value)
	if len(words) == 0 {
		return a, false, "unparsable"
	}
	if len(words) == 1 && strings.EqualFold(words[0], AnimationNone) {
		return a, false, ""
	}
	var times int
	var seen [5]bool // easing, count, direction, fill, name
	once := func(i int) bool {
		was := seen[i]
		seen[i] = true
		return !was
	}
	for _, word := range words {
		w := strings.ToLower(word)
		if s, is := seconds(w); is {
			switch times++; times {
			case 1:
				a.Duration = s
			case 2:
				a.Delay = s
			default:
				return a, false, "unparsable"
			}
			continue
		}
		if e, is := parseEasing(w); is && once(0) {
			a.Easing = e
			continue
		}
		if n, err := strconv.ParseFloat(w, 64); err == nil && once(1) {
			if !(n > 0 && n <= mostRuns) {
				return a, false, "out-of-range"
			}
			a.Count = n
			continue
		}
		switch {
		case w == "infinite" && once(1):
			a.Count = 0
		case w == "normal" && once(2):
		case w == "reverse" && once(2):
			a.Reverse = true
		case w == "alternate" && once(2):
			a.Alternate = true
		case w == "alternate-reverse" && once(2):
			a.Alternate, a.Reverse = true, true
		case w == "forwards" && once(3):
			a.FillForward = true
		case w == "backwards" && once(3):
			a.FillBefore = true
		case w == "both" && once(3):
			a.FillBefore, a.FillForward = true, true
		case w == "running" || w == "none":
		case IsKeyframes(word) && once(4):
			a.Name = word
		default:
			return a, false, "unparsable"
		}
	}
	switch {
	case a.Name == "" || times == 0:
		return a, false, "unparsable"
	case a.Duration < shortestRun || a.Duration > longestRun || math.Abs(a.Delay) > longestRun, a.Count == 0 && a.Delay > 0:
		return a, false, "out-of-range"
	}
	return a, true, ""
}

// IsKeyframes reports whether @keyframes may have this name.
func IsKeyframes(name string) bool {
	if !IsClass(name) {
		return false
	}
	reserved := []string{"none", "infinite", "normal", "reverse", "alternate", "alternate-reverse", "forwards", "backwards", "both", "running", "paused", "initial", "inherit", "unset"}
	_, easing := parseEasing(strings.ToLower(name))
	return !easing && !slices.Contains(reserved, strings.ToLower(name))
}

// seconds reads a CSS <time> (CSS Values Level 4, section 7.2).
func seconds(w string) (float64, bool) {
	per := 1.0
	number, ok := strings.CutSuffix(w, "ms")
	if ok {
		per = 0.001
	} else if number, ok = strings.CutSuffix(w, "s"); !ok {
		return 0, false
	}
	v, err := strconv.ParseFloat(number, 64)
	return tidy(v * per), err == nil && !math.IsNaN(v) && !math.IsInf(v, 0)
}

// text writes what parseAnimation reads, one way.
func (a Animation) text() string {
	b := append(appendNumber(append([]byte(a.Name), ' '), a.Duration), 's')
	if a.Easing != ease {
		b = append(append(b, ' '), a.Easing.text()...)
	}
	if a.Delay != 0 {
		b = append(appendNumber(append(b, ' '), a.Delay), 's')
	}
	switch a.Count {
	case 0:
		b = append(b, " infinite"...)
	case 1:
	default:
		b = appendNumber(append(b, ' '), a.Count)
	}
	switch {
	case a.Alternate && a.Reverse:
		b = append(b, " alternate-reverse"...)
	case a.Alternate:
		b = append(b, " alternate"...)
	case a.Reverse:
		b = append(b, " reverse"...)
	}
	switch {
	case a.FillBefore && a.FillForward:
		b = append(b, " both"...)
	case a.FillBefore:
		b = append(b, " backwards"...)
	case a.FillForward:
		b = append(b, " forwards"...)
	}
	return string(b)
}

// Easing is an easing function (CSS Easing Functions Level 1): a cubic Bézier curve, or steps.
type Easing struct {
	X1, Y1, X2, Y2 float64
	Steps          int // where it isn't 0, the curve isn't used
	Jump           jump
}

type jump uint8

const (
	jumpEnd jump = iota
	jumpStart
	jumpNone
	jumpBoth
)

var jumps = []string{"jump-end", "jump-start", "jump-none", "jump-both"}

var (
	linear  = Easing{0, 0, 1, 1, 0, 0}
	ease    = Easing{0.25, 0.1, 0.25, 1, 0, 0}
	easings = map[string]Easing{
		"linear": linear, "ease": ease, "ease-in": {0.42, 0, 1, 1, 0, 0}, "ease-out": {0, 0, 0.58, 1, 0, 0}, "ease-in-out": {0.42, 0, 0.58, 1, 0, 0},
		"step-start": {Steps: 1, Jump: jumpStart}, "step-end": {Steps: 1},
	}
)

const mostSteps = 1000

// parseEasing reads one, in lower case.
func parseEasing(w string) (Easing, bool) {
	if e, ok := easings[w]; ok {
		return e, true
	}
	name, inner, ok := strings.Cut(w, "(")
	inner, closed := strings.CutSuffix(inner, ")")
	if !ok || !closed {
		return Easing{}, false
	}
	list := parts(inner, ',')
	switch name {
	case "cubic-bezier":
		var v [4]float64
		if len(list) != 4 {
			return Easing{}, false
		}
		for i, s := range list {
			n, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
			if err != nil || math.IsNaN(n) || math.Abs(n) > 100 || i%2 == 0 && (n < 0 || n > 1) {
				return Easing{}, false
			}
			v[i] = n
		}
		return Easing{v[0], v[1], v[2], v[3], 0, 0}, true
	case "steps":
		if len(list) == 0 || len(list) > 2 {
			return Easing{}, false
		}
		n, err := strconv.Atoi(strings.TrimSpace(list[0]))
		e := Easing{Steps: n}
		if len(list) == 2 {
			word := strings.TrimSpace(list[1])
			switch word {
			case "start":
				word = "jump-start"
			case "end":
				word = "jump-end"
			}
			i := slices.Index(jumps, word)
			if i < 0 {
				return Easing{}, false
			}
			e.Jump = jump(i)
		}
		return e, err == nil && n >= 1 && n <= mostSteps && (n > 1 || e.Jump != jumpNone)
	}
	return Easing{}, false
}

func (e Easing) text() string {
	for _, name := range []string{"linear", "ease", "ease-in", "ease-out", "ease-in-out", "step-start", "step-end"} {
		if easings[name] == e {
			return name
		}
	}
	if e.Steps > 0 {
		return "steps(" + strconv.Itoa(e.Steps) + "," + jumps[e.Jump] + ")"
	}
	b := []byte("cubic-bezier(")
	for i, v := range [4]float64{e.X1, e.Y1, e.X2, e.Y2} {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendNumber(b, v)
	}
	return string(append(b, ')'))
}

// at is the progress of the output at a progress of the input, both 0–1, but for curves that overshoot.
func (e Easing) at(p float64) float64 {
	if e.Steps > 0 {
		step := math.Floor(p * float64(e.Steps))
		if e.Jump == jumpStart || e.Jump == jumpBoth {
			step++
		}
		jumps := float64(e.Steps)
		switch e.Jump {
		case jumpNone:
			jumps--
		case jumpBoth:
			jumps++
		}
		return min(step, jumps) / jumps
	}
	if e.X1 == e.Y1 && e.X2 == e.Y2 || p <= 0 || p >= 1 {
		return p
	}
	curve := func(a, b, t float64) float64 { return ((1-3*b+3*a)*t+(3*b-6*a))*t*t + 3*a*t }
	low, high := 0.0, 1.0
	for range 60 { // x grows with t
		if mid := (low + high) / 2; curve(e.X1, e.X2, mid) < p {
			low = mid
		} else {
			high = mid
		}
	}
	return curve(e.Y1, e.Y2, (low+high)/2)
}

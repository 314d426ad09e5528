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

// A Keyframe is a state of an animation.
type Keyframe struct {
	At     float64 // 0–1 of a run
	Easing string  // to the next one; "": the animation's
	Set    Declarations
}

// SetInKeyframe reads one declaration of a keyframe, as a sheet writes it. The problem is nil where that went well.
func (k *Keyframe) SetInKeyframe(name, value string) *Problem {
	if name == "animation-timing-function" {
		e, ok := parseEasing(strings.ToLower(strings.Join(fields(value), "")))
		if !ok {
			return &Problem{Parameter: name, Given: value, Reason: "unparsable", Allowed: "linear, ease, ease-in, ease-out, ease-in-out, cubic-bezier(x1, y1, x2, y2) or steps(n)"}
		}
		k.Easing = e.text()
		return nil
	}
	if !slices.Contains(animated, name) {
		return &Problem{Parameter: name, Given: name, Reason: "unknown-name", Allowed: strings.Join(animated, ", ") + ", animation-timing-function"}
	}
	problem := k.Set.SetInSheet(name, value, "")
	switch {
	case problem != nil:
	case k.Set.XYWH.Faces.Declared:
		problem = &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: "unparsable", Allowed: "a part of the picture, or subject and how much of each side around it, such as subject 70%"}
	case k.Set.Position.Focus != NoFocus:
		problem = &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: "unparsable", Allowed: "one to four values, such as left top or 75% 20%"}
	}
	return problem
}

// animated are the properties that keyframes may have.
var animated = []string{"object-view-box", "xywh", "object-position", "opacity", "filter"}

// A Motion is an animation with its keyframes, and how finely it is made.
type Motion struct {
	Animation string
	Keyframes []Keyframe // in the order of their times; never empty
	PerSecond float64    // frames, at the most
	Most      int        // frames in all
}

// append writes all that the variant depends on.
func (m *Motion) append(b []byte) []byte {
	b = append(b, "&keyframes="...)
	for _, k := range m.Keyframes {
		b = append(appendNumber(b, tidy(k.At*100)), "%{"...)
		b = k.Set.AppendAddressForm(b)
		if k.Easing != "" {
			b = append(append(b, ';'), k.Easing...)
		}
		b = append(b, '}')
	}
	b = appendNumber(append(b, "&frames="...), float64(m.Most))
	return appendNumber(append(b, ','), m.PerSecond)
}

// A Moment is a state of a moving picture, and how long it is to be seen.
type Moment struct {
	Declarations
	Shown float64 // seconds
}

// Moments are the states of a picture with these declarations, at most so many, and how often they are to be gone through; 0: for
// ever. Equal ones that follow one another are one.
func (m *Motion) Moments(base Declarations, most int) (list []Moment, plays int) {
	a, ok, _ := parseAnimation(m.Animation)
	if !ok {
		return nil, 0
	}
	most = max(2, min(most, m.Most))
	add := func(at, shown float64) {
		d := m.at(&a, base, at)
		if n := len(list); n > 0 && list[n-1].Declarations == d {
			list[n-1].Shown += shown
			return
		}
		list = append(list, Moment{d, shown})
	}
	if a.Count == 0 {
		period := a.Duration
		if a.Alternate {
			period *= 2
		}
		n := min(most, max(2, int(math.Ceil(period*m.PerSecond-1e-9))))
		for i := range n {
			add(-a.Delay+period*float64(i)/float64(n), period/float64(n))
		}
		return list, 0
	}
	// From where it begins to its end, whose state lasts.
	from := min(0, a.Delay)
	length := max(0, a.Delay) + a.Count*a.Duration + from
	n := min(most-1, max(1, int(math.Ceil(length*m.PerSecond-1e-9))))
	for i := range n {
		add(-max(a.Delay, 0)-from+length*float64(i)/float64(n), length/float64(n))
	}
	add(math.Inf(1), length/float64(n))
	return list, 1
}

// At is the state at so many seconds from when the animation was started.
func (m *Motion) At(base Declarations, t float64) Declarations {
	a, ok, _ := parseAnimation(m.Animation)
	if !ok {
		return base
	}
	return m.at(&a, base, t-a.Delay)
}

// at is the state at so many seconds from the beginning of the first run.
func (m *Motion) at(a *Animation, base Declarations, t float64) Declarations {
	base.Animation = ""
	runs := t / a.Duration
	switch {
	case t < 0 && !a.FillBefore:
		return base
	case t < 0:
		runs = 0
	case a.Count > 0 && runs >= a.Count && !a.FillForward:
		return base
	case a.Count > 0 && runs >= a.Count:
		runs = a.Count
	}
	run := math.Floor(runs)
	p := runs - run
	if a.Count > 0 && runs == a.Count && p == 0 { // the end of the last one, not the beginning of another
		run, p = run-1, 1
	}
	if backwards := a.Reverse != (a.Alternate && math.Mod(run, 2) == 1); backwards {
		p = 1 - p
	}
	return m.progress(a, base, p)
}

// progress is the state at a part of a run. Each property has the keyframes that say something of it, and the picture's own value
// where there is none at the beginning or the end.
func (m *Motion) progress(a *Animation, base Declarations, p float64) Declarations {
	out := base
	for _, prop := range moving {
		list := make([]Keyframe, 0, len(m.Keyframes)+2)
		for _, k := range m.Keyframes {
			if prop.declared(&k.Set) {
				list = append(list, k)
			}
		}
		if len(list) == 0 {
			continue
		}
		if list[0].At > 0 {
			list = slices.Insert(list, 0, Keyframe{At: 0, Set: base})
		}
		if list[len(list)-1].At < 1 {
			list = append(list, Keyframe{At: 1, Set: base})
		}
		i := len(list) - 1
		for i > 0 && list[i].At > p {
			i--
		}
		if i == len(list)-1 {
			prop.take(&out, &list[i].Set)
			continue
		}
		from, to := &list[i], &list[i+1]
		e := a.Easing
		if from.Easing != "" {
			e, _ = parseEasing(from.Easing)
		}
		prop.between(&out, &from.Set, &to.Set, e.at((p-from.At)/(to.At-from.At)))
	}
	return out
}

// moving are the properties that move.
var moving = []struct {
	declared func(d *Declarations) bool
	take     func(to, from *Declarations)
	between  func(to, a, b *Declarations, p float64)
}{
	{func(d *Declarations) bool { return d.XYWH.Declared }, func(to, from *Declarations) { to.XYWH = from.XYWH }, func(to, a, b *Declarations, p float64) {
		x, y := a.XYWH.orWhole(), b.XYWH.orWhole()
		to.XYWH = Region{Declared: true, X: mixed(x.X, y.X, p), Y: mixed(x.Y, y.Y, p), W: mixed(x.W, y.W, p), H: mixed(x.H, y.H, p)}
	}},
	{func(d *Declarations) bool { return d.Position.Declared }, func(to, from *Declarations) { to.Position = from.Position }, func(to, a, b *Declarations, p float64) {
		x, y := a.Position.orMiddle(), b.Position.orMiddle()
		to.Position = Position{Declared: true, X: mixed(x.X, y.X, p), Y: mixed(x.Y, y.Y, p)}
	}},
	{func(d *Declarations) bool { return d.Opacity.Declared }, func(to, from *Declarations) { to.Opacity = from.Opacity }, func(to, a, b *Declarations, p float64) {
		whole := func(o Opacity) float64 {
			if !o.Declared {
				return 1
			}
			return o.Value
		}
		to.Opacity = Opacity{Declared: true, Value: min(1, max(0, tidy(mix(whole(a.Opacity), whole(b.Opacity), p))))}
	}},
	{func(d *Declarations) bool { return d.Filter != "" }, func(to, from *Declarations) { to.Filter = from.Filter }, func(to, a, b *Declarations, p float64) {
		to.Filter = mixedFilters(a.Filters(), b.Filters(), p)
	}},
}

func (r Region) orWhole() Region {
	if !r.Declared || r.ToBeFound() {
		return Region{Declared: true, W: Length{Part: 1}, H: Length{Part: 1}}
	}
	return r
}

func (p Position) orMiddle() Position {
	if !p.Declared || p.Focus != NoFocus {
		return Position{Declared: true, X: Length{Part: 0.5}, Y: Length{Part: 0.5}}
	}
	return p
}

func mix(a, b, p float64) float64 { return a + (b-a)*p }

func mixed(a, b Length, p float64) Length {
	return Length{Px: mix(a.Px, b.Px, p), Part: mix(a.Part, b.Part, p)}
}

// mixedFilters interpolates lists of filter functions (Filter Effects Level 1, section 13): one by one where they are of the same
// functions as far as both go, what is missing being the function that changes nothing; otherwise the nearer one.
func mixedFilters(a, b []FilterFunction, p float64) string {
	n := max(len(a), len(b))
	out := make([]FilterFunction, n)
	for i := range out {
		switch {
		case i >= len(a):
			out[i] = b[i].mixed(b[i].unchanging(), 1-p)
		case i >= len(b):
			out[i] = a[i].mixed(a[i].unchanging(), p)
		case a[i].Name != b[i].Name:
			if p < 0.5 {
				return writeFilter(a, 1)
			}
			return writeFilter(b, 1)
		default:
			out[i] = a[i].mixed(b[i], p)
		}
	}
	return writeFilter(out, 1)
}

func (f FilterFunction) unchanging() FilterFunction {
	switch f.Name {
	case "brightness", "contrast", "saturate", "opacity":
		f.Amount = 1
	default:
		f.Amount = 0
	}
	f.Shadow.X, f.Shadow.Y, f.Shadow.Sigma = 0, 0, 0
	f.Shadow.Color.A = 0
	return f
}

func (f FilterFunction) mixed(g FilterFunction, p float64) FilterFunction {
	f.Amount = mix(f.Amount, g.Amount, p)
	switch f.Name {
	case "hue-rotate":
	case "grayscale", "invert", "sepia", "opacity":
		f.Amount = min(1, max(0, f.Amount))
	default:
		f.Amount = max(0, f.Amount)
	}
	f.Amount = tidy(f.Amount)
	s, t := &f.Shadow, g.Shadow
	s.X, s.Y, s.Sigma = tidy(mix(s.X, t.X, p)), tidy(mix(s.Y, t.Y, p)), tidy(max(0, mix(s.Sigma, t.Sigma, p)))
	// Colours are mixed premultiplied (CSS Color Level 4, section 12.3).
	alpha := min(255, max(0, mix(float64(s.Color.A), float64(t.Color.A), p)))
	channel := func(a, b uint8) uint8 {
		if alpha == 0 {
			return a
		}
		return uint8(math.Round(min(255, max(0, mix(float64(a)*float64(s.Color.A), float64(b)*float64(t.Color.A), p)/alpha))))
	}
	s.Color.R, s.Color.G, s.Color.B, s.Color.A = channel(s.Color.R, t.Color.R), channel(s.Color.G, t.Color.G), channel(s.Color.B, t.Color.B), uint8(math.Round(alpha))
	return f
}

package declare

import (
	"maps"
	"math"
	"slices"
	"strings"

	"echolane/core/wording"
)

// A Keyframe is a state of an animation, of a picture or of a layer.
type Keyframe struct {
	At     float64 // 0–1 of a run
	Easing string  // to the next one; "": the animation's
	Set    Declarations
	Layer  Box // what it says of a layer: edges, turn and opacity
}

// SetInKeyframe reads one declaration of a keyframe, as a sheet writes it. The problem is nil where that went well.
func (k *Keyframe) SetInKeyframe(name, value string) *Problem {
	switch {
	case name == "animation-timing-function":
		e, ok := parseEasing(strings.ToLower(strings.Join(fields(value), "")))
		if !ok {
			return &Problem{Parameter: name, Given: value, Reason: "unparsable", Allowed: "linear, ease, ease-in, ease-out, ease-in-out, cubic-bezier(x1, y1, x2, y2) or steps(n)"}
		}
		k.Easing = e.text()
		return nil
	case slices.Contains(animatedLayer, name) && !slices.Contains(animated, name):
		return k.Layer.Set(name, value)
	case !slices.Contains(animated, name):
		return &Problem{Parameter: name, Given: name, Reason: "unknown-name", Allowed: strings.Join(animated, ", ") + "; of layers " + strings.Join(animatedLayer, ", ") + "; animation-timing-function"}
	}
	problem := k.Set.SetInSheet(name, value, "")
	switch {
	case problem != nil:
	case k.Set.XYWH.Faces.Declared:
		problem = &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: "unparsable", Allowed: "a part of the picture, or subject and how much of each side around it, such as subject 70%"}
	case k.Set.Position.Focus != NoFocus:
		problem = &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: "unparsable", Allowed: "one to four values, such as left top or 75% 20%"}
	}
	k.Layer.Paint.Opacity = k.Set.Opacity
	return problem
}

// Over is the keyframe with what it doesn't say taken from one of the same time.
func (k Keyframe) Over(base Keyframe) Keyframe {
	base.Set, base.Layer = k.Set.Over(base.Set), k.Layer.Over(base.Layer)
	if k.Easing != "" {
		base.Easing = k.Easing
	}
	return base
}

// Forget takes a property back, which is declared again further down.
func (k *Keyframe) Forget(name string) {
	k.Set.Forget(name, "")
	k.Layer.Forget(name)
}

// animated are the properties that keyframes may have of a picture; animatedLayer, those of a layer.
var (
	animated      = []string{"object-view-box", "xywh", "object-position", "opacity", "filter"}
	animatedLayer = []string{"inset", "top", "right", "bottom", "left", "rotate", "opacity"}
)

// Move reports whether keyframes say anything of a picture, or of a layer.
func Move(frames []Keyframe, layer bool) bool {
	for i := range frames {
		for _, p := range moving {
			if !layer && p.declared(&frames[i].Set) {
				return true
			}
		}
		for _, p := range movingLayer {
			if layer && p.declared(&frames[i].Layer) {
				return true
			}
		}
	}
	return false
}

// Movable lists the properties by which keyframes move a picture, or a layer.
func Movable(layer bool) []string {
	if layer {
		return animatedLayer
	}
	return animated
}

// A Motion is how a picture and its layers move, each by an animation with its keyframes, and how finely that is made.
type Motion struct {
	Animation string     // of the picture; "" where only layers move
	Keyframes []Keyframe // in the order of their times; never empty where there is an animation
	Layers    []LayerMotion
	PerSecond float64 // frames, at the most
	Most      int     // frames in all
}

// A LayerMotion is how one layer moves.
type LayerMotion struct {
	Name      string // of the layer
	Animation string
	Keyframes []Keyframe
}

// append writes all that the variant depends on.
func (m *Motion) append(b []byte) []byte {
	b = append(b, "&keyframes="...)
	for _, k := range m.Keyframes {
		b = k.append(b, func(b []byte) []byte { return k.Set.AppendAddressForm(b) })
	}
	for _, l := range m.Layers { // the animation is one of the layer's properties
		b = append(append(b, ";;"...), l.Name...)
		for _, k := range l.Keyframes {
			b = k.append(b, k.Layer.append)
		}
	}
	b = appendNumber(append(b, "&frames="...), float64(m.Most))
	return appendNumber(append(b, ','), m.PerSecond)
}

func (k *Keyframe) append(b []byte, said func([]byte) []byte) []byte {
	b = said(append(appendNumber(b, tidy(k.At*100)), "%{"...))
	if k.Easing != "" {
		b = append(append(b, ';'), k.Easing...)
	}
	return append(b, '}')
}

// A Moment is a state of a moving picture, and how long it is to be seen.
type Moment struct {
	Declarations
	Layers []Box   // those that move, in the order of the motion's
	Shown  float64 // seconds
}

// same reports whether two moments look the same.
func (m *Moment) same(n *Moment) bool {
	return m.Declarations == n.Declarations && slices.EqualFunc(m.Layers, n.Layers, func(a, b Box) bool { return string(a.append(nil)) == string(b.append(nil)) })
}

// A run is what one animation does to the picture or a layer.
type run struct {
	Animation
	keyframes []Keyframe
	layer     *Box // nil: the picture
}

// runs are the animations of the picture and those of its layers that there are.
func (m *Motion) runs(layers []Box) (list []run) {
	if a, ok, _ := parseAnimation(m.Animation); ok {
		list = append(list, run{a, m.Keyframes, nil})
	}
	for _, l := range m.Layers {
		a, ok, _ := parseAnimation(l.Animation)
		if i := slices.IndexFunc(layers, func(b Box) bool { return b.Name == l.Name }); ok && i >= 0 {
			list = append(list, run{a, l.Keyframes, &layers[i]})
		}
	}
	return list
}

// longestLoop is how many seconds pass at most until what is gone through for ever begins anew.
const longestLoop = 2 * longestRun

// lengthOf is how many seconds animations take together. For ever is true where none of them ends: then they are gone through for as
// long as all take to stand as at the beginning again or, where that's too long, as the longest takes.
func lengthOf(runs []run) (seconds float64, forEver bool) {
	forEver = true
	longest, loop := 0.0, 1.0 // loop in milliseconds
	for _, r := range runs {
		period := r.Duration
		if r.Alternate {
			period *= 2
		}
		if r.Count > 0 {
			forEver, period = false, r.Delay+r.Count*r.Duration
		}
		longest = max(longest, period)
		if ms := math.Round(period * 1000); loop <= longestLoop*1000 && ms > 0 {
			a, b := loop, ms
			for b > 0 {
				a, b = b, math.Mod(a, b)
			}
			loop *= ms / a
		}
	}
	if forEver && len(runs) > 1 && loop <= longestLoop*1000 {
		return loop / 1000, true
	}
	return longest, forEver
}

// frames is how many moments animations of that length are divided into.
func (m *Motion) frames(seconds float64, forEver bool, most int) int {
	n := int(math.Ceil(seconds*m.PerSecond - 1e-9))
	if forEver {
		return min(most, max(2, n))
	}
	return min(most-1, max(1, n)) + 1
}

// Frames is the most frames that a picture with these layers has.
func (m *Motion) Frames(layers []Box) int {
	runs := m.runs(layers)
	if len(runs) == 0 {
		return 1
	}
	seconds, forEver := lengthOf(runs)
	return m.frames(seconds, forEver, max(2, m.Most))
}

// Moments are the states of a picture with these declarations and layers, at most so many, and how often they are to be gone through;
// 0: for ever. Equal ones that follow one another are one.
func (m *Motion) Moments(base Declarations, layers []Box, most int) (list []Moment, plays int) {
	runs := m.runs(layers)
	if len(runs) == 0 {
		return nil, 0
	}
	seconds, forEver := lengthOf(runs)
	if seconds <= 0 { // it was over before it began
		return []Moment{stateOf(runs, base, 0, true)}, 1
	}
	n := m.frames(seconds, forEver, max(2, min(most, m.Most)))
	if !forEver {
		n--
	}
	add := func(t float64, last bool) {
		now := stateOf(runs, base, t, last)
		now.Shown = seconds / float64(n)
		if i := len(list) - 1; i >= 0 && list[i].same(&now) {
			list[i].Shown += now.Shown
			return
		}
		list = append(list, now)
	}
	for i := range n {
		add(seconds*float64(i)/float64(n), false)
	}
	if forEver {
		return list, 0
	}
	add(seconds, true) // the state at the end lasts
	return list, 1
}

// stateOf is the state at so many seconds from when the animations were started; last is that after those that end.
func stateOf(runs []run, base Declarations, t float64, last bool) Moment {
	base.Animation = ""
	now := Moment{Declarations: base}
	for _, r := range runs {
		at := t - r.Delay
		if last && r.Count > 0 {
			at = math.Inf(1)
		}
		p, moves := r.progress(at)
		if r.layer == nil {
			if moves {
				now.Declarations = stateAt(r, p, base, moving, func(k *Keyframe) *Declarations { return &k.Set })
			}
			continue
		}
		b := *r.layer
		if moves {
			b.Said = maps.Clone(b.Said)
			b = stateAt(r, p, b, movingLayer, func(k *Keyframe) *Box { return &k.Layer })
		}
		now.Layers = append(now.Layers, b)
	}
	return now
}

// progress is how much of a run is over at so many seconds from the beginning of the first; ok is false where it has no effect then.
func (a *Animation) progress(t float64) (p float64, ok bool) {
	runs := t / a.Duration
	switch {
	case t < 0 && !a.FillBefore:
		return 0, false
	case t < 0:
		runs = 0
	case a.Count > 0 && runs >= a.Count && !a.FillForward:
		return 0, false
	case a.Count > 0 && runs >= a.Count:
		runs = a.Count
	}
	run := math.Floor(runs)
	p = runs - run
	if a.Count > 0 && runs == a.Count && p == 0 { // the end of the last one, not the beginning of another
		run, p = run-1, 1
	}
	if backwards := a.Reverse != (a.Alternate && math.Mod(run, 2) == 1); backwards {
		p = 1 - p
	}
	return p, true
}

// A mover is a property that moves, of what S says.
type mover[S any] struct {
	declared func(s *S) bool
	take     func(to, from *S)
	between  func(to, a, b *S, p float64)
}

// stateAt is the state at a part of a run. Each property has the keyframes that say something of it, and the own value of what moves
// where there is none at the beginning or the end.
func stateAt[S any](r run, p float64, base S, properties []mover[S], of func(*Keyframe) *S) S {
	type state struct {
		at     float64
		easing string
		said   *S
	}
	out, own := base, &base
	for _, property := range properties {
		list := make([]state, 0, len(r.keyframes)+2)
		for i := range r.keyframes {
			if k := &r.keyframes[i]; property.declared(of(k)) {
				list = append(list, state{k.At, k.Easing, of(k)})
			}
		}
		if len(list) == 0 {
			continue
		}
		if list[0].at > 0 {
			list = slices.Insert(list, 0, state{0, "", own})
		}
		if list[len(list)-1].at < 1 {
			list = append(list, state{1, "", own})
		}
		i := len(list) - 1
		for i > 0 && list[i].at > p {
			i--
		}
		if i == len(list)-1 {
			property.take(&out, list[i].said)
			continue
		}
		from, to := &list[i], &list[i+1]
		e := r.Easing
		if from.easing != "" {
			e, _ = parseEasing(from.easing)
		}
		property.between(&out, from.said, to.said, e.at((p-from.at)/(to.at-from.at)))
	}
	return out
}

// moving are the properties of a picture that move.
var moving = []mover[Declarations]{
	{func(d *Declarations) bool { return d.XYWH.Declared }, func(to, from *Declarations) { to.XYWH = from.XYWH }, func(to, a, b *Declarations, p float64) {
		x, y := a.XYWH.orWhole(), b.XYWH.orWhole()
		to.XYWH = Region{Declared: true, X: mixed(x.X, y.X, p), Y: mixed(x.Y, y.Y, p), W: mixed(x.W, y.W, p), H: mixed(x.H, y.H, p)}
	}},
	{func(d *Declarations) bool { return d.Position.Declared }, func(to, from *Declarations) { to.Position = from.Position }, func(to, a, b *Declarations, p float64) {
		x, y := a.Position.orMiddle(), b.Position.orMiddle()
		to.Position = Position{Declared: true, X: mixed(x.X, y.X, p), Y: mixed(x.Y, y.Y, p)}
	}},
	opacityOf(func(d *Declarations) *Opacity { return &d.Opacity }),
	{func(d *Declarations) bool { return d.Filter != "" }, func(to, from *Declarations) { to.Filter = from.Filter }, func(to, a, b *Declarations, p float64) {
		to.Filter = mixedFilters(a.Filters(), b.Filters(), p)
	}},
}

// movingLayer are those of a layer.
var movingLayer = []mover[Box]{
	edgeOf("top"), edgeOf("right"), edgeOf("bottom"), edgeOf("left"),
	{func(b *Box) bool { return b.of("rotate") != "" }, func(to, from *Box) { to.turn(from.turned()) }, func(to, a, b *Box, p float64) {
		to.turn(mix(a.turned(), b.turned(), p))
	}},
	opacityOf(func(b *Box) *Opacity { return &b.Paint.Opacity }),
}

func opacityOf[S any](at func(*S) *Opacity) mover[S] {
	whole := func(s *S) float64 {
		if o := at(s); o.Declared {
			return o.Value
		}
		return 1
	}
	return mover[S]{func(s *S) bool { return at(s).Declared }, func(to, from *S) { *at(to) = *at(from) }, func(to, a, b *S, p float64) {
		*at(to) = Opacity{Declared: true, Value: min(1, max(0, tidy(mix(whole(a), whole(b), p))))}
	}}
}

// edgeOf moves an edge of a layer. What is auto on one side isn't mixed: half of the way is each value's.
func edgeOf(name string) mover[Box] {
	take := func(to, from *Box) {
		text := from.of(name)
		if text == "" {
			text = "auto"
		}
		to.say(name, text)
	}
	length := func(b *Box) (Length, bool) {
		if text := b.of(name); text != "" && text != "auto" {
			return parseLength(text, "px")
		}
		return Length{}, false
	}
	return mover[Box]{func(b *Box) bool { return b.of(name) != "" }, take, func(to, a, b *Box, p float64) {
		x, fromLength := length(a)
		y, toLength := length(b)
		switch {
		case fromLength && toLength:
			l := mixed(x, y, p)
			to.say(name, Length{Px: tidy(l.Px), Part: tidy(100*l.Part) / 100}.text())
		case p < 0.5:
			take(to, a)
		default:
			take(to, b)
		}
	}}
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

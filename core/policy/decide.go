package policy

import (
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"echolane/core/declare"
	"echolane/core/sheet"
	"echolane/core/wording"
)

// Effort is how much is done for a variant that is kept.
type Effort uint8

// The efforts, in the order of the document's words.
const (
	Quick     Effort = iota
	Thorough         // it takes longer, for fewer bytes
	Predicted        // the first answer is kept: no quality is searched for
)

// Site is a compiled document: what requests are held to. It is never changed after Compile, but for Keys,
// which are set before it is shared. Safe for concurrent use.
type Site struct {
	Name     string
	Hosts    []string
	Sheet    *sheet.Sheet
	Defaults declare.Declarations // what the sheet says of every picture
	Formats  []declare.Format
	Shapes   []declare.Ratio // beside the natural one; none: any
	Rungs    []float64       // device pixels, upwards; none: any
	RoundUp  bool

	GrowByClassOnly, PaintByClassOnly bool

	Effort Effort // for what is kept

	Limits                       Limits
	QualityFloor, QualityCeiling int
	VariantsPerSource            int
	FormatsTried                 int // in how many a variant may be made, to keep the smallest
	RequestsPerSecond            float64
	AnimationFrames              int     // that a still has which the sheet moves
	AnimationFPS                 float64 // of them a second, at the most
	Month                        Month

	Pages         []Rule
	SilentRefused bool
	Unsigned      Unsigned
	CardValues    CardValues
	CardListed    []declare.DataValue
	Lanes         []*CompiledLane
	Keys          map[string][]byte // signing secrets by keyid

	offers [][]declare.Format // by what the client accepts, and whether it must be lossless
}

// CompiledLane is a lane with its rules read.
type CompiledLane struct {
	Lane
	Limits   Limits // the site's, with the lane's own
	BaseURL  string
	Allow    []Rule
	Deny     []Rule
	Private  []netip.Prefix
	Signed   bool
	Place    string        // where its sources are: another place, other sources
	TakesURL bool          // a source's path is its whole URL
	Fresh    time.Duration // that a source is taken to be unchanged where nothing else says so
	MaxAge   time.Duration // that browsers and caches keep a variant

	Missing      time.Duration // how long a source that there isn't is taken to be missing
	Failing      time.Duration // how long one that can't be had isn't asked for again
	SharedMaxAge int64         // seconds that caches in front keep one; below 0: as browsers do
}

// Lane finds a lane by name, nil where there is none.
func (s *Site) Lane(name string) *CompiledLane {
	for _, l := range s.Lanes {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Unsigned says what may be asked without a signature.
type Unsigned uint8

// What may be asked without a signature.
const (
	UnsignedAnything Unsigned = iota
	UnsignedLadder            // ladder widths without paint
	UnsignedNothing
)

// Ask is one request as policy sees it.
type Ask struct {
	Lane     *CompiledLane
	Declared declare.Declarations
	Accepted Accepted
	Client   sheet.Client  // what the sheet may ask of it
	Trusted  bool          // the service itself asks: as what is signed, nothing but size and quality is held against it
	Now      int64         // seconds since 1970
	Form     func() string // the address form without its signature; called only where one is checked
}

// Decide says what a request gets: its resolved form, or no. trace, where it isn't nil, is told each step.
//
// A signed request has the word of whoever holds the key: it isn't held to the ladder, to the shapes, or to
// classes for paint and grow. The limits on size and quality hold for all.
func (s *Site) Decide(r *Ask, trace *[]Step) (declare.Resolved, *Refusal) {
	d := &r.Declared
	signed := d.Signature != "" || r.Trusted
	if d.Signature != "" {
		if no := s.checkSignature(r, trace); no != nil {
			return declare.Resolved{}, no
		}
	} else if d.KeyID != "" && !r.Trusted {
		refused(trace, "signature", "a key is named, and nothing is signed")
		return declare.Resolved{}, No(Refusal{Reason: ReasonSignatureNeeded, Parameter: "signature", Detail: "keyid names a key, and the signature is missing", Remedy: "sign the link, or leave keyid out"})
	}
	if no := s.checkExpiry(r, trace); no != nil {
		return declare.Resolved{}, no
	}
	if !signed {
		if no := s.checkUnsigned(r, trace); no != nil {
			return declare.Resolved{}, no
		}
	}
	if no := s.checkClasses(d.Class, trace); no != nil {
		return declare.Resolved{}, no
	}
	quality := d.Quality // that of the URL and its classes, before what holds for every picture
	if d.Class != "" {
		named := s.Sheet.OfClasses(*d, r.Client)
		quality = named.Quality
	}
	full := *d
	s.Sheet.Under(&full, r.Client)
	if no := s.checkEncoding(d, &full, trace); no != nil {
		return declare.Resolved{}, no
	}
	var resolved declare.Resolved
	full.Settle(s.Offer(r.Accepted, full.Quality), &resolved)
	resolved.Layers = s.Sheet.Layers(&full, r.Client)
	if len(resolved.Layers) > 0 || d.Data != "" {
		var no *Refusal
		if resolved.Layers, no = s.card(r, signed, resolved.Layers, trace); no != nil {
			return declare.Resolved{}, no
		}
		resolved.Fonts = declare.FontsOf(resolved.Layers, s.Sheet.Fonts())
		if trace != nil {
			note(trace, "layers", "matched", layerNames(resolved.Layers))
		}
	}
	resolved.Motion = s.motion(d, &resolved, trace)
	resolved.Own = quality == 0 && !full.IsPaint() && len(resolved.Layers) == 0 && !r.Lane.Signed
	if no := CheckLossless(&resolved); no != nil {
		refused(trace, "quality", no.Detail)
		return declare.Resolved{}, no
	}
	if !signed {
		if no := s.checkShape(&resolved, trace); no != nil {
			return declare.Resolved{}, no
		}
		if no := s.climb(&resolved, trace); no != nil {
			return declare.Resolved{}, no
		}
	}
	return resolved, nil
}

func layerNames(list []declare.Box) string {
	names := make([]string, len(list))
	for i, b := range list {
		names[i] = b.Name
	}
	return strings.Join(names, ", ")
}

// motion is how the sheet has a still and its layers move; nil where it doesn't, or the request wants none of it.
func (s *Site) motion(asked *declare.Declarations, r *declare.Resolved, trace *[]Step) *declare.Motion {
	if asked.Animation == declare.AnimationNone {
		return nil
	}
	var m declare.Motion
	// The sheet says what it names, but for a sheet that was never published.
	if a, ok := r.Moving(); ok && len(s.Sheet.Keyframes(a.Name)) > 0 {
		m.Animation, m.Keyframes = r.Animation, s.Sheet.Keyframes(a.Name)
		moves(trace, a.Name, "a still moves, where the format carries frames")
	}
	for i := range r.Layers {
		b := &r.Layers[i]
		a, ok := b.Moving()
		if frames := s.Sheet.Keyframes(a.Name); ok && len(frames) > 0 {
			m.Layers = append(m.Layers, declare.LayerMotion{Name: b.Name, Animation: b.Said["animation"], Keyframes: frames})
			moves(trace, a.Name, declare.LayerSelector(b.Name)+" moves, where the format carries frames")
		}
	}
	if m.Animation == "" && len(m.Layers) == 0 {
		return nil
	}
	if m.Animation == "" { // that the picture itself stays holds up no layer
		r.Animation = ""
	}
	m.PerSecond, m.Most = s.AnimationFPS, s.AnimationFrames
	moving := m // most requests' stays on the stack
	return &moving
}

func moves(trace *[]Step, keyframes, how string) {
	if trace != nil {
		note(trace, "sheet @keyframes "+keyframes, "matched", how)
	}
}

// checkClasses holds the classes that are named against the sheet's.
func (s *Site) checkClasses(classes string, trace *[]Step) *Refusal {
	if classes == "" {
		return nil
	}
	for name := range strings.SplitSeq(classes, " ") {
		if s.Sheet.Has(name) {
			if trace != nil {
				note(trace, "sheet ."+name, "matched", "")
			}
			continue
		}
		refused(trace, "sheet", "there is no class "+name)
		all := s.Sheet.Classes()
		no := Refusal{Reason: ReasonNoSuchClass, Parameter: "class", Given: name, Detail: fmt.Sprintf("the site's sheet has no class %q", name), Allowed: strings.Join(all, ", "),
			Remedy: fmt.Sprintf("add a rule for .%s to the sheet: echolane sheet publish %s FILE", name, s.Name)}
		if near := wording.Nearest(name, all); near != "" {
			no.Remedy = fmt.Sprintf("write %s instead of %s", near, name)
		}
		return No(no)
	}
	return nil
}

func (s *Site) checkUnsigned(r *Ask, trace *[]Step) *Refusal {
	d := &r.Declared
	no := func(parameter, rule, detail string) *Refusal {
		refused(trace, rule, detail)
		return No(Refusal{Reason: ReasonSignatureNeeded, Parameter: parameter, Detail: detail, Remedy: "sign the link: echolane link … --sign KEY"})
	}
	switch {
	case r.Lane.Signed:
		return no("signature", "lane "+r.Lane.Name+" visibility", "the lane answers signed links only")
	case s.Unsigned == UnsignedNothing:
		return no("signature", "signing.unsigned", "the site answers signed links only")
	case s.Unsigned == UnsignedLadder && (d.IsPaint() || d.Grow == declare.GrowYes):
		return no("signature", "signing.unsigned", "without a signature the site delivers its ladder's widths alone, without paint and without growing")
	}
	if s.PaintByClassOnly && d.IsPaint() {
		refused(trace, "paint", "paint comes from classes only")
		return Mended(s.Name, Refusal{Reason: ReasonOnlyByClass, Parameter: d.PaintName(), Mend: &Mend{Action: "url-paint"}, Detail: "this site paints by its sheet's classes, not by what a URL says",
			Remedy: "leave it out, sign the link"})
	}
	if s.GrowByClassOnly && d.Grow == declare.GrowYes {
		refused(trace, "grow", "growing comes from classes only")
		return Mended(s.Name, Refusal{Reason: ReasonOnlyByClass, Parameter: "grow", Mend: &Mend{Action: "url-grow"}, Given: "yes", Detail: "this site grows pictures by its sheet's classes, not by what a URL says",
			Remedy: "leave it out, sign the link"})
	}
	note(trace, "signing.unsigned", "passed", "no signature is needed")
	return nil
}

func qualityWithin(q declare.Quality, floor, ceiling int) bool {
	if q == declare.Lossless {
		return ceiling == 100
	}
	return int(q) >= floor && int(q) <= ceiling
}

func (s *Site) checkEncoding(d, full *declare.Declarations, trace *[]Step) *Refusal {
	if q := full.Quality; q != 0 && !qualityWithin(q, s.QualityFloor, s.QualityCeiling) {
		allowed := fmt.Sprintf("%d to %d", s.QualityFloor, s.QualityCeiling)
		refused(trace, "limits.quality_floor, limits.quality_ceiling", "allowed are "+allowed)
		return Mended(s.Name, Refusal{Reason: ReasonQualityNotDelivered, Mend: s.qualityMend(q), Parameter: "quality", Given: q.String(), Detail: fmt.Sprintf("this site delivers qualities from %s", allowed), Allowed: allowed,
			Remedy: "ask for a quality in that range"})
	}
	if f := d.Format; f != declare.FormatUnset {
		for _, have := range s.Formats {
			if have == f {
				return nil
			}
		}
		var names []string
		for _, have := range s.Formats {
			names = append(names, have.String())
		}
		refused(trace, "formats", f.String()+" isn't among them")
		return Mended(s.Name, Refusal{Reason: ReasonFormatNotDelivered, Mend: &Mend{Action: "add-format", Value: f.String()}, Parameter: "format", Given: f.String(), Detail: fmt.Sprintf("this site doesn't deliver %s", f), Allowed: strings.Join(names, ", "),
			Remedy: "leave format out"})
	}
	return nil
}

func (s *Site) qualityMend(q declare.Quality) *Mend {
	switch {
	case q == declare.Lossless:
		return &Mend{Action: "set-limit", Value: "quality_ceiling=100"}
	case int(q) < s.QualityFloor:
		return &Mend{Action: "set-limit", Value: fmt.Sprintf("quality_floor=%d", q)}
	}
	return &Mend{Action: "set-limit", Value: fmt.Sprintf("quality_ceiling=%d", q)}
}

// shortest is a ratio in the spelling that shapes are written in.
func shortest(ratio string) string {
	d, err := declare.Parse("aspect-ratio=" + ratio)
	if err != nil {
		return ratio
	}
	return d.Aspect.String()
}

// checkShape holds the slot's shape against those that the site lists. A slot of the picture's own shape is
// always delivered. Both sides given as whole pixels may miss the shape by their rounding.
func (s *Site) checkShape(r *declare.Resolved, trace *[]Step) *Refusal {
	w, h := r.Width, r.Height
	both := w != 0 && h != 0
	if len(s.Shapes) == 0 || !both && r.Aspect.IsZero() {
		return nil
	}
	for _, shape := range s.Shapes {
		v := shape.Value()
		if both && (math.Abs(w/v-h) <= 0.5 || math.Abs(h*v-w) <= 0.5) || !both && math.Abs(r.Aspect.Value()/v-1) < 1e-6 {
			if trace != nil {
				note(trace, "shapes", "matched", shape.String())
			}
			return nil
		}
	}
	given := r.Aspect.String()
	if both {
		given = strconv.FormatFloat(w, 'f', -1, 64) + "/" + strconv.FormatFloat(h, 'f', -1, 64)
	}
	var names []string
	for _, shape := range s.Shapes {
		names = append(names, shape.String())
	}
	refused(trace, "shapes", given+" isn't among them")
	return Mended(s.Name, Refusal{Reason: ReasonShapeNotDelivered, Mend: &Mend{Action: "add-shape", Value: shortest(given)}, Parameter: "aspect-ratio", Given: given, Detail: "this site doesn't deliver pictures of this shape", Allowed: "the natural shape, " + strings.Join(names, ", "),
		Remedy: "ask for one of these"})
}

// climb holds the width, in device pixels, against the ladder: refuses it, or rounds the slot up. A slot that
// says its height alone is held to it by its height, since its width isn't known before the source is.
func (s *Site) climb(r *declare.Resolved, trace *[]Step) *Refusal {
	if len(s.Rungs) == 0 {
		return nil
	}
	res := r.Resolution // where it isn't in the slot already
	if res == 0 {
		res = 1
	}
	asked, side := r.Width, "width"
	if asked == 0 && r.Height != 0 {
		asked, side = r.Height, "height"
		if !r.Aspect.IsZero() {
			asked, side = r.Height*r.Aspect.Value(), "width"
		}
	}
	asked *= res
	if asked == 0 {
		if r.Resolution == 0 || r.Resolution == 1 {
			note(trace, "ladder", "passed", "no width is asked for: the natural size")
			return nil
		}
		refused(trace, "ladder", "resolution without a width")
		return No(Refusal{Reason: ReasonNoSuchRung, Parameter: "resolution", Given: strconv.FormatFloat(r.Resolution, 'f', -1, 64) + "x", Detail: "this site has a ladder of widths, and resolution without a width stands on none of its rungs",
			Remedy: "give a width too", Allowed: s.rungs()})
	}
	i := 0
	for i < len(s.Rungs) && s.Rungs[i] < asked-1e-6 {
		i++
	}
	if i < len(s.Rungs) && math.Abs(s.Rungs[i]-asked) <= 1e-6 {
		if trace != nil {
			note(trace, "ladder", "matched", strconv.FormatFloat(s.Rungs[i], 'f', -1, 64))
		}
		return nil
	}
	if s.RoundUp && s.Unsigned != UnsignedLadder {
		rung := s.Rungs[min(i, len(s.Rungs)-1)]
		r.Scale(rung / asked)
		if r.Width != 0 && side == "width" {
			r.Width = rung / res // exactly
		}
		if trace != nil {
			note(trace, "ladder", "matched", fmt.Sprintf("%g rounded to the rung %g", asked, rung))
		}
		return nil
	}
	given := strconv.FormatFloat(asked, 'f', -1, 64)
	near, are := s.near(i)
	what := fmt.Sprintf("a %s of %s device pixels", side, given)
	if side == "width" && r.Width == 0 {
		what = fmt.Sprintf("a height of %s device pixels, which is a width of %s in this shape,", strconv.FormatFloat(r.Height*res, 'f', -1, 64), given)
	}
	refused(trace, "ladder", given+" isn't a rung")
	return Mended(s.Name, Refusal{Reason: ReasonNoSuchRung, Parameter: side, Mend: &Mend{Action: "add-rung", Value: strconv.Itoa(int(math.Ceil(asked)))}, Given: given, Detail: fmt.Sprintf("%s isn't a rung of this site's ladder; the nearest %s", what, are), Allowed: s.rungs(),
		Remedy: "ask for a " + side + " of " + near})
}

// near is the rungs on both sides of a place on the ladder, as a list and with its verb.
func (s *Site) near(i int) (list, are string) {
	rung := func(i int) string { return strconv.FormatFloat(s.Rungs[i], 'f', -1, 64) }
	switch {
	case i == 0:
		list = rung(0)
	case i == len(s.Rungs):
		list = rung(i - 1)
	default:
		list = rung(i-1) + " or " + rung(i)
		return list, "are " + rung(i-1) + " and " + rung(i)
	}
	return list, "is " + list
}

func (s *Site) rungs() string {
	var words []string
	for _, r := range s.Rungs {
		words = append(words, strconv.FormatFloat(r, 'f', -1, 64))
	}
	return strings.Join(words, ", ")
}

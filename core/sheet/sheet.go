// Package sheet is a site's stylesheet for images: CSS whose properties are the declarations of the URL language. `*`
// holds the site's defaults, a class is a named treatment, `::before`, `::after` and `::layer(name)` are layers under and
// over the picture; media conditions tell dense screens and what a client asks for apart.
//
// A sheet is read whole: every problem is found, each with its line and column, and a sheet with a problem is none.
package sheet

import (
	"slices"
	"sort"
	"strings"

	"echolane/core/declare"
)

// Sheet is one that was read without a problem. The zero value has no rules. It is never changed; safe for concurrent use.
type Sheet struct {
	rules   []rule // the one that wins first
	classes []string
	base    declare.Declarations // of the rules for `*` without conditions, which is all that most requests need
	simple  bool                 // no rule for `*` has a condition
	asks    condition            // what rules for `*` ask of the client
	asking  bool                 // rules for classes ask something of it, too
	frames  map[string][]declare.Keyframe
	fonts   []declare.FontFace
	layers  []string // the names of layers in the order in which the sheet has them first
}

// A Client is what a sheet may ask of who asks.
type Client struct {
	Saves bool // it saves data: Save-Data: on
	Still bool // whoever looks wants less motion: Sec-CH-Prefers-Reduced-Motion: "reduce"
}

// A rule is one selector of one block.
type rule struct {
	classes []string // all of which must be named; none for `*`
	when    condition
	set     declare.Declarations
	layer   string // the layer that the rule is for; "": the picture
	box     declare.Box
}

// A condition is the media conditions around a rule, all of which must hold.
type condition struct {
	least, most       float64 // bounds on resolution; 0: none
	leastOut, mostOut bool    // the bound itself doesn't hold
	data              preference
	motion            preference
}

// preference is what a condition asks of one.
type preference uint8

const (
	either preference = iota
	reduced
	notReduced
)

func (p preference) holds(reduces bool) bool { return p == either || (p == reduced) == reduces }

func (c *condition) plain() bool { return *c == condition{} }

func (c *condition) holds(resolution float64, who Client) bool {
	switch {
	case c.least > 0 && (resolution < c.least || c.leastOut && resolution == c.least):
		return false
	case c.most > 0 && (resolution > c.most || c.mostOut && resolution == c.most):
		return false
	case !c.data.holds(who.Saves), !c.motion.holds(who.Still):
		return false
	}
	return true
}

// Classes are the names that the sheet has rules for, in their alphabet's order.
func (s *Sheet) Classes() []string { return s.classes }

// Has reports whether there is a class of this name.
func (s *Sheet) Has(class string) bool {
	i := sort.SearchStrings(s.classes, class)
	return i < len(s.classes) && s.classes[i] == class
}

// AsksFor reports what an answer for these classes may depend on: whether the client saves data, and whether whoever looks wants less
// motion.
func (s *Sheet) AsksFor(classes string) (data, motion bool) {
	data, motion = s.asks.data != either, s.asks.motion != either
	if classes == "" || !s.asking {
		return data, motion
	}
	for i := range s.rules {
		if r := &s.rules[i]; len(r.classes) > 0 && r.named(classes) {
			data, motion = data || r.when.data != either, motion || r.when.motion != either
		}
	}
	return data, motion
}

// Keyframes are those of a name, in the order of their times; none where there are none of it.
func (s *Sheet) Keyframes(name string) []declare.Keyframe { return s.frames[name] }

// Base is what `*` says where no condition is met but a resolution of 1x.
func (s *Sheet) Base() declare.Declarations {
	return s.Over(declare.Declarations{}, Client{})
}

// Over lays declarations over the sheet's rules for their classes and for `*`: the cascade. Classes win over `*`,
// among classes the rule that names more of them, then the later one.
func (s *Sheet) Over(d declare.Declarations, who Client) declare.Declarations {
	s.Under(&d, who)
	return d
}

// Under is Over where d stands.
func (s *Sheet) Under(d *declare.Declarations, who Client) {
	if d.Class == "" && s.simple {
		d.Inherit(&s.base)
		return
	}
	resolution := d.Resolution
	if resolution == 0 {
		resolution = 1
	}
	for i := range s.rules {
		if r := &s.rules[i]; r.named(d.Class) && r.when.holds(resolution, who) {
			d.Inherit(&r.set)
		}
	}
}

// OfClasses is Over without the rules for `*`.
func (s *Sheet) OfClasses(d declare.Declarations, who Client) declare.Declarations {
	if d.Class == "" {
		return d
	}
	resolution := d.Resolution
	if resolution == 0 {
		resolution = 1
	}
	for i := range s.rules {
		if r := &s.rules[i]; len(r.classes) > 0 && r.named(d.Class) && r.when.holds(resolution, who) {
			d.Inherit(&r.set)
		}
	}
	return d
}

func (r *rule) named(classes string) bool {
	for _, c := range r.classes {
		if !within(classes, c) {
			return false
		}
	}
	return true
}

// within reports whether a list of names, divided by spaces, has one of them.
func within(list, name string) bool {
	for part := range strings.SplitSeq(list, " ") {
		if part == name {
			return true
		}
	}
	return false
}

// finish puts the rules in the order of the cascade.
func finish(rules []rule) *Sheet {
	s := &Sheet{simple: true}
	seen := map[string]bool{}
	for i := range rules {
		r := &rules[i]
		if r.layer != "" && !slices.Contains(s.layers, r.layer) {
			s.layers = append(s.layers, r.layer)
		}
		for _, c := range r.classes {
			if !seen[c] {
				seen[c] = true
				s.classes = append(s.classes, c)
			}
		}
		if len(r.classes) == 0 {
			s.asks.data, s.asks.motion = max(s.asks.data, r.when.data), max(s.asks.motion, r.when.motion)
		} else {
			s.asking = s.asking || r.when.data != either || r.when.motion != either
		}
		if len(r.classes) == 0 && !r.when.plain() {
			s.simple = false
		}
	}
	sort.Strings(s.classes)
	// The last one wins among equals: turned round, a stable sort has it first.
	for i := len(rules) - 1; i >= 0; i-- {
		s.rules = append(s.rules, rules[i])
	}
	sort.SliceStable(s.rules, func(i, j int) bool { return len(s.rules[i].classes) > len(s.rules[j].classes) })
	if s.simple {
		for i := range s.rules {
			if r := &s.rules[i]; len(r.classes) == 0 {
				s.base = s.base.Over(r.set)
			}
		}
	}
	return s
}

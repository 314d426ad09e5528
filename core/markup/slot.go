// Package markup writes the HTML of an image from its source and its place on the page: which widths the srcset offers, what sizes
// says of the place, and the dimensions that keep the layout from shifting. It does no I/O: sizes and bytes come in, text goes out.
package markup

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"echolane/core/declare"
	"echolane/core/length"
	"echolane/core/wording"
)

// A Slot is the place of an image on its page, in CSS. It can be written in three ways:
//
//	width: 320px; aspect-ratio: 3/2
//	max-width: 800px; @media (width < 600px) { aspect-ratio: 1 }
//	(min-width: 900px) 33vw, 100vw
//
// Beside width, max-width, height, aspect-ratio, object-fit, object-position and inset, it takes every declaration of the
// URL language that a sheet takes, and class.
type Slot struct {
	text   string
	pieces []piece // by viewport, from the narrowest; the first begins at 0
}

// A piece is what the slot is from one viewport width on.
type piece struct {
	from            float64
	width, maxWidth length.Length
	height          length.Length
	inset           bool // fills its box
	declared        declare.Declarations
}

func (p *piece) same(q *piece) bool {
	return p.width.String() == q.width.String() && p.maxWidth.String() == q.maxWidth.String() && p.height.String() == q.height.String() && p.inset == q.inset && p.declared == q.declared
}

// String gives the slot as it was written.
func (s *Slot) String() string { return s.text }

// slotNames are the properties that a slot uses itself; all others go into the URL.
var slotNames = []string{"width", "max-width", "height", "inset"}

// rule is what a condition on the viewport sets, in the order of the text: later ones win.
type rule struct {
	least, most float64 // viewport widths; most is excluded
	set         []setting
}

type setting func(*piece)

const mostRules = 32

// ParseSlot reads a slot. It errs on what isn't CSS or isn't allowed in a slot, and says which part that is and what is allowed.
func ParseSlot(text string) (*Slot, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return nil, fmt.Errorf("a slot is empty: say it in CSS, such as width: 320px, or (min-width: 900px) 33vw, 100vw")
	}
	if len(text) > 4096 {
		return nil, fmt.Errorf("a slot has %d bytes: at most 4096", len(text))
	}
	var rules []rule
	var err error
	if !strings.HasPrefix(text, "@") && len(splitTop(text, ':')) == 1 {
		rules, err = sizesList(text)
	} else {
		rules, err = block(text, rule{most: math.Inf(1)}, 0)
	}
	if err != nil {
		return nil, err
	}
	if len(rules) > mostRules {
		return nil, fmt.Errorf("a slot has %d conditions: at most %d", len(rules), mostRules)
	}
	s := &Slot{text: strings.Join(strings.Fields(text), " ")}
	bounds := []float64{0}
	for _, r := range rules {
		for _, b := range []float64{r.least, r.most} {
			if b > 0 && !math.IsInf(b, 1) {
				bounds = append(bounds, b)
			}
		}
	}
	slices.Sort(bounds)
	for _, from := range slices.Compact(bounds) {
		p := piece{from: from}
		for _, r := range rules {
			if from >= r.least && from < r.most {
				for _, set := range r.set {
					set(&p)
				}
			}
		}
		if n := len(s.pieces); n == 0 || !s.pieces[n-1].same(&p) {
			s.pieces = append(s.pieces, p)
		}
	}
	return s, nil
}

// sizesList reads HTML's own way: lengths with conditions, of which the first that holds counts.
func sizesList(text string) ([]rule, error) {
	var rules []rule
	for _, part := range splitTop(text, ',') {
		part = strings.TrimSpace(part)
		r := rule{most: math.Inf(1)}
		rest := part
		for strings.HasPrefix(rest, "(") {
			end := closing(rest)
			if end < 0 {
				return nil, fmt.Errorf("%q: a parenthesis isn't closed", wording.Cut(part, 80))
			}
			if err := r.condition(rest[1:end]); err != nil {
				return nil, err
			}
			rest = strings.TrimSpace(rest[end+1:])
			rest = strings.TrimSpace(strings.TrimPrefix(rest, "and "))
		}
		if rest == "auto" && len(rules) == 0 {
			continue // what the browser works out; the lengths behind it are for others
		}
		l, err := length.Parse(rest)
		if err != nil {
			return nil, err
		}
		r.set = []setting{func(p *piece) { p.width = l }}
		rules = append(rules, r)
	}
	if len(rules) == 0 {
		return nil, fmt.Errorf("%q has no length: give %s", wording.Cut(text, 80), length.Allowed)
	}
	slices.Reverse(rules) // here the first wins
	return rules, nil
}

// splitTop splits at a character, except inside parentheses or quotes.
func splitTop(s string, at byte) (parts []string) {
	depth, from, quote := 0, 0, byte(0)
	for i := range len(s) {
		switch c := s[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '(' || c == '{':
			depth++
		case c == ')' || c == '}':
			depth--
		case c == at && depth == 0:
			parts = append(parts, s[from:i])
			from = i + 1
		}
	}
	return append(parts, s[from:])
}

// closing gives the offset of the parenthesis that closes the one that s begins with; -1: there is none.
func closing(s string) int {
	depth := 0
	for i := range len(s) {
		switch s[i] {
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

const conditionAllowed = "(min-width: 600px), (max-width: 900px), (width >= 600px), joined by and"

// condition narrows a rule by a media feature, the text inside its parentheses.
func (r *rule) condition(text string) error {
	text = strings.ToLower(strings.TrimSpace(text))
	fail := fmt.Errorf("the media condition (%s) isn't one that a slot knows: give %s", wording.Cut(text, 80), conditionAllowed)
	number := func(v string) (float64, bool) {
		l, err := length.Parse(v)
		if err != nil || !l.Fixed() {
			return 0, false
		}
		w := l.In(0, 0)
		return w, w >= 0 && w <= 1e6
	}
	const after = 1.0 / 64 // what lies above a bound that is included: browsers lay out in 64ths of a pixel
	if name, value, ok := strings.Cut(text, ":"); ok {
		w, ok := number(value)
		switch name = strings.TrimSpace(name); {
		case !ok:
			return fail
		case name == "min-width":
			r.least = math.Max(r.least, w)
		case name == "max-width":
			r.most = math.Min(r.most, w+after)
		default:
			return fail
		}
		return nil
	}
	rest, ok := strings.CutPrefix(text, "width")
	if !ok {
		return fail
	}
	rest = strings.TrimSpace(rest)
	for _, op := range []string{">=", "<=", ">", "<"} {
		if value, ok := strings.CutPrefix(rest, op); ok {
			w, ok := number(value)
			if !ok {
				return fail
			}
			switch op {
			case ">=":
				r.least = math.Max(r.least, w)
			case ">":
				r.least = math.Max(r.least, w+after)
			case "<":
				r.most = math.Min(r.most, w)
			case "<=":
				r.most = math.Min(r.most, w+after)
			}
			return nil
		}
	}
	return fail
}

// block reads declarations, and @media blocks of them.
func block(text string, within rule, depth int) ([]rule, error) {
	if depth > 4 {
		return nil, fmt.Errorf("blocks lie in blocks too deep: at most four")
	}
	var rules []rule
	own := within
	flush := func() {
		if len(own.set) > 0 {
			rules = append(rules, own)
			own.set = nil
		}
	}
	for rest := text; ; {
		if rest = strings.TrimLeft(rest, " \t\r\n;"); rest == "" {
			break
		}
		if strings.HasPrefix(strings.ToLower(rest), "@media") {
			flush()
			open := strings.IndexByte(rest, '{')
			if open < 0 {
				return nil, fmt.Errorf("@media has no block: write @media (width >= 600px) { … }")
			}
			end, level := -1, 0
			for i := open; i < len(rest) && end < 0; i++ {
				switch rest[i] {
				case '{':
					level++
				case '}':
					if level--; level == 0 {
						end = i
					}
				}
			}
			if end < 0 {
				return nil, fmt.Errorf("the block of @media isn't closed")
			}
			inner := within
			conditions := strings.TrimSpace(rest[len("@media"):open])
			for first := true; first || conditions != ""; first = false {
				if !first {
					var ok bool
					if conditions, ok = strings.CutPrefix(conditions, "and"); !ok {
						return nil, fmt.Errorf("the media condition %q isn't one that a slot knows: give %s", wording.Cut(conditions, 80), conditionAllowed)
					}
					conditions = strings.TrimSpace(conditions)
				}
				close := closing(conditions)
				if !strings.HasPrefix(conditions, "(") || close < 0 {
					return nil, fmt.Errorf("the media condition %q isn't one that a slot knows: give %s", wording.Cut(conditions, 80), conditionAllowed)
				}
				if err := inner.condition(conditions[1:close]); err != nil {
					return nil, err
				}
				conditions = strings.TrimSpace(conditions[close+1:])
			}
			more, err := block(rest[open+1:end], inner, depth+1)
			if err != nil {
				return nil, err
			}
			rules = append(rules, more...)
			rest = rest[end+1:]
			continue
		}
		one := splitTop(rest, ';')[0]
		if at := strings.Index(one, "@media"); at > 0 && strings.IndexByte(one[:at], '{') < 0 { // a semicolon is missing
			one = one[:at]
		}
		set, err := declaration(one)
		if err != nil {
			return nil, err
		}
		own.set = append(own.set, set)
		rest = rest[len(one):]
	}
	flush()
	return rules, nil
}

func declaration(text string) (setting, error) {
	name, value, ok := strings.Cut(text, ":")
	name, value = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(value)
	if !ok || name == "" || value == "" {
		return nil, fmt.Errorf("%q isn't a declaration: write property: value", wording.Cut(strings.TrimSpace(text), 80))
	}
	sized := func(set func(*piece, length.Length)) (setting, error) {
		if value == "auto" || value == "none" {
			return func(p *piece) { set(p, length.Length{}) }, nil
		}
		l, err := length.Parse(value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return func(p *piece) { set(p, l) }, nil
	}
	switch name {
	case "width":
		return sized(func(p *piece, l length.Length) { p.width = l })
	case "max-width":
		return sized(func(p *piece, l length.Length) { p.maxWidth = l })
	case "height":
		if value == "100%" || value == "auto" { // of a box that has its own
			return func(p *piece) {}, nil
		}
		return sized(func(p *piece, l length.Length) { p.height = l })
	case "inset":
		if !allZero(value) {
			return nil, fmt.Errorf("inset: %s: a slot that fills its box has inset: 0", wording.Cut(value, 80))
		}
		return func(p *piece) { p.inset = true }, nil
	case "class":
		var d declare.Declarations
		d, err := declare.Parse("class=" + strings.ReplaceAll(value, " ", "+"))
		if err != nil {
			return nil, err
		}
		return func(p *piece) { p.declared.Class = d.Class }, nil
	}
	var d declare.Declarations
	if problem := d.SetInSheet(name, value, ""); problem != nil {
		if problem.Reason == "unknown-name" {
			given := wording.Cut(name, 80)
			switch near := wording.Misspelt(name, slotNames); {
			case near != "":
				return nil, fmt.Errorf("%s isn't a property of a slot; did you mean %s?", given, near)
			case problem.Nearest != "":
				return nil, fmt.Errorf("%s isn't a property of a slot; did you mean %s?", given, problem.Nearest)
			case problem.Remedy != "":
				return nil, fmt.Errorf("%s isn't a property of a slot: %s", given, problem.Remedy)
			}
			return nil, fmt.Errorf("%s isn't a property of a slot: give %s, or a declaration of images", given, strings.Join(slotNames, ", "))
		}
		if problem.Remedy != "" {
			return nil, fmt.Errorf("%s; %s", problem.InSheet(), problem.Remedy)
		}
		return nil, fmt.Errorf("%s; allowed: %s", problem.InSheet(), strings.ReplaceAll(problem.Allowed, "%25", "%"))
	}
	return func(p *piece) { p.declared = d.Over(p.declared) }, nil
}

func allZero(v string) bool {
	for _, f := range strings.Fields(v) {
		if f != "0" && f != "0px" {
			return false
		}
	}
	return true
}

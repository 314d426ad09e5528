package svg

import (
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

const (
	mostRules   = 5000
	mostMatches = 20_000_000 // of elements against selectors
)

// A rule is one selector of a style rule.
type rule struct {
	parts        []compound // from the rightmost
	weight       int
	declarations []declaration
}

// A compound is what one element has to be.
type compound struct {
	name, id   string // "" for any
	classes    []string
	attributes [][2]string
	first      bool
	root       bool
	direct     bool // the element to the left is the parent, not any ancestor
}

type declaration struct {
	property, value string
	important       bool
}

// properties are what presentation attributes may say (SVG 2, section 6.6), beside what only a style says.
var properties = strings.Fields(`clip-path clip-rule color color-interpolation-filters display dominant-baseline fill fill-opacity fill-rule filter
	flood-color flood-opacity font-family font-size font-style font-weight letter-spacing marker-end marker-mid marker-start mask mask-type opacity overflow
	paint-order stop-color stop-opacity stroke stroke-dasharray stroke-dashoffset stroke-linecap stroke-linejoin stroke-miterlimit
	stroke-opacity stroke-width text-anchor text-decoration transform transform-origin vector-effect visibility word-spacing alignment-baseline baseline-shift image-rendering`)

// rulesOf reads a drawing's style sheets. Rules within at-rules hold where they are of @media that all or screen meet.
func rulesOf(text string) ([]rule, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	p := css.NewParser(parse.NewInputString(text), false)
	var all []rule
	var selectors []string
	var body []declaration
	skip := 0 // at-rules that don't hold
	add := func() {
		for _, s := range selectors {
			for one := range strings.SplitSeq(s, ",") {
				if parts, weight, ok := selector(one); ok {
					all = append(all, rule{parts, weight, body})
				}
			}
		}
		selectors, body = nil, nil
	}
	for {
		kind, _, data := p.Next()
		switch kind {
		case css.ErrorGrammar:
			if p.HasParseError() {
				continue
			}
			slices.SortStableFunc(all, func(a, b rule) int { return a.weight - b.weight })
			return all, nil
		case css.BeginAtRuleGrammar:
			condition := strings.ToLower(joined(p.Values()))
			if skip > 0 || string(data) != "@media" || condition != "screen" && condition != "all" {
				skip++
			}
		case css.EndAtRuleGrammar:
			skip = max(0, skip-1)
		case css.BeginRulesetGrammar, css.QualifiedRuleGrammar:
			if skip == 0 {
				selectors = append(selectors, joined(p.Values()))
			}
		case css.DeclarationGrammar, css.CustomPropertyGrammar:
			if skip == 0 {
				d := declaration{property: strings.ToLower(string(data)), value: joined(p.Values())}
				if v, ok := strings.CutSuffix(d.value, "!important"); ok {
					d.value, d.important = strings.TrimSpace(v), true
				}
				body = append(body, d)
			}
		case css.EndRulesetGrammar:
			if skip == 0 {
				add()
			}
			if len(all) > mostRules {
				return nil, broken("the drawing has more than %d style rules", mostRules)
			}
		}
	}
}

func joined(tokens []css.Token) string {
	var b strings.Builder
	for _, t := range tokens {
		b.Write(t.Data)
	}
	return strings.TrimSpace(b.String())
}

// selector reads one complex selector; ok is false for what isn't known, whose rule then matches nothing.
func selector(text string) (parts []compound, weight int, ok bool) {
	text = strings.TrimSpace(text)
	if text == "" || len(text) > 500 {
		return nil, 0, false
	}
	var c compound
	seen, direct := false, false
	end := func() {
		if seen {
			parts = append([]compound{c}, parts...)
			c, seen = compound{}, false
		}
	}
	word := func(i int) (string, int) {
		from := i
		for i < len(text) && (text[i] == '-' || text[i] == '_' || text[i] >= 0x80 || text[i] >= '0' && text[i] <= '9' || text[i]|0x20 >= 'a' && text[i]|0x20 <= 'z') {
			i++
		}
		return text[from:i], i
	}
	for i := 0; i < len(text); {
		if !seen {
			c.direct = direct
		}
		switch ch := text[i]; {
		case ch == ' ' || ch == '\n' || ch == '\t' || ch == '\r':
			end()
			direct = false
			for i++; i < len(text) && strings.ContainsRune(" \n\t\r", rune(text[i])); i++ {
			}
		case ch == '>':
			end()
			if len(parts) == 0 {
				return nil, 0, false
			}
			direct = true
			for i++; i < len(text) && strings.ContainsRune(" \n\t\r", rune(text[i])); i++ {
			}
		case ch == '*':
			seen = true
			i++
		case ch == '#' || ch == '.':
			var name string
			if name, i = word(i + 1); name == "" {
				return nil, 0, false
			}
			if ch == '#' {
				c.id = name
				weight += 10_000
			} else {
				c.classes = append(c.classes, name)
				weight += 100
			}
			seen = true
		case ch == '[':
			inner, _, found := strings.Cut(text[i+1:], "]")
			if !found {
				return nil, 0, false
			}
			i += len(inner) + 2
			name, value, equal := strings.Cut(inner, "=")
			if strings.ContainsAny(name, "~|^$*") {
				return nil, 0, false
			}
			if !equal {
				value = "\x00" // any
			}
			c.attributes = append(c.attributes, [2]string{strings.TrimSpace(name), strings.Trim(strings.TrimSpace(value), `"'`)})
			weight += 100
			seen = true
		case ch == ':':
			var name string
			if name, i = word(i + 1); name == "first-child" {
				c.first = true
			} else if name == "root" {
				c.root = true
			} else {
				return nil, 0, false
			}
			weight += 100
			seen = true
		default:
			var name string
			if name, i = word(i); name == "" {
				return nil, 0, false
			}
			c.name = name
			weight++
			seen = true
		}
	}
	end()
	return parts, weight, len(parts) > 0
}

func (c *compound) matches(n *node) bool {
	if c.name != "" && c.name != n.name || c.id != "" && c.id != n.attrs["id"] || c.root && n.parent != nil {
		return false
	}
	for _, want := range c.classes {
		if !slices.Contains(n.classes, want) {
			return false
		}
	}
	for _, a := range c.attributes {
		if v, ok := n.attrs[a[0]]; !ok || a[1] != "\x00" && v != a[1] {
			return false
		}
	}
	if c.first {
		if n.parent == nil {
			return false
		}
		for _, k := range n.parent.kids {
			if k.name != "" {
				return k == n
			}
		}
	}
	return true
}

// matches reports whether a rule is for an element: parts from the rightmost.
func (r *rule) matches(n *node, parts []compound) bool {
	if !parts[0].matches(n) {
		return false
	}
	if len(parts) == 1 {
		return true
	}
	for up := n.parent; up != nil; up = up.parent {
		if r.matches(up, parts[1:]) {
			return true
		}
		if parts[0].direct {
			return false
		}
	}
	return false
}

// cascade works out what holds for an element and all within it: attributes, rules by their weight and order, its style, and
// what is important before all.
func (n *node) cascade(rules []rule, matched *int) error {
	if n.name == "" {
		return nil
	}
	n.style = map[string]string{}
	for _, p := range properties {
		if v, ok := n.attrs[p]; ok {
			n.style[p] = v
		}
	}
	var important []declaration
	say := func(d declaration) {
		if d.important {
			important = append(important, d)
			return
		}
		n.say(d)
	}
	if *matched += len(rules); *matched > mostMatches {
		return broken("the drawing has too many style rules for so many elements")
	}
	for i := range rules {
		if rules[i].matches(n, rules[i].parts) {
			for _, d := range rules[i].declarations {
				say(d)
			}
		}
	}
	for d := range strings.SplitSeq(n.attrs["style"], ";") {
		if property, value, ok := strings.Cut(d, ":"); ok {
			value, important := strings.CutSuffix(strings.TrimSpace(value), "!important")
			say(declaration{strings.ToLower(strings.TrimSpace(property)), strings.TrimSpace(value), important})
		}
	}
	for _, d := range important {
		n.say(d)
	}
	for _, k := range n.kids {
		if err := k.cascade(rules, matched); err != nil {
			return err
		}
	}
	return nil
}

// say sets a property, and those that a shorthand is short for.
func (n *node) say(d declaration) {
	switch d.property {
	case "marker":
		for _, p := range []string{"marker-start", "marker-mid", "marker-end"} {
			n.style[p] = d.value
		}
	case "font":
		n.font(d.value)
	default:
		n.style[d.property] = d.value
	}
}

// font takes the shorthand apart: what stands before the size, the size with its line height, the family.
func (n *node) font(value string) {
	words := strings.Fields(value)
	for i, w := range words {
		switch {
		case w == "bold" || w == "bolder" || len(w) == 3 && w[1:] == "00":
			n.style["font-weight"] = w
		case w == "italic" || w == "oblique":
			n.style["font-style"] = w
		case w[0] >= '0' && w[0] <= '9' || w[0] == '.':
			size, _, _ := strings.Cut(w, "/")
			n.style["font-size"] = size
			n.style["font-family"] = strings.Join(words[i+1:], " ")
			return
		}
	}
}

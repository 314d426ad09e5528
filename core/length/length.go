// Package length reads CSS lengths, with the units and functions that a stylesheet has them in.
package length

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"echolane/core/wording"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// A Length is a CSS length that may depend on the viewport: absolute units, rem and em (16 px), vw, percent of the container,
// and calc(), min(), max(), clamp() of these (CSS Values 4, section 10). The zero value is no length.
type Length struct {
	text string
	root node
}

// node is a part of an expression.
type node struct {
	op   byte // 'n' a number, 'v' of the viewport's width, '%' of the container's, '+', '-', '*', '/', '<' min, '>' max, 'c' clamp
	v    float64
	args []node
	size bool // a length rather than a number
}

// IsZero reports whether there is no length.
func (l Length) IsZero() bool { return l.text == "" }

// String is the length as CSS has it.
func (l Length) String() string { return l.text }

// Fixed reports whether the length is the same in every viewport.
func (l Length) Fixed() bool { return !l.root.depends() }

// Relative reports whether it depends on its container.
func (l Length) Relative() bool { return l.root.has('%') }

func (n *node) depends() bool { return n.has('v') || n.has('%') }

func (n *node) has(op byte) bool {
	if n.op == op {
		return true
	}
	for i := range n.args {
		if n.args[i].has(op) {
			return true
		}
	}
	return false
}

// pixels are the units of a fixed length in CSS pixels (CSS Values 4, section 6.2). A picture has no font of its own, so rem and
// em are the initial 16 px.
var pixels = map[string]float64{"px": 1, "em": 16, "rem": 16, "pt": 96.0 / 72, "pc": 16, "in": 96, "cm": 96 / 2.54, "mm": 96 / 25.4, "q": 96 / 101.6}

// Linear gives the length as pixels and a part of its container, 1 being all of it. ok is false where it isn't that in every
// container: min(), max() and clamp() of both kinds, and what depends on the viewport.
func (l Length) Linear() (px, part float64, ok bool) { return l.root.linear() }

func (n *node) linear() (px, part float64, ok bool) {
	switch n.op {
	case 'n':
		return n.v, 0, true
	case '%':
		return 0, n.v / 100, true
	case 'v':
		return 0, 0, false
	}
	pxs, parts := make([]float64, len(n.args)), make([]float64, len(n.args))
	absolute, relative := true, true
	for i := range n.args {
		if pxs[i], parts[i], ok = n.args[i].linear(); !ok {
			return 0, 0, false
		}
		absolute, relative = absolute && parts[i] == 0, relative && pxs[i] == 0
	}
	switch n.op {
	case '+':
		return pxs[0] + pxs[1], parts[0] + parts[1], true
	case '-':
		return pxs[0] - pxs[1], parts[0] - parts[1], true
	case '*':
		if n.args[0].size {
			return pxs[0] * pxs[1], parts[0] * pxs[1], true
		}
		return pxs[0] * pxs[1], pxs[0] * parts[1], true
	case '/':
		return pxs[0] / pxs[1], parts[0] / pxs[1], true
	}
	of := func(v []float64) float64 {
		values := make([]node, len(v))
		for i := range v {
			values[i] = node{op: 'n', v: v[i]}
		}
		return (&node{op: n.op, args: values}).in(0, 0)
	}
	switch {
	case absolute:
		return of(pxs), 0, true
	case relative:
		return 0, of(parts), true
	}
	return 0, 0, false
}

// In gives the length in CSS pixels in a viewport and a container of these widths.
func (l Length) In(viewport, container float64) float64 { return l.root.in(viewport, container) }

func (n *node) in(viewport, container float64) float64 {
	at := func(i int) float64 { return n.args[i].in(viewport, container) }
	switch n.op {
	case 'n':
		return n.v
	case 'v':
		return n.v * viewport / 100
	case '%':
		return n.v * container / 100
	case '+':
		return at(0) + at(1)
	case '-':
		return at(0) - at(1)
	case '*':
		return at(0) * at(1)
	case '/':
		return at(0) / at(1)
	case 'c':
		return math.Max(at(0), math.Min(at(1), at(2)))
	}
	v := at(0)
	for i := 1; i < len(n.args); i++ {
		if n.op == '<' {
			v = math.Min(v, at(i))
		} else {
			v = math.Max(v, at(i))
		}
	}
	return v
}

// Allowed is what may stand where a length is read, for people.
const Allowed = "a length such as 320px, 33vw, 100% or calc(50vw - 24px)"

// Parse reads a length. Its error says what is allowed.
func Parse(text string) (Length, error) {
	text = strings.TrimSpace(text)
	fail := func() (Length, error) {
		return Length{}, fmt.Errorf("%q isn't %s", wording.Cut(text, 80), Allowed)
	}
	if len(text) > 500 {
		return fail()
	}
	p := &expression{}
	lexer := css.NewLexer(parse.NewInputString(text))
	for {
		kind, data := lexer.Next()
		if kind == css.ErrorToken {
			break
		}
		if kind != css.CommentToken {
			p.tokens = append(p.tokens, word{kind, string(data)})
		}
	}
	n, ok := p.value(0)
	if p.space(); !ok || p.at < len(p.tokens) || !n.size && !(n.op == 'n' && n.v == 0) {
		return fail()
	}
	return Length{strings.Join(strings.Fields(text), " "), n}, nil
}

type word struct {
	kind css.TokenType
	text string
}

type expression struct {
	tokens []word
	at     int
}

func (p *expression) space() (was bool) {
	for p.at < len(p.tokens) && p.tokens[p.at].kind == css.WhitespaceToken {
		p.at++
		was = true
	}
	return was
}

const deepest = 16

// value reads a number, a length, or a function.
func (p *expression) value(depth int) (node, bool) {
	p.space()
	if p.at == len(p.tokens) || depth > deepest {
		return node{}, false
	}
	t := p.tokens[p.at]
	p.at++
	switch t.kind {
	case css.NumberToken:
		v, err := strconv.ParseFloat(t.text, 64)
		return node{op: 'n', v: v}, err == nil
	case css.PercentageToken:
		v, err := strconv.ParseFloat(strings.TrimSuffix(t.text, "%"), 64)
		return node{op: '%', v: v, size: true}, err == nil
	case css.DimensionToken:
		i := len(t.text)
		for i > 0 && (t.text[i-1] >= 'a' && t.text[i-1] <= 'z' || t.text[i-1] >= 'A' && t.text[i-1] <= 'Z') {
			i--
		}
		v, err := strconv.ParseFloat(t.text[:i], 64)
		if err != nil {
			return node{}, false
		}
		unit := strings.ToLower(t.text[i:])
		if px, ok := pixels[unit]; ok {
			return node{op: 'n', v: px * v, size: true}, true
		}
		switch unit {
		case "vw", "svw", "lvw", "dvw":
			return node{op: 'v', v: v, size: true}, true
		}
		return node{}, false
	case css.LeftParenthesisToken:
		return p.closed(depth)
	case css.FunctionToken:
		switch strings.ToLower(t.text) {
		case "calc(":
			return p.closed(depth)
		case "min(":
			return p.list('<', depth)
		case "max(":
			return p.list('>', depth)
		case "clamp(":
			n, ok := p.list('c', depth)
			return n, ok && len(n.args) == 3
		}
	}
	return node{}, false
}

func (p *expression) closed(depth int) (node, bool) {
	n, ok := p.sum(depth + 1)
	if !ok || !p.take(css.RightParenthesisToken) {
		return n, false
	}
	return n, true
}

func (p *expression) list(op byte, depth int) (node, bool) {
	n := node{op: op}
	for {
		arg, ok := p.sum(depth + 1)
		if !ok || len(n.args) > 0 && arg.size != n.args[0].size {
			return n, false
		}
		n.args = append(n.args, arg)
		n.size = arg.size
		if p.take(css.RightParenthesisToken) {
			return n, true
		}
		if !p.take(css.CommaToken) {
			return n, false
		}
	}
}

func (p *expression) take(kind css.TokenType) bool {
	p.space()
	if p.at < len(p.tokens) && p.tokens[p.at].kind == kind {
		p.at++
		return true
	}
	return false
}

// sum is products with + and - between, which have white space around them.
func (p *expression) sum(depth int) (node, bool) {
	left, ok := p.product(depth)
	for ok {
		from := p.at
		if !p.space() || p.at == len(p.tokens) || p.tokens[p.at].text != "+" && p.tokens[p.at].text != "-" {
			p.at = from
			return left, true
		}
		op := p.tokens[p.at].text[0]
		p.at++
		if !p.space() {
			return left, false
		}
		right, good := p.product(depth)
		if !good || right.size != left.size {
			return left, false
		}
		left = node{op: op, args: []node{left, right}, size: left.size}
	}
	return left, ok
}

func (p *expression) product(depth int) (node, bool) {
	left, ok := p.value(depth)
	for ok {
		from := p.at
		p.space()
		if p.at == len(p.tokens) || p.tokens[p.at].text != "*" && p.tokens[p.at].text != "/" {
			p.at = from
			return left, true
		}
		op := p.tokens[p.at].text[0]
		p.at++
		right, good := p.value(depth)
		if !good || left.size && right.size || op == '/' && (right.size || right.op == 'n' && right.v == 0) {
			return left, false
		}
		left = node{op: op, args: []node{left, right}, size: left.size || right.size}
	}
	return left, ok
}

// Print writes the length as CSS has it, percentages as parts of the container, which is a length itself.
func (l Length) Print(container string) string { return l.root.print(container, false) }

// print writes an expression, percentages as parts of the container.
func (n *node) print(container string, inner bool) string {
	number := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	arg := func(i int) string { return n.args[i].print(container, true) }
	var text string
	switch n.op {
	case 'n':
		if n.size {
			return number(n.v) + "px"
		}
		return number(n.v)
	case 'v':
		return number(n.v) + "vw"
	case '%':
		if v, ok := strings.CutSuffix(container, "vw"); ok {
			if w, err := strconv.ParseFloat(v, 64); err == nil {
				return number(w*n.v/100) + "vw"
			}
		}
		if n.v == 100 {
			return container
		}
		text = number(n.v/100) + " * " + strings.TrimPrefix(container, "calc")
	case '+', '-', '*', '/':
		text = arg(0) + " " + string(n.op) + " " + arg(1)
	default:
		words := make([]string, len(n.args))
		for i := range n.args {
			words[i] = strings.TrimSuffix(strings.TrimPrefix(n.args[i].print(container, false), "calc("), ")")
			if strings.Count(words[i], "(") != strings.Count(words[i], ")") {
				words[i] = n.args[i].print(container, true)
			}
		}
		return map[byte]string{'<': "min(", '>': "max(", 'c': "clamp("}[n.op] + strings.Join(words, ", ") + ")"
	}
	if inner {
		return "(" + text + ")"
	}
	return "calc(" + text + ")"
}

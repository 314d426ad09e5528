package sheet

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"echolane/core/declare"
	"echolane/core/wording"
)

// What a sheet may have.
const (
	MostBytes    = 64 << 10
	mostRules    = 1000
	mostProblems = 20
	deepest      = 8 // blocks in blocks
)

// A Problem is one thing that is wrong with a sheet.
type Problem struct {
	Line    int    `json:"line"`   // from 1
	Column  int    `json:"column"` // from 1, in characters
	Given   string `json:"given,omitempty"`
	Detail  string `json:"detail"`
	Allowed string `json:"allowed,omitempty"`
	Nearest string `json:"nearest,omitempty"` // the nearest right spelling
	Remedy  string `json:"remedy,omitempty"`  // the way out, where it's known what was meant
}

func (p Problem) String() string {
	s := fmt.Sprintf("line %d, column %d: %s", p.Line, p.Column, p.Detail)
	if p.Nearest != "" {
		s += fmt.Sprintf("; did you mean %s?", p.Nearest)
	}
	if p.Remedy != "" {
		s += "; " + p.Remedy
	}
	return s
}

// Problems is the error that Parse gives: what is wrong, in the sheet's order, at most 20.
type Problems []Problem

func (ps Problems) Error() string { return wording.Join(ps, "\n") }

var urlOfAttr = regexp.MustCompile(`(?i)\burl(\(\s*attr\()`)

type token struct {
	kind css.TokenType
	text string
	at   int
}

type parser struct {
	text     string
	tokens   []token
	at       int
	rules    []rule
	frames   map[string][]declare.Keyframe
	fonts    []declare.FontFace
	moved    []moved
	problems Problems
}

// Parse reads a sheet. Its error is a Problems.
func Parse(text string) (*Sheet, error) {
	p := &parser{text: text}
	if len(text) > MostBytes {
		return nil, Problems{{Line: 1, Column: 1, Detail: fmt.Sprintf("the sheet has %d bytes", len(text)), Allowed: fmt.Sprintf("at most %d bytes", MostBytes)}}
	}
	// Within url() CSS knows no functions; src() is the one that takes them (CSS Values Level 4, section 4.5). Both are taken.
	lexer := css.NewLexer(parse.NewInputString(urlOfAttr.ReplaceAllString(text, "src$1")))
	for at := 0; ; {
		kind, data := lexer.Next()
		if kind == css.ErrorToken {
			break
		}
		t := token{kind, string(data), at}
		at += len(data)
		if kind == css.CommentToken {
			if !strings.HasSuffix(t.text, "*/") || len(t.text) < 4 {
				p.wrong(t.at, Problem{Detail: "a comment isn't closed", Allowed: "*/ at its end"})
			}
			t.kind, t.text = css.WhitespaceToken, " "
		}
		p.tokens = append(p.tokens, t)
	}
	p.list(condition{}, 0)
	p.checkMoved()
	if p.problems != nil {
		return nil, p.problems
	}
	s := finish(p.rules)
	s.frames, s.fonts = p.frames, p.fonts
	if no := s.checkLayers(); no != nil {
		return nil, Problems{*no}
	}
	return s, nil
}

func (p *parser) wrong(at int, problem Problem) {
	if len(p.problems) == mostProblems {
		return
	}
	before := p.text[:min(at, len(p.text))]
	problem.Line = strings.Count(before, "\n") + 1
	problem.Column = len([]rune(before[strings.LastIndexByte(before, '\n')+1:])) + 1
	problem.Given = wording.Cut(problem.Given, 80)
	p.problems = append(p.problems, problem)
}

// peek is the next token that isn't white space; ok is false at the end.
func (p *parser) peek() (t token, ok bool) {
	for p.at < len(p.tokens) && p.tokens[p.at].kind == css.WhitespaceToken {
		p.at++
	}
	if p.at == len(p.tokens) {
		return token{at: len(p.text)}, false
	}
	return p.tokens[p.at], true
}

// list reads rules, to the end of the text or, within a block, to the brace that closes it, which it takes.
func (p *parser) list(when condition, depth int) {
	opened := 0
	if depth > 0 {
		opened = p.tokens[p.at-1].at
	}
	for {
		t, ok := p.peek()
		switch {
		case !ok:
			if depth > 0 {
				p.wrong(opened, Problem{Detail: "the block that begins here isn't closed", Allowed: "} at its end"})
			}
			return
		case t.kind == css.RightBraceToken:
			p.at++
			if depth > 0 {
				return
			}
			p.wrong(t.at, Problem{Given: "}", Detail: "there is no open block that this brace could close"})
		case t.kind == css.SemicolonToken, t.kind == css.CDOToken, t.kind == css.CDCToken:
			p.at++
		case t.kind == css.AtKeywordToken:
			p.atRule(t, when, depth)
		default:
			p.ruleset(when)
		}
	}
}

// prelude takes what stands before a block's brace, and the brace. ok is false where there is no block.
func (p *parser) prelude() (words []token, ok bool) {
	for ; p.at < len(p.tokens); p.at++ {
		switch t := p.tokens[p.at]; t.kind {
		case css.LeftBraceToken:
			p.at++
			return words, true
		case css.SemicolonToken:
			p.at++
			return words, false
		case css.RightBraceToken:
			return words, false
		default:
			words = append(words, t)
		}
	}
	return words, false
}

// skip takes the rest of a block whose brace was taken.
func (p *parser) skip() {
	for depth := 1; p.at < len(p.tokens) && depth > 0; p.at++ {
		switch p.tokens[p.at].kind {
		case css.LeftBraceToken:
			depth++
		case css.RightBraceToken:
			depth--
		}
	}
}

func (p *parser) atRule(t token, when condition, depth int) {
	p.at++
	words, block := p.prelude()
	if strings.EqualFold(t.text, "@keyframes") {
		p.keyframes(t, words, block)
		return
	}
	if strings.EqualFold(t.text, "@font-face") {
		p.fontFace(t, block)
		return
	}
	if !strings.EqualFold(t.text, "@media") {
		nearest := wording.Nearest(strings.ToLower(t.text), []string{"@media", "@keyframes", "@font-face"})
		p.wrong(t.at, Problem{Given: t.text, Detail: t.text + " isn't known in an image sheet", Allowed: "@media (resolution >= 2x), @media (prefers-reduced-data: reduce), @keyframes, @font-face", Nearest: nearest})
		if block {
			p.skip()
		}
		return
	}
	if !block {
		p.wrong(t.at, Problem{Detail: "@media has no block", Allowed: "@media (…) { … }"})
		return
	}
	if depth == deepest {
		p.wrong(t.at, Problem{Detail: "blocks lie in blocks too deep", Allowed: fmt.Sprintf("at most %d", deepest)})
		p.skip()
		return
	}
	if !p.media(t.at, words, &when) {
		p.skip()
		return
	}
	p.list(when, depth+1)
}

const mediaAllowed = "(resolution >= 2x), (resolution < 1.5x), (prefers-reduced-data: reduce), (prefers-reduced-motion: reduce), joined by and"

// media reads conditions into when.
func (p *parser) media(at int, words []token, when *condition) bool {
	text := strings.TrimSpace(joined(words))
	if len(words) > 0 {
		for _, w := range words {
			if w.kind != css.WhitespaceToken {
				at = w.at
				break
			}
		}
	}
	rest := strings.ToLower(text)
	for first := true; ; first = false {
		rest = strings.TrimSpace(rest)
		if !first {
			if rest == "" {
				return true
			}
			var ok bool
			if rest, ok = strings.CutPrefix(rest, "and"); !ok {
				break
			}
			rest = strings.TrimSpace(rest)
		}
		inner, after, ok := strings.Cut(strings.TrimPrefix(rest, "("), ")")
		if !ok || !strings.HasPrefix(rest, "(") || !when.take(strings.TrimSpace(inner)) {
			break
		}
		rest = after
	}
	p.wrong(at, Problem{Given: text, Detail: fmt.Sprintf("the media condition %q isn't one of those that images know", wording.Cut(text, 80)), Allowed: mediaAllowed})
	return false
}

func (p *preference) take(value string) bool {
	switch value {
	case "reduce":
		*p = reduced
	case "no-preference":
		*p = notReduced
	default:
		return false
	}
	return true
}

// take adds one condition, in lower case, without its parentheses.
func (c *condition) take(s string) bool {
	if name, value, ok := strings.Cut(s, ":"); ok {
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		switch name {
		case "prefers-reduced-data":
			return c.data.take(value)
		case "prefers-reduced-motion":
			return c.motion.take(value)
		case "min-resolution":
			return c.bound(">=", value)
		case "max-resolution":
			return c.bound("<=", value)
		case "resolution":
			return c.bound("=", value)
		}
		return false
	}
	rest, ok := strings.CutPrefix(s, "resolution")
	if !ok {
		return false
	}
	rest = strings.TrimSpace(rest)
	for _, op := range []string{">=", "<=", ">", "<", "="} {
		if value, ok := strings.CutPrefix(rest, op); ok {
			return c.bound(op, strings.TrimSpace(value))
		}
	}
	return false
}

func (c *condition) bound(op, value string) bool {
	perUnit := 1.0
	switch {
	case strings.HasSuffix(value, "dppx"):
		value = value[:len(value)-4]
	case strings.HasSuffix(value, "dpi"):
		value, perUnit = value[:len(value)-3], 96
	case strings.HasSuffix(value, "x"):
		value = value[:len(value)-1]
	default:
		return false
	}
	v, err := strconv.ParseFloat(value, 64)
	if v /= perUnit; err != nil || !(v > 0 && v < 100) {
		return false
	}
	if op[0] == '>' || op[0] == '=' {
		if v > c.least || v == c.least && op == ">" {
			c.least, c.leastOut = v, op == ">"
		}
	}
	if op[0] == '<' || op[0] == '=' {
		if c.most == 0 || v < c.most || v == c.most && op == "<" {
			c.most, c.mostOut = v, op == "<"
		}
	}
	return true
}

func joined(words []token) string {
	var b strings.Builder
	for _, w := range words {
		b.WriteString(w.text)
	}
	return b.String()
}

// selector is one of a list.
type selector struct {
	classes []string
	layer   string // the name of a layer; "": the picture itself
}

const selectorAllowed = "*, .class, .class.class, each with ::before, ::after or ::layer(name) behind it or not"

// ruleset reads selectors and the block behind them.
func (p *parser) ruleset(when condition) {
	start, _ := p.peek()
	words, block := p.prelude()
	if !block {
		p.wrong(start.at, Problem{Given: strings.TrimSpace(joined(words)), Detail: "a rule has no block", Allowed: ".class { property: value }"})
		if p.at < len(p.tokens) && p.tokens[p.at].kind == css.RightBraceToken {
			return
		}
		return
	}
	opened := p.tokens[p.at-1].at
	selectors := p.selectors(words, start.at)
	var set declare.Declarations // of the picture
	var box declare.Box          // of a layer
	layered := len(selectors) > 0 && selectors[0].layer != ""
	for _, s := range selectors {
		if (s.layer != "") != layered {
			p.wrong(start.at, Problem{Given: strings.TrimSpace(joined(words)), Detail: "a rule is either for pictures or for their layers", Allowed: "two rules"})
			break
		}
	}
	seen := map[string]bool{}
	one := func() { p.declaration(&set, seen) }
	if layered {
		one = func() { p.boxDeclaration(&box, seen) }
	}
	if !p.block(opened, one) {
		return
	}
	for _, s := range selectors {
		if len(p.rules) == mostRules {
			p.wrong(start.at, Problem{Detail: "the sheet has too many rules", Allowed: fmt.Sprintf("at most %d", mostRules)})
			return
		}
		r := rule{classes: s.classes, when: when, set: set, layer: s.layer}
		if layered {
			r.box = box
			r.box.Name = s.layer
		}
		p.rules = append(p.rules, r)
	}
}

// block reads one thing after another up to the brace that closes a block, which it takes; false where none does.
func (p *parser) block(opened int, one func()) bool {
	for {
		t, ok := p.peek()
		switch {
		case !ok:
			p.wrong(opened, Problem{Detail: "the block that begins here isn't closed", Allowed: "} at its end"})
			return false
		case t.kind == css.RightBraceToken:
			p.at++
			return true
		case t.kind == css.SemicolonToken:
			p.at++
		default:
			one()
		}
	}
}

func (p *parser) selectors(words []token, at int) (list []selector) {
	bad := func(at int, given string) []selector {
		problem := Problem{Given: given, Detail: fmt.Sprintf("%q can't be a selector here", wording.Cut(given, 80)), Allowed: selectorAllowed}
		if name := strings.Trim(given, " "); declare.IsClass(name) {
			problem.Nearest = "." + name
		}
		p.wrong(at, problem)
		return nil
	}
	for len(words) > 0 {
		end := slices.IndexFunc(words, func(t token) bool { return t.kind == css.CommaToken })
		part, rest := words, []token(nil)
		if end >= 0 {
			part, rest = words[:end], words[end+1:]
			if len(rest) == 0 {
				return bad(at, joined(words))
			}
		}
		words = rest
		for len(part) > 0 && part[0].kind == css.WhitespaceToken {
			part = part[1:]
		}
		for len(part) > 0 && part[len(part)-1].kind == css.WhitespaceToken {
			part = part[:len(part)-1]
		}
		if len(part) == 0 {
			return bad(at, "")
		}
		at = part[0].at
		text := joined(part)
		var s selector
		left := text
		base, pseudo, found := strings.Cut(left, ":")
		if found {
			left = base
			switch name := strings.ToLower(strings.TrimPrefix(pseudo, ":")); {
			case name == declare.AfterLayer || name == declare.BeforeLayer:
				s.layer = name
			case strings.HasPrefix(name, "layer(") && strings.HasSuffix(name, ")") && strings.HasPrefix(pseudo, ":"):
				s.layer = strings.TrimSpace(pseudo[len(":layer(") : len(pseudo)-1])
				if !declare.IsClass(s.layer) || s.layer == declare.AfterLayer || s.layer == declare.BeforeLayer {
					return bad(at, text)
				}
			default:
				return bad(at, text)
			}
		}
		switch {
		case left == "*" || left == "" && s.layer != "":
		case strings.HasPrefix(left, "."):
			for _, c := range strings.Split(left[1:], ".") {
				if !declare.IsClass(c) {
					return bad(at, text)
				}
				if !slices.Contains(s.classes, c) {
					s.classes = append(s.classes, c)
				}
			}
		default:
			return bad(at, text)
		}
		list = append(list, s)
	}
	if list == nil {
		return bad(at, "")
	}
	return list
}

// declaration reads one property and its value into a rule.
func (p *parser) declaration(to *declare.Declarations, seen map[string]bool) {
	property, value, name, at, ok := p.property()
	if !ok {
		return
	}
	if seen[property] { // as in CSS the later one holds, if it's right
		to.Forget(property, "")
	}
	seen[property] = true
	problem := to.SetInSheet(property, value, "")
	if a, ok := to.Moving(); property == "animation" && problem == nil && ok {
		p.moved = append(p.moved, moved{at, a.Name, false})
	}
	p.report(problem, name, at)
}

// boxDeclaration reads one property of a layer.
func (p *parser) boxDeclaration(to *declare.Box, seen map[string]bool) {
	property, value, name, at, ok := p.property()
	if !ok {
		return
	}
	if seen[property] {
		to.Forget(property)
	}
	seen[property] = true
	problem := to.Set(property, value)
	if a, ok := to.Moving(); property == "animation" && problem == nil && ok {
		p.moved = append(p.moved, moved{at, a.Name, true})
	}
	p.report(problem, name, at)
}

// property takes one declaration, and says where its name and its value stand; ok is false where it is none.
func (p *parser) property() (property, value string, nameAt, at int, ok bool) {
	name, _ := p.peek()
	start := p.at
	depth := 0
	for ; p.at < len(p.tokens); p.at++ {
		t := p.tokens[p.at]
		switch t.kind {
		case css.FunctionToken, css.LeftParenthesisToken, css.LeftBracketToken:
			depth++
		case css.RightParenthesisToken, css.RightBracketToken:
			depth--
		case css.LeftBraceToken:
			p.wrong(name.at, Problem{Given: strings.TrimSpace(joined(p.tokens[start:p.at])), Detail: "a block stands inside a rule", Allowed: "rules side by side: .class { … } .class::after { … }"})
			p.at++
			p.skip()
			return
		case css.BadStringToken, css.BadURLToken:
			p.wrong(t.at, Problem{Given: strings.TrimSpace(t.text), Detail: "a quotation or url() isn't closed"})
		}
		if depth <= 0 && t.kind == css.SemicolonToken || t.kind == css.RightBraceToken {
			break
		}
	}
	words := p.tokens[start:p.at]
	colon := slices.IndexFunc(words, func(t token) bool { return t.kind == css.ColonToken })
	if name.kind != css.IdentToken || colon < 0 || strings.TrimSpace(joined(words[1:max(1, colon)])) != "" {
		p.wrong(name.at, Problem{Given: strings.TrimSpace(joined(words)), Detail: "that isn't a declaration", Allowed: "property: value;"})
		return
	}
	property = strings.ToLower(name.text)
	value = strings.TrimSpace(joined(words[colon+1:]))
	at = name.at
	for _, w := range words[colon+1:] {
		if w.kind != css.WhitespaceToken {
			at = w.at
			break
		}
	}
	if strings.HasSuffix(strings.ToLower(value), "important") && strings.Contains(value, "!") { // a cascade of its own
		p.wrong(at, Problem{Given: value, Detail: "importance has no place in an image sheet", Allowed: "the value alone: classes win over *, and what a URL says wins over both"})
		return
	}
	return property, value, name.at, at, true
}

// report tells of a problem with a declaration, whose name and value stand there; nil: there is none.
func (p *parser) report(problem *declare.Problem, name, at int) {
	if problem != nil {
		where := at
		if problem.Reason == "unknown-name" {
			where = name
		}
		p.wrong(where, Problem{Given: problem.Given, Detail: problem.InSheet(), Allowed: strings.ReplaceAll(problem.Allowed, "%25", "%"), Nearest: problem.Nearest, Remedy: problem.Remedy})
	}
}

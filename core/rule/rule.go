// Package rule reads style rules as they stand in a page's stylesheet, and says of every declaration what becomes of it in an
// image's URL: what it is there, or why it has to stay where it is.
package rule

import (
	"fmt"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"echolane/core/declare"
	"echolane/core/markup"
)

// What a stylesheet may have.
const (
	MostBytes = 256 << 10
	mostItems = 5000
	deepest   = 8 // blocks in blocks
)

// A Rule is one style rule, or declarations that stand by themselves.
type Rule struct {
	Selector string `json:"selector"` // as it was written; "" of declarations that stand by themselves
	Within   string `json:"within"`   // the conditions around it, such as @media (width >= 600px); "" for none
	Items    []Item `json:"items"`
	Query    string `json:"query"` // the declarations that were taken, as the address form has them; "" for none
	Slot     string `json:"slot"`  // those that weren't and that markup takes as the slot; "" for none
}

// An Item is one declaration.
type Item struct {
	Line     int    `json:"line"` // from 1
	Property string `json:"property"`
	Value    string `json:"value"`
	Taken    bool   `json:"taken"`
	Becomes  string `json:"becomes"` // of one that was taken: the declarations, as a URL has them without encoding; "" where it says what its absence says
	Why      string `json:"why"`     // of one that wasn't
	Remedy   string `json:"remedy"`  // and where it belongs, or what to write
}

// Taken counts the declarations of all rules, and those that were taken.
func Taken(rules []Rule) (taken, all int) {
	for _, r := range rules {
		for _, i := range r.Items {
			if all++; i.Taken {
				taken++
			}
		}
	}
	return taken, all
}

type token struct {
	kind css.TokenType
	text string
	line int
}

type reader struct {
	tokens []token
	at     int
	items  int
	rules  []Rule
}

// Read reads rules, in whatever state they are: what isn't a declaration is among the items, with what is wrong. It fails only
// where there is too much, or nothing at all.
func Read(text string) ([]Rule, error) {
	if len(text) > MostBytes {
		return nil, fmt.Errorf("the rules have %d bytes: give at most %d, such as the rules of one picture", len(text), MostBytes)
	}
	r := &reader{}
	lexer := css.NewLexer(parse.NewInputString(text))
	for line := 1; ; {
		kind, data := lexer.Next()
		if kind == css.ErrorToken {
			break
		}
		t := token{kind, string(data), line}
		line += strings.Count(t.text, "\n")
		if kind == css.CommentToken {
			t.kind, t.text = css.WhitespaceToken, " "
		}
		r.tokens = append(r.tokens, t)
	}
	for r.at < len(r.tokens) && r.items <= mostItems {
		r.block("", "", 0)
	}
	if len(r.rules) == 0 {
		return nil, fmt.Errorf("there is no declaration: give a rule as it stands in a stylesheet, such as .hero { width: 20rem; border-radius: 8px }")
	}
	if r.items > mostItems {
		return nil, fmt.Errorf("the rules have more than %d declarations: give those of one picture", mostItems)
	}
	for i := range r.rules {
		r.rules[i].finish()
	}
	return r.rules, nil
}

// block reads what stands between two braces, and takes the brace that closes it.
func (r *reader) block(selector, within string, depth int) {
	own := -1 // the rule that this block's declarations belong to
	for r.at < len(r.tokens) && r.items <= mostItems {
		words, end := r.piece()
		text := joined(words)
		switch {
		case end == css.LeftBraceToken && depth < deepest:
			own = -1
			r.inner(text, lineOf(words), selector, within, depth)
		case end == css.LeftBraceToken:
			r.skip()
		case text == "":
		default:
			if own < 0 {
				r.rules = append(r.rules, Rule{Selector: selector, Within: within, Items: []Item{}})
				own = len(r.rules) - 1
			}
			r.rules[own].add(words)
			r.items++
		}
		if end == css.RightBraceToken {
			break
		}
	}
}

// inner reads a block within another.
func (r *reader) inner(prelude string, line int, selector, within string, depth int) {
	name, _, _ := strings.Cut(strings.ToLower(prelude), " ")
	name, _, _ = strings.Cut(name, "(")
	switch {
	case !strings.HasPrefix(prelude, "@"):
		if selector != "" && strings.Contains(prelude, "&") {
			prelude = strings.ReplaceAll(prelude, "&", selector)
		} else if selector != "" {
			prelude = selector + " " + prelude
		}
		r.block(prelude, within, depth+1)
	case name == "@media" || name == "@supports" || name == "@layer" || name == "@container" || name == "@scope" || name == "@starting-style":
		if within != "" {
			prelude = within + " " + prelude
		}
		r.block(selector, prelude, depth+1)
	default:
		r.rules = append(r.rules, Rule{Within: within, Items: []Item{{Line: line, Property: name, Value: strings.TrimSpace(prelude[len(name):]), Why: name + " is no declaration of a picture", Remedy: "it stays in the page's stylesheet"}}})
		r.items++
		r.skip()
	}
}

// piece takes tokens up to a semicolon or brace that stands in no parentheses, and that.
func (r *reader) piece() (words []token, end css.TokenType) {
	depth := 0
	for ; r.at < len(r.tokens); r.at++ {
		t := r.tokens[r.at]
		switch t.kind {
		case css.FunctionToken, css.LeftParenthesisToken, css.LeftBracketToken:
			depth++
		case css.RightParenthesisToken, css.RightBracketToken:
			depth--
		case css.LeftBraceToken, css.RightBraceToken:
			r.at++
			return words, t.kind
		case css.SemicolonToken:
			if depth <= 0 {
				r.at++
				return words, t.kind
			}
		}
		words = append(words, t)
	}
	return words, css.ErrorToken
}

// skip takes the rest of a block.
func (r *reader) skip() {
	for depth := 1; r.at < len(r.tokens) && depth > 0; r.at++ {
		switch r.tokens[r.at].kind {
		case css.LeftBraceToken:
			depth++
		case css.RightBraceToken:
			depth--
		}
	}
}

func joined(words []token) string {
	var b strings.Builder
	for _, w := range words {
		b.WriteString(w.text)
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

func lineOf(words []token) int {
	for _, w := range words {
		if w.kind != css.WhitespaceToken {
			return w.line
		}
	}
	return 1
}

// layer is the layer that the rule is for, under the picture or on top; "" for the picture itself. The older spelling has one colon.
func (r *Rule) layer() string {
	for _, layer := range []string{declare.BeforeLayer, declare.AfterLayer} {
		if strings.Contains(r.Selector, ":"+layer) {
			return layer
		}
	}
	return ""
}

// ofSheet reports whether the rule is for a layer that only a sheet has.
func (r *Rule) ofSheet() bool { return strings.Contains(r.Selector, "::layer(") }

const inTheSheet = "write the rule in the site's sheet: layers take it there"

// add reads one declaration.
func (r *Rule) add(words []token) {
	name, value, ok := strings.Cut(joined(words), ":")
	item := Item{Line: lineOf(words), Property: strings.ToLower(strings.TrimSpace(name)), Value: strings.TrimSpace(value)}
	switch {
	case strings.HasPrefix(item.Property, "@"):
		item.Why, item.Remedy = "that is no declaration of a picture", "it stays in the page's stylesheet"
	case !ok || item.Property == "" || strings.ContainsAny(item.Property, " \"'(){}"):
		item.Why, item.Remedy = "that isn't a declaration", "write property: value;"
	case r.ofSheet():
		item.Why, item.Remedy = "a URL has no layers but before and after", inTheSheet
	default:
		item.read(r.layer())
	}
	r.Items = append(r.Items, item)
}

func (i *Item) read(layer string) {
	var d declare.Declarations
	problem := d.SetInSheet(i.Property, i.Value, layer)
	if _, moves := d.Moving(); problem == nil && moves {
		problem = declare.OnlyInSheet(i.Value)
	}
	if problem == nil {
		i.Taken, i.Becomes = true, d.Plain()
		return
	}
	i.Why, i.Remedy = problem.InSheet(), problem.Remedy
	if layer != "" && problem.Reason == "unknown-name" && slices.Contains(declare.BoxNames(), i.Property) {
		i.Remedy = inTheSheet
	} else if i.Remedy == "" && problem.Nearest != "" {
		i.Remedy = "write " + problem.Nearest
	} else if i.Remedy == "" && problem.Reason == "unknown-name" {
		i.Remedy = "it stays in the page's stylesheet"
	} else if i.Remedy == "" {
		i.Remedy = "allowed: " + strings.ReplaceAll(problem.Allowed, "%25", "%")
	}
}

// finish puts together what was taken, the later one of a property over those before, as the cascade has it, and what the slot takes.
func (r *Rule) finish() {
	layer := r.layer()
	var d declare.Declarations
	seen := map[string]bool{}
	var slot []string
	for _, i := range r.Items {
		if i.Taken {
			if seen[i.Property] {
				d.Forget(i.Property, layer)
			}
			seen[i.Property] = true
			d.SetInSheet(i.Property, i.Value, layer)
		} else if one := i.Property + ": " + i.Value; layer == "" && !r.ofSheet() {
			switch i.Property {
			case "width", "max-width", "height":
				if _, err := markup.ParseSlot(one); err == nil {
					slot = append(slot, one)
				}
			}
		}
	}
	r.Query, r.Slot = d.AddressForm(), strings.Join(slot, "; ")
}

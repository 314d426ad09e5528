package declare

import (
	"fmt"
	"net/url"
	"strings"

	"echolane/core/wording"
)

// A Problem is one thing that is wrong with a query.
type Problem struct {
	Parameter string // the name, as it was given
	Given     string // the value, as it was given, decoded; shortened to 80 bytes
	Reason    string // a stable word: unknown-name, repeated, empty, unparsable, out-of-range, not-decodable
	Allowed   string // what may stand there
	Nearest   string // the nearest right spelling of the name or keyword, "" where none is near
	Remedy    string // the way out, where it's known what was meant; "" where Allowed and Nearest say it
}

func (p Problem) String() string {
	var s string
	switch p.Reason {
	case "unknown-name":
		s = fmt.Sprintf("there is no declaration named %q", p.Parameter)
	case "repeated":
		s = fmt.Sprintf("%s is given twice", p.Parameter)
	case "empty":
		s = fmt.Sprintf("%s has no value", p.Parameter)
	case "not-decodable":
		s = fmt.Sprintf("%q is not percent-encoded as a query must be", p.Given)
	default:
		s = fmt.Sprintf("%s=%s is not allowed", p.Parameter, p.Given)
	}
	if p.Nearest != "" {
		s += fmt.Sprintf("; did you mean %s?", p.Nearest)
	}
	return s
}

// Problems is the error that Parse gives: everything that is wrong with a query, in its order, at most 20.
type Problems []Problem

func (ps Problems) Error() string { return wording.Join(ps, "; ") }

const (
	maxProblems = 20
	maxQuery    = 8 << 10
)

// Parse reads a query string, without its question mark. Its error is a Problems.
//
// Names and keywords are read in any case; `+` is a space; empty pieces between `&` are passed over, as the
// URL standard's form decoder does.
func Parse(query string) (Declarations, error) {
	var d Declarations
	if problems := d.parse(query); problems != nil {
		return Declarations{}, problems
	}
	return d, nil
}

// parse is Parse into d, which declares nothing yet.
func (d *Declarations) parse(query string) Problems {
	if len(query) > maxQuery {
		return Problems{{Parameter: "query", Given: wording.Cut(query, 80), Reason: "out-of-range", Allowed: "at most 8192 bytes"}}
	}
	var problems Problems
	report := func(p Problem) {
		if len(problems) < maxProblems {
			p.Given = wording.Cut(p.Given, 80)
			p.Parameter = wording.Cut(p.Parameter, 80)
			problems = append(problems, p)
		}
	}
	var seen, whole mask        // declarations that were given, and those that a shorthand said
	var shortly map[string]bool // shorthands that were given
	for rest := query; rest != ""; {
		var piece string
		if piece, rest, _ = strings.Cut(rest, "&"); piece == "" {
			continue
		}
		rawName, rawValue, _ := strings.Cut(piece, "=")
		name, err := unescape(rawName)
		if err != nil {
			report(undecodable(rawName, rawName))
			continue
		}
		i := index(name)
		if i < 0 && len(name) >= 5 && strings.EqualFold(name[:5], "data-") {
			if problem := d.parseData(name, rawValue); problem != nil {
				report(*problem)
			}
			continue
		}
		if i < 0 {
			short := shorthandOf(name)
			value, err := unescape(rawValue)
			switch {
			case short == nil:
				remedy, nearest := hintForName(name)
				report(Problem{Parameter: name, Given: rawValue, Reason: "unknown-name", Allowed: strings.Join(Names(), ", "), Nearest: nearest, Remedy: remedy})
				continue
			case err != nil:
				report(undecodable(short.name, rawValue))
				continue
			case shortly[short.name]:
				report(Problem{Parameter: short.name, Given: value, Reason: "repeated", Allowed: "once"})
				continue
			case short.alone && !seen.and(short.mask()).empty():
				report(Problem{Parameter: short.name, Given: value, Reason: "repeated", Allowed: "once, as " + short.name + " or as " + strings.Join(short.sets, " and ")})
				continue
			}
			if shortly == nil {
				shortly = map[string]bool{}
			}
			if shortly[short.name] = true; short.alone {
				whole = whole.or(short.mask())
			}
			if problem := d.assignShort(short, value); problem != nil {
				report(*problem)
			}
			continue
		}
		p := &language[i]
		value, err := unescape(rawValue)
		if err != nil {
			report(undecodable(p.name, rawValue))
			continue
		}
		if seen.has(i) || whole.has(i) {
			report(Problem{Parameter: p.name, Given: value, Reason: "repeated", Allowed: "once"})
			continue
		}
		seen = seen.or(bit(i))
		problem := d.assign(i, value)
		if problem == nil && i == animationIndex && d.Animation != AnimationNone {
			problem = OnlyInSheet(value)
		}
		if problem != nil {
			report(*problem)
		}
	}
	return problems
}

func undecodable(name, given string) Problem {
	return Problem{Parameter: name, Given: given, Reason: "not-decodable", Allowed: "percent-encoded UTF-8, with % itself as %25"}
}

// assign reads one declaration's value, as a URL or a sheet has it.
func (d *Declarations) assign(i int, value string) *Problem {
	p := &language[i]
	if value = trim(value); p.inSheet {
		value = trim(strings.TrimSuffix(value, ";"))
	}
	switch {
	case value == "" && !p.mayBeEmpty:
		return &Problem{Parameter: p.name, Reason: "empty", Allowed: p.grammar}
	case p.inSheet && isInitial(value):
		if p.first == "" {
			return nil
		}
		value = plainly.Replace(p.first)
	}
	if reason := p.read(lent(d), value); reason != "" {
		return problemOf(p.name, value, reason, p.grammar, p.keywords)
	}
	return nil
}

// assignShort reads a shorthand's value.
func (d *Declarations) assignShort(short *shorthand, value string) *Problem {
	if value = trim(strings.TrimSuffix(trim(value), ";")); value == "" {
		return &Problem{Parameter: short.name, Reason: "empty", Allowed: short.grammar}
	}
	if reason := short.set(lent(d), value); reason != "" {
		return problemOf(short.name, value, reason, short.grammar, nil)
	}
	return nil
}

func problemOf(name, value, reason, grammar string, keywords []string) *Problem {
	p := &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: reason, Allowed: grammar, Remedy: hintForValue(name, value)}
	if p.Remedy == "" {
		p.Nearest = wording.Misspelt(value, keywords)
	}
	return p
}

// trim takes CSS white space away on both sides.
func trim(s string) string {
	for s != "" && isSpace(s[0]) {
		s = s[1:]
	}
	for s != "" && isSpace(s[len(s)-1]) {
		s = s[:len(s)-1]
	}
	return s
}

func unescape(s string) (string, error) {
	for i := range len(s) {
		if s[i] == '%' || s[i] == '+' {
			return url.QueryUnescape(s)
		}
	}
	return s, nil
}

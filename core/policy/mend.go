package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A Mend is the change to a site's document that would have let a request through. It is offered, never done
// by itself.
type Mend struct {
	Action string `json:"action"`         // one of those that Apply knows
	Lane   string `json:"lane,omitempty"` // which lane it changes, "" for the site
	Value  string `json:"value,omitempty"`
}

// Apply gives the document with the mend made.
func (m Mend) Apply(d Document) (Document, error) {
	d = d.Clone()
	lane := d.Lane(m.Lane)
	if m.Lane != "" && lane == nil {
		return d, fmt.Errorf("the lane %s is gone", m.Lane)
	}
	add := func(list *[]string) {
		if !slices.Contains(*list, m.Value) {
			*list = append(*list, m.Value)
		}
	}
	switch m.Action {
	case "add-rung":
		n, err := strconv.Atoi(m.Value)
		if err != nil {
			return d, fmt.Errorf("%q isn't a width", m.Value)
		}
		if !slices.Contains(d.Ladder.Rungs, n) {
			d.Ladder.Rungs = append(d.Ladder.Rungs, n)
			slices.Sort(d.Ladder.Rungs)
		}
	case "add-shape":
		add(&d.Shapes)
	case "add-page":
		add(&d.Pages.Allow)
	case "allow-silent":
		d.Pages.Silent = "allow"
	case "add-format":
		add(&d.Formats)
	case "open-cards":
		d.Cards.Values = "open"
	case "url-paint":
		d.Paint = "url"
	case "url-grow":
		d.Grow = "url"
	case "add-allow":
		add(&lane.Allow)
	case "remove-deny":
		lane.Deny = slices.DeleteFunc(lane.Deny, func(s string) bool { return s == m.Value })
	case "add-private":
		add(&lane.Private)
	case "set-limit":
		name, text, _ := strings.Cut(m.Value, "=")
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return d, fmt.Errorf("%q isn't a limit", m.Value)
		}
		if lane != nil && name == "source_bytes" {
			lane.SourceBytes = v
			return d, nil
		}
		i := slices.IndexFunc(LimitNumbers, func(n Number) bool { return n.Name == name })
		if i < 0 {
			return d, fmt.Errorf("there is no limit %q", name)
		}
		LimitNumbers[i].Set(&d.Limits, float64(v))
	default:
		return d, fmt.Errorf("there is no way to mend by %q", m.Action)
	}
	return d, nil
}

// raise is the mend that lifts a limit to v, rounded up to two leading digits so that the next one isn't
// refused for a hair.
func raise(limit string, v int64) *Mend {
	step := int64(1)
	for v/step >= 100 {
		step *= 10
	}
	return &Mend{Action: "set-limit", Value: fmt.Sprintf("%s=%d", limit, (v+step-1)/step*step)}
}

// Command is the command line that makes the mend. What it holds may come from strangers, so it is quoted for
// a POSIX shell wherever it isn't plain.
func (m Mend) Command(site string) string {
	words := []string{"echolane", "site", "set", site}
	if m.Lane != "" {
		words = []string{"echolane", "lane", "set", site + "/" + m.Lane}
	}
	name, value, _ := strings.Cut(m.Value, "=")
	switch m.Action {
	case "add-rung", "add-shape", "add-page", "add-format":
		words = append(words, "--"+m.Action, m.Value)
	case "allow-silent":
		words = append(words, "--pages-silent", "allow")
	case "open-cards":
		words = append(words, "--cards", "open")
	case "url-paint", "url-grow":
		words = append(words, "--"+strings.TrimPrefix(m.Action, "url-"), "url")
	case "add-allow":
		words = append(words, "--allow", m.Value)
	case "remove-deny":
		words = append(words, "--no-deny", m.Value)
	case "add-private":
		words = append(words, "--private", m.Value)
	case "set-limit":
		if m.Lane != "" {
			words = append(words, "--"+strings.ReplaceAll(name, "_", "-"), value)
		} else {
			words = append(words, "--limit", m.Value)
		}
	}
	for i, w := range words {
		words[i] = quote(w)
	}
	return strings.Join(words, " ")
}

func quote(word string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_.,:/@%+=-", r)
	}
	if word != "" && !strings.ContainsFunc(word, func(r rune) bool { return !plain(r) }) {
		return word
	}
	word = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, word)
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Mended is No for a refusal that a change of settings would mend: the change's command is its way out, behind
// what the remedy says already.
func Mended(site string, r Refusal) *Refusal {
	if r.Remedy != "" {
		r.Remedy += ", or: "
	}
	r.Remedy += r.Mend.Command(site)
	return No(r)
}

// Narrows says what of a site is open to all now, and would be so no longer: the first of a list makes what isn't on it
// refused. what is "" where nothing is narrowed.
func (m Mend) Narrows(d Document) (what, others string) {
	switch {
	case m.Action == "add-page" && len(d.Pages.Allow) == 0:
		return "pages.allow", "every page may embed"
	case m.Action == "add-rung" && len(d.Ladder.Rungs) == 0:
		return "ladder", "every width is delivered"
	case m.Action == "add-shape" && len(d.Shapes) == 0:
		return "shapes", "every shape is delivered"
	}
	return "", ""
}

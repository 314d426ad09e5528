package declare

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"echolane/core/wording"
)

// What a URL gives to a card is named as HTML has it: data-title=Spring+sale is what attr(data-title) of a layer stands for.

// DataNames is the entry of the language that stands for all of these names.
const DataNames = "data-*"

// Bounds on what a URL gives to a card.
const (
	mostData = 32
	mostWord = 500 // characters of one value
)

// DataValue is one of the values that a URL gives to a card.
type DataValue struct{ Name, Value string }

// DataValues are those that are given, by name.
func (d *Declarations) DataValues() (list []DataValue) {
	for piece := range strings.SplitSeq(d.Data, "&") {
		name, value, ok := strings.Cut(piece, "=")
		if !ok {
			continue
		}
		if text, err := url.QueryUnescape(value); err == nil {
			list = append(list, DataValue{name, text})
		}
	}
	return list
}

// SetData gives a card one more value, or another one of a name that is there. The problem is nil where that went well.
func (d *Declarations) SetData(name, value string) *Problem {
	name = strings.ToLower(name)
	problem := &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: "unparsable"}
	list := d.DataValues()
	i := slices.IndexFunc(list, func(v DataValue) bool { return v.Name == name })
	switch {
	case !IsDataName(name):
		problem.Parameter, problem.Given, problem.Allowed = name, name, "data- and a name of letters, digits, - and _, such as data-title"
	case !utf8.ValidString(value) || strings.ContainsFunc(value, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7F || r == utf8.RuneError }):
		problem.Allowed = "a text without control characters"
	case utf8.RuneCountInString(value) > mostWord:
		problem.Reason, problem.Allowed = "out-of-range", fmt.Sprintf("at most %d characters", mostWord)
	case i < 0 && len(list) == mostData:
		problem.Reason, problem.Allowed = "out-of-range", fmt.Sprintf("at most %d of them", mostData)
	default:
		if i >= 0 {
			list[i].Value = value
		} else {
			list = append(list, DataValue{name, value})
		}
		slices.SortFunc(list, func(a, b DataValue) int { return strings.Compare(a.Name, b.Name) })
		var b []byte
		for n, v := range list {
			if n > 0 {
				b = append(b, '&')
			}
			b = appendEscaped(append(append(b, v.Name...), '='), v.Value)
		}
		d.Data = string(b)
		return nil
	}
	return problem
}

// parseData reads one of a query's pieces.
func (d *Declarations) parseData(name, raw string) *Problem {
	value, err := unescape(raw)
	if err != nil {
		p := undecodable(name, raw)
		return &p
	}
	name = strings.ToLower(name)
	if slices.ContainsFunc(d.DataValues(), func(v DataValue) bool { return v.Name == name }) {
		return &Problem{Parameter: name, Given: value, Reason: "repeated", Allowed: "once"}
	}
	return d.SetData(name, value)
}

// A Taken is a value that layers take from the URL.
type Taken struct {
	Name    string `json:"name"`
	Number  bool   `json:"number"`
	Picture bool   `json:"picture"` // a lane/path
	Default string `json:"default"` // what stands there where it isn't given
}

// TakenBy are the values that layers take, in their order, each once.
func TakenBy(layers []Box) (list []Taken) {
	add := func(p Part) {
		if p.Data != "" && !slices.ContainsFunc(list, func(t Taken) bool { return t.Name == p.Data }) {
			list = append(list, Taken{p.Data, p.Number, p.Picture, p.Default})
		}
	}
	for i := range layers {
		for _, p := range layers[i].Content() {
			add(p)
		}
		for _, image := range parts(layers[i].of("background-image"), ',') {
			if p, reason := parsePart(strings.TrimSpace(image)); reason == "" {
				add(p)
			}
		}
	}
	return list
}

// Filled are layers with what the URL gives in the place of attr(), and what stands for what it doesn't give. The problem is nil where
// every value can stand where it is to.
func Filled(layers []Box, values []DataValue) ([]Box, *Problem) {
	of := func(p Part) (Part, *Problem) {
		if p.Data == "" {
			return p, nil
		}
		text := p.Default
		if i := slices.IndexFunc(values, func(v DataValue) bool { return v.Name == p.Data }); i >= 0 {
			text = values[i].Value
			_, number := cssNumber(text)
			switch {
			case p.Number && !number:
				return p, &Problem{Parameter: p.Data, Given: wording.Cut(text, 80), Reason: "unparsable", Allowed: "a number"}
			case p.Picture && text != "":
				if _, ok := ParseURL("url(" + text + ")"); !ok {
					return p, &Problem{Parameter: p.Data, Given: wording.Cut(text, 80), Reason: "unparsable", Allowed: "lane/path of a source of the site"}
				}
			}
		}
		return Part{Text: text, Picture: p.Picture}, nil
	}
	out := make([]Box, len(layers))
	for i := range layers {
		b := layers[i]
		out[i] = b
		said := map[string]string{}
		for name, text := range b.Said {
			said[name] = text
		}
		out[i].Said = said
		content := b.Content()
		for n, p := range content {
			filled, problem := of(p)
			if problem != nil {
				return nil, problem
			}
			content[n] = filled
		}
		if content != nil {
			// Where a value isn't given there is no box, whatever else would stand beside it.
			given := 0
			asks := false
			for n, p := range b.Content() {
				if asks = asks || p.Data != ""; p.Data != "" && content[n].Text != "" {
					given++
				}
			}
			if asks && given == 0 {
				content = nil
			}
			content = slices.DeleteFunc(content, func(p Part) bool { return p.Text == "" && (p.Picture || len(content) > 1) })
			if said["content"] = writeContent(content); len(content) == 0 {
				said["content"] = "none"
			}
		}
		if text := b.of("background-image"); strings.Contains(text, "attr(") {
			images := parts(text, ',')
			for n, image := range images {
				p, reason := parsePart(strings.TrimSpace(image))
				if images[n] = strings.TrimSpace(image); reason != "" || p.Data == "" {
					continue
				}
				filled, problem := of(p)
				if problem != nil {
					return nil, problem
				}
				if images[n] = "none"; filled.Text != "" {
					images[n] = filled.text()
				}
			}
			said["background-image"] = strings.Join(images, ", ")
		}
	}
	return out, nil
}

// dataField is the entry for all data-… names, which writes each with its name.
func dataField(d declaration) declaration {
	return field(d, func(d *Declarations) *string { return &d.Data },
		func(*string, string) string { return "unparsable" },
		func(b []byte, v string) []byte { return append(b, v...) })
}

package policy

import (
	"fmt"
	"slices"
	"strings"

	"echolane/core/declare"
	"echolane/core/wording"
)

// Cards says who may give the sheet's cards their texts and pictures.
type Cards struct {
	Values string   `json:"values" toml:"values" words:"signed listed open" comment:"who gives cards what they show: signed (links that are signed), listed (or one of those listed), open (everybody)"`
	Listed []string `json:"listed" toml:"listed" comment:"what everybody may give where values is listed, such as data-status=sold out"`
}

// CardValues says whose values cards take.
type CardValues uint8

// Whose values cards take.
const (
	CardsSigned CardValues = iota
	CardsListed
	CardsOpen
)

const mostListed = 1000

func (c *compiler) cards(s *Site, d Cards) {
	s.CardValues = CardValues(word[Cards](c, "cards.values", d.Values, "Values"))
	if len(d.Listed) > mostListed {
		c.wrong(Trouble{Path: "cards.listed", Given: fmt.Sprint(len(d.Listed)), Detail: "too many values are listed", Allowed: fmt.Sprintf("at most %d", mostListed)})
		return
	}
	for i, one := range d.Listed {
		name, value, ok := strings.Cut(one, "=")
		var to declare.Declarations
		if !ok || to.SetData(name, value) != nil || name != strings.ToLower(name) {
			c.wrong(Trouble{Path: fmt.Sprintf("cards.listed[%d]", i), Given: one, Detail: fmt.Sprintf("%q isn't a name and a value", one), Allowed: "such as data-status=sold out"})
			continue
		}
		s.CardListed = append(s.CardListed, declare.DataValue{Name: name, Value: value})
	}
	if s.CardValues == CardsOpen && len(declare.TakenBy(s.Sheet.AllLayers())) > 0 {
		c.warn(Trouble{Path: "cards.values", Given: "open", Detail: "whoever can write a URL can have this site's cards say anything", Allowed: "signed, or listed with what may be said"})
	}
}

// card holds what a URL gives to cards against what their layers take, and puts it into them.
func (s *Site) card(r *Ask, signed bool, layers []declare.Box, trace *[]Step) ([]declare.Box, *Refusal) {
	values := r.Declared.DataValues()
	taken := declare.TakenBy(layers)
	for _, v := range values {
		if slices.ContainsFunc(taken, func(t declare.Taken) bool { return t.Name == v.Name }) {
			continue
		}
		names := make([]string, len(taken))
		for i, t := range taken {
			names[i] = t.Name
		}
		refused(trace, "card", "nothing takes "+v.Name)
		no := Refusal{Reason: ReasonDataNotTaken, Parameter: v.Name, Given: wording.Cut(v.Value, 80), Detail: "no layer of these classes takes " + v.Name, Allowed: strings.Join(names, ", "), Remedy: "leave " + v.Name + " out"}
		switch near := wording.Nearest(v.Name, names); {
		case near != "":
			no.Remedy = fmt.Sprintf("write %s instead of %s", near, v.Name)
		case len(names) == 0 && r.Declared.Class == "":
			no.Remedy = "name the card's class: class=…"
		}
		return nil, No(no)
	}
	if len(values) > 0 && !signed {
		for _, v := range values {
			if s.CardValues == CardsOpen || s.CardValues == CardsListed && slices.Contains(s.CardListed, v) {
				continue
			}
			refused(trace, "cards.values", "not everybody may give "+v.Name)
			no := Refusal{Reason: ReasonSignatureNeeded, Parameter: v.Name, Given: wording.Cut(v.Value, 80), Mend: &Mend{Action: "open-cards"}, Detail: "this site takes what its cards say from signed links",
				Remedy: "sign the link: echolane link … --sign KEY"}
			if s.CardValues == CardsListed {
				var allowed []string
				for _, l := range s.CardListed {
					if l.Name == v.Name {
						allowed = append(allowed, l.Value)
					}
				}
				no.Allowed, no.Detail = strings.Join(allowed, ", "), fmt.Sprintf("without a signature %s may only have the values that the site lists", v.Name)
			}
			return nil, Mended(s.Name, no)
		}
	}
	filled, problem := declare.Filled(layers, values)
	if problem != nil {
		refused(trace, "card", problem.String())
		return nil, No(Refusal{Reason: ReasonDataNotTaken, Parameter: problem.Parameter, Given: problem.Given, Detail: problem.Parameter + " can't be " + problem.Given, Allowed: problem.Allowed, Remedy: "give " + problem.Allowed})
	}
	if trace != nil && len(taken) > 0 {
		note(trace, "card", "matched", fmt.Sprintf("%d of %d values are given", len(values), len(taken)))
	}
	return filled, nil
}

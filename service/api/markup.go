package api

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"sync"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/sync/errgroup"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/core/sheet"
	"echolane/service/cache"
	"echolane/service/records"
	"echolane/service/source"
)

// Maker makes variants as a request for them would, and tells what is known of sources.
type Maker interface {
	Measure(ctx context.Context, uri, accept string) (*cache.Variant, *policy.Refusal)
	Preview(ctx context.Context, uri, accept string, by *sheet.Sheet) (*cache.Variant, *policy.Refusal)
	FactsOf(ctx context.Context, path string) (source.Facts, *policy.Refusal)
	// KeysOf gives the keys of the variants that a request may be answered with, in every format.
	KeysOf(ctx context.Context, uri string) ([]string, *policy.Refusal)
}

// AskMarkup is what POST /sites/{site}/markup takes.
type AskMarkup struct {
	Source       string   `json:"source"`                 // lane/path, as people write it; of a web lane lane/URL
	Slot         string   `json:"slot"`                   // the place on the page, in CSS
	Container    string   `json:"container,omitempty"`    // the box that percentages are of, in CSS
	Alt          *string  `json:"alt,omitempty"`          // the text alternative of the picture
	Decorative   bool     `json:"decorative,omitempty"`   // it needs no text
	Declarations string   `json:"declarations,omitempty"` // further ones, as a query
	First        bool     `json:"first,omitempty"`        // it is seen first: preloaded, not lazy
	Above        bool     `json:"above,omitempty"`        // it is seen without scrolling: not lazy
	Formats      []string `json:"formats,omitempty"`      // a <source> for each, the lightest first, for caches that don't look at Vary
	Placeholder  string   `json:"placeholder,omitempty"`  // inline: picture, or colour
	Waste        float64  `json:"waste,omitempty"`        // the largest share of bytes a step may waste, 0 to 1
	Pin          bool     `json:"pin,omitempty"`          // addresses name the source's version, so that their answers never change
	Base         string   `json:"base,omitempty"`         // what addresses begin with, without the site; absent: where the call came
	Modelled     bool     `json:"modelled,omitempty"`     // widths follow from how bytes usually grow: nothing is made, and the markup is always the same
}

// Markup is the HTML for a source and its slot.
type Markup struct {
	Markup  markup.Markup   `json:"markup"`
	HTML    string          `json:"html"`
	JSX     string          `json:"jsx"`
	CSS     string          `json:"css"`
	Preload string          `json:"preload"` // for the page's head, where the picture is seen first
	Link    string          `json:"link"`    // the same as an HTTP field
	Weights []Weighed       `json:"weights"` // what was made to choose the widths
	Facts   source.Facts    `json:"facts"`
	Picks   []markup.Picked `json:"picks"` // which of the candidates browsers take, on some screens
}

// Weighed is a variant that was made to know what it weighs.
type Weighed struct {
	Query string `json:"query"` // its declarations
	markup.Weight
}

// screens are those that Picks are for: viewport and density.
var screens = [][2]float64{{360, 3}, {390, 3}, {820, 2}, {1280, 1}, {1280, 1.2}, {1440, 2}, {1920, 1}}

// bestAccept is what a current browser sends.
var bestAccept = declare.AcceptAll()

func (a *API) markup(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	var in AskMarkup
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	if in.Base == "" {
		in.Base = addressOf(s, c.BaseURL())
	}
	out, no := MarkupFor(c.Context(), a.Maker, s, in)
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(out)
}

// addressOf is what a site's image addresses begin with: the first of its own host names, or where the call came, if that is one of
// them or the site has none.
func addressOf(s *policy.SiteSettings, called string) string {
	u, err := url.Parse(called)
	if err != nil || len(s.Hosts) == 0 || slices.ContainsFunc(s.Hosts, func(h string) bool { return strings.EqualFold(h, u.Hostname()) }) {
		return called
	}
	return "https://" + s.Hosts[0]
}

// SourcePath is lane/path as a URL has it.
func SourcePath(s *policy.SiteSettings, given string) (string, *policy.Refusal) {
	lane, path, ok := strings.Cut(strings.TrimPrefix(given, "/"), "/")
	l := s.Lane(lane)
	switch {
	case !ok || path == "":
		return "", badRequest("source", given, "that isn't a source", "as lane/path, such as catalogue/delta-red.jpg")
	case l == nil:
		return "", nothing("lane", lane)
	}
	return string(declare.AppendPath([]byte(lane), path, l.TakesURL)), nil
}

// MarkupFor measures a source and writes its markup.
func MarkupFor(ctx context.Context, maker Maker, s *policy.SiteSettings, in AskMarkup) (out Markup, no *policy.Refusal) {
	o := markup.Options{Alt: in.Alt, Decorative: in.Decorative, Rungs: s.Rungs, Waste: in.Waste, First: in.First, Above: in.Above, Inline: markup.Inline(in.Placeholder)}
	var err error
	if o.Slot, err = markup.ParseSlot(in.Slot); err != nil {
		return out, badSlot("slot", in.Slot, err)
	}
	if in.Container != "" {
		if o.Container, err = markup.ParseSlot(in.Container); err != nil {
			return out, badSlot("container", in.Container, err)
		}
	}
	switch o.Inline {
	case markup.Nothing, markup.SmallPicture, markup.OneColour:
	default:
		return out, badRequest("placeholder", in.Placeholder, "there is no such placeholder", "picture, or colour")
	}
	if in.Waste < 0 || in.Waste >= 1 {
		return out, badRequest("waste", "", "waste is a share of bytes", "between 0 and 1, such as 0.35")
	}
	if o.Over, err = declare.Parse(in.Declarations); err != nil {
		return out, policy.BadDeclarations(err.(declare.Problems))
	}
	for _, name := range in.Formats {
		f := declare.ParseFormat(name)
		if f == declare.FormatUnset {
			return out, badRequest("formats", name, "there is no such format", "of "+strings.Join(declare.FormatNames(), ", "))
		}
		o.Formats = append(o.Formats, f)
	}
	if o.Source, no = SourcePath(s, in.Source); no != nil {
		return out, no
	}
	base, err := url.Parse(in.Base)
	if err != nil || in.Base != "" && (base.Host == "" || base.RawQuery != "") {
		return out, badRequest("base", in.Base, "that isn't what addresses begin with", "a URL such as https://img.example.test")
	}
	prefix := "/" + s.Name
	for _, h := range s.Hosts {
		if strings.EqualFold(h, base.Hostname()) {
			prefix = ""
		}
	}
	o.Base = strings.TrimSuffix(in.Base, "/") + prefix
	if out.Facts, no = maker.FactsOf(ctx, "/"+s.Name+"/"+o.Source); no != nil {
		return out, no
	}
	if in.Pin {
		o.Over.Digest = string(out.Facts.Digest)
	}
	o.Facts = markup.Facts{Width: out.Facts.Width, Height: out.Facts.Height, Alpha: out.Facts.HasAlpha, Placeholder: out.Facts.Placeholder, Colour: out.Facts.Colour}
	declared := o.Declared()
	if declared.Class != "" {
		for _, name := range strings.Fields(declared.Class) {
			if !s.Sheet.Has(name) {
				return out, policy.No(policy.Refusal{Reason: policy.ReasonNoSuchClass, Parameter: "class", Given: name, Detail: "the site's sheet has no class " + name, Allowed: strings.Join(s.Sheet.Classes(), ", "), Remedy: "choose one of its classes, or add a rule for it"})
			}
		}
	}
	classes := declare.Declarations{DeliveryValues: declare.DeliveryValues{Class: declared.Class}}
	o.Site = s.Sheet.Over(classes, sheet.Client{})
	o.LayersMove = slices.ContainsFunc(s.Sheet.Layers(&classes, sheet.Client{}), func(b declare.Box) bool {
		_, moves := b.Moving()
		return moves
	})
	if f := out.Facts; declared.Over(o.Site).Orientation.Of(f.Type, f.Turned) == 1 && f.Turned >= 5 { // it stays on its side
		o.Facts.Width, o.Facts.Height = f.Height, f.Width
	}
	if !in.Modelled {
		if no := lightestFirst(ctx, maker, s.Name, &o); no != nil {
			return out, no
		}
		if out.Weights, no = weigh(ctx, maker, s.Name, &o); no != nil {
			return out, no
		}
	}
	if out.Markup, err = markup.Make(o); err != nil {
		return out, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "alt", Detail: err.Error(), Allowed: "a text, or decorative", Remedy: "give alt, or say decorative (--alt TEXT, --decorative)"})
	}
	if l := s.Lane(strings.Split(o.Source, "/")[0]); l != nil && l.Signed {
		out.Markup.Warnings = append(out.Markup.Warnings, "the lane answers signed links only: sign each of these addresses on the server that writes the page")
	}
	for _, x := range screens {
		out.Picks = append(out.Picks, o.Pick(x[0], x[1]))
	}
	if o.Moves() {
		out.Markup.Warnings = append(out.Markup.Warnings, "the picture moves: what is said of bytes is about the still, and who wants less motion gets that")
	}
	m := &out.Markup
	out.HTML, out.JSX, out.CSS = m.HTML(), m.JSX(), m.CSS()
	if in.First {
		out.Preload, out.Link = m.Preload(), m.Link()
	}
	return out, nil
}

// lightestFirst orders the formats that were asked for by what the picture weighs in them, at its widest: browsers take the first that
// they can show. Of those that are within a fiftieth the order stays; what every browser can show stays at the end.
func lightestFirst(ctx context.Context, maker Maker, site string, o *markup.Options) *policy.Refusal {
	named := slices.DeleteFunc(slices.Clone(o.Formats), func(f declare.Format) bool { return !f.Named() })
	anchors := markup.Anchors(*o)
	if len(named) < 2 || len(anchors) == 0 {
		return nil
	}
	at := *o
	at.Base = "/" + site
	widest := slices.MaxFunc(anchors, func(a, b markup.Anchor) int { return a.Width - b.Width })
	bytes := map[declare.Format]int{}
	refusals := make([]*policy.Refusal, len(named))
	var all errgroup.Group
	var room sync.Mutex
	for i, f := range named {
		all.Go(func() error {
			d := still(o, widest.Declared)
			d.Format = f
			v, no := maker.Measure(ctx, at.Address(d, widest.Width), bestAccept)
			if refusals[i] = no; no == nil {
				room.Lock()
				bytes[f] = len(v.Body)
				room.Unlock()
			}
			return nil
		})
	}
	all.Wait()
	for _, no := range refusals {
		if no != nil {
			if no.Reason == policy.ReasonNoSuchRung { // it isn't known what that weighs
				return nil
			}
			return no
		}
	}
	const like = 1.02
	slices.SortStableFunc(named, func(f, g declare.Format) int {
		switch a, b := float64(bytes[f]), float64(bytes[g]); {
		case a*like < b:
			return -1
		case b*like < a:
			return 1
		}
		return 0
	})
	i := 0
	for j, f := range o.Formats {
		if f.Named() {
			o.Formats[j] = named[i]
			i++
		}
	}
	slices.SortStableFunc(o.Formats, func(f, g declare.Format) int {
		last := func(f declare.Format) int {
			if f.Named() {
				return 0
			}
			return 1
		}
		return last(f) - last(g)
	})
	return nil
}

// weigh makes the variants that tell what the others weigh, and writes down in o what they do. It asks for them at once: the
// workshop makes those of one source together.
func weigh(ctx context.Context, maker Maker, site string, o *markup.Options) (all []Weighed, no *policy.Refusal) {
	anchors := markup.Anchors(*o)
	made := make([]*cache.Variant, len(anchors))
	refusals := make([]*policy.Refusal, len(anchors))
	at := *o
	at.Base = "/" + site
	address := func(a markup.Anchor) string {
		if len(o.Formats) > 0 {
			a.Declared.Format = o.Formats[0]
		}
		a.Declared = still(o, a.Declared)
		return at.Address(a.Declared, a.Width)
	}
	var measuring errgroup.Group
	measuring.SetLimit(16)
	for i, a := range anchors {
		measuring.Go(func() error {
			made[i], refusals[i] = maker.Measure(ctx, address(a), bestAccept)
			return nil
		})
	}
	measuring.Wait()
	o.Facts.Weights = map[declare.Declarations][]markup.Weight{}
	for i, a := range anchors {
		if no := refusals[i]; no != nil {
			if no.Reason != policy.ReasonNoSuchRung {
				return nil, no
			}
			continue
		}
		w := markup.Weight{Width: a.Width, Bytes: len(made[i].Body)}
		o.Facts.Weights[a.Declared] = append(o.Facts.Weights[a.Declared], w)
		_, query, _ := strings.Cut(address(a), "?")
		all = append(all, Weighed{query, w})
	}
	return all, nil
}

// still are declarations for measuring: what moves takes seconds for each width, and its widths may be chosen by the still.
func still(o *markup.Options, d declare.Declarations) declare.Declarations {
	if o.Moves() {
		d.Animation = declare.AnimationNone
	}
	return d
}

func badSlot(parameter, given string, err error) *policy.Refusal {
	return badRequest(parameter, given, err.Error(), "in CSS, such as width: 320px; aspect-ratio: 3/2, or (min-width: 900px) 33vw, 100vw")
}

package api

import (
	"cmp"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/rule"
	"echolane/core/sheet"
	"echolane/core/wording"
	"echolane/service/cache"
	"echolane/service/lane"
	"echolane/service/records"
)

// Sheet is a site's stylesheet as it is published, and the draft of another, if there is one.
type Sheet struct {
	Text    string         `json:"text"`
	Version int64          `json:"version"` // the site's
	Classes []string       `json:"classes"`
	Takes   []Taken        `json:"takes"` // what its cards take from the address
	Draft   *records.Draft `json:"draft"`
}

// Taken is a value that cards take from the address.
type Taken declare.Taken

func takenBy(s *sheet.Sheet) []Taken {
	out := []Taken{}
	for _, t := range declare.TakenBy(s.AllLayers()) {
		out = append(out, Taken(t))
	}
	return out
}

// SheetText is what POST /sites/{site}/sheet/check and PUT /sites/{site}/sheet/draft take.
type SheetText struct {
	Text string `json:"text"`
}

// CheckedSheet says what publishing a sheet would do. It can be published where there are no problems.
type CheckedSheet struct {
	Problems []sheet.Problem    `json:"problems"`
	Warnings []string           `json:"warnings"`
	Classes  []string           `json:"classes"`
	Takes    []Taken            `json:"takes"` // what its cards take from the address
	Added    []string           `json:"added"`
	Removed  []string           `json:"removed"`
	Uses     []records.ClassUse `json:"uses"` // recent requests for classes that are no longer there
}

// PublishSheet is what PUT /sites/{site}/sheet takes.
type PublishSheet struct {
	Text   string `json:"text"`
	Anyway bool   `json:"anyway"` // also where classes vanish that were asked for lately
}

// recently is how far back a request for a class keeps it from vanishing unnoticed.
const recently = 30 * 24 * time.Hour

func (a *API) sheet(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	return a.showSheet(c, s.Name)
}

func (a *API) showSheet(c fiber.Ctx, name string) error {
	s := a.Settings.Current().Site(name)
	if s == nil {
		return refuse(c, failed(records.ErrNoSite, name))
	}
	draft, err := a.Store.Draft(c.Context(), s.Name)
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	c.Set("ETag", etag(s.Version))
	return c.JSON(Sheet{Text: s.Document.Sheet, Version: s.Version, Classes: list(s.Sheet.Classes()), Takes: takenBy(s.Sheet), Draft: draft})
}

func list(names []string) []string {
	if names == nil {
		return []string{}
	}
	return names
}

// examine holds a sheet against the site that it would be of.
func (a *API) examine(c fiber.Ctx, s *policy.SiteSettings, text string) (CheckedSheet, *policy.Refusal) {
	out := CheckedSheet{Problems: []sheet.Problem{}, Warnings: []string{}, Classes: []string{}, Takes: []Taken{}, Added: []string{}, Removed: []string{}, Uses: []records.ClassUse{}}
	read, err := sheet.Parse(text)
	if err != nil {
		out.Problems = err.(sheet.Problems)
		return out, nil
	}
	d := s.Document
	d.Sheet = text
	if _, warnings, err := policy.Compile(d, lane.Described); err != nil {
		for _, t := range err.(policy.Troubles) {
			out.Problems = append(out.Problems, sheet.Problem{Line: 1, Column: 1, Given: t.Given, Detail: t.Detail, Allowed: t.Allowed})
		}
	} else {
		for _, w := range warnings {
			if strings.HasPrefix(w.Path, "sheet") {
				out.Warnings = append(out.Warnings, w.Detail)
			}
		}
	}
	out.Classes, out.Takes = list(read.Classes()), takenBy(read)
	for _, name := range read.Classes() {
		if !s.Sheet.Has(name) {
			out.Added = append(out.Added, name)
		}
	}
	for _, name := range s.Sheet.Classes() {
		if !read.Has(name) {
			out.Removed = append(out.Removed, name)
		}
	}
	if len(out.Removed) > 0 {
		if err := a.Recorder.FlushClasses(c.Context()); err != nil {
			return out, failed(err, s.Name)
		}
		if out.Uses, err = a.Store.ClassUses(c.Context(), s.Name, out.Removed, time.Now().Add(-recently)); err != nil {
			return out, failed(err, s.Name)
		}
	}
	return out, nil
}

func (a *API) checkSheet(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	var in SheetText
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	out, no := a.examine(c, s, in.Text)
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(out)
}

func (a *API) publishSheet(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in PublishSheet
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	return a.publish(c, s, in, "published a sheet")
}

func (a *API) publish(c fiber.Ctx, s *policy.SiteSettings, in PublishSheet, what string) error {
	out, no := a.examine(c, s, in.Text)
	if no != nil {
		return refuse(c, no)
	}
	if len(out.Problems) > 0 {
		words := make([]string, len(out.Problems))
		for i, p := range out.Problems {
			words[i] = p.String()
		}
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonBadSettings, Parameter: "text", Given: out.Problems[0].Given, Detail: strings.Join(words, "\n"), Allowed: out.Problems[0].Allowed, Remedy: "mend the sheet; what is published stays as it is"}))
	}
	if len(out.Uses) > 0 && !in.Anyway {
		words := make([]string, len(out.Uses))
		for i, u := range out.Uses {
			words[i] = fmt.Sprintf(".%s: %s, last on %s", u.Class, u.Address, u.At.UTC().Format("2 January 15:04"))
		}
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonClassInUse, Parameter: "text", Given: strings.Join(out.Removed, ", "), Detail: "these requests name classes that would no longer be there:\n" + strings.Join(words, "\n"),
			Remedy: "keep the classes, or publish anyway: echolane sheet publish … --anyway"}))
	}
	from, no := ifMatch(c, s)
	if no != nil {
		return refuse(c, no)
	}
	d := s.Document
	if d.Sheet = in.Text; d.Sheet != s.Document.Sheet {
		if _, err := a.Store.ChangeSite(c.Context(), d, from, who(c), what); err != nil {
			return refuse(c, failed(err, s.Name))
		}
	}
	// A draft that is published now is done with; another one is somebody's work.
	if draft, err := a.Store.Draft(c.Context(), s.Name); err != nil {
		return refuse(c, failed(err, s.Name))
	} else if draft != nil && draft.Text == in.Text {
		if err := a.Store.DropDraft(c.Context(), s.Name); err != nil {
			return refuse(c, failed(err, s.Name))
		}
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return a.showSheet(c, s.Name)
}

func (a *API) putDraft(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in SheetText
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	if len(in.Text) > sheet.MostBytes {
		return refuse(c, badRequest("text", fmt.Sprintf("%d bytes", len(in.Text)), "the sheet is too large", fmt.Sprintf("of at most %d bytes", sheet.MostBytes)))
	}
	if err := a.Store.PutDraft(c.Context(), records.Draft{Site: s.Name, Text: in.Text, Base: s.Version, By: who(c)}); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return a.showSheet(c, s.Name)
}

func (a *API) dropDraft(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	if err := a.Store.DropDraft(c.Context(), s.Name); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return c.SendStatus(204)
}

// sheetHistory lists the versions in which the sheet changed, newest first.
func (a *API) sheetHistory(c fiber.Ctx) error {
	name := c.Params("site")
	if no := a.may(c, records.MayRead, name); no != nil {
		return refuse(c, no)
	}
	changes, err := a.Store.SheetHistory(c.Context(), name)
	if err != nil {
		return refuse(c, failed(err, name))
	}
	return c.JSON(Page[records.Change]{Items: changes})
}

func (a *API) restoreSheet(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in RestoreSheet
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	d, no := a.findVersion(c, s.Name, fmt.Sprint(in.Version))
	if no != nil {
		return refuse(c, no)
	}
	return a.publish(c, s, PublishSheet{d.Sheet, in.Anyway}, fmt.Sprintf("restored the sheet of version %d", in.Version))
}

// RestoreSheet is what POST /sites/{site}/sheet/restore takes.
type RestoreSheet struct {
	Version int64 `json:"version"`
	Anyway  bool  `json:"anyway"` // also where classes vanish that were asked for lately
}

// Language is what a sheet may say.
type Language struct {
	Picture []declare.Property `json:"picture"` // properties of pictures
	Layer   []declare.Property `json:"layer"`   // properties of their layers
}

func (a *API) language(c fiber.Ctx) error {
	return c.JSON(Language{Picture: declare.SheetProperties(""), Layer: declare.BoxProperties()})
}

// preview draws a source by classes of the draft, or of what is published.
func (a *API) preview(c fiber.Ctx) error {
	v, no := a.previewed(c, c.Get("Accept"))
	if no != nil {
		return refuse(c, no)
	}
	return picture(c, v.Type, v.Body)
}

// LaidOut says where the layers of a picture lie.
type LaidOut struct {
	Width  int     `json:"width"` // of the picture
	Height int     `json:"height"`
	Layers []Layer `json:"layers"` // in the order in which they lie over one another
}

// Layer is one of them, in pixels of the picture.
type Layer struct {
	render.Laid
	Selector string `json:"selector"` // what the sheet calls it, behind a class
}

// layers says where the layers of what preview draws lie, and which texts are too large for them.
func (a *API) layers(c fiber.Ctx) error {
	v, no := a.previewed(c, "image/avif,image/webp,*/*") // as browsers ask for the picture beside it
	if no != nil {
		return refuse(c, no)
	}
	out := LaidOut{Width: v.Width, Height: v.Height, Layers: []Layer{}}
	for _, l := range v.Whole().Layers {
		out.Layers = append(out.Layers, Layer{l, declare.LayerSelector(l.Name)})
	}
	return c.JSON(out)
}

func (a *API) previewed(c fiber.Ctx, accept string) (*cache.Variant, *policy.Refusal) {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return nil, no
	}
	read := s.Sheet
	if c.Query("draft") == "true" {
		draft, err := a.Store.Draft(c.Context(), s.Name)
		if err != nil {
			return nil, failed(err, s.Name)
		}
		if draft != nil {
			if read, err = sheet.Parse(draft.Text); err != nil {
				return nil, badRequest("draft", "", err.Error(), "a draft without problems")
			}
		}
	}
	asked, err := declare.Parse("class=" + url.QueryEscape(c.Query("class")))
	if c.Query("class") == "" {
		asked, err = declare.Declarations{}, nil
	}
	if err != nil {
		return nil, badRequest("class", c.Query("class"), "class can't be that", "classes of the sheet, with a space between")
	}
	for _, class := range strings.Fields(asked.Class) {
		if !read.Has(class) {
			return nil, nothing("class", class)
		}
	}
	source, no := SourcePath(s, c.Query("source"))
	if no != nil {
		return nil, no
	}
	d := read.Over(asked, sheet.Client{})
	if d.Width == 0 && d.Height == 0 {
		asked.Width = 480
	}
	values, err := url.ParseQuery(c.Query("data"))
	if err != nil {
		return nil, badRequest("data", c.Query("data"), err.Error(), "name=value, joined with &, percent-encoded")
	}
	for _, t := range declare.TakenBy(read.Layers(&asked, sheet.Client{})) { // the others are of other classes
		value := cmp.Or(c.Query(t.Name), values.Get(t.Name))
		if value == "" {
			continue
		}
		if p := asked.SetData(t.Name, value); p != nil {
			return nil, badRequest(t.Name, p.Given, t.Name+" can't be that", p.Allowed)
		}
	}
	return a.Maker.Preview(c.Context(), "/"+s.Name+"/"+source+"?"+asked.AddressForm(), accept, read)
}

// RuleText is what POST /css takes: style rules, or declarations.
type RuleText struct {
	Text string `json:"text"`
}

// Rules is what becomes of them.
type Rules struct {
	Rules []rule.Rule `json:"rules"`
	Taken int         `json:"taken"` // declarations that were taken
	All   int         `json:"all"`
}

func (a *API) rules(c fiber.Ctx) error {
	var in RuleText
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	rules, err := rule.Read(in.Text)
	if err != nil {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "text", Given: wording.Cut(in.Text, 80), Detail: err.Error(), Remedy: "give a rule, such as .hero { width: 20rem }"}))
	}
	out := Rules{Rules: rules}
	out.Taken, out.All = rule.Taken(rules)
	return c.JSON(out)
}

package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/policy"
	"echolane/core/weighin"
	"echolane/core/wording"
	"echolane/service/records"
	"echolane/service/weighing"
)

// AskWeighing is what POST /sites/{site}/weighings takes.
type AskWeighing struct {
	Page    string            `json:"page"`              // its URL
	HTML    []byte            `json:"html,omitempty"`    // in base64: what its address is taken to answer; absent: what it answers
	Files   []weighing.File   `json:"files,omitempty"`   // what other addresses are taken to answer
	Screens []weighing.Screen `json:"screens,omitempty"` // absent: a phone, a tablet, a desktop
	Maps    []weighing.Map    `json:"maps,omitempty"`    // what lies in lanes though its address doesn't say so
	Base    string            `json:"base,omitempty"`    // what addresses in the rewritten page begin with
	File    string            `json:"file,omitempty"`    // the file that the page lies in, as people know it
	Fix     bool              `json:"fix,omitempty"`     // rewrite the page too, and weigh that
	Loads   int               `json:"loads,omitempty"`   // how often it is loaded over each throttled line, 0 to 9
}

const (
	mostFiles     = 2000
	mostPage      = 8 << 20
	largestFolder = 96 << 20 // of a page with its files, as JSON
)

// Weighing is a weigh-in and, once it is done, what it came to.
type Weighing struct {
	records.Weighing
	Report *weighin.Report `json:"report"`
	Fixed  *weighing.Fixed `json:"fixed"`
	After  *weighin.Report `json:"after"` // of the rewritten page
}

func (a *API) weigh(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in AskWeighing
	if no := readUpTo(c, &in, largestFolder); no != nil {
		return refuse(c, no)
	}
	ask := weighing.Ask{Site: s, Page: in.Page, Screens: in.Screens, Maps: in.Maps, Base: cmp.Or(in.Base, addressOf(s, c.BaseURL())), Fix: in.Fix, Loads: in.Loads, File: wording.Cut(in.File, 200), Files: in.Files, Own: []string{c.BaseURL()}}
	if len(in.HTML) > 0 {
		ask.HTML = in.HTML
	}
	if len(in.HTML) > mostPage {
		return refuse(c, badRequest("html", fmt.Sprintf("%d bytes", len(in.HTML)), "the page is too large", fmt.Sprintf("of at most %d MiB", mostPage>>20)))
	}
	if len(in.Files) > mostFiles {
		return refuse(c, badRequest("files", fmt.Sprint(len(in.Files)), "too many files", fmt.Sprintf("at most %d", mostFiles)))
	}
	for _, f := range in.Files {
		if !strings.Contains(f.URL, "://") {
			return refuse(c, badRequest("files", f.URL, "that isn't a file of a page", "with a whole URL, a media type, and data in base64"))
		}
	}
	for _, h := range s.Hosts {
		ask.Own = append(ask.Own, "http://"+h, "https://"+h)
	}
	if in.Loads < 0 || in.Loads > weighing.MostLoads {
		return refuse(c, badRequest("loads", fmt.Sprint(in.Loads), "a page isn't loaded that often", fmt.Sprintf("0 to %d", weighing.MostLoads)))
	}
	if len(in.Screens) > 6 {
		return refuse(c, badRequest("screens", fmt.Sprint(len(in.Screens)), "too many screens", "at most six"))
	}
	for _, x := range in.Screens {
		if x.Name == "" || x.Width < 200 || x.Width > 4000 || x.Height < 200 || x.Height > 4000 || x.Density < 0.5 || x.Density > 4 {
			return refuse(c, badRequest("screens", fmt.Sprintf("%s %d×%d at %g", x.Name, x.Width, x.Height, x.Density), "that isn't a screen", "with a name, sides of 200 to 4000 and a density of 0.5 to 4"))
		}
	}
	for _, m := range in.Maps {
		lane, _, _ := strings.Cut(m.To, "/")
		if s.Lane(lane) == nil {
			return refuse(c, nothing("lane", lane))
		}
		if !strings.Contains(m.From, "://") {
			return refuse(c, badRequest("maps", m.From, "that isn't a URL", "from URL to lane, such as https://shop.example.test/pictures/ to catalogue"))
		}
	}
	if !strings.HasPrefix(in.Page, "http://") && !strings.HasPrefix(in.Page, "https://") {
		return refuse(c, badRequest("page", in.Page, "that isn't a page's URL", "as a whole http or https URL"))
	}
	id, err := a.Jobs.Weigh(c.Context(), ask, who(c))
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	w, err := a.Store.Weighing(c.Context(), s.Name, id)
	if err != nil || w == nil {
		return refuse(c, failed(err, s.Name))
	}
	return c.Status(202).JSON(Weighing{Weighing: *w})
}

func (a *API) weighings(c fiber.Ctx) error {
	return newestFirst(a, c, a.Store.Weighings, func(w records.Weighing) (records.Weighing, int64) { return w, w.ID })
}

func (a *API) findWeighing(c fiber.Ctx, right string) (*records.Weighing, *policy.Refusal) {
	s, no := a.findSite(c, right)
	if no != nil {
		return nil, no
	}
	id, err := strconv.ParseInt(c.Params("weighing"), 10, 64)
	if err != nil {
		return nil, nothing("weigh-in", c.Params("weighing"))
	}
	w, err := a.Store.Weighing(c.Context(), s.Name, id)
	if err != nil {
		return nil, failed(err, s.Name)
	}
	if w == nil {
		return nil, nothing("weigh-in", c.Params("weighing"))
	}
	return w, nil
}

func (a *API) weighing(c fiber.Ctx) error {
	w, no := a.findWeighing(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	out := Weighing{Weighing: *w}
	if w.Outcome != nil {
		o, no := outcomeOf(w)
		if no != nil {
			return refuse(c, no)
		}
		out.Report, out.Fixed, out.After = &o.Report, o.Fixed, o.After
	}
	return c.JSON(out)
}

// reading bounds how many outcomes are taken apart at once: each is megabytes.
var reading = make(chan struct{}, 4)

// outcome is what a weigh-in came to.
func (a *API) outcome(c fiber.Ctx) (*weighing.Outcome, *policy.Refusal) {
	w, no := a.findWeighing(c, records.MayRead)
	if no != nil {
		return nil, no
	}
	if w.Outcome == nil {
		return nil, nothing("report of weigh-in", c.Params("weighing"))
	}
	return outcomeOf(w)
}

// readingWait is how long a call waits for its turn.
const readingWait = 10 * time.Second

func outcomeOf(w *records.Weighing) (*weighing.Outcome, *policy.Refusal) {
	select {
	case reading <- struct{}{}:
		defer func() { <-reading }()
	case <-time.After(readingWait):
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "too many weigh-ins are read at once", Remedy: "try again in a moment", RetryIn: 2})
	}
	var o weighing.Outcome
	if err := json.Unmarshal(w.Outcome, &o); err != nil {
		return nil, asRefusal(err)
	}
	for _, r := range []*weighin.Report{&o.Report, o.After} {
		if r != nil && r.Loads == nil { // weighed before pages were loaded over throttled lines
			r.Loads = []weighin.Loading{}
		}
	}
	return &o, nil
}

// weighingShot answers one of the screenshots.
func (a *API) weighingShot(c fiber.Ctx) error {
	o, no := a.outcome(c)
	if no != nil {
		return refuse(c, no)
	}
	n, err := strconv.Atoi(c.Params("shot"))
	if err != nil || n < 1 || n > len(o.Shots) {
		return refuse(c, nothing("screenshot", c.Params("shot")))
	}
	pictureHead(c, "image/jpeg")
	c.Set("Cache-Control", "private, max-age=86400") // a weigh-in never changes
	return c.Send(o.Shots[n-1])
}

// weighingPage answers the report as a page by itself.
func (a *API) weighingPage(c fiber.Ctx) error {
	o, no := a.outcome(c)
	if no != nil {
		return refuse(c, no)
	}
	var b bytes.Buffer
	if err := weighin.WritePage(&b, &o.Report, o.After, o.Shots); err != nil {
		return refuse(c, asRefusal(err))
	}
	c.Set("Content-Type", "text/html; charset=utf-8")
	c.Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:")
	return c.Send(b.Bytes())
}

func (a *API) stopWeighing(c fiber.Ctx) error {
	w, no := a.findWeighing(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	if _, err := a.Store.StopWeighing(c.Context(), w.Site, w.ID); err != nil {
		return refuse(c, failed(err, w.Site))
	}
	return c.SendStatus(204)
}

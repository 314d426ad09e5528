package api

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/delivery"
	"echolane/service/records"
	"echolane/service/source"
)

// What is made before somebody asks for it.

// AskWarm is what POST /sites/{site}/warmings takes: a lane, or addresses.
type AskWarm struct {
	Lane         string   `json:"lane,omitempty"`         // all its sources
	Below        string   `json:"below,omitempty"`        // of the lane, those whose paths begin so
	Addresses    []string `json:"addresses,omitempty"`    // of images, as their pages have them: /site/lane/path, or with declarations
	Widths       []int    `json:"widths,omitempty"`       // of sources without declarations; absent: the site's ladder
	Formats      []string `json:"formats,omitempty"`      // absent: those that the site delivers
	Declarations string   `json:"declarations,omitempty"` // further ones, as a query, for sources without
	Facts        bool     `json:"facts,omitempty"`        // instead of making variants, look at the sources, so that they're found by what is in them
	DryRun       bool     `json:"dry_run,omitempty"`      // say what it would come to, and begin nothing
}

// Warming is one, with what it is thought to take.
type Warming struct {
	records.Warming
	PerSecond float64               `json:"per_second,omitempty"` // variants, while it is worked on
	LeftS     float64               `json:"left_s,omitempty"`     // seconds that it will take at that rate
	Forecast  *Forecast             `json:"forecast,omitempty"`   // before it begins
	Troubles  []records.WarmTrouble `json:"troubles,omitempty"`   // why something was left out
}

// Forecast is what a warming is thought to come to, by what variants of the site came to so far.
type Forecast struct {
	Variants int64   `json:"variants"`
	Kept     int64   `json:"kept"`    // of them are there already, about
	Bytes    int64   `json:"bytes"`   // of those that are to be made
	Seconds  float64 `json:"seconds"` // on one node like this one, with nothing else to do
	Workers  int     `json:"workers"` // of this node
}

// SetWarming has a warming paused, go on, or stopped.
type SetWarming struct {
	State string `json:"state" words:"paused running stopped"`
}

const (
	mostWarmSources = 200_000
	mostWarmBody    = 32 << 20
	mostWarmWidths  = 100
)

func (a *API) warm(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var ask AskWarm
	if no := readUpTo(c, &ask, mostWarmBody); no != nil {
		return refuse(c, no)
	}
	w, items, widths, formats, no := a.warmingOf(c.Context(), s, &ask)
	if no != nil {
		return refuse(c, no)
	}
	if ask.DryRun {
		f, err := a.forecast(c.Context(), s, &ask, w.Variants, widths, formats)
		if err != nil {
			return refuse(c, failed(err, s.Name))
		}
		w.Sources, w.State = int64(len(items)), "running"
		return c.JSON(Warming{Warming: w, Forecast: f})
	}
	w.By = who(c)
	w, err := a.Store.AddWarming(c.Context(), w, items)
	if errors.Is(err, records.ErrManyWarmings) {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: err.Error(), Remedy: "wait for one to end, or stop one: echolane warm list " + s.Name, RetryIn: 30}))
	}
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	if ask.Facts {
		if err := a.forgetGone(c.Context(), s, &ask, items); err != nil {
			return refuse(c, failed(err, s.Name))
		}
	}
	a.Jobs.Tell()
	return c.Status(202).JSON(warmingOut(w))
}

// accepts are the Accept fields that clients of these formats send, so that what is made is what they will ask for.
func accepts(site, formats []string) (all []string) {
	for _, f := range formats {
		var named []string
		for _, g := range site[slices.Index(site, f):] { // who takes a format takes those that are older
			if declare.ParseFormat(g).Named() {
				named = append(named, declare.ParseFormat(g).MediaType())
			}
		}
		if text := strings.Join(named, ","); !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return all
}

// warmingOf works out what is to be made.
func (a *API) warmingOf(ctx context.Context, s *policy.SiteSettings, ask *AskWarm) (w records.Warming, items []records.WarmItem, widths []int, formats []string, no *policy.Refusal) {
	w.Site = s.Name
	if formats = ask.Formats; len(formats) == 0 {
		formats = s.Document.Formats
	}
	for _, f := range formats {
		if !slices.Contains(s.Document.Formats, f) {
			return w, nil, nil, nil, badRequest("formats", wording.Cut(f, 40), "the site doesn't deliver it", "of "+strings.Join(s.Document.Formats, ", "))
		}
	}
	all := accepts(s.Document.Formats, formats)
	if ask.Facts {
		all = []string{""}
		if ask.Lane == "" || len(ask.Widths) > 0 || ask.Declarations != "" || len(ask.Formats) > 0 {
			return w, nil, nil, nil, badRequest("facts", "true", "sources are looked at as they are", "with a lane, and without widths, formats and declarations")
		}
	}
	w.Accepts = strings.Join(all, "\n")
	switch {
	case (ask.Lane == "") == (len(ask.Addresses) == 0):
		return w, nil, nil, nil, badRequest("lane", ask.Lane, "a warming is of a lane or of addresses", "or addresses, one of the two")
	case ask.Lane != "" && s.Lane(ask.Lane) == nil:
		return w, nil, nil, nil, delivery.NoLane(s, ask.Lane)
	case ask.Below != "" && ask.Lane == "":
		return w, nil, nil, nil, badRequest("below", wording.Cut(ask.Below, 40), "it is a path in a lane", "with a lane")
	}
	if widths = ask.Widths; len(widths) == 0 {
		widths = s.Document.Ladder.Rungs
	}
	further, err := declare.Parse(ask.Declarations)
	if err != nil {
		return w, nil, nil, nil, policy.BadDeclarations(err.(declare.Problems))
	}
	queries := []string{"as=facts"}
	if !ask.Facts {
		if queries, no = warmQueries(further, widths, s.Name, len(ask.Addresses) == 0); no != nil {
			return w, nil, nil, nil, no
		}
	}
	w.Queries = strings.Join(queries, "\n")
	if ask.Lane != "" {
		if w.What = ask.Lane + "/" + ask.Below; ask.Facts {
			w.What = "facts of " + w.What
		}
		items, no = a.laneItems(ctx, s, ask)
		w.Variants = int64(len(items) * len(queries) * len(all))
	} else {
		if w.What = ask.Addresses[0]; len(ask.Addresses) > 1 {
			w.What = fmt.Sprintf("%d addresses", len(ask.Addresses))
		}
		var n int
		items, n, no = addressItems(s.Name, ask.Addresses, queries)
		w.Variants = int64(n * len(all))
	}
	if no == nil && len(items) == 0 {
		no = badRequest("lane", ask.Lane, "there are no sources to make anything of", "with sources in it")
	}
	return w, items, widths, formats, no
}

// warmQueries are the queries for sources without declarations.
func warmQueries(further declare.Declarations, widths []int, site string, needed bool) (queries []string, no *policy.Refusal) {
	if further.Width != (declare.Declarations{}).Width {
		return nil, badRequest("declarations", "width", "widths have a field of their own", "without a width")
	}
	if len(widths) > mostWarmWidths {
		return nil, badRequest("widths", fmt.Sprint(len(widths)), "there are too many widths", fmt.Sprintf("at most %d", mostWarmWidths))
	}
	if len(widths) == 0 && needed {
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonBadRequest, Parameter: "widths", Detail: "site " + site + " has no ladder, so the widths must be given",
			Remedy: "give widths, such as 320,640,1280; or the site a ladder: echolane site set " + site + " --rungs 320,640,1280",
		})
	}
	for _, width := range widths {
		if width < 1 || width > 65535 {
			return nil, badRequest("widths", fmt.Sprint(width), "a width is out of range", "1 to 65535")
		}
		text := "width=" + strconv.Itoa(width)
		if rest := further.AddressForm(); rest != "" {
			text += "&" + rest
		}
		d, err := declare.Parse(text)
		if err != nil {
			return nil, policy.BadDeclarations(err.(declare.Problems))
		}
		queries = append(queries, d.AddressForm())
	}
	return queries, nil
}

// forgetGone forgets what was found in sources that a lane has no more, where it says which it has.
func (a *API) forgetGone(ctx context.Context, s *policy.SiteSettings, ask *AskWarm, items []records.WarmItem) error {
	l := s.Lane(ask.Lane)
	opened, err := a.Lanes.Of(s, l)
	if err != nil {
		return err
	}
	if _, _, err := opened.List(ctx, "", 1); errors.Is(err, errors.ErrUnsupported) {
		return nil
	}
	paths := make([]string, 0, len(items))
	for _, item := range items {
		path, err := url.PathUnescape(strings.TrimPrefix(item.Source, "/"+s.Name+"/"+l.Name+"/"))
		if err != nil {
			return err
		}
		paths = append(paths, path)
	}
	return a.Store.ForgetOthers(ctx, s.Name, l.Name, ask.Below, paths)
}

// laneItems lists the sources of a lane: those that it has, or, where nobody can list them, those that were asked for before.
func (a *API) laneItems(ctx context.Context, s *policy.SiteSettings, ask *AskWarm) (items []records.WarmItem, no *policy.Refusal) {
	l := s.Lane(ask.Lane)
	opened, err := a.Lanes.Of(s, l)
	if err != nil {
		return nil, asRefusal(err)
	}
	add := func(path string) {
		if strings.HasPrefix(path, ask.Below) {
			items = append(items, records.WarmItem{Source: string(declare.AppendPath([]byte("/"+s.Name+"/"+l.Name), path, l.TakesURL))})
		}
	}
	for after := ""; ; {
		var list []source.Entry
		more := false
		list, more, err = opened.List(ctx, after, largestPage)
		if errors.Is(err, errors.ErrUnsupported) {
			known, err := a.Store.PathsOf(ctx, s.Name, l.Name, after, largestPage)
			if err != nil {
				return nil, failed(err, s.Name)
			}
			for _, v := range known {
				list = append(list, source.Entry{Path: v.Path})
			}
			more = len(known) == largestPage
		} else if err != nil {
			return nil, asRefusal(err)
		}
		for _, e := range list {
			add(e.Path)
			after = e.Path
		}
		if len(items) > mostWarmSources {
			return nil, badRequest("lane", ask.Lane, fmt.Sprintf("it has more than %d sources", mostWarmSources), "in parts, each below a path")
		}
		if !more || len(list) == 0 {
			return items, nil
		}
	}
}

// addressItems are the sources of addresses, each with what is asked of it. n counts the queries.
func addressItems(site string, addresses, queries []string) (items []records.WarmItem, n int, no *policy.Refusal) {
	at := map[string]int{}
	of := [][]string{}
	for _, address := range addresses {
		path, query, declared := strings.Cut(address, "?")
		if rest, ok := strings.CutPrefix(path, "/"+site+"/"); !ok || !strings.Contains(rest, "/") || strings.ContainsAny(address, "\n\r\x00") || len(address) > 4000 {
			return nil, 0, badRequest("addresses", wording.Cut(address, 80), "it is no image of this site", "such as /"+site+"/lane/path?width=640")
		}
		i, known := at[path]
		if !known {
			i = len(items)
			at[path] = i
			items, of = append(items, records.WarmItem{Source: path}), append(of, nil)
		}
		asked := queries
		if declared {
			asked = []string{query}
		} else if len(asked) == 0 {
			asked = []string{""}
		}
		for _, q := range asked {
			if !slices.Contains(of[i], q) {
				of[i] = append(of[i], q)
				n++
			}
		}
	}
	if len(items) > mostWarmSources {
		return nil, 0, badRequest("addresses", fmt.Sprint(len(items)), "there are too many sources", fmt.Sprintf("at most %d", mostWarmSources))
	}
	for i := range items {
		items[i].Queries = strings.Join(of[i], "\n")
	}
	return items, n, nil
}

// forecast works out what a warming will take from what variants took so far; where there are none, from what they commonly do.
func (a *API) forecast(ctx context.Context, s *policy.SiteSettings, ask *AskWarm, variants int64, widths []int, formats []string) (*Forecast, error) {
	f := &Forecast{Variants: variants, Workers: a.Workshop.Workers()}
	if ask.Facts {
		const took = 0.35 // seconds for a source of some megapixels
		f.Seconds = math.Round(float64(variants)*took/float64(max(f.Workers, 1))*10) / 10
		return f, nil
	}
	yields, err := a.Store.Yields(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	if ask.Lane != "" {
		if f.Kept, err = a.Store.CountWarm(ctx, s.Name, ask.Lane, ask.Below, widths, formats); err != nil {
			return nil, err
		}
		f.Kept = min(f.Kept, variants)
	}
	// The means over formats and widths; a picture is taken to be 3 by 2.
	pixels := 0.0
	for _, w := range widths {
		pixels += float64(w) * float64(w) * 2 / 3
	}
	if len(widths) == 0 {
		pixels = 640 * 427
	} else {
		pixels /= float64(len(widths))
	}
	bytes, ms := 0.0, 0.0
	for _, name := range formats {
		y := records.Yield{Format: name, BytesPerPixel: 0.15, MSPerPixel: 0.0003}
		for _, known := range yields {
			if known.Format == name {
				y = known
			}
		}
		bytes, ms = bytes+y.BytesPerPixel/float64(len(formats)), ms+y.MSPerPixel/float64(len(formats))
	}
	left := float64(variants - f.Kept)
	f.Bytes = int64(left * pixels * bytes)
	f.Seconds = math.Round(left*pixels*ms/1000/float64(max(f.Workers, 1))*10) / 10
	return f, nil
}

func warmingOut(w records.Warming) Warming {
	out := Warming{Warming: w}
	if did := w.Made + w.Kept + w.LeftOut; did > 0 && w.ActiveS > 0 {
		out.PerSecond = math.Round(float64(did)/w.ActiveS*100) / 100
		if w.State == "running" || w.State == "paused" {
			out.LeftS = math.Round(float64(w.Variants-did) / (float64(did) / w.ActiveS))
		}
	}
	return out
}

func (a *API) warmings(c fiber.Ctx) error {
	return newestFirst(a, c, a.Store.Warmings, func(w records.Warming) (Warming, int64) { return warmingOut(w), w.ID })
}

// findWarming finds the one that a call is about.
func (a *API) findWarming(c fiber.Ctx, right string) (w records.Warming, no *policy.Refusal) {
	s, no := a.findSite(c, right)
	if no != nil {
		return w, no
	}
	id, err := strconv.ParseInt(c.Params("warming"), 10, 64)
	if err == nil {
		w, err = a.Store.Warming(c.Context(), s.Name, id)
	}
	if err != nil && (id == 0 || errors.Is(err, records.ErrNoWarming)) {
		return w, policy.No(policy.Refusal{Reason: policy.ReasonNoSuchThing, Parameter: "warming", Given: wording.Cut(c.Params("warming"), 40), Detail: "site " + s.Name + " has no such warming", Remedy: "see which there are: echolane warm list " + s.Name})
	}
	if err != nil {
		return w, failed(err, s.Name)
	}
	return w, nil
}

func (a *API) warming(c fiber.Ctx) error {
	w, no := a.findWarming(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	out := warmingOut(w)
	var err error
	if out.Troubles, err = a.Store.WarmTroubles(c.Context(), w.ID); err != nil {
		return refuse(c, failed(err, w.Site))
	}
	return c.JSON(out)
}

func (a *API) setWarming(c fiber.Ctx) error {
	w, no := a.findWarming(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in SetWarming
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	if in.State != "paused" && in.State != "running" && in.State != "stopped" {
		return refuse(c, badRequest("state", wording.Cut(in.State, 40), "a warming can't be put into this state", "paused, running or stopped"))
	}
	if w.State == "done" || w.State == "stopped" {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "state", Given: in.State, Detail: fmt.Sprintf("warming %d has ended already: it is %s", w.ID, w.State), Remedy: "begin another: echolane warm " + w.Site + "/LANE"}))
	}
	if _, err := a.Store.SetWarming(c.Context(), w.ID, in.State); err != nil {
		return refuse(c, failed(err, w.Site))
	}
	a.Jobs.Tell()
	w, err := a.Store.Warming(c.Context(), w.Site, w.ID)
	if err != nil {
		return refuse(c, failed(err, w.Site))
	}
	return c.JSON(warmingOut(w))
}

package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/delivery"
	"echolane/service/records"
)

// What is kept, and how it is forgotten.

// AskPurge is what POST /sites/{site}/purges takes. Without lane, class and address it is the whole site.
type AskPurge struct {
	Lane    string `json:"lane,omitempty"`
	Path    string `json:"path,omitempty"`    // a source in the lane; all below it where it ends in a slash
	Class   string `json:"class,omitempty"`   // what was asked for with this class of the sheet
	Address string `json:"address,omitempty"` // of an image: its variant, in every format
	DryRun  bool   `json:"dry_run,omitempty"` // say what would be purged, and purge nothing
}

// Purged is a purge that was ordered, or would be.
type Purged struct {
	records.Purge
	DryRun bool `json:"dry_run,omitempty"`
}

// Stock is what is kept.
type Stock struct {
	records.StockFigures
	By     string               `json:"by" words:"site lane source format"`
	Groups []records.StockGroup `json:"groups"` // those with the most bytes first

	// FormatsTried is in how many formats a variant of the site is made at most, of which the smallest is kept; 0 of all sites.
	FormatsTried int `json:"formats_tried,omitempty"`
}

// StockList are variants that are kept, and where the next of them begin.
type StockList struct {
	Items []records.StockVariant `json:"items"`
	Skip  int                    `json:"skip,omitempty"` // to come to the next; 0: there are none
}

func (a *API) purge(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var ask AskPurge
	if no := read(c, &ask); no != nil {
		return refuse(c, no)
	}
	rule, no := a.purgeOf(c.Context(), s, ask)
	if no != nil {
		return refuse(c, no)
	}
	p := records.Purge{PurgeRule: rule, Address: ask.Address, By: who(c)}
	var err error
	if p.Variants, p.Bytes, err = a.Store.CountPurge(c.Context(), rule); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	if ask.DryRun {
		return c.JSON(Purged{p, true})
	}
	if p, err = a.Store.AddPurge(c.Context(), p); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil { // here at once; elsewhere by the database's word
		return refuse(c, failed(err, s.Name))
	}
	return c.JSON(Purged{p, false})
}

// purgeOf reads what is to be purged.
func (a *API) purgeOf(ctx context.Context, s *policy.SiteSettings, ask AskPurge) (r records.PurgeRule, no *policy.Refusal) {
	r = records.PurgeRule{Site: s.Name, Lane: ask.Lane, Path: ask.Path, Class: ask.Class}
	given := 0
	for _, text := range []string{ask.Lane, ask.Class, ask.Address} {
		if text != "" {
			given++
		}
	}
	switch {
	case given > 1:
		return r, badRequest("lane", ask.Lane, "a purge is of a lane, a class or an address", "or one of class and address, not several")
	case ask.Path != "" && ask.Lane == "":
		return r, badRequest("lane", "", "a path is one in a lane", "with the path")
	case len(ask.Path) > 2000 || len(ask.Class) > 200:
		return r, badRequest("path", wording.Cut(ask.Path+ask.Class, 60), "it is too long", "of at most 2000 bytes")
	case ask.Address != "":
		r.Lane = ""
		if site, _, _ := strings.Cut(strings.TrimPrefix(ask.Address, "/"), "/"); site != s.Name {
			return r, badRequest("address", wording.Cut(ask.Address, 60), "the address is of another site", "an address of "+s.Name+", from /"+s.Name+"/ on")
		}
		keys, no := a.Maker.KeysOf(ctx, ask.Address)
		if no != nil {
			return r, no
		}
		r.Keys = strings.Join(keys, " ")
	case ask.Lane != "" && s.Lane(ask.Lane) == nil:
		n, _, err := a.Store.CountPurge(ctx, r)
		if err != nil {
			return r, failed(err, s.Name)
		}
		if n == 0 { // of a lane that was removed there may still be some
			return r, delivery.NoLane(s, ask.Lane)
		}
	}
	return r, nil
}

func (a *API) purges(c fiber.Ctx) error {
	return newestFirst(a, c, a.Store.Purges, func(p records.Purge) (records.Purge, int64) { return p, p.Serial })
}

func (a *API) stockOfAll(c fiber.Ctx) error {
	if no := a.may(c, records.MayRead, ""); no != nil {
		return refuse(c, no)
	}
	return a.takeStock(c, "", "site")
}

func (a *API) stock(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	return a.takeStock(c, s.Name, "lane")
}

func (a *API) takeStock(c fiber.Ctx, site, by string) error {
	if given := c.Query("by"); given != "" {
		by = given
	}
	if !slices.Contains(records.StockBy, by) {
		return refuse(c, badRequest("by", wording.Cut(by, 40), "what is kept can't be grouped so", "one of "+strings.Join(records.StockBy, ", ")))
	}
	limit, no := numberOf(c, "count", defaultPage, 1, largestPage)
	if no != nil {
		return refuse(c, no)
	}
	purged := uint64(0) // so that who has purged something reads anew
	for _, s := range a.Settings.Current().Sites {
		if site == "" || s.Name == site {
			purged = max(purged, s.NewestPurge())
		}
	}
	out, err := a.stocks.do(c.Context(), fmt.Sprint(site, " ", by, " ", limit, " ", purged), func(ctx context.Context) (out Stock, err error) {
		out.By = by
		if s := a.Settings.Current().Site(site); s != nil {
			out.FormatsTried = s.FormatsTried
		}
		out.StockFigures, out.Groups, err = a.Store.Stock(ctx, site, by, limit)
		return out, err
	})
	if err != nil {
		return refuse(c, failed(err, site))
	}
	return c.JSON(out)
}

func (a *API) stockVariants(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	limit, no := numberOf(c, "count", defaultPage, 1, largestPage)
	if no != nil {
		return refuse(c, no)
	}
	skip, no := numberOf(c, "skip", 0, 0, mostSkipped)
	if no != nil {
		return refuse(c, no)
	}
	order := c.Query("order", records.StockOrders[0])
	if !slices.Contains(records.StockOrders, order) {
		return refuse(c, badRequest("order", wording.Cut(order, 40), "variants have no such order", "one of "+strings.Join(records.StockOrders, ", ")))
	}
	rule := records.PurgeRule{Site: s.Name, Lane: c.Query("lane"), Path: c.Query("path")}
	if rule.Path != "" && rule.Lane == "" {
		return refuse(c, badRequest("lane", "", "a path is one in a lane", "with the path"))
	}
	list, err := a.Store.StockVariants(c.Context(), rule, order, skip, limit+1)
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	page := StockList{Items: list}
	if len(list) > limit {
		page.Items, page.Skip = list[:limit], skip+limit
	}
	return c.JSON(page)
}

// mostSkipped is how far lists of variants go.
const mostSkipped = 100_000

// numberOf reads a number of the query.
func numberOf(c fiber.Ctx, name string, absent, least, most int) (int, *policy.Refusal) {
	given := c.Query(name)
	if given == "" {
		return absent, nil
	}
	n, err := strconv.Atoi(given)
	if err != nil || n < least || n > most {
		return 0, badRequest(name, wording.Cut(given, 40), name+" is out of range", fmt.Sprintf("%d to %d", least, most))
	}
	return n, nil
}

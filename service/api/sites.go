package api

import (
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/policy"
	"echolane/service/lane"
	"echolane/service/problem"
	"echolane/service/records"
)

// Site is a site as the API shows it.
type Site struct {
	Name      string           `json:"name"`
	Version   int64            `json:"version"` // also its ETag, for If-Match
	MadeAt    time.Time        `json:"made_at"`
	ChangedAt time.Time        `json:"changed_at"`
	Document  policy.Document  `json:"document"`
	Defaults  string           `json:"defaults"` // what its sheet says of every picture, as a query
	Classes   []string         `json:"classes"`  // its sheet's
	Warnings  []policy.Trouble `json:"warnings"` // what is open wider than most would want
	Secrets   []string         `json:"secrets"`  // which are kept; never what they say
}

// Proposal is what a change would do.
type Proposal struct {
	Changes  []policy.Difference `json:"changes"`
	Warnings []policy.Trouble    `json:"warnings"`
}

// Restore is what POST /sites/{site}/restore takes.
type Restore struct {
	Version int64 `json:"version"`
}

// LadderProposal is what GET /sites/{site}/ladder gives.
type LadderProposal struct {
	Rungs []int `json:"rungs"`
}

func show(s *policy.SiteSettings) Site {
	v := Site{Name: s.Name, Version: s.Version, MadeAt: s.MadeAt.UTC(), ChangedAt: s.ChangedAt.UTC(), Document: s.Document, Defaults: s.Defaults.AddressForm(), Classes: list(s.Sheet.Classes()), Warnings: warningsOf(s.Document), Secrets: []string{}}
	for _, d := range s.SecretNames() {
		v.Secrets = append(v.Secrets, d)
	}
	return v
}

func warningsOf(d policy.Document) []policy.Trouble {
	_, warnings, _ := policy.Compile(d, lane.Described)
	if warnings == nil {
		warnings = []policy.Trouble{}
	}
	return warnings
}

func (a *API) showSite(c fiber.Ctx, status int, name string) error {
	s := a.Settings.Current().Site(name)
	if s == nil {
		return refuse(c, failed(records.ErrNoSite, name))
	}
	c.Set("ETag", etag(s.Version))
	return c.Status(status).JSON(show(s))
}

func etag(version int64) string { return `"` + strconv.FormatInt(version, 10) + `"` }

// ifMatch is the version that the caller means to change.
func ifMatch(c fiber.Ctx, s *policy.SiteSettings) (int64, *policy.Refusal) {
	field := c.Get("If-Match")
	switch field {
	case "":
		return 0, policy.No(policy.Refusal{Reason: policy.ReasonIfMatchNeeded, Parameter: "If-Match", Detail: "without it a change of somebody else's could be lost", Allowed: "the ETag that the site had when you read it, or *", Remedy: "send If-Match: " + etag(s.Version)})
	case "*":
		return s.Version, nil
	}
	v, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(field, "W/"), `"`), 10, 64)
	if err != nil {
		return 0, badRequest("If-Match", field, "that isn't a version", `a version in quotes, such as "3"`)
	}
	if v != s.Version {
		return 0, failed(records.ErrChanged, s.Name)
	}
	return v, nil
}

func (a *API) sites(c fiber.Ctx) error {
	access, ok := accessOf(c)
	if !ok {
		return refuse(c, a.may(c, records.MayRead, ""))
	}
	var list []Site
	for _, s := range a.Settings.Current().Sites {
		if access.Allows(records.MayRead, s.Name) {
			list = append(list, show(s))
		}
	}
	return paged(c, list, func(s Site) string { return s.Name })
}

func (a *API) site(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	return a.showSite(c, 200, s.Name)
}

// Ground is what of the machine and its networks those who may edit sites can point lanes at. Owners of the whole service
// may point them anywhere.
type Ground struct {
	Roots    []string       // folders of lanes lie in one of these, or are one
	Networks []netip.Prefix // private addresses that lanes may reach
}

// check holds a document against all that can be known of it here: what it says, whether the folders it names are there,
// and whether who changes it may point lanes at them and at private networks. What stood there before stays.
func (a *API) check(c fiber.Ctx, d policy.Document, before *policy.Document) *policy.Refusal {
	if _, _, err := policy.Compile(d, lane.Described); err != nil {
		return policy.BadDocument(err.(policy.Troubles))
	}
	access, _ := accessOf(c)
	owner := access.Allows(records.MayOwn, "")
	for i, l := range d.Lanes {
		was := &policy.Lane{}
		if before != nil {
			if l := before.Lane(l.Name); l != nil {
				was = l
			}
		}
		at := fmt.Sprintf("lanes[%d]", i)
		if l.Folder != "" && l.Folder != was.Folder {
			if !owner && !a.Ground.holds(l.Folder) {
				return notYours(at+".folder", l.Folder, "the folder lies outside those that the service gives to sites", a.Ground.rootsText(), "--source-root")
			}
		}
		if l.Folder != was.Folder || l.Kind != was.Kind {
			if t := lane.Kinds.Of(l.Kind).Ready(&l); t != nil {
				t.Path = at + "." + t.Path
				return policy.BadDocument(policy.Troubles{*t})
			}
		}
		for j, text := range l.Private {
			if !owner && !slices.Contains(was.Private, text) && !a.Ground.reaches(text) {
				return notYours(fmt.Sprintf("%s.private[%d]", at, j), text, "the address isn't public, and not among those that the service gives to sites", a.Ground.networksText(), "--private-network")
			}
		}
	}
	return nil
}

func notYours(path, given, detail, allowed, option string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: policy.ReasonNotPermitted, Parameter: path, Given: given, Detail: detail, Allowed: allowed,
		Remedy: "ask an owner of the service to set it, or to start the service with " + option + " " + given,
	})
}

// holds reports whether a folder lies in one of the roots, also where links lead.
func (g Ground) holds(folder string) bool {
	in := func(path string) bool {
		for _, root := range g.Roots {
			if path == root || strings.HasPrefix(path, strings.TrimSuffix(root, "/")+"/") {
				return true
			}
		}
		return false
	}
	real := folder
	for { // of what isn't there yet, the part that is
		if path, err := filepath.EvalSymlinks(real); err == nil {
			real = path
			break
		}
		if parent := filepath.Dir(real); parent == real {
			break
		} else {
			real = parent
		}
	}
	if !in(folder) {
		return false
	}
	for _, root := range g.Roots {
		if path, err := filepath.EvalSymlinks(root); err == nil && (real == path || strings.HasPrefix(real, strings.TrimSuffix(path, "/")+"/")) {
			return true
		}
	}
	return in(real)
}

// reaches reports whether a private address or network lies in those that sites are given.
func (g Ground) reaches(text string) bool {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return false
		}
		p = netip.PrefixFrom(a, a.BitLen())
	}
	for _, n := range g.Networks {
		if n.Bits() <= p.Bits() && n.Contains(p.Addr()) {
			return true
		}
	}
	return false
}

func (g Ground) rootsText() string {
	if len(g.Roots) == 0 {
		return "none: only an owner of the service sets folders"
	}
	return "folders in " + strings.Join(g.Roots, ", ")
}

func (g Ground) networksText() string {
	if len(g.Networks) == 0 {
		return "none: only an owner of the service sets private addresses"
	}
	var words []string
	for _, n := range g.Networks {
		words = append(words, n.String())
	}
	return "addresses in " + strings.Join(words, ", ")
}

func tidy(d *policy.Document) {
	d.Complete(lane.Described)
	for i := range d.Lanes {
		if d.Lanes[i].Folder != "" && filepath.IsAbs(d.Lanes[i].Folder) {
			d.Lanes[i].Folder = filepath.Clean(d.Lanes[i].Folder)
		}
	}
}

func (a *API) addSite(c fiber.Ctx) error {
	if no := a.may(c, records.MayOwn, ""); no != nil {
		return refuse(c, no)
	}
	d := policy.NewDocument("")
	if no := read(c, &d); no != nil {
		return refuse(c, no)
	}
	tidy(&d)
	if no := a.check(c, d, nil); no != nil {
		return refuse(c, no)
	}
	if a.Settings.Current().Site(d.Site) != nil {
		return refuse(c, failed(records.ErrExists, d.Site))
	}
	if dry(c) {
		return c.JSON(Proposal{policy.Diff(policy.NewDocument(d.Site), d), warningsOf(d)})
	}
	if err := a.Store.AddSite(c.Context(), d, who(c)); err != nil {
		return refuse(c, failed(err, d.Site))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, d.Site))
	}
	return a.showSite(c, 201, d.Site)
}

func dry(c fiber.Ctx) bool { return c.Query("dry_run") == "true" }

func (a *API) putSite(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	d := policy.NewDocument(s.Name)
	if no := read(c, &d); no != nil {
		return refuse(c, no)
	}
	if d.Site != s.Name {
		return refuse(c, badRequest("site", d.Site, "a site keeps its name", s.Name))
	}
	return a.change(c, s, d, "")
}

// change gives a site another document, or says what that would do.
func (a *API) change(c fiber.Ctx, s *policy.SiteSettings, d policy.Document, what string) error {
	tidy(&d)
	if no := a.check(c, d, &s.Document); no != nil {
		return refuse(c, no)
	}
	changes := policy.Diff(s.Document, d)
	if dry(c) {
		c.Set("ETag", etag(s.Version))
		return c.JSON(Proposal{changes, warningsOf(d)})
	}
	from, no := ifMatch(c, s)
	if no != nil {
		return refuse(c, no)
	}
	if len(changes) > 0 {
		if what == "" {
			what = policy.Summary(changes)
		}
		if _, err := a.Store.ChangeSite(c.Context(), d, from, who(c), what); err != nil {
			return refuse(c, failed(err, s.Name))
		}
		if err := a.Settings.Refresh(c.Context()); err != nil {
			return refuse(c, failed(err, s.Name))
		}
	}
	return a.showSite(c, 200, s.Name)
}

func (a *API) removeSite(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayOwn)
	if no != nil {
		return refuse(c, no)
	}
	from, no := ifMatch(c, s)
	if no != nil {
		return refuse(c, no)
	}
	if err := a.Store.RemoveSite(c.Context(), s.Name, from, who(c)); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return c.SendStatus(204)
}

func (a *API) history(c fiber.Ctx) error {
	name := c.Params("site") // also of sites that are gone
	if no := a.may(c, records.MayRead, name); no != nil {
		return refuse(c, no)
	}
	limit, no := limitOf(c)
	if no != nil {
		return refuse(c, no)
	}
	before, no := afterOf(c, "that isn't a version")
	if no != nil {
		return refuse(c, no)
	}
	list, err := a.Store.History(c.Context(), name, before, limit+1)
	if err != nil {
		return refuse(c, failed(err, name))
	}
	if len(list) == 0 && before == 0 {
		return refuse(c, failed(records.ErrNoSite, name))
	}
	page := Page[records.Change]{Items: list}
	if len(list) > limit {
		page.Items = list[:limit]
		page.Next = strconv.FormatInt(list[limit-1].Version, 10)
	}
	return c.JSON(page)
}

func (a *API) documentAt(c fiber.Ctx) error {
	name := c.Params("site")
	if no := a.may(c, records.MayRead, name); no != nil {
		return refuse(c, no)
	}
	d, no := a.findVersion(c, name, c.Params("version"))
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(d)
}

func (a *API) findVersion(c fiber.Ctx, name, version string) (policy.Document, *policy.Refusal) {
	v, err := strconv.ParseInt(version, 10, 64)
	if err != nil {
		return policy.Document{}, nothing("version", version)
	}
	d, err := a.Store.DocumentAt(c.Context(), name, v)
	if errors.Is(err, records.ErrNoSite) {
		return d, policy.No(policy.Refusal{Reason: policy.ReasonNoSuchThing, Parameter: "version", Given: version, Detail: fmt.Sprintf("%s has no version %s that can be restored", name, version), Remedy: "choose one of its history"})
	}
	if err != nil {
		return d, failed(err, name)
	}
	return d, nil
}

func (a *API) restore(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in Restore
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	d, no := a.findVersion(c, s.Name, strconv.FormatInt(in.Version, 10))
	if no != nil {
		return refuse(c, no)
	}
	return a.change(c, s, d, fmt.Sprintf("restored version %d", in.Version))
}

func (a *API) usage(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	a.Recorder.FlushUsage(c.Context()) // what can't be written yet is shown next time
	list, err := a.Store.UsageOf(c.Context(), s.Name)
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return c.JSON(Page[records.Usage]{Items: list})
}

// ladder proposes rungs.
func (a *API) ladder(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	number := func(name string, otherwise, least, most float64) (v float64, no *policy.Refusal) {
		given := c.Query(name)
		if given == "" {
			return otherwise, nil
		}
		v, err := strconv.ParseFloat(given, 64)
		if err != nil || !(v >= least && v <= most) {
			return 0, badRequest(name, given, name+" is out of range", fmt.Sprintf("%g to %g", least, most))
		}
		return v, nil
	}
	most := float64(min(s.Document.Limits.Width, 2560))
	from, no := number("from", min(160, most), 8, float64(s.Document.Limits.Width))
	if no != nil {
		return refuse(c, no)
	}
	to, no := number("to", most, from, float64(s.Document.Limits.Width))
	if no != nil {
		return refuse(c, no)
	}
	waste, no := number("waste", 0.5, 0.15, 10)
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(LadderProposal{policy.ProposeLadder(int(from), int(to), waste)})
}

func (a *API) lanes(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	c.Set("ETag", etag(s.Version))
	list := append([]policy.Lane{}, s.Document.Lanes...)
	return paged(c, list, func(l policy.Lane) string { return l.Name })
}

func (a *API) lane(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	c.Set("ETag", etag(s.Version))
	return c.JSON(l.Lane)
}

func (a *API) addLane(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var l policy.Lane
	if no := read(c, &l); no != nil {
		return refuse(c, no)
	}
	if s.Document.Lane(l.Name) != nil {
		return refuse(c, failed(records.ErrExists, s.Name+"/"+l.Name))
	}
	d := s.Document.Clone()
	d.Lanes = append(d.Lanes, l)
	if c.Get("If-Match") == "" { // adding what isn't there loses nothing
		c.Request().Header.Set("If-Match", etag(s.Version))
	}
	return a.change(c, s, d, "added lane "+l.Name)
}

func (a *API) putLane(c fiber.Ctx) error {
	s, was, no := a.findLane(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var l policy.Lane
	if no := read(c, &l); no != nil {
		return refuse(c, no)
	}
	if l.Name != was.Name {
		return refuse(c, badRequest("name", l.Name, "a lane keeps its name", was.Name))
	}
	d := s.Document.Clone()
	*d.Lane(l.Name) = l
	return a.change(c, s, d, "")
}

func (a *API) removeLane(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	d := s.Document.Clone()
	kept := d.Lanes[:0]
	for _, have := range d.Lanes {
		if have.Name != l.Name {
			kept = append(kept, have)
		}
	}
	d.Lanes = kept
	return a.change(c, s, d, "removed lane "+l.Name)
}

// TestedLane is how a lane's rules take a source.
type TestedLane struct {
	Source  string           `json:"source"` // the URL that would be fetched, or the path
	Steps   []policy.Step    `json:"steps"`
	Refusal *problem.Details `json:"refusal,omitempty"`
	Bytes   int64            `json:"bytes,omitempty"` // of the source, where it was fetched
	Type    string           `json:"type,omitempty"`
	Width   int              `json:"width,omitempty"`
	Height  int              `json:"height,omitempty"`
}

// Package api is the HTTP interface that the console and the command line use: JSON under /-/api/v1, as the
// OpenAPI description beside this file says.
package api

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/spelling"
	"echolane/service/delivery"
	"echolane/service/records"
	"echolane/service/source"
)

// Description is the OpenAPI 3.1 document.
//
//go:embed openapi.json
var Description []byte

// API answers the calls.
type API struct {
	Store    *records.Store
	Settings *records.Watcher
}

// Site is a site as the API shows it.
type Site struct {
	Name         string    `json:"name"`
	Defaults     string    `json:"defaults"` // declarations in address form
	Formats      []string  `json:"formats"`
	SourceBytes  int64     `json:"source_bytes"`
	SourcePixels int64     `json:"source_pixels"`
	RenderMS     int64     `json:"render_ms"`
	MadeAt       time.Time `json:"made_at"`
	Lanes        []Lane    `json:"lanes"`
}

// Lane is a lane as the API shows it.
type Lane struct {
	Site   string    `json:"site"`
	Name   string    `json:"name"`
	Kind   string    `json:"kind"`
	Folder string    `json:"folder"`
	MadeAt time.Time `json:"made_at"`
}

// NewSite is what POST /sites takes. What is absent is as for every new site.
type NewSite struct {
	Name         string   `json:"name"`
	Defaults     string   `json:"defaults,omitempty"`
	Formats      []string `json:"formats,omitempty"`
	SourceBytes  int64    `json:"source_bytes,omitempty"`
	SourcePixels int64    `json:"source_pixels,omitempty"`
	RenderMS     int64    `json:"render_ms,omitempty"`
}

// NewLane is what POST /sites/{site}/lanes takes.
type NewLane struct {
	Name   string `json:"name"`
	Folder string `json:"folder"`
}

// Sources is a page of a lane's sources.
type Sources struct {
	Items []source.Entry `json:"items"`
	Next  string         `json:"next,omitempty"` // give it as `after` for the next page; absent on the last
}

// Mount puts the calls below r, which is /-/api/v1.
func (a *API) Mount(r fiber.Router) {
	r.Get("/sites", a.sites)
	r.Post("/sites", a.addSite)
	r.Get("/sites/:site", a.site)
	r.Get("/sites/:site/lanes", a.lanes)
	r.Post("/sites/:site/lanes", a.addLane)
	r.Get("/sites/:site/lanes/:lane/sources", a.sources)
	r.Get("/sites/:site/lanes/:lane/facts", a.facts)
	r.Get("/sites/:site/lanes/:lane/original", a.original)
}

func show(s *records.Site) Site {
	v := Site{
		Name: s.Name, Defaults: s.Defaults.AddressForm(), SourceBytes: s.Limits.SourceBytes, SourcePixels: s.Limits.SourcePixels,
		RenderMS: s.Limits.RenderTime.Milliseconds(), MadeAt: s.MadeAt.UTC(), Lanes: []Lane{},
	}
	for _, f := range s.Formats {
		v.Formats = append(v.Formats, f.String())
	}
	for _, l := range s.Lanes {
		v.Lanes = append(v.Lanes, showLane(l))
	}
	return v
}

func showLane(l records.Lane) Lane {
	return Lane{Site: l.Site, Name: l.Name, Kind: l.Kind, Folder: l.Folder, MadeAt: l.MadeAt.UTC()}
}

func (a *API) sites(c fiber.Ctx) error {
	items := []Site{}
	for i := range a.Settings.Current().Sites {
		items = append(items, show(&a.Settings.Current().Sites[i]))
	}
	return c.JSON(fiber.Map{"items": items})
}

func (a *API) site(c fiber.Ctx) error {
	s, no := a.findSite(c)
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(show(s))
}

func (a *API) lanes(c fiber.Ctx) error {
	s, no := a.findSite(c)
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(fiber.Map{"items": show(s).Lanes})
}

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$`)

func checkName(what, name string) *policy.Refusal {
	if nameForm.MatchString(name) {
		return nil
	}
	return policy.No(policy.Refusal{
		Reason: "bad-request", Parameter: "name", Given: name, Detail: fmt.Sprintf("%q can't be the name of a %s", name, what),
		Allowed: "1 to 64 of a–z, 0–9 and -, not beginning or ending with -", Remedy: "choose a name like kestrel or summer-2026",
	})
}

func (a *API) addSite(c fiber.Ctx) error {
	var in NewSite
	if no := read(c, &in, "name", "defaults", "formats", "source_bytes", "source_pixels", "render_ms"); no != nil {
		return refuse(c, no)
	}
	if no := checkName("site", in.Name); no != nil {
		return refuse(c, no)
	}
	site := records.NewSite(in.Name)
	if in.Defaults != "" {
		d, err := declare.Parse(in.Defaults)
		if err != nil {
			return refuse(c, policy.BadDeclarations(err.(declare.Problems)))
		}
		site.Defaults = d
	}
	if in.Formats != nil {
		formats, no := readFormats(in.Formats)
		if no != nil {
			return refuse(c, no)
		}
		site.Formats = formats
	}
	for _, l := range []struct {
		name  string
		given int64
		least int64
		most  int64
		set   func(int64)
	}{
		{"source_bytes", in.SourceBytes, 1024, 1 << 30, func(v int64) { site.Limits.SourceBytes = v }},
		{"source_pixels", in.SourcePixels, 1, 300_000_000, func(v int64) { site.Limits.SourcePixels = v }},
		{"render_ms", in.RenderMS, 100, 120_000, func(v int64) { site.Limits.RenderTime = time.Duration(v) * time.Millisecond }},
	} {
		if l.given == 0 {
			continue
		}
		if l.given < l.least || l.given > l.most {
			return refuse(c, policy.No(policy.Refusal{
				Reason: "bad-request", Parameter: l.name, Given: fmt.Sprint(l.given), Detail: l.name + " is out of range",
				Allowed: fmt.Sprintf("%d to %d", l.least, l.most), Remedy: "give " + l.name + " a value in that range",
			}))
		}
		l.set(l.given)
	}
	if err := a.Store.AddSite(c.Context(), site); err != nil {
		return refuse(c, failed(err, in.Name))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, in.Name))
	}
	return c.Status(201).JSON(show(a.Settings.Current().Site(in.Name)))
}

func readFormats(names []string) ([]declare.Format, *policy.Refusal) {
	var formats []declare.Format
	for _, n := range names {
		f := declare.ParseFormat(n)
		if f == declare.FormatUnset {
			return nil, policy.No(policy.Refusal{
				Reason: "bad-request", Parameter: "formats", Given: n, Detail: fmt.Sprintf("there is no format %q", n),
				Allowed: "webp, jpeg, png", Remedy: "name some of these, most wanted first",
			})
		}
		formats = append(formats, f)
	}
	if len(formats) == 0 {
		return nil, policy.No(policy.Refusal{Reason: "bad-request", Parameter: "formats", Detail: "a site needs at least one format", Allowed: "webp, jpeg, png", Remedy: "name some of these, or leave formats out"})
	}
	return formats, nil
}

func (a *API) addLane(c fiber.Ctx) error {
	s, no := a.findSite(c)
	if no != nil {
		return refuse(c, no)
	}
	var in NewLane
	if no := read(c, &in, "name", "folder"); no != nil {
		return refuse(c, no)
	}
	if no := checkName("lane", in.Name); no != nil {
		return refuse(c, no)
	}
	if !filepath.IsAbs(in.Folder) {
		return refuse(c, policy.No(policy.Refusal{
			Reason: "bad-request", Parameter: "folder", Given: in.Folder, Detail: "the folder's path isn't absolute",
			Allowed: "an absolute path on the machine that the service runs on", Remedy: "write the whole path, such as /srv/kestrel/catalogue",
		}))
	}
	folder := filepath.Clean(in.Folder)
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return refuse(c, policy.No(policy.Refusal{
			Reason: "bad-request", Parameter: "folder", Given: in.Folder, Detail: "there is no such folder on the machine that the service runs on",
			Allowed: "a folder that exists", Remedy: "make the folder first, or correct its path",
		}))
	}
	if err := a.Store.AddLane(c.Context(), records.Lane{Site: s.Name, Name: in.Name, Kind: "folder", Folder: folder}); err != nil {
		return refuse(c, failed(err, s.Name+"/"+in.Name))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, s.Name+"/"+in.Name))
	}
	return c.Status(201).JSON(showLane(*a.Settings.Current().Site(s.Name).Lane(in.Name)))
}

const pageOfSources = 200

func (a *API) sources(c fiber.Ctx) error {
	_, folder, no := a.findLane(c)
	if no != nil {
		return refuse(c, no)
	}
	limit := pageOfSources
	if given := c.Query("limit"); given != "" {
		n, err := strconv.Atoi(given)
		if err != nil || n < 1 || n > 1000 {
			return refuse(c, policy.No(policy.Refusal{Reason: "bad-request", Parameter: "limit", Given: given, Detail: "limit is out of range", Allowed: "1 to 1000", Remedy: "give a limit in that range"}))
		}
		limit = n
	}
	items, more, err := folder.List(c.Query("after"), limit)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	page := Sources{Items: items}
	if items == nil {
		page.Items = []source.Entry{}
	}
	if more {
		page.Next = items[len(items)-1].Path
	}
	return c.JSON(page)
}

func (a *API) facts(c fiber.Ctx) error {
	data, no := a.readSource(c)
	if no != nil {
		return refuse(c, no)
	}
	info, err := render.Probe(data)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	return c.JSON(source.FactsOf(data, info))
}

// original answers the source as it lies there, for comparing beside a variant.
func (a *API) original(c fiber.Ctx) error {
	data, no := a.readSource(c)
	if no != nil {
		return refuse(c, no)
	}
	info, err := render.Probe(data)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	c.Set("Content-Type", info.Type)
	c.Set("Cache-Control", "private, no-cache")
	c.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
	return c.Send(data)
}

func (a *API) readSource(c fiber.Ctx) ([]byte, *policy.Refusal) {
	site, folder, no := a.findLane(c)
	if no != nil {
		return nil, no
	}
	path := c.Query("path")
	if no := source.CheckPath(path); no != nil {
		return nil, no
	}
	data, _, err := folder.Read(path, site.Limits)
	if err != nil {
		return nil, asRefusal(err)
	}
	return data, nil
}

func (a *API) findSite(c fiber.Ctx) (*records.Site, *policy.Refusal) {
	name := c.Params("site")
	all := a.Settings.Current()
	if s := all.Site(name); s != nil {
		return s, nil
	}
	var names []string
	for _, s := range all.Sites {
		names = append(names, s.Name)
	}
	no := policy.Refusal{Reason: "no-such-site", Parameter: "site", Given: name, Detail: fmt.Sprintf("there is no site %q", name), Allowed: strings.Join(names, ", "),
		Remedy: "add it: echolane site add " + name}
	if near := spelling.Nearest(name, names); near != "" {
		no.Remedy = fmt.Sprintf("write %s instead of %s", near, name)
	}
	return nil, policy.No(no)
}

func (a *API) findLane(c fiber.Ctx) (*records.Site, source.Folder, *policy.Refusal) {
	s, no := a.findSite(c)
	if no != nil {
		return nil, source.Folder{}, no
	}
	l := s.Lane(c.Params("lane"))
	if l == nil {
		return nil, source.Folder{}, delivery.NoLane(s, c.Params("lane"))
	}
	return s, source.Folder{Name: s.Name + "/" + l.Name, Dir: l.Folder}, nil
}

// read takes a JSON body strictly: an unknown field is an error that names the nearest right one.
func read(c fiber.Ctx, to any, fields ...string) *policy.Refusal {
	d := json.NewDecoder(bytes.NewReader(c.Body()))
	d.DisallowUnknownFields()
	err := d.Decode(to)
	if err == nil && d.More() {
		err = errors.New("there is something behind the JSON object")
	}
	if err == nil {
		return nil
	}
	no := policy.Refusal{Reason: "bad-request", Detail: "the body can't be read: " + strings.TrimPrefix(err.Error(), "json: "), Allowed: "a JSON object with " + strings.Join(fields, ", "), Remedy: "send a JSON object with these fields"}
	if _, name, ok := strings.Cut(err.Error(), `unknown field "`); ok {
		name = strings.TrimSuffix(name, `"`)
		no.Parameter = name
		if near := spelling.Nearest(name, fields); near != "" {
			no.Remedy = fmt.Sprintf("write %s instead of %s", near, name)
		}
	}
	return policy.No(no)
}

// failed puts a failure of the database into words.
func failed(err error, name string) *policy.Refusal {
	switch {
	case errors.Is(err, records.ErrExists):
		return policy.No(policy.Refusal{Reason: "exists", Parameter: "name", Given: name, Detail: fmt.Sprintf("%s is there already", name), Remedy: "choose another name"})
	case errors.Is(err, records.ErrNoSite):
		return policy.No(policy.Refusal{Reason: "no-such-site", Parameter: "site", Given: name, Detail: "the site was removed meanwhile", Remedy: "add the site again"})
	}
	return policy.No(policy.Refusal{Reason: "database-away", Detail: err.Error(), Remedy: "try again when the database answers (/-/ready says when)", RetryIn: 5})
}

func asRefusal(err error) *policy.Refusal {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	return policy.No(policy.Refusal{Reason: "internal", Detail: err.Error(), Remedy: "tell whoever runs the service"})
}

func refuse(c fiber.Ctx, no *policy.Refusal) error {
	delivery.WriteProblem(c.RequestCtx(), no)
	return nil
}

// Package api is the HTTP interface that the console and the command line use: JSON under /-/api/v1, as the
// OpenAPI description beside this file says.
package api

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"reflect"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"echolane/core/codec"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/wording"
	"echolane/service/caller"
	"echolane/service/delivery"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/weighing"
	"echolane/service/workshop"
	"echolane/service/workshop/confine"
)

// Description is the OpenAPI 3.1 document.
//
//go:embed openapi.json
var Description []byte

// Workshop reads headers, and makes the placeholders of what is uploaded.
type Workshop interface {
	Render(ctx context.Context, whom workshop.For, open func(context.Context) ([]*held.Content, error), job render.Job) (render.Result, []held.Digest, error)
	Header(ctx context.Context, c *held.Content) (codec.Header, error)
	// Workers is how many renders it does at a time.
	Workers() int
}

// Jobs work in the background.
type Jobs interface {
	// Tell has them look for what is to be done. It doesn't block.
	Tell()
	// Weigh has a page be weighed, and gives the weigh-in's number.
	Weigh(ctx context.Context, a weighing.Ask, by string) (int64, error)
}

// API answers the calls.
type API struct {
	Store    *records.Store
	Settings *records.Watcher
	Lanes    *source.Lanes
	Sources  *source.Table
	Recorder *records.Recorder
	Workshop Workshop
	// Isolation is what confines the render workers.
	Isolation []confine.Measure
	Maker     Maker
	Ground    Ground
	// Jobs works on warmings and weigh-ins.
	Jobs    Jobs
	Token   string // opens everything; "" for none
	Proxies []netip.Prefix
	SignIns *caller.Limiter

	lately recent[lately]
	stocks recent[Stock]
}

// Mount puts the calls below r, which is /-/api/v1.
func (a *API) Mount(r fiber.Router) {
	for _, o := range a.operations() {
		r.Add([]string{o.method}, o.path, o.handler)
	}
}

// Page is a page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"` // give it as `after` for the next page; absent on the last
}

const defaultPage, largestPage = 100, 1000

// limitOf reads how many items a page may have.
func limitOf(c fiber.Ctx) (int, *policy.Refusal) {
	given := c.Query("limit")
	if given == "" {
		return defaultPage, nil
	}
	n, err := strconv.Atoi(given)
	if err != nil || n < 1 || n > largestPage {
		return 0, badRequest("limit", given, "limit is out of range", fmt.Sprintf("1 to %d", largestPage))
	}
	return n, nil
}

// paged answers with the items behind `after` in a list that is in order of its names.
func paged[T any](c fiber.Ctx, all []T, name func(T) string) error {
	limit, no := limitOf(c)
	if no != nil {
		return refuse(c, no)
	}
	after := c.Query("after")
	page := Page[T]{Items: []T{}}
	for _, item := range all {
		if after != "" && !(name(item) > after) {
			continue
		}
		if len(page.Items) == limit {
			page.Next = name(page.Items[limit-1])
			break
		}
		page.Items = append(page.Items, item)
	}
	return c.JSON(page)
}

// newestFirst answers with a page of what a site has under numbers, the highest first. list gives those below a number, or from the
// highest on where it is 0; out what is said of one, and its number.
func newestFirst[T, O any](a *API, c fiber.Ctx, list func(ctx context.Context, site string, before int64, limit int) ([]T, error), out func(T) (O, int64)) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	limit, no := limitOf(c)
	if no != nil {
		return refuse(c, no)
	}
	before, no := afterOf(c, "a page begins behind a number")
	if no != nil {
		return refuse(c, no)
	}
	all, err := list(c.Context(), s.Name, before, limit+1)
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	page := Page[O]{Items: []O{}}
	var last int64
	for i, one := range all {
		if i == limit {
			page.Next = strconv.FormatInt(last, 10)
			break
		}
		var o O
		o, last = out(one)
		page.Items = append(page.Items, o)
	}
	return c.JSON(page)
}

// afterOf is the number behind which a page begins; 0: at the beginning. wrong is what is said of anything else.
func afterOf(c fiber.Ctx, wrong string) (int64, *policy.Refusal) {
	given := c.Query("after")
	if given == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(given, 10, 64)
	if err != nil || n < 0 {
		return 0, badRequest("after", given, wrong, "the next of the page before")
	}
	return n, nil
}

// picture answers with one that is only for who asked, and only for the console's own pages.
func picture(c fiber.Ctx, mediaType string, data []byte) error {
	pictureHead(c, mediaType)
	return c.Send(data)
}

func pictureHead(c fiber.Ctx, mediaType string) {
	c.Set("Content-Type", mediaType)
	c.Set("Cache-Control", "private, no-cache")
	c.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Cross-Origin-Resource-Policy", "same-origin")
}

func badRequest(parameter, given, detail, allowed string) *policy.Refusal {
	return policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: parameter, Given: given, Detail: detail, Allowed: allowed, Remedy: "give " + parameter + " " + allowed})
}

const largestBody = 1 << 20

// read takes a JSON body strictly: an unknown field is an error that names the nearest right one.
func read(c fiber.Ctx, to any) *policy.Refusal { return readUpTo(c, to, largestBody) }

func readUpTo(c fiber.Ctx, to any, most int) *policy.Refusal {
	fields := fieldsOf(reflect.TypeOf(to).Elem())
	body, no := bodyOf(c, most)
	if no != nil {
		return no
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	err := d.Decode(to)
	if err == nil && d.More() {
		err = errors.New("there is something behind the JSON object")
	}
	if err == nil {
		return nil
	}
	refusal := policy.Refusal{Reason: policy.ReasonBadRequest, Detail: "the body can't be read: " + strings.TrimPrefix(err.Error(), "json: "), Allowed: "a JSON object with " + strings.Join(fields, ", "), Remedy: "send a JSON object with these fields"}
	if _, name, ok := strings.Cut(err.Error(), `unknown field "`); ok {
		name = strings.TrimSuffix(name, `"`)
		refusal.Parameter = name
		if near := wording.Nearest(name, fields); near != "" {
			refusal.Remedy = fmt.Sprintf("write %s instead of %s", near, name)
		}
	}
	var wrong *json.UnmarshalTypeError
	if errors.As(err, &wrong) {
		refusal.Parameter, refusal.Given, refusal.Allowed = wrong.Field, wrong.Value, "a "+wrong.Type.String()
	}
	return policy.No(refusal)
}

func bodyOf(c fiber.Ctx, most int) ([]byte, *policy.Refusal) {
	stream := c.RequestCtx().RequestBodyStream()
	if stream == nil {
		return c.RequestCtx().PostBody(), nil
	}
	body, err := io.ReadAll(io.LimitReader(stream, int64(most)+1))
	if err != nil {
		return nil, brokeOff(err, "the body broke off: "+err.Error(), "the whole of it")
	}
	if len(body) > most {
		return nil, badRequest("body", strconv.Itoa(len(body))+" bytes and more", "the body is too large", fmt.Sprintf("of at most %d MiB", most>>20))
	}
	return body, nil
}

// brokeOff refuses a request whose body couldn't be read to its end: as too slow, or as detail says.
func brokeOff(err error, detail, allowed string) *policy.Refusal {
	var network net.Error
	if errors.As(err, &network) && network.Timeout() {
		return policy.No(policy.Refusal{Reason: policy.ReasonRequestTooSlow, Parameter: "body", Detail: "the body stopped coming", Remedy: "send it again"})
	}
	return badRequest("body", "", detail, allowed)
}

// fieldsOf lists the JSON names of a struct, those of structs in it too.
func fieldsOf(t reflect.Type) []string {
	if t.Kind() == reflect.Slice || t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return nil
	}
	var names []string
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		names = append(names, name)
		if k := f.Type.Kind(); k == reflect.Struct || k == reflect.Slice {
			names = append(names, fieldsOf(f.Type)...)
		}
	}
	return names
}

// failed puts a failure of the database into words.
func failed(err error, name string) *policy.Refusal {
	var no *policy.Refusal
	switch {
	case errors.As(err, &no):
		return no
	case errors.Is(err, records.ErrExists):
		return policy.No(policy.Refusal{Reason: policy.ReasonExists, Parameter: "name", Given: name, Detail: fmt.Sprintf("%s is there already", name), Remedy: "choose another name"})
	case errors.Is(err, records.ErrNoSite):
		return policy.No(policy.Refusal{Reason: policy.ReasonNoSuchSite, Parameter: "site", Given: name, Detail: "the site was removed meanwhile", Remedy: "add the site again"})
	case errors.Is(err, records.ErrChanged):
		return policy.No(policy.Refusal{Reason: policy.ReasonChangedMeanwhile, Parameter: "If-Match", Detail: name + " was changed since you read it", Remedy: "read it again, make your change to what is there now, and send that"})
	case errors.Is(err, records.ErrBusy):
		return policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "more people are signing in than can be looked at at once", Remedy: "try again in a moment", RetryIn: 3})
	case errors.Is(err, records.ErrNoKey):
		return policy.No(policy.Refusal{Reason: policy.ReasonSecretMissing, Detail: err.Error(), Remedy: "start every node with the same ECHOLANE_SECRET_KEY; make one with: openssl rand -base64 32"})
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonDatabaseAway, Detail: err.Error(), Remedy: "try again when the database answers (/-/ready says when)", RetryIn: 5})
}

func asRefusal(err error) *policy.Refusal {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: err.Error(), Remedy: "tell whoever runs the service"})
}

func refuse(c fiber.Ctx, no *policy.Refusal) error {
	problem.Write(c.RequestCtx(), no)
	return nil
}

func nothing(what, name string) *policy.Refusal {
	return policy.No(policy.Refusal{Reason: policy.ReasonNoSuchThing, Given: name, Detail: fmt.Sprintf("there is no %s %s", what, name), Remedy: "list what is there"})
}

// findSite gives the site in the path, to who may do that much with it.
func (a *API) findSite(c fiber.Ctx, right string) (*policy.SiteSettings, *policy.Refusal) {
	name := c.Params("site")
	if no := a.may(c, right, name); no != nil {
		return nil, no
	}
	all := a.Settings.Current()
	if s := all.Site(name); s != nil {
		return s, nil
	}
	var names []string
	for _, s := range all.Sites {
		names = append(names, s.Name)
	}
	no := policy.Refusal{Reason: policy.ReasonNoSuchSite, Parameter: "site", Given: name, Detail: fmt.Sprintf("there is no site %q", name), Allowed: strings.Join(names, ", "),
		Remedy: "add it: echolane site add " + name}
	if near := wording.Nearest(name, names); near != "" {
		no.Remedy = fmt.Sprintf("write %s instead of %s", near, name)
	}
	return nil, policy.No(no)
}

// findLane gives the lane in the path.
func (a *API) findLane(c fiber.Ctx, right string) (*policy.SiteSettings, *policy.CompiledLane, *policy.Refusal) {
	s, no := a.findSite(c, right)
	if no != nil {
		return nil, nil, no
	}
	l := s.Lane(c.Params("lane"))
	if l == nil {
		return nil, nil, delivery.NoLane(s, c.Params("lane"))
	}
	return s, l, nil
}

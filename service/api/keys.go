package api

import (
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/records"
)

// Key is a signing key as it may be shown.
type Key struct {
	ID     string    `json:"id"`
	MadeAt time.Time `json:"made_at"`
	MadeBy string    `json:"made_by"`
}

// NewKey is what POST …/keys takes. Without a secret one is made.
type NewKey struct {
	ID     string `json:"id"`
	Secret string `json:"secret,omitempty"` // base64url, 32 bytes or more
}

// MadeKey is a key with its secret, shown once.
type MadeKey struct {
	ID     string `json:"id"`
	Secret string `json:"secret"` // base64url
}

// ToSign is what POST …/sign takes.
type ToSign struct {
	Address string `json:"address"` // path and query in any spelling, without signature
	Key     string `json:"key"`
}

// Signed is a signed address.
type Signed struct {
	Address string `json:"address"` // the address form with its signature
}

func (a *API) keys(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	secrets, err := a.Store.Secrets(c.Context(), s.Name, policy.KeySecret(""))
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	var list []Key
	for _, k := range secrets {
		list = append(list, Key{strings.TrimPrefix(k.Name, policy.KeySecret("")), k.MadeAt.UTC(), k.MadeBy})
	}
	sort.Slice(list, func(i, j int) bool { return list[i].ID < list[j].ID })
	return paged(c, list, func(k Key) string { return k.ID })
}

func (a *API) addKey(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in NewKey
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	if !policy.IsName(in.ID) {
		return refuse(c, badRequest("id", in.ID, "that can't be a key's name", "1 to 64 of a–z, 0–9 and -"))
	}
	if _, there := s.Keys[in.ID]; there {
		return refuse(c, failed(records.ErrExists, "key "+in.ID))
	}
	secret := make([]byte, 32)
	rand.Read(secret)
	if in.Secret != "" {
		var err error
		if secret, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(in.Secret, "=")); err != nil || len(secret) < 32 {
			return refuse(c, badRequest("secret", "", "the secret is too short, or not base64url", "32 bytes or more in base64url, or none to have one made"))
		}
	}
	if err := a.Store.PutSecret(c.Context(), s.Name, policy.KeySecret(in.ID), string(secret), who(c)); err != nil {
		return refuse(c, failed(err, in.ID))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, in.ID))
	}
	return c.Status(201).JSON(MadeKey{in.ID, base64.RawURLEncoding.EncodeToString(secret)})
}

func (a *API) removeKey(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	there, err := a.Store.RemoveSecret(c.Context(), s.Name, policy.KeySecret(c.Params("key")))
	if err != nil {
		return refuse(c, failed(err, c.Params("key")))
	}
	if !there {
		return refuse(c, nothing("key", c.Params("key")))
	}
	return a.refreshed(c, c.Params("key"))
}

// sign writes an address in its address form and signs that.
func (a *API) sign(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in ToSign
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	secret, ok := s.Keys[in.Key]
	if !ok {
		return refuse(c, nothing("key", in.Key))
	}
	form, no := AddressForm(in.Address, in.Key)
	if no != nil {
		return refuse(c, no)
	}
	return c.JSON(Signed{form + "&signature=" + policy.Sign(secret, form)})
}

// AddressForm is the address form of a path and query in any spelling, with the key's name in it: what is
// signed.
func AddressForm(address, key string) (string, *policy.Refusal) {
	path, query, _ := strings.Cut(address, "?")
	d, err := declare.Parse(query)
	if err != nil {
		return "", policy.BadDeclarations(err.(declare.Problems))
	}
	d.KeyID, d.Signature = key, ""
	var b []byte
	for i, element := range strings.Split(path, "/") {
		plain, err := url.PathUnescape(element)
		if err != nil {
			return "", badRequest("address", element, "the path isn't percent-encoded as it must be", "percent-encoded UTF-8")
		}
		if i > 0 {
			b = append(b, '/')
		}
		b = declare.AppendSegment(b, plain)
	}
	return string(d.AppendAddressForm(append(b, '?'))), nil
}

// Refusal is a kind of refusal as the API shows it.
type Refusal struct {
	ID      int64     `json:"id"`
	Site    string    `json:"site"`
	Reason  string    `json:"reason"`
	Title   string    `json:"title"`
	Asked   string    `json:"asked"`
	Count   int64     `json:"count"`
	FirstAt time.Time `json:"first_at"`
	LastAt  time.Time `json:"last_at"`
	Sample  string    `json:"sample"`
	Detail  string    `json:"detail"`
	Remedy  string    `json:"remedy"`
	Command string    `json:"command,omitempty"` // the change of settings that mends it, as a command
}

// Mended is what mending did, or would do.
type Mended struct {
	Proposal
	Refusal  Refusal `json:"refusal"`
	ShutsOut string  `json:"shuts_out,omitempty"` // whom the change would shut out: then it wants only=true
	Done     bool    `json:"done"`
}

func showRefusal(r records.Refusal) Refusal {
	no := r.Whole()
	v := Refusal{ID: r.ID, Site: r.Site, Reason: string(r.Reason), Title: no.Title, Asked: r.Asked, Count: r.Count, FirstAt: r.FirstAt.UTC(), LastAt: r.LastAt.UTC(), Sample: r.Sample, Detail: no.Detail, Remedy: no.Remedy}
	if no.Mend != nil {
		v.Command = no.Mend.Command(r.Site)
	}
	return v
}

func (a *API) refusals(c fiber.Ctx) error {
	site := c.Query("site")
	if no := a.may(c, records.MayRead, site); no != nil {
		return refuse(c, no)
	}
	limit, no := limitOf(c)
	if no != nil {
		return refuse(c, no)
	}
	after, no := afterOf(c, "that isn't where a page ended")
	if no != nil {
		return refuse(c, no)
	}
	offset := int(after)
	a.Recorder.FlushRefusals(c.Context()) // what can't be written yet is shown next time
	list, err := a.Store.Refusals(c.Context(), site, offset, limit+1)
	if err != nil {
		return refuse(c, failed(err, "refusals"))
	}
	page := Page[Refusal]{Items: []Refusal{}}
	for i, r := range list {
		if i == limit {
			page.Next = strconv.Itoa(offset + limit)
			break
		}
		page.Items = append(page.Items, showRefusal(r))
	}
	return c.JSON(page)
}

func (a *API) findRefusal(c fiber.Ctx) (records.Refusal, *policy.Refusal) {
	if no := a.may(c, records.MayRead, ""); no != nil {
		if _, ok := accessOf(c); !ok {
			return records.Refusal{}, no
		}
	}
	id, err := strconv.ParseInt(c.Params("refusal"), 10, 64)
	if err != nil {
		return records.Refusal{}, nothing("refusal", c.Params("refusal"))
	}
	r, ok, err := a.Store.RefusalByID(c.Context(), id)
	if err != nil {
		return r, failed(err, "refusals")
	}
	if !ok {
		return r, nothing("refusal", c.Params("refusal"))
	}
	return r, a.may(c, records.MayEdit, r.Site)
}

// mend makes the change of settings that would have let a refused request through.
func (a *API) mend(c fiber.Ctx) error {
	r, no := a.findRefusal(c)
	if no != nil {
		return refuse(c, no)
	}
	s := a.Settings.Current().Site(r.Site)
	whole := r.Whole()
	if whole.Mend == nil || s == nil {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "refusal", Given: c.Params("refusal"), Detail: "no change of settings mends this", Allowed: "refusals with a command", Remedy: whole.Remedy}))
	}
	d, err := whole.Mend.Apply(s.Document)
	if err != nil {
		return refuse(c, badRequest("refusal", c.Params("refusal"), err.Error(), "refusals whose lane is still there"))
	}
	tidy(&d)
	if no := a.check(c, d, &s.Document); no != nil {
		return refuse(c, no)
	}
	out := Mended{Proposal: Proposal{policy.Diff(s.Document, d), warningsOf(d)}, Refusal: showRefusal(r)}
	if what, others := whole.Mend.Narrows(s.Document); what != "" {
		out.ShutsOut = fmt.Sprintf("The site has no %s, so %s. With %s it would be the only one that may.", what, others, whole.Mend.Value)
	}
	if out.ShutsOut != "" && c.Query("only") != "true" && !dry(c) {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonWouldShutOut, Parameter: "only", Given: whole.Mend.Value, Detail: out.ShutsOut, Allowed: "only=true",
			Remedy: "say that it is to be the only one (--only), or forget the refusal: what it asked for isn't refused any more"}))
	}
	if dry(c) {
		c.Set("ETag", etag(s.Version))
		return c.JSON(out)
	}
	from, no := ifMatch(c, s)
	if no != nil {
		return refuse(c, no)
	}
	if len(out.Changes) > 0 {
		if _, err := a.Store.ChangeSite(c.Context(), d, from, who(c), fmt.Sprintf("mended %s: %s", r.Reason, policy.Summary(out.Changes))); err != nil {
			return refuse(c, failed(err, s.Name))
		}
	}
	if err := a.Store.ForgetRefusal(c.Context(), r.ID); err != nil {
		return refuse(c, failed(err, "refusals"))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	out.Done = true
	return c.JSON(out)
}

func (a *API) forgetRefusal(c fiber.Ctx) error {
	r, no := a.findRefusal(c)
	if no != nil {
		return refuse(c, no)
	}
	if err := a.Store.ForgetRefusal(c.Context(), r.ID); err != nil {
		return refuse(c, failed(err, "refusals"))
	}
	return c.SendStatus(204)
}

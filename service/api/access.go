package api

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gofiber/fiber/v3"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/caller"
	"echolane/service/records"
	"echolane/service/workshop/confine"
)

// Session says who calls.
type Session struct {
	records.Access
	// Owned says whether the service has an owner yet: without one, the first is made by the link that it printed.
	Owned bool `json:"owned"`
	// SignedIn says whether the caller is anybody.
	SignedIn bool `json:"signed_in"`
	// Lacking are measures that don't confine the render workers where this node runs; only owners are told.
	Lacking []confine.Measure `json:"lacking,omitempty"`
}

// SignIn is what POST /session takes.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// UseLink is what POST /session/link takes. Name and password are for the link that makes the first owner.
type UseLink struct {
	Link     string `json:"link"`
	Name     string `json:"name,omitempty"`
	Password string `json:"password,omitempty"`
}

// NewPassword is what PUT /session/password takes.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// NewToken is what POST /tokens takes.
type NewToken struct {
	Name  string   `json:"name"`
	May   string   `json:"may" words:"read edit own"`
	Sites []string `json:"sites,omitempty"`
}

// MadeToken is a token with what it says, shown once.
type MadeToken struct {
	records.Token
	Secret string `json:"secret"`
}

// NewPerson is what POST /people takes.
type NewPerson struct {
	Name     string   `json:"name"`
	Password string   `json:"password"`
	May      string   `json:"may" words:"read edit own"`
	Sites    []string `json:"sites,omitempty"`
}

const (
	cookieName    = "echolane_session"
	accessKey     = "access"
	leastPassword = 10

	signInsPerSecond = 5 // of one client
)

// MayRead reports whether a bearer token may look at a site.
func (a *API) MayRead(ctx context.Context, bearer, site string) bool {
	if a.Token != "" && subtle.ConstantTimeCompare([]byte(bearer), []byte(a.Token)) == 1 {
		return true
	}
	access, err := a.Store.ByToken(ctx, bearer)
	return err == nil && access.Allows(records.MayRead, site)
}

// callLimit is the longest that a call may take, but for what goes on in the background.
const callLimit = 2 * time.Minute

// Limit gives a call its deadline.
func Limit(c fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.Context(), callLimit)
	defer cancel()
	c.SetContext(ctx)
	return c.Next()
}

// Guard finds out who calls, by token or session. Calls of nobody go on: each says what right it needs. A
// session counts only for requests of our own pages: what another site's page sends is refused.
func (a *API) Guard(c fiber.Ctx) error {
	c.Set("Cache-Control", "no-store")
	if given, ok := strings.CutPrefix(c.Get("Authorization"), "Bearer "); ok {
		if a.Token != "" && subtle.ConstantTimeCompare([]byte(given), []byte(a.Token)) == 1 {
			c.Locals(accessKey, records.Access{Who: "the service's own token", May: records.MayOwn})
			return c.Next()
		}
		access, err := a.Store.ByToken(c.Context(), given)
		if errors.Is(err, records.ErrWrong) {
			return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonWrongCredentials, Detail: "the token isn't known here, or was revoked", Remedy: "use another token; an owner makes one with: echolane token add NAME"}))
		}
		if err != nil {
			return refuse(c, failed(err, "the token"))
		}
		c.Locals(accessKey, access)
		return c.Next()
	}
	cookie := c.Cookies(cookieName)
	if cookie == "" {
		if c.Method() != "GET" && foreign(c) {
			return refuse(c, crossSite())
		}
		return c.Next()
	}
	if foreign(c) {
		return refuse(c, crossSite())
	}
	access, err := a.Store.BySession(c.Context(), cookie)
	if errors.Is(err, records.ErrWrong) {
		return c.Next()
	}
	if err != nil {
		return refuse(c, failed(err, "the session"))
	}
	c.Locals(accessKey, access)
	return c.Next()
}

// foreign reports whether a page of another origin sent the request, by Fetch Metadata and Origin.
func foreign(c fiber.Ctx) bool {
	if site := c.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		return true
	}
	origin := c.Get("Origin")
	if origin == "" {
		return false
	}
	_, host, _ := strings.Cut(origin, "://")
	return host != string(c.RequestCtx().Host())
}

func crossSite() *policy.Refusal {
	return policy.No(policy.Refusal{Reason: policy.ReasonCrossSite, Detail: "the request comes from a page of another origin", Remedy: "call the API from the console, or with a token"})
}

func accessOf(c fiber.Ctx) (records.Access, bool) {
	access, ok := c.Locals(accessKey).(records.Access)
	return access, ok
}

// may says whether the caller has a right on a site; site "" is what is above sites.
func (a *API) may(c fiber.Ctx, right, site string) *policy.Refusal {
	access, ok := accessOf(c)
	if !ok {
		return policy.No(policy.Refusal{Reason: policy.ReasonNotSignedIn, Detail: "the call needs a token or a signed-in person", Allowed: "Authorization: Bearer with a token, or the console's session",
			Remedy: "give a token with --token or ECHOLANE_TOKEN; the demo prints one"})
	}
	if access.Allows(right, site) {
		return nil
	}
	words := map[string]string{records.MayRead: "look at", records.MayEdit: "change", records.MayOwn: "own"}
	what := "the service"
	if site != "" {
		what = "site " + site
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonNotPermitted, Detail: fmt.Sprintf("%s may %s, and the call needs to %s %s", access.Who, access.May, words[right], what), Allowed: right, Remedy: "ask an owner for a token or an entry that may " + right})
}

func who(c fiber.Ctx) string {
	access, _ := accessOf(c)
	return access.Who
}

func (a *API) session(c fiber.Ctx) error {
	access, ok := accessOf(c)
	owned, err := a.Store.HasOwner(c.Context())
	if err != nil {
		return refuse(c, failed(err, "the session"))
	}
	if access.Sites == nil {
		access.Sites = []string{}
	}
	out := Session{Access: access, Owned: owned, SignedIn: ok}
	if ok && access.May == records.MayOwn {
		for _, m := range a.Isolation {
			if !m.InForce {
				out.Lacking = append(out.Lacking, m)
			}
		}
	}
	return c.JSON(out)
}

func (a *API) signIn(c fiber.Ctx) error {
	var in SignIn
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	wrong := policy.No(policy.Refusal{Reason: policy.ReasonWrongCredentials, Detail: "name and password don't go together", Remedy: "check both; an owner can add you anew"})
	client := caller.Network(caller.Of(c.RequestCtx(), a.Proxies))
	if !a.SignIns.Allow("session", client, signInsPerSecond) {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonTooManyTries, Detail: fmt.Sprintf("one client may try %d times a second", signInsPerSecond), Remedy: "wait, and try again", RetryIn: 2}))
	}
	if checkPersonName(in.Name) != nil || len(in.Password) > 256 { // nobody is called so
		return refuse(c, wrong)
	}
	err := a.Store.SignIn(c.Context(), in.Name, in.Password, client.String())
	var wait *records.TooManyTries
	switch {
	case errors.As(err, &wait):
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonTooManyTries, Detail: wait.Error(), Remedy: "wait, and try again", RetryIn: int(wait.Wait.Seconds()) + 1}))
	case errors.Is(err, records.ErrWrong):
		return refuse(c, wrong)
	case err != nil:
		return refuse(c, failed(err, "the session"))
	}
	return a.openSession(c, in.Name)
}

func (a *API) openSession(c fiber.Ctx, name string) error {
	cookie, ends, err := a.Store.OpenSession(c.Context(), name)
	if err != nil {
		return refuse(c, failed(err, "the session"))
	}
	setCookie(c, cookie, ends)
	access, err := a.Store.BySession(c.Context(), cookie)
	if err != nil {
		return refuse(c, failed(err, "the session"))
	}
	if access.Sites == nil {
		access.Sites = []string{}
	}
	return c.JSON(Session{Access: access, Owned: true, SignedIn: true})
}

func setCookie(c fiber.Ctx, value string, ends time.Time) {
	c.Cookie(&fiber.Cookie{Name: cookieName, Value: value, Path: "/-/", Expires: ends, HTTPOnly: true, Secure: true, SameSite: fiber.CookieSameSiteStrictMode})
}

func (a *API) signOut(c fiber.Ctx) error {
	if cookie := c.Cookies(cookieName); cookie != "" {
		if err := a.Store.CloseSession(c.Context(), cookie); err != nil {
			return refuse(c, failed(err, "the session"))
		}
	}
	setCookie(c, "", time.Unix(1, 0))
	return c.SendStatus(204)
}

func checkPassword(p string) *policy.Refusal {
	if len(p) < leastPassword || len(p) > 256 {
		return policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "password", Detail: "the password is too short, or longer than 256 bytes", Allowed: fmt.Sprintf("%d to 256 characters", leastPassword), Remedy: "choose a longer one: a few words do"})
	}
	return nil
}

func (a *API) useLink(c fiber.Ctx) error {
	var in UseLink
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	over := policy.No(policy.Refusal{Reason: policy.ReasonWrongCredentials, Parameter: "link", Detail: "the one-time link was used, or has ended", Remedy: "restart the service for a new one, or sign in"})
	person, err := a.Store.LinkFor(c.Context(), in.Link)
	if errors.Is(err, records.ErrWrong) {
		return refuse(c, over)
	}
	if err == nil && person == "" {
		if no := checkPersonName(in.Name); no != nil {
			return refuse(c, no)
		}
		if no := checkPassword(in.Password); no != nil {
			return refuse(c, no)
		}
	}
	if err == nil {
		_, err = a.Store.UseLink(c.Context(), in.Link)
	}
	if errors.Is(err, records.ErrWrong) {
		return refuse(c, over)
	}
	if err == nil && person == "" {
		var owned bool
		if owned, err = a.Store.HasOwner(c.Context()); err == nil && owned {
			return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonExists, Detail: "the service has an owner already", Remedy: "sign in, or ask the owner to add you"}))
		}
		if err == nil {
			person = in.Name
			_, err = a.Store.AddPerson(c.Context(), in.Name, in.Password, records.MayOwn, nil, "the first link")
		}
	}
	if err != nil {
		return refuse(c, failed(err, in.Name))
	}
	return a.openSession(c, person)
}

func (a *API) setPassword(c fiber.Ctx) error {
	var in NewPassword
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	access, ok := accessOf(c)
	if !ok || c.Cookies(cookieName) == "" {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonNotSignedIn, Detail: "only a signed-in person has a password", Remedy: "sign in at the console"}))
	}
	if no := checkPassword(in.New); no != nil {
		return refuse(c, no)
	}
	err := a.Store.SignIn(c.Context(), access.Who, in.Old, caller.Network(caller.Of(c.RequestCtx(), a.Proxies)).String())
	if err != nil {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonWrongCredentials, Parameter: "old", Detail: "that isn't your password", Remedy: "give the one that you have"}))
	}
	if err := a.Store.SetPassword(c.Context(), access.Who, in.New); err != nil {
		return refuse(c, failed(err, access.Who))
	}
	return a.openSession(c, access.Who)
}

func (a *API) tokens(c fiber.Ctx) error {
	if no := a.may(c, records.MayOwn, ""); no != nil {
		return refuse(c, no)
	}
	list, err := a.Store.Tokens(c.Context())
	if err != nil {
		return refuse(c, failed(err, "tokens"))
	}
	return paged(c, list, func(t records.Token) string { return fmt.Sprintf("%012d", t.ID) })
}

func checkRights(may string, sites []string, all *policy.Settings) *policy.Refusal {
	if !slices.Contains([]string{records.MayRead, records.MayEdit, records.MayOwn}, may) {
		return badRequest("may", may, fmt.Sprintf("%q isn't a right", may), "read, edit or own")
	}
	for _, s := range sites {
		if all.Site(s) == nil {
			return badRequest("sites", s, fmt.Sprintf("there is no site %q", s), "names of sites that are there, or none for all")
		}
	}
	if may == records.MayOwn && len(sites) > 0 {
		return badRequest("sites", strings.Join(sites, ", "), "who owns the service owns all of its sites", "no sites with own, or may read or edit")
	}
	return nil
}

func (a *API) addToken(c fiber.Ctx) error {
	if no := a.may(c, records.MayOwn, ""); no != nil {
		return refuse(c, no)
	}
	var in NewToken
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	if in.Name == "" || len(in.Name) > 100 {
		return refuse(c, badRequest("name", in.Name, "a token needs a name, so that it's known what it is for", "1 to 100 characters"))
	}
	if no := checkRights(in.May, in.Sites, a.Settings.Current()); no != nil {
		return refuse(c, no)
	}
	t, secret, err := a.Store.AddToken(c.Context(), in.Name, in.May, in.Sites, who(c))
	if err != nil {
		return refuse(c, failed(err, in.Name))
	}
	if t.Sites == nil {
		t.Sites = []string{}
	}
	return c.Status(201).JSON(MadeToken{t, secret})
}

func (a *API) removeToken(c fiber.Ctx) error {
	return a.removeByID(c, "token", func(id int64) (bool, error) { return a.Store.RemoveToken(c.Context(), id) })
}

func (a *API) removeByID(c fiber.Ctx, what string, remove func(int64) (bool, error)) error {
	if no := a.may(c, records.MayOwn, ""); no != nil {
		return refuse(c, no)
	}
	id, err := strconv.ParseInt(c.Params(what), 10, 64)
	if err != nil {
		return refuse(c, nothing(what, c.Params(what)))
	}
	there, err := remove(id)
	if errors.Is(err, records.ErrExists) {
		return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonNotPermitted, Detail: "the last owner can't be removed", Remedy: "make somebody else an owner first"}))
	}
	if err != nil {
		return refuse(c, failed(err, what))
	}
	if !there {
		return refuse(c, nothing(what, c.Params(what)))
	}
	return c.SendStatus(204)
}

func (a *API) people(c fiber.Ctx) error {
	if no := a.may(c, records.MayOwn, ""); no != nil {
		return refuse(c, no)
	}
	list, err := a.Store.People(c.Context())
	if err != nil {
		return refuse(c, failed(err, "people"))
	}
	return paged(c, list, func(p records.Person) string { return p.Name })
}

func checkPersonName(name string) *policy.Refusal {
	if name == "" || len(name) > 100 || strings.TrimSpace(name) != name || !utf8.ValidString(name) || strings.ContainsFunc(name, unicode.IsControl) {
		return badRequest("name", wording.Cut(name, 60), "that can't be a person's name", "1 to 100 bytes of text without white space around them")
	}
	return nil
}

func (a *API) addPerson(c fiber.Ctx) error {
	if no := a.may(c, records.MayOwn, ""); no != nil {
		return refuse(c, no)
	}
	var in NewPerson
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	if no := checkPersonName(in.Name); no != nil {
		return refuse(c, no)
	}
	if no := checkPassword(in.Password); no != nil {
		return refuse(c, no)
	}
	if no := checkRights(in.May, in.Sites, a.Settings.Current()); no != nil {
		return refuse(c, no)
	}
	p, err := a.Store.AddPerson(c.Context(), in.Name, in.Password, in.May, in.Sites, who(c))
	if err != nil {
		return refuse(c, failed(err, in.Name))
	}
	return c.Status(201).JSON(p)
}

func (a *API) removePerson(c fiber.Ctx) error {
	return a.removeByID(c, "person", func(id int64) (bool, error) { return a.Store.RemovePerson(c.Context(), id) })
}

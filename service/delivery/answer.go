package delivery

import (
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/valyala/fasthttp"
	"golang.org/x/time/rate"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/variants"
)

// Names and values of fields that go with every answer, ready to be copied.
var (
	fETag, fCacheControl, fLocation = []byte("Etag"), []byte("Cache-Control"), []byte("Content-Location")
	fNosniff, vNosniff              = []byte("X-Content-Type-Options"), []byte("nosniff")
	fVary, vAccept                  = []byte("Vary"), "Accept"
	fCacheStatus, fTiming           = []byte("Cache-Status"), []byte("Server-Timing")
	vHit, vHitTiming                = []byte("Echo-Lane; hit; detail=memory"), []byte(`cache;desc="memory"`)
	fOrigin, fPolicy, fTimingAllow  = []byte("Access-Control-Allow-Origin"), []byte("Cross-Origin-Resource-Policy"), []byte("Timing-Allow-Origin")
	vAny, vCross, vSame             = []byte("*"), []byte("cross-origin"), []byte("same-origin")
)

func (s *Service) answer(c *fasthttp.RequestCtx, v *variants.Variant, m *memo, e policy.Embedding, where variants.Where, timing string, start int64) {
	h := &c.Response.Header
	h.SetContentType(v.Type)
	h.SetCanonical(fETag, []byte(v.ETag))
	h.SetCanonical(fLocation, m.location)
	control := m.control
	if v.Provisional && bytes.HasPrefix(control, []byte("public")) {
		control = provisional
	}
	embed(h, e, control, m.vary)
	if m.expires != 0 || e.Restricted {
		h.SetCanonical(fCacheControl, []byte(restricted(m, e.Restricted)))
	}
	if v.Type == svgType { // what it asks for or runs, it gets nothing
		h.Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:")
	}
	if m.classes != "" {
		s.Classes.Used(m.site.Name, m.classes, string(m.location))
	}
	if m.attach != "" {
		h.Set("Content-Disposition", m.attach)
	}
	switch where {
	case variants.Memory:
		h.SetCanonical(fCacheStatus, vHit)
		h.SetCanonical(fTiming, vHitTiming)
	case variants.Disk:
		h.SetCanonical(fCacheStatus, []byte("Echo-Lane; hit; detail=disk"))
		h.SetCanonical(fTiming, []byte(timing))
	case variants.Joined:
		h.SetCanonical(fCacheStatus, []byte("Echo-Lane; fwd=miss; collapsed"))
		h.SetCanonical(fTiming, []byte(timing))
	default:
		h.SetCanonical(fCacheStatus, []byte("Echo-Lane; fwd=miss; stored"))
		h.SetCanonical(fTiming, []byte(timing))
	}
	sent := len(v.Body)
	if known := c.Request.Header.Peek("If-None-Match"); len(known) > 0 && matches(known, v.ETag) {
		c.Response.SetStatusCode(fasthttp.StatusNotModified)
		h.Del("Content-Type")
		sent = 0
	} else {
		c.Response.SetBodyRaw(v.Body)
		if c.IsHead() {
			sent = 0
		}
	}
	s.Counters.Answered(where, c.Response.StatusCode(), sent, time.Duration(now()-start))
	s.Meter.Of(m.site.Name).Served(sent)
}

// embed says who may do what with the answer. What only some pages may have is kept by no shared cache, and
// varies by everything that says which page asks.
func embed(h *fasthttp.ResponseHeader, e policy.Embedding, control []byte, vary string) {
	h.SetCanonical(fNosniff, vNosniff)
	h.SetCanonical(fCacheControl, control)
	if !e.Restricted {
		h.SetCanonical(fOrigin, vAny)
		h.SetCanonical(fPolicy, vCross)
		h.SetCanonical(fTimingAllow, vAny)
		if vary != "" {
			h.SetCanonical(fVary, []byte(vary))
		}
		return
	}
	pages := "Origin, Referer, Sec-Fetch-Site"
	if vary != "" {
		pages = vary + ", " + pages
	}
	h.SetCanonical(fVary, []byte(pages))
	if e.Origin == "" {
		h.SetCanonical(fPolicy, vSame)
		return
	}
	h.SetCanonical(fPolicy, vCross)
	h.SetCanonical(fOrigin, []byte(e.Origin))
	h.SetCanonical(fTimingAllow, []byte(e.Origin))
}

// cacheControl is for an answer that every page may have, and that never ends. A lane that answers signed
// links only keeps shared caches out: they would go on answering for a key that was taken back.
func cacheControl(m *memo) []byte {
	if m.lane.Signed {
		return fmt.Appendf(nil, "private, max-age=%d", m.lane.MaxAgeS)
	}
	return fmt.Appendf(nil, "public, max-age=%d, stale-while-revalidate=86400", m.lane.MaxAgeS)
}

// restricted is for answers that end, or that not every page may have.
func restricted(m *memo, private bool) string {
	age := int64(m.lane.MaxAgeS)
	if m.expires != 0 {
		age = max(0, min(age, m.expires-time.Now().Unix()))
	}
	if private || m.lane.Signed {
		return fmt.Sprintf("private, max-age=%d", age)
	}
	return fmt.Sprintf("public, max-age=%d", age)
}

// matches compares weakly against a list of validators (RFC 9110, section 13.1.2).
func matches(field []byte, etag string) bool {
	for part := range bytes.SplitSeq(field, []byte(",")) {
		part = bytes.TrimPrefix(bytes.TrimSpace(part), []byte("W/"))
		if string(part) == etag || string(part) == "*" {
			return true
		}
	}
	return false
}

// svgType is of drawings, which a lane may let through untouched.
const svgType = "image/svg+xml"

var endings = map[string]string{"image/webp": ".webp", "image/jpeg": ".jpg", "image/png": ".png", "image/gif": ".gif", "image/avif": ".avif", svgType: ".svg"}

// attachment is a Content-Disposition (RFC 6266) with the name that was asked for, or the source's, and the
// ending that the type has.
func attachment(r *request, mediaType string) string {
	name := r.declared.Download.Name
	if name == "" {
		name = path.Base(r.path)
		if i := strings.IndexAny(name, "?#"); i >= 0 {
			name = name[:i]
		}
	}
	ending := endings[mediaType]
	if have := strings.ToLower(path.Ext(name)); have != ending && !(ending == ".jpg" && have == ".jpeg") {
		if have == ".jpg" || have == ".jpeg" || have == ".png" || have == ".webp" || have == ".gif" || have == ".avif" || have == ".heic" {
			name = name[:len(name)-len(have)]
		}
		name += ending
	}
	plain := strings.Map(func(c rune) rune {
		if c < ' ' || c > '~' || c == '"' || c == '\\' || c == '%' {
			return '_'
		}
		return c
	}, name)
	out := `attachment; filename="` + plain + `"`
	if plain != name { // RFC 8187
		out += "; filename*=UTF-8''" + strings.NewReplacer("'", "%27", "(", "%28", ")", "%29", "*", "%2A").Replace(string(declare.AppendSegment(nil, name)))
	}
	return out
}

// sendOriginal answers with the source itself.
func (s *Service) sendOriginal(c *fasthttp.RequestCtx, r *request, e policy.Embedding) {
	no := func() *policy.Refusal {
		lane, err := s.Lanes.Of(r.site, r.lane)
		if err != nil {
			return s.refusalOf(err)
		}
		m := &memo{site: r.site, lane: r.lane, expires: r.declared.Expires}
		data, err := s.look(r, lane, m)
		if err == nil && data == nil {
			data, err = lane.Read(context.Background(), r.path, *m.version)
		}
		if err != nil {
			return s.refusalOf(err)
		}
		info, err := render.Probe(data)
		if err != nil {
			return s.refusalOf(err)
		}
		if r.lane.Metadata == "strip" {
			clean, ok := codec.Strip(data)
			if !ok {
				return policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "what the source says of its making can't be taken out of it", Remedy: "put a whole copy of the picture in its place, or set the lane's metadata to keep"})
			}
			data = clean
		}
		h := &c.Response.Header
		h.SetContentType(info.Type)
		h.Set("Content-Disposition", attachment(r, info.Type))
		h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
		h.Set("ETag", variants.ETagOf(data))
		h.Set("Cache-Status", "Echo-Lane; fwd=bypass")
		embed(h, e, []byte(restricted(m, e.Restricted)), "")
		c.Response.SetBodyRaw(data)
		s.Meter.Of(r.site.Name).Served(len(data))
		return nil
	}()
	if no != nil {
		s.refuse(c, r.site.Name, r.asked(), no)
	}
}

// clients bounds how often each client asks each site.
type clients struct {
	mu    sync.Mutex
	known map[clientKey]*rate.Limiter
}

type clientKey struct {
	site   string
	client netip.Addr
}

const maxClients = 50_000

func (c *clients) allow(site string, client netip.Addr, perSecond float64) bool {
	if client.Is6() { // who has one address of a network has them all
		if p, err := client.Prefix(64); err == nil {
			client = p.Addr()
		}
	}
	key := clientKey{site, client}
	c.mu.Lock()
	defer c.mu.Unlock()
	l := c.known[key]
	if l == nil {
		if c.known == nil || len(c.known) >= maxClients {
			c.known = map[clientKey]*rate.Limiter{}
		}
		l = rate.NewLimiter(rate.Limit(perSecond), max(1, int(perSecond)))
		c.known[key] = l
	}
	if float64(l.Limit()) != perSecond {
		l.SetLimit(rate.Limit(perSecond))
		l.SetBurst(max(1, int(perSecond)))
	}
	return l.Allow()
}

// client is who asks: the nearest address in X-Forwarded-For that isn't one of our proxies, where one of them
// sent the request, otherwise the connection's.
func (s *Service) client(c *fasthttp.RequestCtx) netip.Addr {
	return ClientOf(c, s.Proxies)
}

// ClientOf is who asks, believing X-Forwarded-For from these proxies alone.
func ClientOf(c *fasthttp.RequestCtx, proxies []netip.Prefix) netip.Addr {
	trusted := func(a netip.Addr) bool {
		for _, p := range proxies {
			if p.Contains(a) {
				return true
			}
		}
		return false
	}
	at, _ := netip.AddrFromSlice(c.RemoteIP())
	at = at.Unmap()
	if !trusted(at) {
		return at
	}
	hops := strings.Split(string(c.Request.Header.Peek("X-Forwarded-For")), ",")
	for i := len(hops) - 1; i >= 0; i-- {
		a, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		if at = a.Unmap(); !trusted(at) {
			break
		}
	}
	return at
}

package delivery

import (
	"bytes"
	"strconv"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/policy"
	"echolane/service/cache"
	"echolane/service/source"
)

// The step answer: the variant with everything that is said about it.

// Names and values of fields that go with every answer, ready to be copied.
var (
	fETag, fCacheControl, fLocation = []byte("Etag"), []byte("Cache-Control"), []byte("Content-Location")
	fNosniff, vNosniff              = []byte("X-Content-Type-Options"), []byte("nosniff")
	fVary, vAccept                  = []byte("Vary"), "Accept"
	fCacheStatus, fTiming           = []byte("Cache-Status"), []byte("Server-Timing")
	vHit, vHitTiming                = []byte("Echo-Lane; hit; detail=memory"), []byte(`cache;desc="memory"`)
	fOrigin, fPolicy, fTimingAllow  = []byte("Access-Control-Allow-Origin"), []byte("Cross-Origin-Resource-Policy"), []byte("Timing-Allow-Origin")
	vAny, vCross, vSame             = []byte("*"), []byte("cross-origin"), []byte("same-origin")
	fDisposition, fRanges, vBytes   = []byte("Content-Disposition"), []byte("Accept-Ranges"), []byte("bytes")
	fGroups, fModified              = []byte("Cache-Groups"), []byte("Last-Modified")
	fExpose, vExpose                = []byte("Access-Control-Expose-Headers"), []byte("ETag, Server-Timing, Content-Location, Cache-Status")
)

// cacheStatus is how the answer came about (RFC 9211).
var cacheStatus = [...][]byte{
	cache.Memory: vHit, cache.Disk: []byte("Echo-Lane; hit; detail=disk"), cache.Store: []byte("Echo-Lane; hit; detail=store"),
	cache.Made: []byte("Echo-Lane; fwd=miss; stored"), cache.Joined: []byte("Echo-Lane; fwd=miss; collapsed"),
}

func (s *Service) answer(c *fasthttp.RequestCtx, fields Fields, v *cache.Variant, m *hotEntry, e policy.Embedding, where cache.Where, timing string, start int64) {
	asked := m.asked.Add(1)
	modified := modifiedOf(v)
	// What is asked for over and over has the same head each time.
	same := where == cache.Memory && !modified.IsZero() && !e.Restricted && !m.control.changes() && m.stale.IsZero()
	if !same || !s.heads.copy(&c.Response.Header, m, v) {
		s.head(c, v, m, e, where, timing, modified)
		if same && asked%headAfter == 0 {
			s.heads.keep(&c.Response.Header, m, v)
		}
	}
	if m.classes != "" {
		s.Recorder.Used(m.site.Name, m.classes, string(m.location))
	}
	sent := len(v.Body)
	switch {
	case fields.conditional() && notModified(&c.Request.Header, v.ETag, modified):
		c.Response.SetStatusCode(fasthttp.StatusNotModified)
		c.Response.Header.Del("Content-Type")
		sent = 0
	case fields.has&hasRange != 0:
		sent = s.answerRange(c, v, modified)
	default:
		c.Response.SetBodyRaw(v.Body)
	}
	if c.IsHead() {
		sent = 0
	}
	s.count(m.site.Name, where, c.Response.StatusCode(), sent, int64(v.SourceBytes), start)
}

// head says of a variant what goes with it.
func (s *Service) head(c *fasthttp.RequestCtx, v *cache.Variant, m *hotEntry, e policy.Embedding, where cache.Where, timing string, modified time.Time) {
	h := &c.Response.Header
	h.SetContentType(v.Type)
	h.SetCanonical(fETag, raw(v.ETag))
	h.SetCanonical(fLocation, m.location)
	cacheControl := m.public
	if v.Provisional || e.Restricted || m.control.changes() {
		cacheControl = []byte(m.control.text(v.Provisional, e.Restricted, time.Now().Unix()))
	}
	embed(h, e, cacheControl, m.vary)
	if v.Type == svgType { // what it asks for or runs, it gets nothing
		h.Set("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:")
	}
	h.SetCanonical(fDisposition, m.disposition)
	h.SetCanonical(fRanges, vBytes)
	h.SetCanonical(fGroups, m.groups)
	if m.shared != "" && !v.Provisional && !e.Restricted {
		h.Set("CDN-Cache-Control", m.shared)
	}
	if !modified.IsZero() {
		h.SetCanonical(fModified, m.lastModified(modified))
	}
	status := cacheStatus[where]
	if v.Unshared {
		status = []byte("Echo-Lane; fwd=miss")
	}
	if !m.stale.IsZero() {
		status = []byte("Echo-Lane; fwd=stale; detail=" + where.String())
		h.Set("Age", strconv.FormatInt(max(0, int64(time.Since(m.stale)/time.Second)), 10))
	}
	h.SetCanonical(fCacheStatus, status)
	if where == cache.Memory {
		h.SetCanonical(fTiming, vHitTiming)
	} else {
		h.SetCanonical(fTiming, raw(timing))
	}
}

// answerRange answers with what a Range field asks for, and says how many bytes that is.
func (s *Service) answerRange(c *fasthttp.RequestCtx, v *cache.Variant, modified time.Time) int {
	spans, all := partial(c, int64(len(v.Body)), v.ETag, modified)
	switch {
	case all:
		c.Response.SetBodyRaw(v.Body)
		return len(v.Body)
	case len(spans) == 0:
		return 0
	case len(spans) == 1:
		c.Response.SetBodyRaw(v.Body[spans[0].from:][:spans[0].n])
		return int(spans[0].n)
	}
	parts, mediaType, n := partsOf(spans, v.Type, int64(len(v.Body)))
	body := make([]byte, 0, n)
	for _, p := range parts {
		body = append(append(body, p.text...), v.Body[p.from:][:p.n]...)
	}
	c.Response.Header.SetContentType(mediaType)
	c.Response.SetBodyRaw(body)
	return len(body)
}

// count counts an answer. unscaled is what the source itself would have been.
func (s *Service) count(site string, where cache.Where, status, sent int, unscaled int64, start int64) {
	took := time.Duration(source.Now() - start)
	s.Metrics.Answered(where, status, sent, took)
	if sent == 0 {
		unscaled = 0
	}
	s.Recorder.Usage(site).Answered(int(where-cache.Memory), sent, unscaled, took)
}

// modifiedOf is when a variant became what it is, where that can be said: what is provisional is about to change, and within the
// second of its making another could take its place unseen.
func modifiedOf(v *cache.Variant) time.Time {
	if v.Provisional || v.MadeAt == 0 || time.Now().Unix() <= v.MadeAt {
		return time.Time{}
	}
	return time.Unix(v.MadeAt, 0).UTC()
}

// embed says who may do what with the answer. What only some pages may have is kept by no shared cache, and
// varies by everything that says which page asks.
func embed(h *fasthttp.ResponseHeader, e policy.Embedding, cacheControl []byte, vary string) {
	h.SetCanonical(fNosniff, vNosniff)
	h.SetCanonical(fCacheControl, cacheControl)
	if !e.Restricted {
		h.SetCanonical(fOrigin, vAny)
		h.SetCanonical(fPolicy, vCross)
		h.SetCanonical(fTimingAllow, vAny)
		h.SetCanonical(fExpose, vExpose)
		if vary != "" {
			h.SetCanonical(fVary, raw(vary))
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
	h.SetCanonical(fExpose, vExpose)
}

// notModified reports whether the client has what it asks for (RFC 9110, sections 13.1.2 and 13.1.3). Lines of
// If-None-Match are one list; with one, If-Modified-Since isn't looked at. modified is zero where that isn't known.
func notModified(h *fasthttp.RequestHeader, etag string, modified time.Time) bool {
	if len(h.Peek(matchField)) > 0 {
		for _, line := range h.PeekAll(matchField) {
			if matches(line, etag) {
				return true
			}
		}
		return false
	}
	field := h.Peek(sinceField)
	if modified.IsZero() || len(field) == 0 {
		return false
	}
	since, err := fasthttp.ParseHTTPDate(field)
	return err == nil && since.Equal(modified) // nodes that don't share a store have other times for the same bytes
}

// matches compares weakly against a list of validators. A comma may stand inside one (RFC 9110, section 8.8.3).
func matches(field []byte, etag string) bool {
	for len(field) > 0 {
		field = bytes.TrimLeft(field, " \t,")
		if bytes.HasPrefix(field, []byte("*")) {
			return true
		}
		field = bytes.TrimPrefix(field, []byte("W/"))
		if len(field) == 0 || field[0] != '"' {
			_, field, _ = bytes.Cut(field, []byte(","))
			continue
		}
		end := bytes.IndexByte(field[1:], '"')
		if end < 0 {
			return false
		}
		if string(field[:end+2]) == etag {
			return true
		}
		field = field[end+2:]
	}
	return false
}

// svgType is of drawings, which a lane may let through untouched.
const svgType = "image/svg+xml"

// Preflight answers a page that asks whether it may send a request that isn't simple (Fetch, section 3.3.2): images are only
// read, by every page that the site lets.
func (s *Service) Preflight(c *fasthttp.RequestCtx) {
	h := &c.Response.Header
	h.Set("Allow", "GET, HEAD, OPTIONS")
	h.Set("Cache-Status", "Echo-Lane; fwd=method")
	c.Response.SetStatusCode(fasthttp.StatusNoContent)
	origin := string(c.Request.Header.Peek("Origin"))
	if origin == "" {
		return
	}
	r := request{settings: s.Settings.Current()}
	r.hosted = r.settings.SiteByHost(text(c.Request.Header.Host()))
	h.Set("Vary", "Origin")
	if no := s.read(&r, string(Target(c))); no != nil || r.lane == nil || r.lane.Signed {
		return
	}
	e, no := r.site.CheckPage(policy.Page{Site: string(c.Request.Header.Peek("Sec-Fetch-Site")), Origin: origin}, nil)
	if no != nil {
		return
	}
	allowed := "*"
	if e.Restricted {
		if allowed = e.Origin; allowed == "" {
			return
		}
	}
	h.Set("Access-Control-Allow-Origin", allowed)
	h.Set("Access-Control-Allow-Methods", "GET, HEAD")
	h.Set("Access-Control-Allow-Headers", "Accept, If-None-Match, If-Modified-Since, Range, Save-Data")
	h.Set("Access-Control-Max-Age", "86400")
}

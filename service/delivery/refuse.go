package delivery

import (
	"context"
	"encoding/json"
	"html/template"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/policy"
)

const mostDrained = 64 << 20

// problem is a refusal as RFC 9457 has it.
type problem struct {
	Type string `json:"type"` // where the reason is described
	*policy.Refusal
}

// Refuse answers with problem details: JSON for programs and pages, words for a person who opened the
// address in a tab.
func (s *Service) Refuse(c *fasthttp.RequestCtx, no *policy.Refusal) { s.refuse(c, "", "", no) }

// refuse also counts the refusal under what was asked. What is counted says all; what a stranger is told leaves out the
// site's rules, its commands and the addresses behind its lanes.
func (s *Service) refuse(c *fasthttp.RequestCtx, site, asked string, no *policy.Refusal) {
	s.Metrics.Refused(no.Reason)
	switch {
	case no.Mend != nil && no.Mend.Value != "":
		asked = no.Mend.Value // what would have to be allowed tells kinds apart best
	case no.Parameter != "" && no.Given != "" && no.Status != 404:
		asked = no.Parameter + "=" + no.Given
	case no.Parameter != "" && asked == "":
		asked = no.Parameter + "=" + no.Given
	}
	s.Recorder.Refused(site, asked, string(Target(c)), no)
	c.Response.Header.SetCanonical(fCacheStatus, []byte("Echo-Lane; detail="+string(no.Reason)))
	if !s.knows(c, site) {
		no = no.ForStrangers()
	}
	WriteProblem(c, no)
}

// knows reports whether the request has a token that may look at the site.
func (s *Service) knows(c *fasthttp.RequestCtx, site string) bool {
	bearer, ok := strings.CutPrefix(string(c.Request.Header.Peek("Authorization")), "Bearer ")
	if !ok || s.MayRead == nil {
		return false
	}
	ctx, cancel := context.WithTimeout(s.base, time.Second)
	defer cancel()
	return s.MayRead(ctx, bearer, site)
}

// WriteProblem writes the refusal without counting it.
func WriteProblem(c *fasthttp.RequestCtx, no *policy.Refusal) {
	if body := c.RequestBodyStream(); body != nil {
		// What is left of the body would be taken for the next request; whoever sends a lot of it is cut off.
		io.Copy(io.Discard, io.LimitReader(body, mostDrained))
		c.SetConnectionClose()
	}
	h := &c.Response.Header
	c.Response.SetStatusCode(no.Status)
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Vary", "Accept")
	if no.RetryIn > 0 {
		h.Set("Retry-After", strconv.Itoa(no.RetryIn))
	}
	if strings.Contains(string(c.Request.Header.Peek("Accept")), "text/html") {
		h.SetContentType("text/html; charset=utf-8")
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
		if err := page.Execute(c.Response.BodyWriter(), no); err == nil {
			return
		}
		c.Response.ResetBody()
	}
	h.SetContentType("application/problem+json")
	body, _ := json.Marshal(problem{Type: "/-/problems#" + string(no.Reason), Refusal: no})
	c.Response.SetBodyRaw(body)
}

const style = `:root{color-scheme:light dark}body{font:16px/1.5 system-ui,sans-serif;max-width:44rem;margin:12vh auto;padding:0 1.5rem}
h1{font-size:1.4rem;margin:0 0 .5rem}dl{display:grid;grid-template-columns:max-content 1fr;gap:.25rem 1.5rem;margin:1.5rem 0}
dt{opacity:.7}dd{margin:0;overflow-wrap:anywhere}.status{opacity:.7;font-variant-numeric:tabular-nums}strong{font-weight:600}`

var page = template.Must(template.New("refusal").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Title}}</title>
<style>` + style + `</style>
<p class="status">{{.Status}} · {{.Reason}}</p>
<h1>{{.Title}}</h1>
<p>{{.Detail}}</p>
{{if .Problems}}<ul>{{range .Problems}}<li>{{.}}</li>{{end}}</ul>{{end}}
<dl>{{if .Parameter}}<dt>About</dt><dd>{{.Parameter}}</dd>{{end}}{{if .Given}}<dt>Given</dt><dd>{{.Given}}</dd>{{end}}
{{if .Allowed}}<dt>Allowed</dt><dd>{{.Allowed}}</dd>{{end}}{{if .Remedy}}<dt>Way out</dt><dd><strong>{{.Remedy}}</strong></dd>{{end}}</dl>
</html>
`))

// Problems answers the page that describes every reason.
func Problems(c *fasthttp.RequestCtx) {
	c.Response.Header.SetContentType("text/html; charset=utf-8")
	c.Response.Header.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	list.Execute(c.Response.BodyWriter(), policy.Reasons)
}

var list = template.Must(template.New("problems").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Why Echo Lane says no</title>
<style>` + style + `</style>
<h1>Why Echo Lane says no</h1>
<p>Every refusal carries one of these reasons, and its own way out.</p>
<dl>{{range .}}<dt id="{{.Reason}}"><code>{{.Reason}}</code></dt><dd>{{.Status}} · {{.Title}}. {{.Meaning}}</dd>{{end}}</dl>
</html>
`))

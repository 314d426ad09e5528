package problem

import (
	"encoding/json"
	"html/template"
	"io"
	"strconv"
	"strings"

	"github.com/valyala/fasthttp"

	"echolane/core/policy"
)

// mostDrained is how much of an unread body is passed over, bytes. A client that is cut off while it still sends loses the
// answer, so it is more than what a call that is refused for its length usually has.
const mostDrained = 4 << 20

// Details are a refusal as a client sees it.
type Details struct {
	Type   string `json:"type,omitempty"` // where the reason is described; a body of its own has it
	Status int    `json:"status"`         // HTTP status
	*policy.Refusal
}

// Of is a refusal with its status, for an answer that holds it among other things. Of nil it is nil.
func Of(no *policy.Refusal) *Details {
	if no == nil {
		return nil
	}
	return &Details{Status: Status(no.Reason), Refusal: no}
}

// Write answers with the refusal: in JSON for programs and pages, in words for a person who opened the address in a
// tab. It counts nothing.
func Write(c *fasthttp.RequestCtx, no *policy.Refusal) {
	if body := c.RequestBodyStream(); body != nil {
		// What is left of the body would be taken for the next request; whoever sends a lot of it is cut off.
		io.Copy(io.Discard, io.LimitReader(body, mostDrained))
		c.SetConnectionClose()
	}
	details := Of(no)
	h := &c.Response.Header
	c.Response.SetStatusCode(details.Status)
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Vary", "Accept")
	if no.RetryIn > 0 {
		h.Set("Retry-After", strconv.Itoa(no.RetryIn))
	}
	if strings.Contains(string(c.Request.Header.Peek("Accept")), "text/html") {
		h.SetContentType("text/html; charset=utf-8")
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
		if err := page.Execute(c.Response.BodyWriter(), details); err == nil {
			return
		}
		c.Response.ResetBody()
	}
	h.SetContentType("application/problem+json")
	details.Type = "/-/problems#" + string(no.Reason)
	body, _ := json.Marshal(details)
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

// WriteList answers the page that describes every reason.
func WriteList(c *fasthttp.RequestCtx) {
	c.Response.Header.SetContentType("text/html; charset=utf-8")
	c.Response.Header.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	list.Execute(c.Response.BodyWriter(), policy.Reasons)
}

var list = template.Must(template.New("problems").Funcs(template.FuncMap{"status": Status}).Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Why Echo Lane says no</title>
<style>` + style + `</style>
<h1>Why Echo Lane says no</h1>
<p>Every refusal carries one of these reasons, and its own way out.</p>
<dl>{{range .}}<dt id="{{.Reason}}"><code>{{.Reason}}</code></dt><dd>{{status .Reason}} · {{.Title}}. {{.Meaning}}</dd>{{end}}</dl>
</html>
`))

package delivery

import (
	"encoding/json"

	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/source"
	"echolane/service/variants"
)

// Explanation is how an answer comes about, step by step.
type Explanation struct {
	Address  string            `json:"address"` // the address form
	Site     string            `json:"site,omitempty"`
	Lane     string            `json:"lane,omitempty"`
	Source   string            `json:"source,omitempty"`
	Steps    []policy.Step     `json:"steps"`
	Refusal  *policy.Refusal   `json:"refusal,omitempty"`  // the answer, where it is no
	Resolved string            `json:"resolved,omitempty"` // the resolved form
	Digest   source.Digest     `json:"source_digest,omitempty"`
	Key      string            `json:"key,omitempty"`
	Cache    string            `json:"cache,omitempty"` // memory, disk, made, joined
	Bytes    int               `json:"bytes,omitempty"`
	Variant  *variants.Variant `json:"variant,omitempty"`
	TotalMS  float64           `json:"total_ms"`
}

// explain does everything that the request would have done and tells how it went. It answers 200 also where
// the image would have been refused.
func (s *Service) explain(c *fasthttp.RequestCtx, r *request, no *policy.Refusal, start int64) {
	x := Explanation{Site: r.siteName(), Source: r.path, Refusal: no}
	steps := r.trace
	if steps == nil {
		steps = &[]policy.Step{}
	}
	if r.lane != nil {
		x.Lane = r.lane.Name
		shown := r.declared
		shown.As = declare.AsUnset
		x.Address = string(r.form(shown))
	}
	if no == nil {
		_, x.Refusal = s.admit(c, r.site, steps)
	}
	if x.Refusal == nil {
		lane, err := s.Lanes.Of(r.site, r.lane)
		if w, ok := lane.(*source.Web); ok && err == nil {
			_, x.Refusal = w.Check(r.path, steps)
		}
	}
	if x.Refusal == nil {
		x.Resolved = r.resolved.String()
		m, v, where, _, refused := s.work(r, start)
		if x.Refusal = refused; refused == nil {
			x.Digest, x.Key, x.Cache, x.Bytes, x.Variant = m.version.Digest, m.key, where.String(), len(v.Body), v
		}
	}
	x.Steps = *steps
	if x.Refusal != nil && (len(x.Steps) == 0 || !x.Steps[len(x.Steps)-1].Decided) {
		x.Steps = append(x.Steps, policy.Step{Rule: string(x.Refusal.Reason), Verdict: "refused", Note: x.Refusal.Detail, Decided: true})
	}
	x.TotalMS = ms(now() - start)
	h := &c.Response.Header
	h.SetContentType("application/json")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	e := json.NewEncoder(c.Response.BodyWriter())
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(x); err != nil {
		s.Log.Error("an explanation can't be written", "error", err)
	}
}

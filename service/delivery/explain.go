package delivery

import (
	"encoding/json"

	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/cache"
	"echolane/service/problem"
	"echolane/service/source"
	"echolane/service/source/held"
)

// Explanation is how an answer comes about, step by step.
type Explanation struct {
	Address  string           `json:"address"` // the address form
	Site     string           `json:"site,omitempty"`
	Lane     string           `json:"lane,omitempty"`
	Source   string           `json:"source,omitempty"`
	Steps    []policy.Step    `json:"steps"`
	Refusal  *problem.Details `json:"refusal,omitempty"`  // the answer, where it is no
	Resolved string           `json:"resolved,omitempty"` // the resolved form
	Digest   held.Digest      `json:"source_digest,omitempty"`
	Key      string           `json:"key,omitempty"`
	Cache    string           `json:"cache,omitempty"` // memory, disk, made, joined
	Bytes    int              `json:"bytes,omitempty"`
	Variant  *cache.Variant   `json:"variant,omitempty"`
	TotalMS  float64          `json:"total_ms"`
}

// explain tells how the line went that the request was taken along, with a trace. It answers 200 also where the image would
// have been refused.
func (s *Service) explain(c *fasthttp.RequestCtx, r *request, f *found, no *policy.Refusal, start int64) {
	x := Explanation{Site: r.siteName(), Source: r.path, Refusal: problem.Of(no), Steps: []policy.Step{}}
	if r.trace != nil {
		x.Steps = append(x.Steps, *r.trace...)
	}
	if r.lane != nil {
		x.Lane = r.lane.Name
		shown := r.declared
		shown.As = declare.AsUnset
		x.Address = string(r.form(shown))
	}
	if f != nil {
		x.Resolved = r.resolved.String()
		if len(f.sources) > 0 && f.sources[0] != nil {
			x.Digest = f.sources[0].Known.Digest
		}
		if f.variant != nil {
			x.Key, x.Cache, x.Bytes, x.Variant = f.hot.key, f.where.String(), len(f.variant.Body), f.variant.Whole()
		}
		if o := f.original; o != nil {
			o.content.Close()
			x.Cache, x.Bytes = cache.Original.String(), int(o.size)
		}
	}
	if x.Variant != nil {
		for _, l := range x.Variant.Layers {
			for _, o := range l.Over {
				x.Steps = append(x.Steps, policy.Step{Rule: "layers", Verdict: "overflows", Note: "the text of " + declare.LayerSelector(l.Name) + " " + o.Words()})
			}
		}
	}
	if no != nil && (len(x.Steps) == 0 || !x.Steps[len(x.Steps)-1].Decided) {
		x.Steps = append(x.Steps, policy.Step{Rule: string(no.Reason), Verdict: "refused", Note: no.Detail, Decided: true})
	}
	if !s.knows(c, x.Site) {
		for i := range x.Steps {
			x.Steps[i] = x.Steps[i].ForStrangers()
		}
		if x.Refusal != nil {
			x.Refusal.Refusal = x.Refusal.ForStrangers()
		}
	}
	x.TotalMS = ms(source.Now() - start)
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

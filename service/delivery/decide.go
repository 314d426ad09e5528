package delivery

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/caller"
)

// The step decide: what policy says of the request's text, its page and its client, before anything is looked up.

// decide puts the declarations to policy.
func (s *Service) decide(r *request) (no *policy.Refusal) {
	ask := policy.Ask{Lane: r.lane, Declared: r.declared, Accepted: r.accepted, Client: r.client, Trusted: r.trusted, Now: time.Now().Unix(), Form: func() string {
		signed := r.declared
		signed.Signature, signed.As = "", declare.AsUnset
		return string(r.form(signed))
	}}
	if r.resolved, no = r.site.Decide(&ask, r.trace); no != nil {
		return no
	}
	if r.resolved.Focus = r.site.Focuses.Of(r.lane.Name, r.path); r.resolved.Focus.Declared && r.trace != nil && (r.resolved.Follows() || r.declared.As == declare.Facts) {
		*r.trace = append(*r.trace, policy.Step{Rule: "focus", Verdict: "matched", Note: "somebody has said where the subject is: " + r.resolved.Focus.String()})
	}
	return nil
}

// admit holds what a request says beside its address against the site: its page, its client, the month.
func (s *Service) admit(c *fasthttp.RequestCtx, site *policy.SiteSettings, trace *[]policy.Step) (e policy.Embedding, no *policy.Refusal) {
	if len(site.Pages) > 0 || trace != nil {
		h := &c.Request.Header
		if e, no = site.CheckPage(policy.Page{Site: string(h.Peek("Sec-Fetch-Site")), Origin: string(h.Peek("Origin")), Referer: string(h.Peek("Referer"))}, trace); no != nil {
			return e, no
		}
	}
	if site.RequestsPerSecond > 0 && !s.clients.Allow(site.Name, caller.Of(c, s.Proxies), site.RequestsPerSecond) {
		return e, policy.No(policy.Refusal{
			Reason: policy.ReasonTooManyRequests, Detail: fmt.Sprintf("site %s answers one client at most %g times a second", site.Name, site.RequestsPerSecond),
			Allowed: fmt.Sprintf("%g requests a second", site.RequestsPerSecond), Remedy: "ask again in a second, or raise the site's requests_per_second limit", RetryIn: 1,
		})
	}
	if most := site.Month.BytesServed; most > 0 {
		if used := s.Recorder.Usage(site.Name).ServedBytes(); used >= most {
			return e, monthOver(site.Name, "bytes_served", used, most)
		}
	}
	return e, nil
}

func monthOver(site, what string, used, most int64) *policy.Refusal {
	t := time.Now().UTC()
	next := time.Date(t.Year(), t.Month()+1, 1, 0, 0, 0, 0, time.UTC)
	return policy.No(policy.Refusal{
		Reason: policy.ReasonMonthUsedUp, Parameter: "month." + what, Given: strconv.FormatInt(used, 10), Detail: fmt.Sprintf("site %s has used its %s of this month", site, strings.ReplaceAll(what, "_", " ")),
		Allowed: fmt.Sprintf("%d a month", most), Remedy: fmt.Sprintf("wait for %s, or raise the site's month.%s", next.Format("2 January"), what), RetryIn: int(next.Sub(t).Seconds()) + 1,
	})
}

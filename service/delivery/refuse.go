package delivery

import (
	"context"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/policy"
	"echolane/service/problem"
	"echolane/service/source"
)

// Refuse answers with problem details: JSON for programs and pages, words for a person who opened the
// address in a tab.
func (s *Service) Refuse(c *fasthttp.RequestCtx, no *policy.Refusal) { s.refuse(c, "", "", no, 0) }

// refuse also counts the refusal under what was asked. What is counted says all; what a stranger is told leaves out the
// site's rules, its commands and the addresses behind its lanes. start is when the request came; 0: just now.
func (s *Service) refuse(c *fasthttp.RequestCtx, site, asked string, no *policy.Refusal, start int64) {
	took := time.Duration(0)
	if start > 0 {
		took = time.Duration(source.Now() - start)
	}
	s.Metrics.Refused(no.Reason, took)
	switch {
	case no.Mend != nil && no.Mend.Value != "":
		asked = no.Mend.Value // what would have to be allowed tells kinds apart best
	case no.Parameter != "" && no.Given != "" && problem.Status(no.Reason) != 404:
		asked = no.Parameter + "=" + no.Given
	case no.Parameter != "" && asked == "":
		asked = no.Parameter + "=" + no.Given
	}
	s.Recorder.Refused(site, asked, string(Target(c)), no)
	c.Response.Header.SetCanonical(fCacheStatus, []byte("Echo-Lane; detail="+string(no.Reason)))
	if !s.knows(c, site) {
		no = no.ForStrangers()
	}
	problem.Write(c, no)
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

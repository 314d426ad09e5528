// Package caller finds out who sends a request, and bounds how often each may.
package caller

import (
	"bytes"
	"net/netip"

	"github.com/maypok86/otter/v2"
	"github.com/valyala/fasthttp"
	"golang.org/x/time/rate"
)

// Of is the address that a request comes from: the nearest in X-Forwarded-For that isn't one of our proxies, where one of
// them sent the request, otherwise the connection's. Several lines of the field are one list (RFC 9110, section 5.3).
func Of(c *fasthttp.RequestCtx, proxies []netip.Prefix) netip.Addr {
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
	if len(proxies) == 0 || !trusted(at) {
		return at
	}
	lines := c.Request.Header.PeekAll("X-Forwarded-For")
	for i := len(lines) - 1; i >= 0; i-- {
		hops := bytes.Split(lines[i], []byte(","))
		for j := len(hops) - 1; j >= 0; j-- {
			a, err := netip.ParseAddr(string(bytes.TrimSpace(hops[j])))
			if err != nil {
				return at
			}
			if at = a.Unmap().WithZone(""); !trusted(at) {
				return at
			}
		}
	}
	return at
}

// Network is the address as far as one caller is told from another by it: who has one address of an IPv6 network of 64
// bits has them all.
func Network(a netip.Addr) netip.Addr {
	if a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.Addr()
		}
	}
	return a
}

// A Limiter bounds how often each caller asks for each thing. It knows a bounded number of pairs and forgets those that
// asked longest ago. Safe for concurrent use.
type Limiter struct {
	known *otter.Cache[pair, *rate.Limiter]
}

type pair struct {
	what   string
	caller netip.Addr
}

// NewLimiter makes one that knows at most so many pairs.
func NewLimiter(most int) *Limiter {
	return &Limiter{otter.Must(&otter.Options[pair, *rate.Limiter]{MaximumSize: most})}
}

// Allow counts one request and says whether it is within perSecond; as many may come at once as in a second.
func (l *Limiter) Allow(what string, caller netip.Addr, perSecond float64) bool {
	burst := max(1, int(perSecond))
	k := pair{what, Network(caller)}
	r, ok := l.known.GetIfPresent(k)
	if !ok {
		r, _ = l.known.SetIfAbsent(k, rate.NewLimiter(rate.Limit(perSecond), burst))
	}
	if float64(r.Limit()) != perSecond {
		r.SetLimit(rate.Limit(perSecond))
		r.SetBurst(burst)
	}
	return r.Allow()
}

// Len is how many pairs are known.
func (l *Limiter) Len() int {
	l.known.CleanUp()
	return l.known.EstimatedSize()
}

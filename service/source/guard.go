package source

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"time"

	"echolane/core/policy"
)

// Timeouts bound a fetch.
type Timeouts struct {
	Connect, FirstByte, Total time.Duration
}

// DefaultTimeouts are what origins get.
var DefaultTimeouts = Timeouts{Connect: 3 * time.Second, FirstByte: 8 * time.Second, Total: 20 * time.Second}

// Lookup finds a host's addresses.
type Lookup func(ctx context.Context, host string) ([]netip.Addr, error)

// SystemLookup asks the system's resolver.
func SystemLookup(ctx context.Context, host string) ([]netip.Addr, error) {
	return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
}

// Guard makes connections for one lane. It looks names up itself and connects to the very addresses that it
// has checked, so a name that changes its address between check and use gains nothing. Each redirect and each
// new connection passes here again.
type Guard struct {
	Site, Lane string
	Private    []netip.Prefix // addresses that may be reached though they aren't public
	Lookup     Lookup
	Timeouts   Timeouts
}

func (g Guard) dial(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var found []netip.Addr
	if a, err := netip.ParseAddr(host); err == nil {
		found = []netip.Addr{a}
	} else if found, err = g.Lookup(ctx, host); err != nil {
		return nil, fmt.Errorf("look up %s: %w", host, err)
	}
	d := net.Dialer{Timeout: g.Timeouts.Connect}
	var last error
	for _, a := range found {
		if !policy.MayConnect(a, g.Private) {
			last = policy.BadAddress(g.Site, g.Lane, host, a)
			continue
		}
		conn, err := d.DialContext(ctx, network, netip.AddrPortFrom(a.Unmap(), portOf(port)).String())
		if err == nil {
			return conn, nil
		}
		last = err
	}
	if last == nil {
		last = fmt.Errorf("look up %s: it has no address", host)
	}
	return nil, last
}

func portOf(s string) uint16 {
	n, err := net.LookupPort("tcp", s)
	if err != nil {
		return 0
	}
	return uint16(n)
}

// Client never follows redirects by itself, uses no proxy and keeps no cookies.
func (g Guard) Client() *http.Client {
	return &http.Client{
		Timeout: g.Timeouts.Total,
		Transport: &http.Transport{
			DialContext: g.dial, TLSHandshakeTimeout: g.Timeouts.Connect, ResponseHeaderTimeout: g.Timeouts.FirstByte,
			MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10, DisableCompression: true, ForceAttemptHTTP2: true,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// Dial makes a connection for something other than a lane under the same rules: public addresses alone, but for private
// ones that are listed. It looks the name up itself and connects to the address that it has checked.
func Dial(ctx context.Context, site string, private []netip.Prefix, network, address string) (net.Conn, error) {
	return Guard{Site: site, Lane: "the page", Private: private, Lookup: SystemLookup, Timeouts: DefaultTimeouts}.dial(ctx, network, address)
}

package caller

import (
	"fmt"
	"net"
	"net/netip"
	"testing"

	"github.com/valyala/fasthttp"
)

func TestWhoAsks(t *testing.T) {
	proxies := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}
	for _, c := range []struct {
		name, from string
		lines      []string
		want       string
	}{
		{"nobody's proxy isn't believed", "192.0.2.9", []string{"198.51.100.1"}, "192.0.2.9"},
		{"a proxy is", "10.0.0.1", []string{"198.51.100.1"}, "198.51.100.1"},
		{"the nearest that isn't ours counts", "10.0.0.1", []string{"203.0.113.5, 198.51.100.1, 10.2.2.2"}, "198.51.100.1"},
		{"lines are one list", "10.0.0.1", []string{"203.0.113.5", "198.51.100.1"}, "198.51.100.1"},
		{"lines are one list, ours last", "10.0.0.1", []string{"198.51.100.1", "10.3.3.3"}, "198.51.100.1"},
		{"what isn't an address ends it", "10.0.0.1", []string{"203.0.113.5, unknown"}, "10.0.0.1"},
		{"without the field the proxy itself", "10.0.0.1", nil, "10.0.0.1"},
		{"IPv4 in IPv6's form", "10.0.0.1", []string{"::ffff:198.51.100.1"}, "198.51.100.1"},
	} {
		var r fasthttp.RequestCtx
		var q fasthttp.Request
		for _, l := range c.lines {
			q.Header.Add("X-Forwarded-For", l)
		}
		r.Init(&q, &net.TCPAddr{IP: net.ParseIP(c.from), Port: 1}, nil)
		if got := Of(&r, proxies).String(); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

func TestTheLimiterForgetsTheOldestAlone(t *testing.T) {
	l := NewLimiter(1000)
	me := netip.MustParseAddr("192.0.2.1")
	if !l.Allow("site", me, 1) || l.Allow("site", me, 1) {
		t.Error("one a second isn't held")
	}
	if !l.Allow("other", me, 1) {
		t.Error("another site is another count")
	}
	for i := range 20_000 { // a crowd that comes once each, while I go on asking
		l.Allow("site", netip.MustParseAddr(fmt.Sprintf("2001:db8:%x:%x::1", i>>16, i&0xffff)), 1)
		if i%50 == 0 && l.Allow("site", me, 0.0001) {
			t.Fatalf("after %d others I'm forgotten", i)
		}
	}
	if l.Len() > 1200 {
		t.Errorf("%d are known", l.Len())
	}
	if !l.Allow("v6", netip.MustParseAddr("2001:db8::1"), 1) || l.Allow("v6", netip.MustParseAddr("2001:db8::2"), 1) {
		t.Error("two addresses of one network are one caller")
	}
}

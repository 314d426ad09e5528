package delivery

import (
	"net"
	"testing"

	"github.com/valyala/fasthttp"
)

// BenchmarkHit is the line for a request that was answered lately: what is beside it is the HTTP server's.
func BenchmarkHit(b *testing.B) {
	s := newStand(b)
	var q fasthttp.Request
	q.SetRequestURI("/kestrel/f/kite.png?width=60")
	q.Header.SetHost("images.test")
	q.Header.Set("Accept", "image/webp")
	c := &fasthttp.RequestCtx{}
	c.Init(&q, &net.TCPAddr{IP: net.IPv4(192, 0, 2, 1), Port: 1}, nil)
	s.Handle(c)
	b.ReportAllocs()
	for b.Loop() {
		c.Response.Reset()
		s.Handle(c)
	}
}

package delivery

import (
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
	fields := handle(s.Service, c, &q)
	b.ReportAllocs()
	for b.Loop() {
		c.Response.Reset()
		s.Handle(c, fields)
	}
}

package app

import (
	"context"
	"log/slog"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/wording"
	"echolane/service/caller"
	"echolane/service/trace"
)

// A line of the log for each request, where that was asked for: --log-requests.

const (
	longestLogged = 2000 // bytes of an address
	longestAgent  = 300  // of what a client says of itself, and of the host that it asks
)

// logged passes a request on, and says how it was answered.
func (a *App) logged(c *fasthttp.RequestCtx) {
	begun := time.Now()
	p, ok := trace.Parse(string(c.Request.Header.Peek(trace.Field)))
	if p = p.Child(); !ok {
		p = trace.New()
	}
	c.Request.Header.Set(trace.Field, p.String()) // who works on it tells origins of this span
	method, address, agent := string(c.Method()), wording.Cut(withoutSecrets(string(c.RequestURI())), longestLogged), wording.Cut(string(c.UserAgent()), longestAgent)
	host, client := wording.Cut(string(c.Request.Header.Host()), longestAgent), caller.Of(c, a.o.Proxies).String()
	a.pass(c)
	size := c.Response.Header.ContentLength()
	if !c.Response.IsBodyStream() { // whose body would be read into memory
		size = len(c.Response.Body())
	}
	a.o.Log.LogAttrs(context.Background(), slog.LevelInfo, "request",
		slog.String("trace", p.Trace), slog.String("span", p.Span), slog.String("client", client), slog.String("method", method), slog.String("host", host),
		slog.String("address", address), slog.Int("status", c.Response.StatusCode()), slog.Int("bytes", size),
		slog.Float64("ms", float64(time.Since(begun).Microseconds())/1000), slog.String("cache", string(c.Response.Header.Peek("Cache-Status"))), slog.String("agent", agent))
}

// withoutSecrets leaves out what opens something: signatures, and one-time links.
func withoutSecrets(address string) string {
	path, query, asked := strings.Cut(address, "?")
	if !asked {
		return address
	}
	parts := strings.Split(query, "&")
	for i, part := range parts {
		if name, _, _ := strings.Cut(part, "="); name == "signature" || name == "link" || name == "token" {
			parts[i] = name + "=…"
		}
	}
	return path + "?" + strings.Join(parts, "&")
}

package app

import (
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"echolane/core/policy"
	"echolane/service/connections"
	"echolane/service/delivery"
	"echolane/service/problem"
)

// What every request passes, and what becomes of those that aren't any.

// longestTarget is how long a request's target may be.
const longestTarget = 12 << 10

// door takes every request in.
func (a *App) door(c *fasthttp.RequestCtx) {
	if a.o.LogRequests {
		a.logged(c)
		return
	}
	a.pass(c)
}

// pass passes a request on. A panic behind it is one answer with 500.
func (a *App) pass(c *fasthttp.RequestCtx) {
	a.under.Add(1)
	defer a.under.Add(-1)
	if conn, ok := c.Conn().(*connections.Conn); ok {
		conn.Begin()
		defer func() {
			conn.Coming(bodyLength(c))
			conn.End()
		}()
	}
	defer func() {
		if v := recover(); v != nil {
			a.panics.Caught("answer "+string(c.Method())+" "+fmt.Sprintf("%.200q", c.RequestURI()), v)
			c.Response.Reset()
			c.SetConnectionClose()
			a.turnAway(c, policy.Refusal{Reason: policy.ReasonInternal, Detail: "the service met something that it wasn't made for", Remedy: "tell whoever runs the service"})
		}
	}()
	if a.refusing.Load() {
		c.SetConnectionClose()
		a.turnAway(c, policy.Refusal{Reason: policy.ReasonStopping, Detail: "this node takes no more requests", Remedy: "ask again: another node answers, or this one when it has started anew", RetryIn: 1})
		return
	}
	if len(c.RequestURI()) > longestTarget {
		a.turnAway(c, policy.Refusal{Reason: policy.ReasonURITooLong, Given: fmt.Sprintf("%d bytes", len(c.RequestURI())), Allowed: fmt.Sprintf("at most %d", longestTarget), Detail: "the address is longer than is read", Remedy: "use a shorter one: name declarations that stand together as a class of the sheet"})
		return
	}
	fields := delivery.FieldsOf(&c.Request.Header)
	if n := fields.Hosts; n > 1 || n == 0 && c.Request.Header.IsHTTP11() { // RFC 9112, section 3.2
		c.SetConnectionClose()
		a.turnAway(c, policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "Host", Given: fmt.Sprintf("%d Host fields", n), Allowed: "one", Detail: "a request names its host once", Remedy: "send one Host field"})
		return
	}
	uri := delivery.Target(c)
	if c.IsOptions() && string(uri) == "*" { // RFC 9110, section 9.3.7
		c.Response.Header.Set("Allow", "GET, HEAD, OPTIONS")
		c.Response.SetStatusCode(fasthttp.StatusNoContent)
		return
	}
	if len(uri) >= 3 && uri[1] == '-' && uri[2] == '/' || len(uri) <= 1 {
		head := c.IsHead()
		if head { // GET without the body (RFC 9110, section 9.3.2)
			c.Request.Header.SetMethod("GET")
		}
		a.handler(c)
		if head {
			c.Request.Header.SetMethod("HEAD")
			c.Response.SkipBody = true
		}
		return
	}
	// Images are everything outside /-/; they pass by all routing.
	switch {
	case c.IsGet(), c.IsHead():
		a.delivery.Handle(c, fields)
	case c.IsOptions():
		a.delivery.Preflight(c)
	default:
		c.Response.Header.Set("Allow", "GET, HEAD, OPTIONS")
		a.delivery.Refuse(c, policy.No(policy.Refusal{
			Reason: policy.ReasonMethodNotAllowed, Given: string(c.Method()), Allowed: "GET, HEAD, OPTIONS", Detail: "images are only read", Remedy: "use GET or HEAD",
		}))
	}
}

// bodyLength is how many bytes of body follow the answer's head, as far as they lie ready.
func bodyLength(c *fasthttp.RequestCtx) int {
	status := c.Response.StatusCode()
	if c.IsHead() || c.Response.SkipBody || c.Response.IsBodyStream() || status < 200 || status == fasthttp.StatusNoContent || status == fasthttp.StatusNotModified {
		return 0
	}
	return len(c.Response.Body())
}

func (a *App) turnAway(c *fasthttp.RequestCtx, r policy.Refusal) {
	no := policy.No(r)
	a.metrics.Refused(no.Reason, 0)
	c.Response.Header.Set("Cache-Status", "Echo-Lane; detail="+string(no.Reason))
	problem.Write(c, no)
}

// full is the whole answer to a client that there is no connection for.
func (a *App) full() []byte {
	var c fasthttp.RequestCtx
	no := policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "this node holds as many connections as it may", Remedy: "ask again in a moment", RetryIn: 2})
	c.Response.Header.Set("Cache-Status", "Echo-Lane; detail="+string(no.Reason))
	c.Response.Header.SetNoDefaultContentType(true)
	c.SetConnectionClose()
	problem.Write(&c, no)
	return []byte(c.Response.String())
}

// malformed answers what the server couldn't read as a request.
func (a *App) malformed(c *fasthttp.RequestCtx, err error) {
	no := policy.Refusal{Reason: policy.ReasonBadRequest, Detail: "this isn't an HTTP request", Allowed: "HTTP/1.1 (RFC 9112)", Remedy: "see how the client writes its requests"}
	var small *fasthttp.ErrSmallBuffer
	var network net.Error
	switch {
	case errors.As(err, &small) && !strings.Contains(err.Error(), `\r\n`):
		no = policy.Refusal{Reason: policy.ReasonURITooLong, Allowed: fmt.Sprintf("at most %d bytes", longestTarget), Detail: "the address is longer than is read", Remedy: "use a shorter one"}
	case errors.As(err, &small):
		no = policy.Refusal{Reason: policy.ReasonFieldsTooLarge, Allowed: fmt.Sprintf("at most %d bytes of line and fields", longestHead), Detail: "the request's fields are longer than is read", Remedy: "send fewer or shorter ones: cookies, most often"}
	case errors.As(err, &network) && network.Timeout():
		no = policy.Refusal{Reason: policy.ReasonRequestTooSlow, Detail: "the request didn't come to its end in time", Remedy: "send it again"}
	}
	if conn, ok := c.Conn().(*connections.Conn); ok && small != nil { // it is still being sent
		conn.Linger()
	}
	c.SetConnectionClose()
	a.turnAway(c, no)
}

// broke answers what a route of the service's own gives as an error.
func (a *App) broke(c fiber.Ctx, err error) error {
	no := policy.Refusal{Reason: policy.ReasonInternal, Detail: "the service met something that it wasn't made for", Remedy: "tell whoever runs the service"}
	var e *fiber.Error
	if errors.As(err, &e) {
		switch {
		case e.Code == 405:
			no = policy.Refusal{Reason: policy.ReasonMethodNotAllowed, Given: c.Method(), Detail: "this address takes other methods", Remedy: "see /-/api/openapi.json"}
		case e.Code < 500:
			no = policy.Refusal{Reason: policy.ReasonBadRequest, Detail: e.Message, Remedy: "see /-/api/openapi.json"}
		}
	}
	if no.Reason == policy.ReasonInternal {
		a.o.Log.Error("a request broke", "path", c.Path(), "error", err)
	}
	problem.Write(c.RequestCtx(), policy.No(no))
	return nil
}

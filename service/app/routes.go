package app

import (
	"crypto/subtle"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"

	"echolane/console"
	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/cache/guard"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/web"
)

// The service's own addresses, below /-/.

func (a *App) route() {
	r := a.routes
	r.Get("/", func(c fiber.Ctx) error { return c.Redirect().Status(fiber.StatusFound).To("/-/console/") })
	r.Get("/-/live", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"status": "live"}) })
	r.Get("/-/ready", a.ready)
	if a.scraped == nil {
		r.Get("/-/metrics", a.scrape, adaptor.HTTPHandler(a.metrics.handler()))
	}
	r.Get("/-/problems", func(c fiber.Ctx) error { problem.WriteList(c.RequestCtx()); return nil })
	r.Get("/-/api/openapi.json", func(c fiber.Ctx) error {
		c.Set("Content-Type", "application/json")
		return c.Send(api.Description)
	})
	a.api.Mount(r.Group("/-/api/v1", api.Limit, a.api.Guard))
	r.Get("/-/console", func(c fiber.Ctx) error { return c.Redirect().Status(fiber.StatusMovedPermanently).To("/-/console/") })
	r.Get("/-/console/*", a.console)
	r.Get("/-/web/*", a.web)
	r.Use(func(c fiber.Ctx) error {
		problem.Write(c.RequestCtx(), policy.No(policy.Refusal{
			Reason: policy.ReasonNoSuchPage, Given: string(c.RequestCtx().Path()), Detail: "the service has nothing at this address", Remedy: "images are at /site/lane/path, the console at /-/console/, the API's description at /-/api/openapi.json",
		}))
		return nil
	})
}

// ready says whether requests are answered as they should be. A service that has lost its database still
// answers images, so it stays in the balance and says that it is degraded; one that knows no settings, or is about to end,
// doesn't.
func (a *App) ready(c fiber.Ctx) error {
	c.Set("Cache-Control", "no-store")
	switch {
	case a.draining.Load():
		return c.Status(503).JSON(fiber.Map{"status": "draining"})
	case !a.settings.Known():
		return c.Status(503).JSON(fiber.Map{"status": "waiting", "database": "away", "detail": "the database is away, and no settings are known yet"})
	}
	status, said := fiber.Map{"status": "ready", "database": "there"}, []string{}
	if !a.settings.Live() {
		status["database"] = "away"
		said = append(said, "images are served with the settings last read; settings can't be changed")
	}
	tiers := a.cache.Stats()
	if a.kept != nil {
		status["disk"] = "there"
		if d := guard.Join(tiers.Disk, a.kept.State()); d.Resting {
			status["disk"] = "failing"
			said = append(said, "the disk cache can't be used: "+d.Last)
		}
	}
	if a.shared != nil {
		status["store"] = "there"
		if tiers.Store.Resting {
			status["store"] = "failing"
			said = append(said, "the shared store can't be used: "+tiers.Store.Last)
		}
	}
	if len(said) > 0 {
		status["status"], status["detail"] = "degraded", strings.Join(said, "; ")
	}
	return c.JSON(status)
}

// scrape lets those who may read everything have the metrics.
func (a *App) scrape(c fiber.Ctx) error {
	bearer, ok := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	if ok {
		if a.o.Token != "" && subtle.ConstantTimeCompare([]byte(bearer), []byte(a.o.Token)) == 1 {
			return c.Next()
		}
		if access, err := a.store.ByToken(c.Context(), bearer); err == nil && access.Allows(records.MayRead, "") && len(access.Sites) == 0 {
			return c.Next()
		}
	}
	problem.Write(c.RequestCtx(), policy.No(policy.Refusal{
		Reason: policy.ReasonNotSignedIn, Detail: "metrics are for those who run the service", Allowed: "Authorization: Bearer with a token that may read all sites", Remedy: "give a token, or have metrics at an address of their own: echolane serve --metrics-listen 127.0.0.1:8741",
	}))
	return nil
}

// console serves the built console. Every address in it that isn't a file is one of its views.
func (a *App) console(c fiber.Ctx) error {
	name, err := url.PathUnescape(c.Params("*"))
	if err != nil || name == "" {
		name = "index.html"
	}
	f := consoleFiles.file(name)
	if f == nil {
		name = "index.html"
		if f = consoleFiles.file(name); f == nil {
			return c.Status(404).SendString("This binary was built without its console: build it with `make build`.")
		}
	}
	if strings.HasPrefix(name, "assets/") {
		c.Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with their content
	} else {
		c.Set("Cache-Control", "no-cache")
		c.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
		c.Set("Referrer-Policy", "no-referrer")
	}
	return f.send(c)
}

// web answers what sites' own pages load: from every origin, and kept for an hour.
func (a *App) web(c fiber.Ctx) error {
	name := c.Params("*")
	f := webFiles.file(name)
	if f == nil {
		return c.Next()
	}
	c.Set("Access-Control-Allow-Origin", "*")
	c.Set("Cross-Origin-Resource-Policy", "cross-origin")
	c.Set("Timing-Allow-Origin", "*")
	c.Set("Cache-Control", "public, max-age=3600, stale-while-revalidate=86400")
	return f.send(c)
}

var (
	consoleFiles = &files{from: console.Files, dir: "dist/"}
	webFiles     = &files{from: web.Files}
)

package api

import (
	"strings"

	"github.com/gofiber/fiber/v3"

	"echolane/core/wording"
	"echolane/service/delivery"
	"echolane/service/records"
	"echolane/service/source"
)

// FoundSources are sources in which there is what was looked for.
type FoundSources struct {
	Items    []records.LookedAt `json:"items"`
	Next     string             `json:"next,omitempty"` // lane/path of the last one, where there are more
	LookedAt int64              `json:"looked_at"`      // sources that were looked at so far, among which it was looked for
}

func (a *API) found(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	limit, no := numberOf(c, "count", defaultPage, 1, largestPage)
	if no != nil {
		return refuse(c, no)
	}
	lane, after := c.Query("lane"), c.Query("behind")
	if lane != "" && s.Lane(lane) == nil {
		return refuse(c, delivery.NoLane(s, lane))
	}
	if no := source.CheckText(after); no != nil {
		return refuse(c, no)
	}
	find, err := records.ParseFind(c.Query("find"))
	if err != nil {
		return refuse(c, badRequest("find", wording.Cut(c.Query("find"), 80), err.Error(), "terms with spaces between, such as colour:red faces:>0 width:>2000 name:delta"))
	}
	afterLane, afterPath, _ := strings.Cut(after, "/")
	out := FoundSources{}
	if out.Items, err = a.Store.Find(c.Context(), s.Name, lane, find, afterLane, afterPath, limit+1); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	if len(out.Items) > limit {
		last := out.Items[limit-1]
		out.Items, out.Next = out.Items[:limit], last.Lane+"/"+last.Path
	}
	if out.LookedAt, err = a.Store.CountLookedAt(c.Context(), s.Name, lane); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return c.JSON(out)
}

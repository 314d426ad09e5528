package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/delivery"
	"echolane/service/records"
	"echolane/service/source"
)

// Focus is where somebody has said that the subject of a source is.
type Focus struct {
	Path  string    `json:"path"`
	Focus string    `json:"focus"` // a point in percent, such as 40% 25%, or a box as percent:x,y,width,height
	At    time.Time `json:"at"`
	By    string    `json:"by"`
}

// SetFocus is what PUT …/focuses takes.
type SetFocus struct {
	Path  string `json:"path"`
	Focus string `json:"focus"` // as Focus has it
}

// longestFocusPath is how many bytes the path of a source with a focus may have.
const longestFocusPath = 2000

func focusOf(f records.Focus) Focus {
	return Focus{Path: f.Path, Focus: f.Place().String(), At: f.At, By: f.By}
}

func (a *API) focuses(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	limit, no := limitOf(c)
	if no != nil {
		return refuse(c, no)
	}
	if no := source.CheckText(c.Query("after")); no != nil {
		return refuse(c, no)
	}
	list, err := a.Store.Focuses(c.Context(), s.Name, l.Name, c.Query("after"), limit+1)
	if err != nil {
		return refuse(c, failed(err, l.Name))
	}
	page := Page[Focus]{Items: []Focus{}}
	for i, f := range list {
		if i == limit {
			page.Next = list[i-1].Path
			break
		}
		page.Items = append(page.Items, focusOf(f))
	}
	return c.JSON(page)
}

func (a *API) setFocus(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in SetFocus
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	f, err := declare.ParseFocus(in.Focus)
	if err != nil {
		return refuse(c, badRequest("focus", in.Focus, err.Error(), declare.FocusGrammar))
	}
	if no := delivery.CheckSourcePath(l, in.Path); no != nil {
		return refuse(c, no)
	}
	if len(in.Path) > longestFocusPath {
		return refuse(c, badRequest("path", wording.Cut(in.Path, 60), fmt.Sprintf("the path has %d bytes", len(in.Path)), fmt.Sprintf("of at most %d bytes", longestFocusPath)))
	}
	// A slip of the pen would never be noticed otherwise.
	ctx, cancel := context.WithTimeout(c.Context(), lookLimit)
	defer cancel()
	located, err := a.Sources.Locate(ctx, s, l, in.Path, nil)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	located.Close()
	kept, err := a.Store.SetFocus(c.Context(), s.Name, l.Name, in.Path, f, who(c))
	if err != nil {
		return refuse(c, focusFailed(err, s.Name))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, in.Path))
	}
	return c.JSON(focusOf(kept))
}

func (a *API) removeFocus(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	path := c.Query("path")
	if no := source.CheckText(path); no != nil {
		return refuse(c, no)
	}
	if !s.Focuses.Of(l.Name, path).Declared {
		return refuse(c, nothing("focus", path))
	}
	if _, err := a.Store.SetFocus(c.Context(), s.Name, l.Name, path, declare.Focus{}, who(c)); err != nil {
		return refuse(c, failed(err, path))
	}
	return a.refreshed(c, path)
}

func focusFailed(err error, site string) *policy.Refusal {
	if errors.Is(err, records.ErrTooManyFocuses) {
		return policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "focus", Detail: fmt.Sprintf("site %s: %v", site, err), Remedy: "take back what is no longer needed, or mark subjects in the files (mwg-rs or IPTC image regions)"})
	}
	return failed(err, site)
}

package api

import (
	"strings"

	"github.com/gofiber/fiber/v3"

	"echolane/core/policy"
	"echolane/service/records"
)

// Readmitted says how many sources are worked on again.
type Readmitted struct {
	Cleared int64 `json:"cleared"`
}

func (a *API) setAside(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	list, err := a.Store.AllSetAside(c.Context(), s.Name)
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return paged(c, list, func(s records.SetAside) string { return s.Digest })
}

// leastDigest is how much of a digest names one source.
const leastDigest = 8

func (a *API) readmit(c fiber.Ctx) error {
	s, no := a.findSite(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	digest := c.Query("digest")
	if digest != "" {
		list, err := a.Store.AllSetAside(c.Context(), s.Name)
		if err != nil {
			return refuse(c, failed(err, s.Name))
		}
		var found []string
		for _, l := range list {
			if len(digest) >= leastDigest && strings.HasPrefix(l.Digest, digest) {
				found = append(found, l.Digest)
			}
		}
		if len(found) != 1 {
			detail := "no source of " + s.Name + " that is set aside has this digest"
			if len(found) > 1 {
				detail = "more than one source has a digest that begins so"
			}
			return refuse(c, policy.No(policy.Refusal{Reason: policy.ReasonNoSuchThing, Parameter: "digest", Given: digest, Detail: detail, Allowed: "a digest that is listed, or at least its first 8 characters", Remedy: "see which there are: echolane set-aside " + s.Name}))
		}
		digest = found[0]
	}
	n, err := a.Store.Readmit(c.Context(), s.Name, digest)
	if err != nil {
		return refuse(c, failed(err, s.Name))
	}
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, s.Name))
	}
	return c.JSON(Readmitted{n})
}

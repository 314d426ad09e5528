// Package web is the kind of lane whose sources are fetched from HTTP origins that its rules allow.
package web

import (
	"net/http"
	"strings"
	"time"

	"echolane/core/policy"
	"echolane/service/source"
)

// Kind is "web".
type Kind struct{}

// Describe says what the settings of a web lane are.
func (Kind) Describe() policy.LaneKind {
	return policy.LaneKind{
		Name: "web", FreshS: 300, Told: []string{"allow", "base"}, Where: [][]string{{"base"}, {"allow"}}, URLWithout: "base",
		Secrets: policy.LaneSecrets{Form: policy.Headers},
		Check: func(l *policy.Lane) *policy.Trouble {
			if len(l.Allow) == 0 {
				return &policy.Trouble{Path: "allow", Detail: "without a rule no source is allowed", Allowed: "at least one URL pattern, such as https://photos.kestrel.test/*"}
			}
			return nil
		},
		Fields: []policy.LaneField{
			{Name: "allow", Label: "Allow", Hint: "URL patterns, such as https://photos.kestrel.test/*", Usage: "URL pattern that sources must match"},
			{Name: "deny", Label: "Deny", Hint: "Wins over allow", Usage: "URL pattern that wins over --allow"},
			{Name: "base", Label: "Base", Hint: "What paths are appended to; without one a path is a whole URL", Usage: "URL that paths are appended to", Place: true},
			source.PrivateField(""),
			{Name: "unshared", Label: "Marked no-store or private", Usage: "what an origin marks no-store or private: forget, or keep", Common: true},
		},
	}
}

// Ready finds nothing: whether an origin answers is for the first fetch to see.
func (Kind) Ready(*policy.Lane) *policy.Trouble { return nil }

// Open makes the lane's client.
func (Kind) Open(o source.Opening) (source.Lane, error) {
	headers := http.Header{}
	for secret, value := range o.Secrets {
		if field, ok := strings.CutPrefix(secret, policy.HeaderSecret(o.Lane.Name, "")); ok {
			headers.Set(field, value)
		}
	}
	return &Lane{site: o.Site, lane: o.Lane, headers: headers, client: o.Guard.Client(), total: o.Guard.Timeouts.Total, keep: o.Keep, cdn: o.CDN, now: time.Now}, nil
}

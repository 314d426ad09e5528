// Package blank is the kind of lane whose sources are colours: the path navy or 0d1b2a is a picture of nothing but that, for cards and
// layers that need no picture.
package blank

import (
	"context"
	"fmt"
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/source"
	"echolane/service/source/held"
)

// Kind is "blank".
type Kind struct{}

// Describe says what the settings of a blank lane are.
func (Kind) Describe() policy.LaneKind {
	return policy.LaneKind{Name: "blank", FreshS: 86400, Fields: []policy.LaneField{}, Where: [][]string{}, Holds: "colours", Path: "0d1b2a", Told: []string{"blank"}, Option: "blank", OptionUsage: "its sources are colours: the path 0d1b2a or navy is a picture of that"}
}

// Ready finds nothing wrong: there is nothing behind it.
func (Kind) Ready(*policy.Lane) *policy.Trouble { return nil }

// Open opens it.
func (Kind) Open(o source.Opening) (source.Lane, error) {
	return Lane{Name: o.Name(), Fresh: o.Lane.Fresh}, nil
}

// Lane is a lane of colours.
type Lane struct {
	Name  string // site/lane, for words
	Fresh time.Duration
}

// side is how large a colour is by itself, CSS pixels.
const side = 1000

// of draws a path's colour, sharp at any size; ok is false where the path is none.
func of(path string) (data []byte, ok bool) {
	c, ok := declare.ParseColor(path)
	if !ok {
		return nil, false
	}
	return fmt.Appendf(nil, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d"><rect width="100%%" height="100%%" fill="#%02x%02x%02x" fill-opacity="%.4g"/></svg>`, side, side, c.R, c.G, c.B, float64(c.A)/255), true
}

// Check passes what is a colour.
func (l Lane) Check(path string, _ *[]policy.Step) (string, *policy.Refusal) {
	if _, ok := of(path); !ok {
		return "", policy.No(policy.Refusal{
			Reason: policy.ReasonBadPath, Parameter: "path", Given: path, Detail: "lane " + l.Name + " has colours, and " + path + " is none", Allowed: "a CSS colour, such as 0d1b2a or navy", Remedy: "write the colour as the path",
		})
	}
	return path, nil
}

// Close has nothing to end.
func (Lane) Close() {}

// Forget has nothing to drop.
func (Lane) Forget(string, uint64) {}

// Near is true: it is drawn at once.
func (Lane) Near() bool { return true }

// Stat gives the drawing, which never changes.
func (l Lane) Stat(_ context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	data, ok := of(path)
	if !ok {
		return source.Version{}, nil, source.Missing(l.Name, path)
	}
	v := source.Version{Bytes: int64(len(data)), Validator: "1", Fresh: l.Fresh}
	if have != nil && have.Validator == v.Validator && have.Bytes == v.Bytes {
		same := *have
		same.Fresh = l.Fresh
		return same, nil, nil
	}
	return v, held.InMemory(data, nil), nil
}

// Open gives the drawing.
func (l Lane) Open(_ context.Context, path string, _ source.Version) (*held.Content, error) {
	data, ok := of(path)
	if !ok {
		return nil, source.Missing(l.Name, path)
	}
	return held.InMemory(data, nil), nil
}

// List lists none: there are more than anybody looks through.
func (Lane) List(context.Context, string, int) ([]source.Entry, bool, error) { return nil, false, nil }

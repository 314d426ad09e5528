// Package trace passes on which request something is done for (W3C Trace Context): taken over from who asks, told to origins, and
// written in the log.
package trace

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"strings"
)

// Parent is a traceparent: which trace a request belongs to, and which of its spans asks. Its zero value is none.
type Parent struct {
	Trace string // 32 characters
	Span  string // 16 characters
	Flags string // 2 characters
}

// Field is the name of the header field.
const Field = "Traceparent"

// Parse reads a traceparent (section 3.2). ok is false where it isn't one, and for a trace or span of zeros.
func Parse(text string) (p Parent, ok bool) {
	parts := strings.Split(strings.TrimSpace(text), "-")
	if len(parts) < 4 || len(parts[0]) != 2 || !isHex(parts[0]) || parts[0] == "ff" || parts[0] == "00" && len(parts) != 4 {
		return p, false
	}
	p = Parent{parts[1], parts[2], parts[3]}
	ok = len(p.Trace) == 32 && len(p.Span) == 16 && len(p.Flags) == 2 && isHex(p.Trace+p.Span+p.Flags) && strings.Trim(p.Trace, "0") != "" && strings.Trim(p.Span, "0") != ""
	return p, ok
}

func isHex(s string) bool { return strings.Trim(s, "0123456789abcdef") == "" }

// New begins a trace.
func New() Parent { return Parent{random(16), random(8), "00"} }

func random(n int) string {
	b := make([]byte, n)
	rand.Read(b)
	b[0] |= 1 // zeros are none
	return hex.EncodeToString(b)
}

// Child is another span of the same trace.
func (p Parent) Child() Parent {
	p.Span = random(8)
	return p
}

// String is the header field's value, "" for none.
func (p Parent) String() string {
	if p.Trace == "" {
		return ""
	}
	return "00-" + p.Trace + "-" + p.Span + "-" + p.Flags
}

type inContext struct{}

// With has a context belong to a trace.
func With(ctx context.Context, p Parent) context.Context {
	return context.WithValue(ctx, inContext{}, p)
}

// From is the trace that a context belongs to.
func From(ctx context.Context) Parent {
	p, _ := ctx.Value(inContext{}).(Parent)
	return p
}

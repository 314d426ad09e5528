// Package panics keeps a panic from ending the process: it costs the one request, flight or task that met it.
package panics

import (
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"sync/atomic"
)

// A Catcher logs panics with their stacks and counts them. Its zero value counts without a log; nil does neither, and
// still stops them. Safe for concurrent use.
type Catcher struct {
	Log   *slog.Logger
	count atomic.Int64
}

// Error is a panic that was caught.
type Error struct {
	Doing string // what was being done
	Value any    // what was panicked with
}

func (e *Error) Error() string { return fmt.Sprintf("%s: panic: %v", e.Doing, e.Value) }

// Count is how many panics were caught.
func (c *Catcher) Count() int64 {
	if c == nil {
		return 0
	}
	return c.count.Load()
}

// Run runs f. A panic in it comes back as *Error.
func (c *Catcher) Run(doing string, f func() error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = c.Caught(doing, v)
		}
	}()
	return f()
}

// Caught takes note of what somebody has recovered.
func (c *Catcher) Caught(doing string, v any) *Error {
	if c != nil {
		c.count.Add(1)
		if c.Log != nil {
			c.Log.Error("a panic was caught", "doing", doing, "panic", fmt.Sprint(v), "stack", string(debug.Stack()))
		}
	}
	return &Error{doing, v}
}

// Go runs f on a goroutine of its own, which all waits for; a panic ends that goroutine alone.
func (c *Catcher) Go(all *sync.WaitGroup, doing string, f func()) {
	all.Go(func() {
		c.Run(doing, func() error { f(); return nil })
	})
}

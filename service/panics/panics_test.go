package panics

import (
	"bytes"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"testing"
)

func TestAPanicCostsItsTaskAlone(t *testing.T) {
	var said bytes.Buffer
	c := &Catcher{Log: slog.New(slog.NewTextHandler(&said, nil))}
	err := c.Run("the test", func() error { panic("oh") })
	var caught *Error
	if !errors.As(err, &caught) || caught.Value != "oh" || c.Count() != 1 {
		t.Errorf("%v, %d", err, c.Count())
	}
	if !strings.Contains(said.String(), "panics_test.go") || !strings.Contains(said.String(), "the test") {
		t.Errorf("the log has no stack: %s", said.String())
	}
	if err := c.Run("fine", func() error { return nil }); err != nil {
		t.Error(err)
	}
	var all sync.WaitGroup
	c.Go(&all, "a task", func() { panic("again") })
	all.Wait()
	if c.Count() != 2 {
		t.Errorf("%d", c.Count())
	}
	var none *Catcher
	if err := none.Run("x", func() error { panic(1) }); err == nil || none.Count() != 0 {
		t.Errorf("%v", err)
	}
}

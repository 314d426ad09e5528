package records

import (
	"context"
	"errors"
	"testing"
	"time"
)

func TestAHashThatTakesTooLongIsNoFailureOfTheDatabase(t *testing.T) {
	s := &Store{hashers: make(chan struct{}, 1)}
	s.HashIn([]string{"sleep", "60"})
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	begun := time.Now()
	if _, err := s.hash(ctx, toHash{Password: "a long password"}); !errors.Is(err, ErrBusy) {
		t.Errorf("%v", err)
	}
	if took := time.Since(begun); took > 5*time.Second {
		t.Errorf("it took %v", took)
	}
	s.HashIn([]string{"false"})
	if _, err := s.hash(context.Background(), toHash{Password: "a long password"}); err == nil || errors.Is(err, ErrBusy) {
		t.Errorf("a program that fails: %v", err)
	}
}

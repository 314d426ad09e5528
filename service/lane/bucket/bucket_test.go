package bucket

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/service/cache/disk"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/store"
)

// away is a store that can be away.
type away struct {
	store.Store
	err error
}

func (a *away) Stat(ctx context.Context, key string) (store.Object, error) {
	if a.err != nil {
		return store.Object{}, a.err
	}
	return a.Store.Stat(ctx, key)
}

func (a *away) Open(ctx context.Context, key string) (io.ReadCloser, store.Object, error) {
	if a.err != nil {
		return nil, store.Object{}, a.err
	}
	return a.Store.Open(ctx, key)
}

// stand is a bucket lane over a folder, with a clock that the test moves.
func stand(t *testing.T) (*Lane, *away, *time.Time) {
	t.Helper()
	inner, err := store.InFolder(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	a := &away{Store: inner}
	disk := disk.Open(disk.Options{Dir: t.TempDir(), Bytes: 1 << 20, Log: slog.New(slog.DiscardHandler)})
	limits := policy.DefaultLimits
	limits.SourceBytes = 100
	l := &Lane{
		name: "kestrel/archive", lane: &policy.CompiledLane{Lane: policy.Lane{Name: "archive", Kind: "bucket", Bucket: "kites"}, Limits: limits, Fresh: time.Minute},
		store: a, total: 5 * time.Second, keep: source.NewKeep(disk, 0), now: func() time.Time { return now },
	}
	return l, a, &now
}

func put(t *testing.T, s store.Store, key, text string) {
	t.Helper()
	if err := s.Put(context.Background(), key, strings.NewReader(text), int64(len(text))); err != nil {
		t.Fatal(err)
	}
}

func reason(err error) policy.Reason {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no.Reason
	}
	return ""
}

func TestAnObjectIsReadOnceAndRevalidated(t *testing.T) {
	l, s, _ := stand(t)
	put(t, s, "1998/kite.jpg", "bytes")
	v, _, err := l.Stat(t.Context(), "1998/kite.jpg", nil)
	if err != nil || v.Digest != held.DigestOf([]byte("bytes")) || v.Bytes != 5 || v.Fresh != time.Minute {
		t.Fatalf("%+v %v", v, err)
	}
	s.err = errors.New("not asked")
	c, err := l.Open(t.Context(), "1998/kite.jpg", v)
	if err != nil {
		t.Fatal("what was read is kept:", err)
	}
	c.Close()
	s.err = nil
	again, _, err := l.Stat(t.Context(), "1998/kite.jpg", &v)
	if err != nil || again.Digest != v.Digest || again.Validator != v.Validator {
		t.Errorf("%+v %v", again, err)
	}
	put(t, s, "1998/kite.jpg", "other bytes")
	changed, _, err := l.Stat(t.Context(), "1998/kite.jpg", &v)
	if err != nil || changed.Digest == v.Digest {
		t.Errorf("a change isn't seen: %+v %v", changed, err)
	}
	l.Forget("1998/kite.jpg", 0)
	if _, err := l.Open(t.Context(), "1998/kite.jpg", v); !errors.Is(err, held.ErrChanged) {
		t.Errorf("a version that is gone opens: %v", err)
	}
}

func TestAStoreThatFailsIsAnsweredForByWhatIsKept(t *testing.T) {
	l, s, now := stand(t)
	put(t, s, "kite.jpg", "bytes")
	v, _, err := l.Stat(t.Context(), "kite.jpg", nil)
	if err != nil {
		t.Fatal(err)
	}
	s.err = errors.New("connection refused")
	stale, _, err := l.Stat(t.Context(), "kite.jpg", &v)
	if err != nil || stale.Digest != v.Digest || stale.Fresh != source.StaleServed {
		t.Errorf("%+v %v", stale, err)
	}
	*now = now.Add(source.MaxStale + time.Hour)
	if _, _, err := l.Stat(t.Context(), "kite.jpg", &v); reason(err) != policy.ReasonOriginFailed {
		t.Errorf("what is too old still answers: %v", err)
	}
}

func TestWhatABucketHasNotIsRefused(t *testing.T) {
	l, s, _ := stand(t)
	put(t, s, "long.jpg", strings.Repeat("x", 101))
	for path, want := range map[string]policy.Reason{"none.jpg": policy.ReasonNoSuchSource, "long.jpg": policy.ReasonSourceTooManyBytes} {
		if _, _, err := l.Stat(t.Context(), path, nil); reason(err) != want {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func TestABucketIsListedInPages(t *testing.T) {
	l, s, _ := stand(t)
	for _, key := range []string{"b.png", "a/1.jpg", "a/2.jpg", "notes.txt", "c.webp"} {
		put(t, s, key, "x")
	}
	var got []string
	for after := ""; ; {
		page, more, err := l.List(t.Context(), after, 2)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range page {
			got = append(got, e.Path)
		}
		if !more {
			break
		}
		after = got[len(got)-1]
	}
	if want := []string{"a/1.jpg", "a/2.jpg", "b.png", "c.webp"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

package bucket

import (
	"context"
	"errors"
	"fmt"
	"time"

	"echolane/core/policy"
	"echolane/service/lane/objects"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/store"
)

// Lane is a lane whose sources lie in object storage, each under its path. What was read is kept, and answers for a
// store that fails.
type Lane struct {
	name  string
	lane  *policy.CompiledLane
	store store.Store
	total time.Duration
	keep  *source.Keep
	now   func() time.Time
}

func (b *Lane) key(path string) string {
	return source.KeepKey(b.name, b.lane.Endpoint, b.lane.Bucket, b.lane.Prefix, path)
}

// Stat compares the object's ETag, size and time.
func (b *Lane) Stat(ctx context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	ctx, cancel := context.WithTimeout(ctx, b.total)
	defer cancel()
	return b.keep.Newest(ctx, b.key(path), have, func(have *source.Version) (source.Version, *held.Content, error) {
		v, content, err := b.stat(ctx, path, have)
		var no *policy.Refusal
		if err != nil && have != nil && errors.As(err, &no) && (no.Reason == policy.ReasonOriginFailed || no.Reason == policy.ReasonOriginSlow) && b.now().Before(have.StaleUntil) {
			stale := *have
			stale.Fresh, stale.Stale = source.StaleServed, true
			return stale, nil, nil
		}
		content.Close() // it is kept, and opened again when it's needed
		return v, nil, err
	})
}

func (b *Lane) stat(ctx context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	a, err := b.store.Stat(ctx, path)
	if err != nil {
		return source.Version{}, nil, b.refuse(path, err)
	}
	next := source.Version{Validator: fmt.Sprintf("%s %d %d", a.ETag, a.Size, a.Modified.UnixNano()), Fresh: b.lane.Fresh, Modified: a.Modified.UTC().Truncate(time.Second)}
	next.Validated = b.now()
	next.StaleUntil = b.now().Add(next.Fresh + source.MaxStale)
	if have != nil && have.Validator == next.Validator {
		next.Digest, next.Bytes = have.Digest, have.Bytes
		return next, nil, nil
	}
	return objects.Take(ctx, b.keep, b.store, path, b.lane.Limits, b.name, "", func(d held.Digest, n int64) (source.Version, string) {
		v := next
		v.Digest, v.Bytes = d, n
		return v, b.key(path)
	})
}

// Open gives what is kept, or reads the object again.
func (b *Lane) Open(ctx context.Context, path string, v source.Version) (*held.Content, error) {
	return b.keep.OpenOr(b.key(path), v, func() (source.Version, *held.Content, error) {
		ctx, cancel := context.WithTimeout(ctx, b.total)
		defer cancel()
		return b.stat(ctx, path, nil)
	})
}

// Forget drops what is kept of a source.
func (b *Lane) Forget(path string, since uint64) { b.keep.Forget(b.key(path), since) }

// List lists the objects whose names end as images do, from after on.
func (b *Lane) List(ctx context.Context, after string, limit int) (entries []source.Entry, more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, b.total)
	defer cancel()
	for o, err := range b.store.List(ctx, "", after) {
		if err != nil {
			return nil, false, b.refuse("", err)
		}
		if o.Key <= after || !source.IsImageName(o.Key) {
			continue
		}
		if len(entries) == limit {
			return entries, true, nil
		}
		entries = append(entries, source.Entry{Path: o.Key, Bytes: o.Size, MTime: o.Modified.UTC()})
	}
	return entries, false, nil
}

// Check passes every plain path.
func (b *Lane) Check(path string, _ *[]policy.Step) (string, *policy.Refusal) {
	return path, source.CheckPath(path)
}

// Near is false: an object may have to be fetched.
func (b *Lane) Near() bool { return false }

// Close ends the lane's connections.
func (b *Lane) Close() { b.store.Close() }

func (b *Lane) refuse(path string, err error) error { return objects.Refuse(b.name, path, err) }

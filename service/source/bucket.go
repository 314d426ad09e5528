package source

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/store"
)

// Credentials open a bucket. They are kept as a secret, as JSON.
type Credentials struct {
	AccessKey string `json:"access_key"`
	SecretKey string `json:"secret_key"`
}

// openStore opens the store behind a bucket or upload lane: a folder, or an S3-compatible service.
func openStore(l *policy.CompiledLane, g guard, secret string) (store.Store, error) {
	if l.Folder != "" {
		return store.InFolder(l.Folder)
	}
	var c Credentials
	if secret != "" {
		if err := json.Unmarshal([]byte(secret), &c); err != nil {
			return nil, fmt.Errorf("read the lane's credentials: %w", err)
		}
	}
	return store.InBucket(store.S3Options{Endpoint: l.Endpoint, Region: l.Region, Bucket: l.Bucket, Prefix: prefixOf(l), AccessKey: c.AccessKey, SecretKey: c.SecretKey, Client: g.client()}), nil
}

// Bucket is a lane whose sources lie in object storage, each under its path. What was read is kept, and answers for a
// store that fails.
type Bucket struct {
	name  string
	lane  *policy.CompiledLane
	store store.Store
	total time.Duration
	keep  *Keep
	now   func() time.Time
}

func (b *Bucket) key(path string) string {
	return keepKey(b.name, b.lane.Endpoint, b.lane.Bucket, b.lane.Prefix, path)
}

// keepKey is what a source is kept under.
func keepKey(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return base64.RawURLEncoding.EncodeToString(sum[:18])
}

// Stat compares the object's ETag, size and time.
func (b *Bucket) Stat(ctx context.Context, path string, have *Version) (Version, *Content, error) {
	ctx, cancel := context.WithTimeout(ctx, b.total)
	defer cancel()
	if have == nil {
		have = b.keep.known(b.key(path))
	}
	v, content, err := b.stat(ctx, path, have)
	var no *policy.Refusal
	if err != nil && have != nil && errors.As(err, &no) && (no.Reason == policy.ReasonOriginFailed || no.Reason == policy.ReasonOriginSlow) && b.now().Before(have.StaleUntil) {
		stale := *have
		stale.Fresh = staleServed
		return stale, nil, nil
	}
	content.Close() // it is kept, and opened again when it's needed
	return v, nil, err
}

func (b *Bucket) stat(ctx context.Context, path string, have *Version) (Version, *Content, error) {
	a, err := b.store.Stat(ctx, path)
	if err != nil {
		return Version{}, nil, b.refuse(path, err)
	}
	next := Version{Validator: fmt.Sprintf("%s %d %d", a.ETag, a.Size, a.Modified.UnixNano()), Fresh: b.lane.Fresh, Modified: a.Modified.UTC().Truncate(time.Second)}
	next.StaleUntil = b.now().Add(next.Fresh + maxStale)
	if have != nil && have.Validator == next.Validator {
		next.Digest, next.Bytes = have.Digest, have.Bytes
		return next, nil, nil
	}
	return takeObject(ctx, b.keep, b.store, path, b.lane.Limits, b.name, func(d Digest, n int64) (Version, string) {
		v := next
		v.Digest, v.Bytes = d, n
		return v, b.key(path)
	})
}

// Open gives what is kept, or reads the object again.
func (b *Bucket) Open(ctx context.Context, path string, v Version) (*Content, error) {
	if c, ok := b.keep.open(b.key(path), v); ok {
		return c, nil
	}
	ctx, cancel := context.WithTimeout(ctx, b.total)
	defer cancel()
	got, content, err := b.stat(ctx, path, nil)
	if err != nil {
		return nil, err
	}
	if got.Digest != v.Digest {
		content.Close()
		return nil, ErrChanged
	}
	return content, nil
}

// Forget drops what is kept of a source.
func (b *Bucket) Forget(path string) { b.keep.forget(b.key(path)) }

// takeObject reads an object of a store.
func takeObject(ctx context.Context, keep *Keep, from store.Store, key string, limits policy.Limits, lane string, complete func(Digest, int64) (Version, string)) (Version, *Content, error) {
	r, o, err := from.Open(ctx, key)
	if err != nil {
		return Version{}, nil, refuseStore(lane, key, err)
	}
	defer r.Close()
	if no := limits.CheckBytes(o.Size); no != nil {
		return Version{}, nil, no
	}
	v, content, err := keep.receive(ctx, r, limits.SourceBytes, o.Size, complete)
	if errors.Is(err, errTooLong) {
		return Version{}, nil, limits.CheckBytes(limits.SourceBytes + 1)
	}
	if err != nil {
		return Version{}, nil, refuseStore(lane, key, err)
	}
	return v, content, nil
}

// List lists the objects whose names end as images do, from after on.
func (b *Bucket) List(ctx context.Context, after string, limit int) (entries []Entry, more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, b.total)
	defer cancel()
	for o, err := range b.store.List(ctx, "", after) {
		if err != nil {
			return nil, false, b.refuse("", err)
		}
		if o.Key <= after || !looksLikeImage(o.Key) {
			continue
		}
		if len(entries) == limit {
			return entries, true, nil
		}
		entries = append(entries, Entry{Path: o.Key, Bytes: o.Size, MTime: o.Modified.UTC()})
	}
	return entries, false, nil
}

// prefixOf is what stands before every key of a lane in its bucket.
func prefixOf(l *policy.CompiledLane) string {
	if l.Prefix == "" {
		return ""
	}
	return strings.TrimSuffix(l.Prefix, "/") + "/"
}

// Close ends the lane's connections.
func (b *Bucket) Close() { b.store.Close() }

func (b *Bucket) refuse(path string, err error) error { return refuseStore(b.name, path, err) }

func refuseStore(lane, path string, err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, ErrChanged) {
		return err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return missing(lane, path)
	case errors.Is(err, fs.ErrPermission):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " turned us away", Remedy: "keep its credentials anew: echolane lane secret " + lane + " --access-key … --secret-key …", RetryIn: 10})
	case errors.Is(err, context.DeadlineExceeded):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginSlow, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " took too long", Remedy: "try again later", RetryIn: 10})
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " failed: " + wording.Cut(err.Error(), 120), Remedy: "see whether its endpoint answers, and try again", RetryIn: 10})
}

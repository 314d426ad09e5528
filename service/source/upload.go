package source

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"echolane/core/policy"
	"echolane/service/panics"
	"echolane/service/store"
)

// Upload is a lane whose sources were put in through Echo Lane. Its store holds, for each path, a pointer to
// the newest version, every version's facts, and the bytes under their digest; so any node finds a source with
// the store alone, and a version is never half there.
type Upload struct {
	name  string
	lane  *policy.CompiledLane
	store store.Store
	total time.Duration
	keep  *Keep
}

// Uploaded is a version of an uploaded source.
type Uploaded struct {
	Path    string    `json:"path"`
	Version int       `json:"version"`
	Digest  Digest    `json:"digest"`
	Bytes   int64     `json:"bytes"`
	Type    string    `json:"type"`
	Width   int       `json:"width"`
	Height  int       `json:"height"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
}

func nameKey(path string) string { return "names/" + path }

// versions lists the keys of a path's versions, upwards. Other files there are being written.
func (u *Upload) versions(ctx context.Context, path string) ([]string, error) {
	keys, err := u.keys(ctx, "versions/"+url.PathEscape(path)+"/")
	keys = slices.DeleteFunc(keys, func(k string) bool {
		return strings.Trim(k[strings.LastIndexByte(k, '/')+1:], "0123456789") != ""
	})
	slices.Sort(keys)
	return keys, err
}

func versionKey(path string, n int) string {
	return fmt.Sprintf("versions/%s/%06d", url.PathEscape(path), n)
}
func bytesKey(path string, d Digest) string { return "bytes/" + url.PathEscape(path) + "/" + string(d) }

// Newest gives the newest version's facts.
func (u *Upload) Newest(ctx context.Context, path string) (Uploaded, error) {
	v, err := u.record(ctx, nameKey(path))
	if err != nil {
		return v, refuseStore(u.name, path, err)
	}
	return v, nil
}

// Put keeps content as the newest version of a path. v brings the facts; its Path, Version and Bytes are set here. Equal
// bytes again make no new version. Of several that are put at once, the one with the highest number is the newest.
func (u *Upload) Put(ctx context.Context, path string, content *Content, v Uploaded) (Uploaded, error) {
	v.Path, v.Bytes, v.Version = path, content.Size(), 1
	newest, err := u.Newest(ctx, path)
	var no *policy.Refusal
	switch {
	case err == nil && newest.Digest == v.Digest:
		return newest, nil
	case err == nil:
		v.Version = newest.Version + 1
	case !errors.As(err, &no) || no.Reason != policy.ReasonNoSuchSource:
		return v, err
	}
	if err := u.store.Put(ctx, bytesKey(path, v.Digest), content.Reader(), content.Size()); err != nil {
		return v, refuseStore(u.name, path, err)
	}
	for tries := 0; ; tries++ {
		text, err := json.Marshal(v)
		if err != nil {
			return v, err
		}
		err = u.store.Add(ctx, versionKey(path, v.Version), bytes.NewReader(text), int64(len(text)))
		if errors.Is(err, fs.ErrExist) && tries < 20 { // somebody else was quicker with this number
			v.Version++
			continue
		}
		if err == nil {
			err = u.point(ctx, path, v)
		}
		if err != nil {
			return v, refuseStore(u.name, path, err)
		}
		return v, nil
	}
}

// point has the path's pointer say the newest version. Whoever writes it looks afterwards whether a newer one has come
// meanwhile, and goes on until none has: so the last to write it has written the newest.
func (u *Upload) point(ctx context.Context, path string, v Uploaded) error {
	for range 100 {
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if err := u.store.Put(ctx, nameKey(path), bytes.NewReader(text), int64(len(text))); err != nil {
			return err
		}
		keys, err := u.versions(ctx, path)
		if err != nil {
			return err
		}
		if len(keys) == 0 || slices.Max(keys) <= versionKey(path, v.Version) {
			return nil
		}
		if v, err = u.record(ctx, slices.Max(keys)); err != nil {
			return err
		}
	}
	return errors.New("other versions go on coming")
}

// Versions lists all versions of a path, newest first.
func (u *Upload) Versions(ctx context.Context, path string) ([]Uploaded, error) {
	keys, err := u.versions(ctx, path)
	if err != nil {
		return nil, err
	}
	list := []Uploaded{}
	for _, key := range slices.Backward(keys) {
		v, err := u.record(ctx, key)
		if err != nil {
			return nil, refuseStore(u.name, path, err)
		}
		list = append(list, v)
	}
	if len(list) == 0 {
		return nil, missing(u.name, path)
	}
	return list, nil
}

// Remove forgets a path with all its versions and bytes.
func (u *Upload) Remove(ctx context.Context, path string) error {
	if err := u.store.Delete(ctx, nameKey(path)); err != nil {
		return refuseStore(u.name, path, err)
	}
	for _, prefix := range []string{"versions/", "bytes/"} {
		keys, err := u.keys(ctx, prefix+url.PathEscape(path)+"/")
		if err != nil {
			return err
		}
		for _, key := range keys {
			if err := u.store.Delete(ctx, key); err != nil {
				return refuseStore(u.name, path, err)
			}
		}
	}
	return nil
}

// keys lists what lies below a prefix.
func (u *Upload) keys(ctx context.Context, prefix string) (keys []string, err error) {
	for o, err := range u.store.List(ctx, prefix, "") {
		if err != nil {
			return nil, refuseStore(u.name, prefix, err)
		}
		keys = append(keys, o.Key)
	}
	return keys, nil
}

// mostOfRecord is how long one of the JSON records may be.
const mostOfRecord = 64 << 10

// record reads one of the JSON records.
func (u *Upload) record(ctx context.Context, key string) (v Uploaded, err error) {
	r, _, err := u.store.Open(ctx, key)
	if err != nil {
		return v, err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, mostOfRecord))
	if err != nil {
		return v, err
	}
	if err := json.Unmarshal(text, &v); err != nil {
		return v, fmt.Errorf("its record is broken: %w", err)
	}
	return v, nil
}

// Stat reads the pointer.
func (u *Upload) Stat(ctx context.Context, path string, have *Version) (Version, *Content, error) {
	ctx, cancel := context.WithTimeout(ctx, u.total)
	defer cancel()
	up, err := u.Newest(ctx, path)
	if err != nil {
		return Version{}, nil, err
	}
	return Version{Digest: up.Digest, Bytes: up.Bytes, Validator: string(up.Digest), Fresh: u.lane.Fresh, Modified: up.At.UTC().Truncate(time.Second)}, nil, nil
}

// Open gives a version's bytes: what is kept of them, or the store's.
func (u *Upload) Open(ctx context.Context, path string, v Version) (*Content, error) {
	if c, ok := u.keep.open(u.key(path), v); ok {
		return c, nil
	}
	ctx, cancel := context.WithTimeout(ctx, u.total)
	defer cancel()
	got, content, err := takeObject(ctx, u.keep, u.store, bytesKey(path, v.Digest), u.lane.Limits, u.name, func(d Digest, n int64) (Version, string) {
		kept := v
		kept.Digest, kept.Bytes = d, n
		return kept, u.key(path)
	})
	if err != nil {
		return nil, err
	}
	if got.Digest != v.Digest {
		content.Close()
		u.Forget(path)
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "the bytes that are kept aren't those that were put in", Remedy: "upload the source again"})
	}
	return content, nil
}

func (u *Upload) key(path string) string {
	return keepKey(u.name, "upload", u.lane.Folder, u.lane.Endpoint, u.lane.Bucket, u.lane.Prefix, path)
}

// Forget drops what is kept of a source beside the store.
func (u *Upload) Forget(path string) { u.keep.forget(u.key(path)) }

// Receive takes in what is to be put, at most what the lane allows, and works out its digest. Closing the content forgets
// it.
func (u *Upload) Receive(ctx context.Context, r io.Reader) (Version, *Content, error) {
	key := keepKey(u.name, "received", rand.Text())
	v, content, err := u.keep.receive(ctx, r, u.lane.Limits.SourceBytes, -1, func(d Digest, n int64) (Version, string) {
		return Version{Digest: d, Bytes: n}, key
	})
	if errors.Is(err, errTooLong) {
		return v, nil, u.lane.Limits.CheckBytes(u.lane.Limits.SourceBytes + 1)
	}
	if err != nil {
		return v, nil, err
	}
	release := content.release
	content.release = func() {
		release()
		u.keep.forget(key)
	}
	return v, content, nil
}

// List lists the paths from after on. What a page holds is read from the store several at a time.
func (u *Upload) List(ctx context.Context, after string, limit int) (entries []Entry, more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, u.total)
	defer cancel()
	from := ""
	if after != "" {
		from = nameKey(after)
	}
	var paths []string
	for o, err := range u.store.List(ctx, "names/", from) {
		if err != nil {
			return nil, false, refuseStore(u.name, "", err)
		}
		if path := strings.TrimPrefix(o.Key, "names/"); path > after {
			if more = len(paths) == limit; more {
				break
			}
			paths = append(paths, path)
		}
	}
	found := make([]*Uploaded, len(paths))
	var reading errgroup.Group
	reading.SetLimit(16)
	for i, path := range paths {
		reading.Go(func() error {
			var none *panics.Catcher
			return none.Run("read an upload's record", func() error {
				if v, err := u.Newest(ctx, path); err == nil { // else removed meanwhile
					found[i] = &v
				}
				return nil
			})
		})
	}
	reading.Wait()
	if err := ctx.Err(); err != nil {
		return nil, false, refuseStore(u.name, "", err)
	}
	for i, v := range found {
		if v != nil {
			entries = append(entries, Entry{Path: paths[i], Bytes: v.Bytes, MTime: v.At.UTC()})
		}
	}
	return entries, more, nil
}

// Close ends the lane's connections.
func (u *Upload) Close() { u.store.Close() }

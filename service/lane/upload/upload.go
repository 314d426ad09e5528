package upload

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
	"echolane/service/lane/objects"
	"echolane/service/panics"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/store"
)

// Lane is a lane whose sources were put in through Echo Lane. Its store holds, for each path, a pointer to
// the newest version, every version's facts, and the bytes under their digest; so any node finds a source with
// the store alone, and a version is never half there.
type Lane struct {
	name  string
	lane  *policy.CompiledLane
	store store.Store
	total time.Duration
	keep  *source.Keep
}

func nameKey(path string) string { return "names/" + path }

// versions lists the keys of a path's versions, upwards. Other files there are being written.
func (u *Lane) versions(ctx context.Context, path string) ([]string, error) {
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
func bytesKey(path string, d held.Digest) string {
	return "bytes/" + url.PathEscape(path) + "/" + string(d)
}

// Newest gives the newest version's facts.
func (u *Lane) Newest(ctx context.Context, path string) (source.Uploaded, error) {
	v, err := u.record(ctx, nameKey(path))
	if err != nil {
		return v, objects.Refuse(u.name, path, err)
	}
	return v, nil
}

// Put keeps content as the newest version of a path. v brings the facts; its Path, Version and Bytes are set here. Equal
// bytes again make no new version. Of several that are put at once, the one with the highest number is the newest.
func (u *Lane) Put(ctx context.Context, path string, content *held.Content, v source.Uploaded) (source.Uploaded, error) {
	v.Path, v.Bytes, v.Version = path, content.Size(), 1
	newest, err := u.Newest(ctx, path)
	same := err == nil && newest.Digest == v.Digest
	if err == nil && newest.Digest.Earlier() {
		digest, err := content.Digest(ctx, newest.Digest)
		if err != nil {
			return v, err
		}
		same = newest.Digest == digest
	}
	var no *policy.Refusal
	switch {
	case same:
		return newest, nil
	case err == nil:
		v.Version = newest.Version + 1
	case !errors.As(err, &no) || no.Reason != policy.ReasonNoSuchSource:
		return v, err
	}
	if err := u.store.Put(ctx, bytesKey(path, v.Digest), content.Reader(), content.Size()); err != nil {
		return v, objects.Refuse(u.name, path, err)
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
			return v, objects.Refuse(u.name, path, err)
		}
		return v, nil
	}
}

// point has the path's pointer say the newest version. Whoever writes it looks afterwards whether a newer one has come
// meanwhile, and goes on until none has: so the last to write it has written the newest.
func (u *Lane) point(ctx context.Context, path string, v source.Uploaded) error {
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
func (u *Lane) Versions(ctx context.Context, path string) ([]source.Uploaded, error) {
	keys, err := u.versions(ctx, path)
	if err != nil {
		return nil, err
	}
	list := []source.Uploaded{}
	for _, key := range slices.Backward(keys) {
		v, err := u.record(ctx, key)
		if err != nil {
			return nil, objects.Refuse(u.name, path, err)
		}
		list = append(list, v)
	}
	if len(list) == 0 {
		return nil, source.Missing(u.name, path)
	}
	return list, nil
}

// Version gives one version of a path, with its bytes. The caller closes the content.
func (u *Lane) Version(ctx context.Context, path string, n int) (source.Uploaded, *held.Content, error) {
	v, err := u.record(ctx, versionKey(path, n))
	if errors.Is(err, fs.ErrNotExist) {
		return v, nil, policy.No(policy.Refusal{
			Reason: policy.ReasonNoSuchVersion, Parameter: "version", Given: fmt.Sprint(n), Detail: fmt.Sprintf("%s/%s has no version %d", u.name, path, n),
			Remedy: fmt.Sprintf("see which there are: echolane upload list %s/%s", u.name, path),
		})
	}
	if err != nil {
		return v, nil, objects.Refuse(u.name, path, err)
	}
	got, content, err := objects.Take(ctx, u.keep, u.store, bytesKey(path, v.Digest), u.lane.Limits, u.name, v.Digest, func(d held.Digest, n int64) (source.Version, string) {
		return source.Version{Digest: d, Bytes: n}, ""
	})
	if err == nil && got.Digest != v.Digest {
		content.Close()
		err = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "the bytes that are kept aren't those that were put in", Remedy: "upload the source again"})
	}
	return v, content, err
}

// Remove forgets a path with all its versions and bytes.
func (u *Lane) Remove(ctx context.Context, path string) error {
	if err := u.store.Delete(ctx, nameKey(path)); err != nil {
		return objects.Refuse(u.name, path, err)
	}
	for _, prefix := range []string{"versions/", "bytes/"} {
		keys, err := u.keys(ctx, prefix+url.PathEscape(path)+"/")
		if err != nil {
			return err
		}
		for _, key := range keys {
			if err := u.store.Delete(ctx, key); err != nil {
				return objects.Refuse(u.name, path, err)
			}
		}
	}
	return nil
}

// keys lists what lies below a prefix.
func (u *Lane) keys(ctx context.Context, prefix string) (keys []string, err error) {
	for o, err := range u.store.List(ctx, prefix, "") {
		if err != nil {
			return nil, objects.Refuse(u.name, prefix, err)
		}
		keys = append(keys, o.Key)
	}
	return keys, nil
}

// mostOfRecord is how long one of the JSON records may be.
const mostOfRecord = 64 << 10

// record reads one of the JSON records.
func (u *Lane) record(ctx context.Context, key string) (v source.Uploaded, err error) {
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
func (u *Lane) Stat(ctx context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	ctx, cancel := context.WithTimeout(ctx, u.total)
	defer cancel()
	up, err := u.Newest(ctx, path)
	if err != nil {
		return source.Version{}, nil, err
	}
	return source.Version{Digest: up.Digest, Bytes: up.Bytes, Validator: string(up.Digest), Fresh: u.lane.Fresh, Modified: up.At.UTC().Truncate(time.Second)}, nil, nil
}

// Open gives a version's bytes: what is kept of them, or the store's.
func (u *Lane) Open(ctx context.Context, path string, v source.Version) (*held.Content, error) {
	content, err := u.keep.OpenOr(u.key(path), v, func() (source.Version, *held.Content, error) {
		ctx, cancel := context.WithTimeout(ctx, u.total)
		defer cancel()
		return objects.Take(ctx, u.keep, u.store, bytesKey(path, v.Digest), u.lane.Limits, u.name, v.Digest, func(d held.Digest, n int64) (source.Version, string) {
			kept := v
			kept.Digest, kept.Bytes = d, n
			return kept, u.key(path)
		})
	})
	if errors.Is(err, held.ErrChanged) {
		u.Forget(path, 0)
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "the bytes that are kept aren't those that were put in", Remedy: "upload the source again"})
	}
	return content, err
}

func (u *Lane) key(path string) string {
	return source.KeepKey(u.name, "upload", u.lane.Folder, u.lane.Endpoint, u.lane.Bucket, u.lane.Prefix, path)
}

// Forget drops what is kept of a source beside the store.
func (u *Lane) Forget(path string, since uint64) { u.keep.Forget(u.key(path), since) }

// Receive takes in what is to be put, at most what the lane allows, and works out its digest. Closing the content forgets
// it.
func (u *Lane) Receive(ctx context.Context, r io.Reader) (source.Version, *held.Content, error) {
	key := source.KeepKey(u.name, "received", rand.Text())
	v, content, err := u.keep.Receive(ctx, r, u.lane.Limits.SourceBytes, -1, "", func(d held.Digest, n int64) (source.Version, string) {
		return source.Version{Digest: d, Bytes: n}, key
	})
	if errors.Is(err, source.ErrTooLong) {
		return v, nil, u.lane.Limits.CheckBytes(u.lane.Limits.SourceBytes + 1)
	}
	if err != nil {
		return v, nil, err
	}
	content.OnClose(func() { u.keep.Forget(key, 0) })
	return v, content, nil
}

// List lists the paths from after on. What a page holds is read from the store several at a time.
func (u *Lane) List(ctx context.Context, after string, limit int) (entries []source.Entry, more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, u.total)
	defer cancel()
	from := ""
	if after != "" {
		from = nameKey(after)
	}
	var paths []string
	for o, err := range u.store.List(ctx, "names/", from) {
		if err != nil {
			return nil, false, objects.Refuse(u.name, "", err)
		}
		if path := strings.TrimPrefix(o.Key, "names/"); path > after {
			if more = len(paths) == limit; more {
				break
			}
			paths = append(paths, path)
		}
	}
	found := make([]*source.Uploaded, len(paths))
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
		return nil, false, objects.Refuse(u.name, "", err)
	}
	for i, v := range found {
		if v != nil {
			entries = append(entries, source.Entry{Path: paths[i], Bytes: v.Bytes, MTime: v.At.UTC()})
		}
	}
	return entries, more, nil
}

// Check passes every plain path.
func (u *Lane) Check(path string, _ *[]policy.Step) (string, *policy.Refusal) {
	return path, source.CheckPath(path)
}

// Near is false: bytes may have to be fetched.
func (u *Lane) Near() bool { return false }

// Close ends the lane's connections.
func (u *Lane) Close() { u.store.Close() }

package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"gocloud.dev/blob"
	"gocloud.dev/blob/fileblob"
	"gocloud.dev/blob/s3blob"
	"gocloud.dev/gcerrors"

	"echolane/core/policy"
)

// Credentials open a bucket. They are kept as a secret, as JSON.
type Credentials struct {
	AccessKey string `json:"access_key"`
	SecretKey string `json:"secret_key"`
}

// openBucket opens the store behind a bucket or upload lane: a folder, or an S3-compatible service.
func openBucket(ctx context.Context, l *policy.CompiledLane, g guard, secret string) (*blob.Bucket, error) {
	if l.Folder != "" {
		if err := os.MkdirAll(l.Folder, 0o755); err != nil {
			return nil, fmt.Errorf("make the lane's folder: %w", err)
		}
		return fileblob.OpenBucket(l.Folder, &fileblob.Options{NoTempDir: true, Metadata: fileblob.MetadataDontWrite})
	}
	config := aws.Config{Region: l.Region, HTTPClient: g.client(), Credentials: aws.AnonymousCredentials{}}
	if config.Region == "" {
		config.Region = "us-east-1" // what services without regions take
	}
	if secret != "" {
		var c Credentials
		if err := json.Unmarshal([]byte(secret), &c); err != nil {
			return nil, fmt.Errorf("read the lane's credentials: %w", err)
		}
		config.Credentials = credentials.NewStaticCredentialsProvider(c.AccessKey, c.SecretKey, "")
	}
	client := s3.NewFromConfig(config, func(o *s3.Options) {
		o.UsePathStyle = true
		o.RequestChecksumCalculation = aws.RequestChecksumCalculationWhenRequired
		o.ResponseChecksumValidation = aws.ResponseChecksumValidationWhenRequired
		o.RetryMaxAttempts = 2
		if l.Endpoint != "" {
			o.BaseEndpoint = aws.String(l.Endpoint)
		}
	})
	b, err := s3blob.OpenBucket(ctx, client, l.Bucket, nil)
	if err != nil {
		return nil, err
	}
	if l.Prefix != "" {
		return blob.PrefixedBucket(b, strings.TrimSuffix(l.Prefix, "/")+"/"), nil
	}
	return b, nil
}

// Bucket is a lane whose sources lie in object storage, each under its path.
type Bucket struct {
	name  string
	lane  *policy.CompiledLane
	store *blob.Bucket
}

// Look compares the object's ETag, size and time.
func (b *Bucket) Look(ctx context.Context, path string, have *Version) (Version, []byte, error) {
	ctx, cancel := context.WithTimeout(ctx, DefaultTimeouts.Total)
	defer cancel()
	a, err := b.store.Attributes(ctx, path)
	if err != nil {
		return Version{}, nil, b.refuse(path, err)
	}
	stamp := fmt.Sprintf("%s %d %d", a.ETag, a.Size, a.ModTime.UnixNano())
	fresh := time.Duration(b.lane.FreshS) * time.Second
	if have != nil && have.Stamp == stamp {
		return Version{have.Digest, stamp, fresh}, nil, nil
	}
	data, err := readObject(ctx, b.store, path, b.lane.Limits)
	if err != nil {
		return Version{}, nil, b.refuse(path, err)
	}
	return Version{DigestOf(data), stamp, fresh}, data, nil
}

// Read gives the object's bytes.
func (b *Bucket) Read(ctx context.Context, path string, v Version) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, DefaultTimeouts.Total)
	defer cancel()
	data, err := readObject(ctx, b.store, path, b.lane.Limits)
	if err != nil {
		return nil, b.refuse(path, err)
	}
	if DigestOf(data) != v.Digest {
		return nil, ErrChanged
	}
	return data, nil
}

func readObject(ctx context.Context, store *blob.Bucket, key string, limits policy.Limits) ([]byte, error) {
	r, err := store.NewReader(ctx, key, nil)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if no := limits.CheckBytes(r.Size()); no != nil {
		return nil, no
	}
	data, err := io.ReadAll(io.LimitReader(r, limits.SourceBytes+1))
	if err != nil {
		return nil, err
	}
	if no := limits.CheckBytes(int64(len(data))); no != nil {
		return nil, no
	}
	return data, nil
}

// List lists the objects whose names end as images do.
func (b *Bucket) List(ctx context.Context, after string, limit int) (entries []Entry, more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, DefaultTimeouts.Total)
	defer cancel()
	all := b.store.List(nil)
	for {
		o, err := all.Next(ctx)
		if errors.Is(err, io.EOF) {
			return entries, false, nil
		}
		if err != nil {
			return nil, false, b.refuse("", err)
		}
		if o.Key <= after || !looksLikeImage(o.Key) {
			continue
		}
		if len(entries) == limit {
			return entries, true, nil
		}
		entries = append(entries, Entry{Path: o.Key, Bytes: o.Size, MTime: o.ModTime.UTC()})
	}
}

// Close ends the lane's connections.
func (b *Bucket) Close() { b.store.Close() }

func (b *Bucket) refuse(path string, err error) error { return refuseStore(b.name, path, err) }

func refuseStore(lane, path string, err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	code := gcerrors.Code(err)
	switch {
	case code == gcerrors.NotFound:
		return missing(lane, path)
	case code == gcerrors.PermissionDenied || strings.Contains(err.Error(), "StatusCode: 403"):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: shorten(path), Detail: "the bucket of lane " + lane + " turned us away", Remedy: "keep its credentials anew: echolane lane secret " + lane + " --access-key … --secret-key …", RetryIn: 10})
	case code == gcerrors.DeadlineExceeded || errors.Is(err, context.DeadlineExceeded):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginSlow, Parameter: "source", Given: shorten(path), Detail: "the bucket of lane " + lane + " took too long", Remedy: "try again later", RetryIn: 10})
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: shorten(path), Detail: "the bucket of lane " + lane + " failed: " + shorten(err.Error()), Remedy: "see whether its endpoint answers, and try again", RetryIn: 10})
}

// Upload is a lane whose sources were put in through Echo Lane. Its store holds, for each path, a pointer to
// the newest version, every version's facts, and the bytes under their digest; so any node finds a source with
// the store alone, and a version is never half there.
type Upload struct {
	name  string
	lane  *policy.CompiledLane
	store *blob.Bucket
	fresh time.Duration
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
func versionKey(path string, n int) string {
	return fmt.Sprintf("versions/%s/%06d", url.PathEscape(path), n)
}
func bytesKey(path string, d Digest) string { return "bytes/" + url.PathEscape(path) + "/" + string(d) }

// Newest gives the newest version's facts.
func (u *Upload) Newest(ctx context.Context, path string) (Uploaded, error) {
	var v Uploaded
	text, err := u.store.ReadAll(ctx, nameKey(path))
	if err != nil {
		return v, refuseStore(u.name, path, err)
	}
	if err := json.Unmarshal(text, &v); err != nil {
		return v, refuseStore(u.name, path, fmt.Errorf("its record is broken: %w", err))
	}
	return v, nil
}

// Put keeps data as the newest version of a path. v brings the facts; its Path, Version and Digest are set
// here. Equal bytes again make no new version.
func (u *Upload) Put(ctx context.Context, path string, data []byte, v Uploaded) (Uploaded, error) {
	v.Path, v.Digest, v.Bytes, v.Version = path, DigestOf(data), int64(len(data)), 1
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
	write := func(key string, body []byte, once bool) error {
		return u.store.WriteAll(ctx, key, body, &blob.WriterOptions{ContentType: "application/octet-stream", IfNotExist: once})
	}
	if err := write(bytesKey(path, v.Digest), data, false); err != nil {
		return v, refuseStore(u.name, path, err)
	}
	for tries := 0; ; tries++ {
		text, err := json.Marshal(v)
		if err != nil {
			return v, err
		}
		err = write(versionKey(path, v.Version), text, true)
		if gcerrors.Code(err) == gcerrors.FailedPrecondition && tries < 20 { // somebody else was quicker with this number
			v.Version++
			continue
		}
		if err == nil {
			err = write(nameKey(path), text, false)
		}
		if err != nil {
			return v, refuseStore(u.name, path, err)
		}
		return v, nil
	}
}

// Versions lists all versions of a path, newest first.
func (u *Upload) Versions(ctx context.Context, path string) ([]Uploaded, error) {
	list := []Uploaded{}
	err := u.each(ctx, "versions/"+url.PathEscape(path)+"/", func(key string) error {
		text, err := u.store.ReadAll(ctx, key)
		if err != nil {
			return err
		}
		var v Uploaded
		if err := json.Unmarshal(text, &v); err != nil {
			return err
		}
		list = append([]Uploaded{v}, list...)
		return nil
	})
	if err == nil && len(list) == 0 {
		return nil, missing(u.name, path)
	}
	return list, err
}

// Remove forgets a path with all its versions and bytes.
func (u *Upload) Remove(ctx context.Context, path string) error {
	if err := u.store.Delete(ctx, nameKey(path)); err != nil {
		return refuseStore(u.name, path, err)
	}
	for _, prefix := range []string{"versions/", "bytes/"} {
		if err := u.each(ctx, prefix+url.PathEscape(path)+"/", func(key string) error { return u.store.Delete(ctx, key) }); err != nil {
			return err
		}
	}
	return nil
}

func (u *Upload) each(ctx context.Context, prefix string, do func(key string) error) error {
	all := u.store.List(&blob.ListOptions{Prefix: prefix})
	for {
		o, err := all.Next(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = do(o.Key)
		}
		if err != nil {
			return refuseStore(u.name, prefix, err)
		}
	}
}

// Look reads the pointer.
func (u *Upload) Look(ctx context.Context, path string, have *Version) (Version, []byte, error) {
	v, err := u.Newest(ctx, path)
	if err != nil {
		return Version{}, nil, err
	}
	return Version{v.Digest, string(v.Digest), u.fresh}, nil, nil
}

// Read gives a version's bytes.
func (u *Upload) Read(ctx context.Context, path string, v Version) ([]byte, error) {
	data, err := readObject(ctx, u.store, bytesKey(path, v.Digest), u.lane.Limits)
	if err != nil {
		return nil, refuseStore(u.name, path, err)
	}
	if DigestOf(data) != v.Digest {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "the bytes that are kept aren't those that were put in", Remedy: "upload the source again"})
	}
	return data, nil
}

// List lists the paths.
func (u *Upload) List(ctx context.Context, after string, limit int) (entries []Entry, more bool, err error) {
	all := u.store.List(&blob.ListOptions{Prefix: "names/"})
	for {
		o, err := all.Next(ctx)
		if errors.Is(err, io.EOF) {
			return entries, false, nil
		}
		if err != nil {
			return nil, false, refuseStore(u.name, "", err)
		}
		path := strings.TrimPrefix(o.Key, "names/")
		if path <= after {
			continue
		}
		if len(entries) == limit {
			return entries, true, nil
		}
		v, err := u.Newest(ctx, path)
		if err != nil {
			continue // removed meanwhile
		}
		entries = append(entries, Entry{Path: path, Bytes: v.Bytes, MTime: v.At.UTC()})
	}
}

// Close ends the lane's connections.
func (u *Upload) Close() { u.store.Close() }

// Package objects is what lanes share that keep their sources as objects of a store, in a folder or behind the S3
// interface.
package objects

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/store"
)

// Credentials open a bucket. They are kept as a secret, as JSON.
type Credentials struct {
	AccessKey string `json:"access_key"`
	SecretKey string `json:"secret_key"`
}

// Open opens the store behind a lane: a folder, or an S3-compatible service.
func Open(o source.Opening) (store.Store, error) {
	l, secret := o.Lane, o.Secrets[policy.CredentialsSecret(o.Lane.Name)]
	if l.Folder != "" {
		return store.InFolder(l.Folder)
	}
	var c Credentials
	if secret != "" {
		if err := json.Unmarshal([]byte(secret), &c); err != nil {
			return nil, fmt.Errorf("read the lane's credentials: %w", err)
		}
	}
	return store.InBucket(store.S3Options{Endpoint: l.Endpoint, Region: l.Region, Bucket: l.Bucket, Prefix: prefixOf(l), AccessKey: c.AccessKey, SecretKey: c.SecretKey, Client: o.Guard.Client()}), nil
}

// Take reads an object of a store. Its digest is of the same kind as like.
func Take(ctx context.Context, keep *source.Keep, from store.Store, key string, limits policy.Limits, lane string, like held.Digest, complete func(held.Digest, int64) (source.Version, string)) (source.Version, *held.Content, error) {
	r, o, err := from.Open(ctx, key)
	if err != nil {
		return source.Version{}, nil, Refuse(lane, key, err)
	}
	defer r.Close()
	if no := limits.CheckBytes(o.Size); no != nil {
		return source.Version{}, nil, no
	}
	v, content, err := keep.Receive(ctx, r, limits.SourceBytes, o.Size, like, complete)
	if errors.Is(err, source.ErrTooLong) {
		return source.Version{}, nil, limits.CheckBytes(limits.SourceBytes + 1)
	}
	if err != nil {
		return source.Version{}, nil, Refuse(lane, key, err)
	}
	return v, content, nil
}

// prefixOf is what stands before every key of a lane in its bucket.
func prefixOf(l *policy.CompiledLane) string {
	if l.Prefix == "" {
		return ""
	}
	return strings.TrimSuffix(l.Prefix, "/") + "/"
}

// Refuse puts an error of a store into words: a *policy.Refusal, held.ErrChanged, or a context's.
func Refuse(lane, path string, err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, held.ErrChanged) {
		return err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return source.Missing(lane, path)
	case errors.Is(err, fs.ErrPermission):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " turned us away", Remedy: "keep its credentials anew: echolane lane secret " + lane + " --access-key … --secret-key …", RetryIn: 10})
	case errors.Is(err, store.ErrNoBucket):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " isn't there", Remedy: "name one that is: echolane lane set " + lane + " --bucket …", RetryIn: 10})
	case errors.Is(err, context.DeadlineExceeded):
		return policy.No(policy.Refusal{Reason: policy.ReasonOriginSlow, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " took too long", Remedy: "try again later", RetryIn: 10})
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "source", Given: wording.Cut(path, 120), Detail: "the bucket of lane " + lane + " failed: " + wording.Cut(err.Error(), 120), Remedy: "see whether its endpoint answers, and try again", RetryIn: 10})
}

// Fields are those of a lane that has a bucket, needed where needed isn't "", and not beside the field unless.
func Fields(needed, unless string) []policy.LaneField {
	return []policy.LaneField{
		{Name: "bucket", Label: "Bucket", Usage: "the bucket's name", Needed: needed, Unless: unless, Place: true},
		{Name: "endpoint", Label: "Endpoint", Usage: "URL of the object store", Unless: unless, Place: true},
		{Name: "region", Label: "Region", Usage: "region of the object store", Unless: unless},
		{Name: "prefix", Label: "Prefix", Usage: "what keys begin with", Unless: unless, Place: true},
		source.PrivateField(unless),
	}
}

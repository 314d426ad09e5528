// Package store keeps objects under keys: in a folder, or in any store with the S3 interface. A key is a relative path of
// plain elements.
package store

import (
	"context"
	"io"
	"iter"
	"time"
)

// Object is what is known of an object without reading it.
type Object struct {
	Key      string
	ETag     string // tells two versions of it apart
	Size     int64
	Modified time.Time
}

// Store keeps objects. Safe for concurrent use. An error wraps fs.ErrNotExist where there is no such object, fs.ErrExist where
// there is one already, fs.ErrPermission where the credentials don't reach, ErrNoBucket where a bucket isn't there, and the
// context's error where that has ended.
type Store interface {
	// Stat says what an object is.
	Stat(ctx context.Context, key string) (Object, error)
	// Open reads an object, until ctx ends. The caller closes it.
	Open(ctx context.Context, key string) (io.ReadCloser, Object, error)
	// Put writes an object whole or not at all, in the place of what was there.
	Put(ctx context.Context, key string, body io.ReadSeeker, size int64) error
	// Add is Put where nothing is there yet.
	Add(ctx context.Context, key string, body io.ReadSeeker, size int64) error
	// Delete removes an object.
	Delete(ctx context.Context, key string) error
	// List gives the objects whose keys begin with prefix and come after the key `after`, in the order of their keys. It ends
	// with the first error.
	List(ctx context.Context, prefix, after string) iter.Seq2[Object, error]
	// Close gives up connections that wait for use.
	Close()
}

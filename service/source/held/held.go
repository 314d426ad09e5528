// Package held has the bytes of a source's version, in the file or the memory that holds them. Render workers need it, and nothing
// else of how sources are found.
package held

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"hash"
	"io"
	"os"
	"sync/atomic"

	"github.com/zeebo/blake3"
)

// ErrChanged: the source isn't any more what it was when looked at.
var ErrChanged = errors.New("the source has changed")

// Digest is a source's BLAKE3 in base64url, shortened to 144 bits. Older addresses, uploads and kept sources have digests of the
// earlier kind: SHA-256, shortened to 128 bits. Their length tells the two apart.
type Digest string

const (
	digestBytes   = 18
	earlierBytes  = 16
	earlierLength = 22
)

// DigestOf works a digest out.
func DigestOf(data []byte) Digest {
	sum := blake3.Sum256(data)
	return Digest(base64.RawURLEncoding.EncodeToString(sum[:digestBytes]))
}

// Earlier reports whether the digest is of the earlier kind.
func (d Digest) Earlier() bool { return len(d) == earlierLength }

// IsOf reports whether the digest is that of data.
func (d Digest) IsOf(data []byte) bool {
	sum := NewDigester(d)
	sum.Write(data)
	return sum.Digest() == d
}

// A Digester works out the digest of what is written to it.
type Digester struct {
	hash.Hash
	bytes int
}

// NewDigester begins a digest of the same kind as another; "" is of today's.
func NewDigester(like Digest) Digester {
	if like.Earlier() {
		return earlierDigester()
	}
	return Digester{blake3.New(), digestBytes}
}

func earlierDigester() Digester { return Digester{sha256.New(), earlierBytes} }

// Digest is of what was written so far.
func (d Digester) Digest() Digest {
	return Digest(base64.RawURLEncoding.EncodeToString(d.Sum(nil)[:d.bytes]))
}

// Content is the bytes of one version of a source, where they lie: in a file, or in memory that is counted. It must be
// closed, once by each that has it or was given a share of it. Reading it is safe for concurrent use.
type Content struct {
	size    int64
	data    []byte
	file    *os.File
	from    int64
	users   atomic.Int64 // beside the first
	release func()
}

// InMemory is content in memory. release, which may be nil, is called when it is closed.
func InMemory(data []byte, release func()) *Content {
	return &Content{size: int64(len(data)), data: data, release: release}
}

// InFile is the size bytes of a file from an offset on. Closing it closes the file.
func InFile(f *os.File, from, size int64) *Content {
	return &Content{size: size, file: f, from: from, release: func() { f.Close() }}
}

// Size is how many bytes there are.
func (c *Content) Size() int64 { return c.size }

// Data is the bytes, where they lie in memory.
func (c *Content) Data() (data []byte, ok bool) { return c.data, c.file == nil }

// File is the file that holds the bytes from an offset on, where one does. It is the content's: who needs it longer makes
// a duplicate.
func (c *Content) File() (f *os.File, from int64, ok bool) { return c.file, c.from, c.file != nil }

// ReadAt reads from the content as io.ReaderAt has it.
func (c *Content) ReadAt(p []byte, at int64) (int, error) {
	if c.file == nil {
		return bytes.NewReader(c.data).ReadAt(p, at)
	}
	return io.NewSectionReader(c.file, c.from, c.size).ReadAt(p, at)
}

// Reader reads the content from its beginning.
func (c *Content) Reader() io.ReadSeeker { return io.NewSectionReader(c, 0, c.size) }

// Share gives the content to one more, who closes it too. A nil content is shared as nil.
func (c *Content) Share() *Content {
	if c != nil {
		c.users.Add(1)
	}
	return c
}

// Close lets go of the content; the last to do so gives back what it takes. A nil content has nothing to close.
func (c *Content) Close() {
	if c != nil && c.users.Add(-1) == -1 && c.release != nil {
		c.release()
	}
}

// Borrowed is the size bytes of a file from an offset on. Closing it leaves the file open: it is somebody else's.
func Borrowed(f *os.File, from, size int64) *Content {
	return &Content{size: size, file: f, from: from}
}

// Digest reads the content through for its digest, of the same kind as another ("" is of today's), until ctx ends. ErrChanged where a
// file has fewer bytes by now.
func (c *Content) Digest(ctx context.Context, like Digest) (Digest, error) {
	sum := NewDigester(like)
	err := c.through(ctx, sum)
	return sum.Digest(), err
}

// Digests is Digest of both kinds, read once.
func (c *Content) Digests(ctx context.Context) (today, earlier Digest, err error) {
	a, b := NewDigester(""), earlierDigester()
	err = c.through(ctx, io.MultiWriter(a, b))
	return a.Digest(), b.Digest(), err
}

// through writes the content to w.
func (c *Content) through(ctx context.Context, w io.Writer) error {
	n, err := io.Copy(w, ReaderOf(ctx, c.Reader()))
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err == nil && n < c.size:
		err = ErrChanged
	}
	return err
}

// ReaderOf reads until the context ends.
func ReaderOf(ctx context.Context, r io.Reader) io.Reader { return &contextReader{ctx, r} }

type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (r *contextReader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(p)
}

// OnClose has f called after the last share of the content is closed. It is for who makes the content, before others have it.
func (c *Content) OnClose(f func()) {
	release := c.release
	c.release = func() {
		if release != nil {
			release()
		}
		f()
	}
}

// Package entry is how what is kept looks as a file or an object: a header and a body, with the sums of both, so that neither a
// crash nor a failing disk makes a wrong picture.
package entry

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"strings"

	"github.com/cespare/xxhash/v2"
)

// An entry: what it is, the body's length (8 bytes, little endian), the header's (4), the xxHash of the header (8), that of the
// body (8), the body, the header. The header comes last, since it is known last where the body is a stream.
const (
	magic = "eld4"

	// Prefix is how many bytes come before the body.
	Prefix = 4 + 8 + 4 + 2*8

	// MostHeader is the most bytes that a header may have.
	MostHeader = 1 << 20
)

var (
	// ErrBroken: it isn't what was written.
	ErrBroken = errors.New("the entry is broken")
	// ErrOld: it was written by a version before this one.
	ErrOld = errors.New("the entry has an old format")
)

// Prelude is what the beginning of an entry says.
type Prelude struct {
	Body    int64 // bytes
	Head    int64 // bytes
	HeadSum uint64
	BodySum uint64
}

// Sum is the sum of a header or a body: it tells what was damaged from what wasn't, and holds no intent off.
func Sum(b []byte) uint64 { return xxhash.Sum64(b) }

// NewSum works out the sum of what is written to it.
func NewSum() hash.Hash64 { return xxhash.New() }

// Size is how many bytes the whole entry has.
func (p Prelude) Size() int64 { return Prefix + p.Body + p.Head }

// Append appends the prelude as it is written.
func (p Prelude) Append(b []byte) []byte {
	b = append(b, magic...)
	b = binary.LittleEndian.AppendUint64(b, uint64(p.Body))
	b = binary.LittleEndian.AppendUint32(b, uint32(p.Head))
	return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(b, p.HeadSum), p.BodySum)
}

// Read reads a prelude of an entry that has size bytes in all. It errs with ErrBroken or ErrOld.
func Read(b []byte, size int64) (p Prelude, err error) {
	if len(b) < Prefix || string(b[:3]) != magic[:3] {
		return p, ErrBroken
	}
	if string(b[:4]) != magic {
		return p, ErrOld
	}
	p = Prelude{Body: int64(binary.LittleEndian.Uint64(b[4:])), Head: int64(binary.LittleEndian.Uint32(b[12:]))}
	p.HeadSum, p.BodySum = binary.LittleEndian.Uint64(b[16:]), binary.LittleEndian.Uint64(b[24:])
	if p.Body < 0 || p.Head > MostHeader || p.Body > size || p.Size() != size {
		return p, ErrBroken
	}
	return p, nil
}

// Make gives a whole entry.
func Make(head, body []byte) ([]byte, error) {
	if len(head) > MostHeader {
		return nil, fmt.Errorf("the header has %d bytes: at most %d", len(head), MostHeader)
	}
	p := Prelude{int64(len(body)), int64(len(head)), Sum(head), Sum(body)}
	return append(append(p.Append(make([]byte, 0, p.Size())), body...), head...), nil
}

// Parse takes a whole entry apart, without copying. It errs with ErrBroken or ErrOld.
func Parse(b []byte) (head, body []byte, err error) {
	p, err := Read(b, int64(len(b)))
	if err != nil {
		return nil, nil, err
	}
	body, head = b[Prefix:Prefix+p.Body], b[Prefix+p.Body:]
	if Sum(head) != p.HeadSum || Sum(body) != p.BodySum {
		return nil, nil, ErrBroken
	}
	return head, body, nil
}

const keyBytes = 18

// Key names what its parts name together: 24 characters that may stand in file names.
func Key(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return KeyOf(sum[:])
}

// KeyOf is the key for a digest.
func KeyOf(sum []byte) string { return base64.RawURLEncoding.EncodeToString(sum[:keyBytes]) }

// A Short is a key in few bytes.
type Short [keyBytes]byte

// Shorten gives a key in few bytes; ok is false where it isn't one.
func Shorten(key string) (s Short, ok bool) {
	if len(key) != keyBytes/3*4 {
		return s, false
	}
	_, err := base64.RawURLEncoding.Strict().Decode(s[:], []byte(key))
	return s, err == nil
}

// String is the key.
func (s Short) String() string { return base64.RawURLEncoding.EncodeToString(s[:]) }

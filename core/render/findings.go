package render

import (
	"fmt"

	"github.com/zeebo/blake3"

	"echolane/core/face"
	"echolane/core/recent"
)

// Findings keep what was last found in pictures, for the other sizes that are made of them: faces, what a hole is filled from, what
// is left of a cut-out. They depend on the source's bytes and on what was asked for, so that they are the same for every site. They are
// safe for concurrent use; nil keeps nothing.
type Findings struct {
	kept *recent.Cache[[32]byte, any]
}

// NewFindings makes room for so many bytes of them.
func NewFindings(room int) *Findings {
	return &Findings{recent.New[[32]byte, any](room, room/2)}
}

// Forget drops them all.
func (f *Findings) Forget() { f.kept.Forget() }

// found gives what was found in a source before, or finds it. of tells apart everything that it depends on beside the source.
func found[T any](f *Findings, source []byte, of string, bytes func(T) int, find func() (T, error)) (T, error) {
	if f == nil {
		return find()
	}
	h := blake3.New()
	h.Write(source)
	fmt.Fprintf(h, "\x00%T %s", *new(T), of)
	key := [32]byte(h.Sum(nil))
	if v, ok := f.kept.Get(key); ok {
		return v.(T), nil
	}
	v, err := find()
	if err == nil {
		f.kept.Put(key, v, bytes(v))
	}
	return v, err
}

func bytesOfFaces(list []face.Face) int { return 256 + 40*len(list) }

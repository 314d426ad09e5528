package cache

import (
	"crypto/sha256"
	"encoding/binary"

	"echolane/service/cache/entry"
)

// A Key is every input that a variant's bytes depend on, and nothing that says who may have them: sites with the same bytes
// share a variant, and never a permission. Equal keys are one variant.
type Key struct {
	Kind     Kind
	Resolved string   // the request's resolved form; "" where Kind doesn't depend on it
	Sources  []string // the digests of the source and of each layer's, in the order of the request
	Renderer string   // the version of the core
	Effort   uint8    // that what is kept was given; 0 is the usual one
	Tried    int      // in how many formats it may be made, where the request leaves a choice; else 0
	Floor    int      // the least quality that a budget may bring it down to; 0: there is no budget
}

// Kind is what is made of a source.
type Kind uint8

const (
	Picture     Kind = iota // the variant itself
	Placeholder             // its blurred stand-in
	Facts                   // what is known of the source, as JSON
	Drawing                 // the source as it is: SVG that a lane lets through untouched
)

// String is the digest that a cache knows the variant by.
func (k Key) String() string {
	h := sha256.New()
	text := func(s string) {
		var n [4]byte
		binary.LittleEndian.PutUint32(n[:], uint32(len(s)))
		h.Write(n[:])
		h.Write([]byte(s))
	}
	flags := [4]byte{byte(k.Kind), byte(k.Floor), k.Effort, byte(k.Tried)}
	h.Write(flags[:])
	text(k.Resolved)
	text(k.Renderer)
	for _, s := range k.Sources {
		text(s)
	}
	return entry.KeyOf(h.Sum(nil))
}

package declare

import (
	"fmt"
	"reflect"
	"unsafe"
)

// What is declared is asked several times for each request, so it is looked up in memory instead of by a call for each
// declaration: a value is declared where its first byte or word isn't zero.

// where is where in Declarations a value says whether it is declared.
type where struct {
	offset uintptr
	word   bool // eight bytes, otherwise one
}

// whereIs finds it: a struct says it by its first field, a string by its length.
func whereIs[T any](at func(*Declarations) *T) where {
	var d Declarations
	w := where{offset: uintptr(unsafe.Pointer(at(&d))) - uintptr(unsafe.Pointer(&d))}
	t := reflect.TypeFor[T]()
	for t.Kind() == reflect.Struct {
		t = t.Field(0).Type
	}
	switch t.Kind() {
	case reflect.Bool, reflect.Uint8:
	case reflect.Float64, reflect.Int64:
		w.word = true
	case reflect.String:
		w.word, w.offset = true, w.offset+unsafe.Sizeof(uintptr(0))
	default:
		panic(fmt.Sprintf("a value of type %v doesn't say whether it is declared", t))
	}
	return w
}

// A probe says where one declaration is looked for.
type probe struct {
	offset uintptr
	long   bool   // eight bytes
	word   uint8  // of the mask
	bit    uint64 // in it
}

const (
	declaredWords = int(unsafe.Sizeof(Declarations{}) / 8)
	blockWords    = 8
)

// probes are those of each block of eight words: most blocks are zero, and say so faster than their declarations would.
var probes = func() (blocks [(declaredWords + blockWords - 1) / blockWords][]probe) {
	for i, d := range language {
		b := &blocks[d.at.offset/8/blockWords]
		*b = append(*b, probe{d.at.offset, d.at.word, uint8(i / 64), 1 << (i % 64)})
	}
	return blocks
}()

// declared is the set of what d declares.
func (d *Declarations) declared() (set mask) {
	base := unsafe.Pointer(d)
	all := (*[declaredWords]uint64)(base)
	for i := range probes {
		any := uint64(0)
		if at := i * blockWords; at+blockWords <= declaredWords {
			w := (*[blockWords]uint64)(all[at:])
			any = w[0] | w[1] | w[2] | w[3] | w[4] | w[5] | w[6] | w[7]
		} else {
			for _, w := range all[at:] {
				any |= w
			}
		}
		if any == 0 {
			continue
		}
		for _, p := range probes[i] {
			at := unsafe.Add(base, p.offset)
			if p.long && *(*uint64)(at) != 0 || !p.long && *(*uint8)(at) != 0 {
				set[p.word&1] |= p.bit
			}
		}
	}
	return set
}

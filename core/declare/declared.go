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

type probe struct {
	offset uintptr
	word   uint8 // of the mask
	bit    uint64
}

var bytesOf, wordsOf = func() (bytes, words []probe) {
	for i, d := range language {
		p := probe{d.at.offset, uint8(i / 64), 1 << (i % 64)}
		if d.at.word {
			words = append(words, p)
		} else {
			bytes = append(bytes, p)
		}
	}
	return bytes, words
}()

// declared is the set of what d declares.
func (d *Declarations) declared() (set mask) {
	base := unsafe.Pointer(d)
	for _, p := range bytesOf {
		if *(*uint8)(unsafe.Add(base, p.offset)) != 0 {
			set[p.word&1] |= p.bit
		}
	}
	for _, p := range wordsOf {
		if *(*uint64)(unsafe.Add(base, p.offset)) != 0 {
			set[p.word&1] |= p.bit
		}
	}
	return set
}

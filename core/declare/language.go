package declare

import (
	"math/bits"
	"slices"
	"strings"
	"unsafe"
)

//go:generate go run echolane/internal/language -C ../..

// A declaration is one name of the language: an entry in its group's table. What else needs a list of the names is made from
// these tables: the console's fields, the spelling in web/, the docs and the API's schema (go generate ./core/declare).
type declaration struct {
	name     string
	grammar  string   // what may stand there, for people, as a URL has it
	keywords []string // offered where a value is nearly one of them
	closed   bool     // nothing but a keyword may stand there

	label, example string // of the console's line of text for it; "" where it has a control of its own
	script         string // how web/address.js spells a value, by the name of its function; "": in lower case

	mayBeEmpty bool
	named      bool // it stands for many names, and writes them itself
	inherited  bool // a URL without it takes the site's or the class's
	alters     bool // what it does to the picture counts as paint
	passedOn   bool // the ground and the layer take it from the picture, as CSS has it inherited

	group   string
	inSheet bool // a sheet may declare it

	read    func(d *Declarations, value string) (reason string) // "" where that went well
	write   func(b []byte, d *Declarations) []byte              // the one way of the address form
	at      where
	initial func(d *Declarations) bool // it says what its absence says
	first   string                     // the value that does, in the address form; "" where none does
	take    func(d, from *Declarations)
}

// The groups, in the order of the language, which is the order of the address form.
const (
	groupRegion   = "region"
	groupGeometry = "geometry"
	groupPaint    = "paint"
	groupLayers   = "layers"
	groupEncoding = "encoding"
	groupDelivery = "delivery"
)

// language is every declaration, in the order of the language.
var language = slices.Concat(
	grouped(groupRegion, region), grouped(groupGeometry, geometry), grouped(groupPaint, slices.Concat(ground, frame, onPicture)),
	grouped(groupLayers, slices.Concat(layerOf(BeforeLayer, func(d *Declarations) *Layer { return &d.Before }), layerOf(AfterLayer, func(d *Declarations) *Layer { return &d.After }))),
	grouped(groupPaint, overLayer),
	grouped(groupEncoding, encoding), grouped(groupDelivery, delivery))

func grouped(group string, table []declaration) []declaration {
	for i := range table {
		d := &table[i]
		d.group, d.inSheet = group, group != groupDelivery
		d.inherited = d.inherited || d.inSheet
	}
	return table
}

// field completes a declaration whose value is one field of Declarations, at its zero value where it isn't declared. initial,
// where there is one, is the value that says the same as none.
func field[T comparable](d declaration, at func(*Declarations) *T, read func(*T, string) string, write func([]byte, T) []byte, initial ...T) declaration {
	d.read = func(d *Declarations, value string) string { return read(at(d), value) }
	d.write = func(b []byte, d *Declarations) []byte { return write(b, *at(d)) }
	d.take = func(d, from *Declarations) { *at(d) = *at(from) }
	d.at = whereIs(at)
	d.initial = func(d *Declarations) bool { return slices.Contains(initial, *at(d)) }
	if len(initial) > 0 {
		d.first = string(write(nil, initial[0]))
	}
	return d
}

// keywordField completes a declaration whose value is one of a few words, by their index.
func keywordField[T ~uint8](d declaration, at func(*Declarations) *T, words []string, initial ...T) declaration {
	d.keywords, d.closed = slices.DeleteFunc(slices.Clone(words), func(w string) bool { return w == "" }), true
	return field(d, at,
		func(to *T, value string) string {
			i := find(words, strings.ToLower(value))
			if i == 0 {
				return "unparsable"
			}
			*to = T(i)
			return ""
		},
		func(b []byte, v T) []byte { return append(b, words[v]...) }, initial...)
}

// A mask is a set of declarations: a bit for each, by its place in the language.
type mask [2]uint64

func bit(i int) (m mask) {
	m[i/64] = 1 << (i % 64)
	return m
}

func (m mask) and(o mask) mask     { return mask{m[0] & o[0], m[1] & o[1]} }
func (m mask) or(o mask) mask      { return mask{m[0] | o[0], m[1] | o[1]} }
func (m mask) without(o mask) mask { return mask{m[0] &^ o[0], m[1] &^ o[1]} }
func (m mask) has(i int) bool      { return m[i/64]>>(i%64)&1 != 0 }
func (m mask) empty() bool         { return m == mask{} }

// first is the declaration in the set that is the first of the language; the set isn't empty.
func (m mask) first() int {
	if m[0] != 0 {
		return bits.TrailingZeros64(m[0])
	}
	return 64 + bits.TrailingZeros64(m[1])
}

// rest is the set without its first.
func (m mask) rest() mask {
	if m[0] != 0 {
		return mask{m[0] & (m[0] - 1), m[1]}
	}
	return mask{0, m[1] & (m[1] - 1)}
}

// masked is the set of those that a condition holds for.
func masked(holds func(*declaration) bool) (set mask) {
	for i := range language {
		if holds(&language[i]) {
			set = set.or(bit(i))
		}
	}
	return set
}

// setOf are some declarations by their names.
func setOf(names ...string) mask {
	return masked(func(d *declaration) bool { return slices.Contains(names, d.name) })
}

var (
	inheritedSet = masked(func(d *declaration) bool { return d.inherited })
	passedOnSet  = masked(func(d *declaration) bool { return d.passedOn })
	paintSet     = masked(func(d *declaration) bool { return d.group == groupPaint || d.group == groupLayers || d.alters })
)

// lent is d for the table's functions, which keep nothing of it. The compiler can't see which of them is called, and would have
// every request's declarations on the heap.
func lent(d *Declarations) *Declarations {
	at := uintptr(unsafe.Pointer(d))
	return *(**Declarations)(unsafe.Pointer(&at))
}

const nameSlots = 512

// byName finds a declaration by its name as it is written here: a hash table whose entries are places in the language plus
// one, 0 where there is none; one that is taken pushes to the next.
var byName = func() (table [nameSlots]uint8) {
	for i := range language {
		at := hashed(language[i].name)
		for table[at] != 0 {
			at = (at + 1) % nameSlots
		}
		table[at] = uint8(i + 1)
	}
	return table
}()

// hashed is where a name is looked for first in byName.
func hashed(name string) int {
	n := len(name)
	if n == 0 {
		return 0
	}
	return (n*37 ^ int(name[0])*5 ^ int(name[n/2])*17 ^ int(name[n-1])*3) % nameSlots
}

// index is a name's place in the language, in any case; -1 where there is none.
func index(name string) int {
	for at := hashed(name); byName[at] != 0; at = (at + 1) % nameSlots {
		if i := int(byName[at] - 1); language[i].name == name {
			return i
		}
	}
	for i := range language {
		if len(language[i].name) == len(name) && strings.EqualFold(language[i].name, name) {
			return i
		}
	}
	return -1
}

// Names lists the names of the language, in its order.
func Names() []string {
	names := make([]string, len(language))
	for i := range language {
		names[i] = language[i].name
	}
	return names
}

// An Entry is a declaration as others describe it.
type Entry struct {
	Name     string
	Group    string // region, geometry, paint, layers, encoding or delivery
	Grammar  string // what may stand there, for people, as a sheet has it
	Keywords []string
	Closed   bool   // nothing but a keyword may stand there
	Initial  string // the value that says what its absence says, as a sheet has it; "" where none does
	Sheet    bool   // a sheet may declare it

	Label, Example string // of the console's line for it; "" where it has a control of its own
	Script         string // how web/address.js spells a value, by the name of its function; "": in lower case
}

// Entries describes the language, in its order.
func Entries() []Entry {
	list := make([]Entry, len(language))
	for i := range language {
		d := &language[i]
		plain := strings.NewReplacer("%25", "%", "%20", " ")
		list[i] = Entry{d.name, d.group, plain.Replace(d.grammar), d.keywords, d.closed, plain.Replace(d.first), d.inSheet, d.label, d.example, d.script}
	}
	return list
}

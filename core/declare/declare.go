// Package declare is the URL language: the CSS declarations in an image URL's query, read into typed values,
// checked, and written back one way.
//
// A query is parsed as a whole: every problem in it is found and reported, not just the first, and a query
// with a problem gives no declarations at all. Nothing is guessed; where a name or keyword is close to one
// that exists, the problem says so.
//
// Three texts of one request are told apart. What the client sent is any spelling. AddressForm is the one
// spelling of the same declarations, from the text alone: it is what is signed and what Content-Location
// carries. A Resolved value is what remains after a site's defaults and negotiation: equal resolved texts
// are one variant.
package declare

import (
	"net/url"
	"strings"
)

// Declarations are the typed values of one query. The zero value declares nothing. It is comparable and
// safe to copy.
type Declarations struct {
	RegionValues
	GeometryValues
	PaintValues
	Before Layer
	After  Layer
	EncodingValues
	DeliveryValues
}

// AddressForm is the one way of writing exactly these declarations: names in the order of the language,
// lower case, values in their shortest spelling. It is a query string without its question mark, empty
// where nothing is declared. Parsing it gives d again.
func (d Declarations) AddressForm() string {
	return string(d.AppendAddressForm(nil))
}

// AppendAddressForm appends the address form to b.
func (d *Declarations) AppendAddressForm(b []byte) []byte {
	return d.appendForm(b, d.declared(), false)
}

// appendForm writes the address form of those declarations; plain leaves out what says no more than its absence.
func (d *Declarations) appendForm(b []byte, left mask, plain bool) []byte {
	table, start := lent(d), len(b)
	for ; !left.empty(); left = left.rest() {
		e := &language[left.first()]
		if plain && e.initial(table) {
			continue
		}
		if len(b) > start {
			b = append(b, '&')
		}
		if !e.named {
			b = append(append(b, e.name...), '=')
		}
		b = e.write(b, table)
	}
	return b
}

// Over returns d with what it doesn't declare taken from base: the cascade of a site's defaults under a URL.
func (d Declarations) Over(base Declarations) Declarations {
	d.inherit(&base, inheritedSet)
	return d
}

// Within returns the declarations of a picture inside of another one's box, with what CSS has it inherit from there.
func (d Declarations) Within(box Declarations) Declarations {
	d.inherit(&box, passedOnSet)
	return d
}

// Inherit takes what d doesn't declare from base, as Over does, where d stands.
func (d *Declarations) Inherit(base *Declarations) { d.inherit(base, inheritedSet) }

// inherit takes those of which that d doesn't declare from base, and gives what d declares then.
func (d *Declarations) inherit(base *Declarations, which mask) (set mask) {
	set = d.declared()
	left := base.declared().without(set).and(which)
	if left.empty() {
		return set
	}
	set = set.or(left)
	to, from := lent(d), lent(base)
	for ; !left.empty(); left = left.rest() {
		language[left.first()].take(to, from)
	}
	return set
}

// IsPaint reports whether d says anything about how the picture is painted.
func (d *Declarations) IsPaint() bool { return d.PaintName() != "" }

// PaintName is the first name that says something about how the picture is painted, "" where there is none.
func (d *Declarations) PaintName() string {
	if set := d.declared().and(paintSet); !set.empty() {
		return language[set.first()].name
	}
	return ""
}

// WithoutDelivery is d without what only says how the answer is delivered.
func (d Declarations) WithoutDelivery() Declarations {
	d.DeliveryValues = DeliveryValues{Class: d.Class, Data: d.Data}
	return d
}

// Plain is the address form as people write declarations: without encoding, a space between.
func (d Declarations) Plain() string {
	form := d.AddressForm()
	if text, err := url.QueryUnescape(strings.ReplaceAll(form, "&", "  ")); err == nil {
		return text
	}
	return form
}

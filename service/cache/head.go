package cache

import (
	"encoding/json"
	"unsafe"
)

// readHead reads what is written down of a variant: of what was written in the order in which Variant has it only as much as an answer
// needs, since taking all of it apart costs more than the rest of a hit; of anything else, all. The variant holds on to head.
func readHead(head []byte) (*Variant, bool) {
	v := &Variant{head: head}
	r := reader{rest: head}
	r.take(`{"etag":`)
	v.ETag = r.quoted()
	r.take(`,"type":`)
	v.Type = r.text()
	r.take(`,"width":`)
	v.Width = int(r.number())
	r.take(`,"height":`)
	v.Height = int(r.number())
	r.take(`,"source_bytes":`)
	v.SourceBytes = int(r.number())
	if r.optional(`,"made_at":`) {
		v.MadeAt = int64(r.number())
	}
	if r.optional(`,"provisional":`) {
		v.Provisional = r.take("true")
	}
	r.take(`,"of":{"site":`)
	v.Of.Site = r.text()
	r.take(`,"lane":`)
	v.Of.Lane = r.text()
	r.take(`,"path":`)
	v.Of.Path = r.text()
	if r.optional(`,"classes":`) {
		v.Of.Classes = r.text()
	}
	r.take("}")
	if r.optional(`,"serial":`) {
		v.Serial = r.number()
	}
	if r.take(`,"natural_width":`) && !r.failed {
		return v, true
	}
	whole := &Variant{}
	return whole, json.Unmarshal(head, whole) == nil
}

// A reader reads JSON as encoding/json writes it, without escapes. It fails at what else it meets.
type reader struct {
	rest   []byte
	failed bool
}

func (r *reader) has(what string) bool {
	return len(r.rest) >= len(what) && string(r.rest[:len(what)]) == what
}

// take takes what has to come now.
func (r *reader) take(what string) bool {
	if r.failed || !r.has(what) {
		r.failed = true
		return false
	}
	r.rest = r.rest[len(what):]
	return true
}

// optional takes what is before a member's value, or nothing where another member comes.
func (r *reader) optional(before string) bool {
	if r.failed || !r.has(before) {
		return false
	}
	r.rest = r.rest[len(before):]
	return true
}

// text takes a string without escapes.
func (r *reader) text() string {
	if !r.take(`"`) {
		return ""
	}
	for i, c := range r.rest {
		switch {
		case c == '"':
			s := unsafe.String(unsafe.SliceData(r.rest), i) // an entry that was read is never written to
			r.rest = r.rest[i+1:]
			return s
		case c == '\\' || c < 0x20:
			r.failed = true
			return ""
		}
	}
	r.failed = true
	return ""
}

// quoted takes a string that has quotes in itself, and no other escapes.
func (r *reader) quoted() string {
	if !r.take(`"\"`) {
		return ""
	}
	for i, c := range r.rest {
		if c == '\\' {
			s := `"` + string(r.rest[:i]) + `"`
			r.rest = r.rest[i:]
			r.take(`\""`)
			return s
		}
		if c == '"' || c < 0x20 || c > 0x7e {
			break
		}
	}
	r.failed = true
	return ""
}

// number takes a whole number that isn't negative.
func (r *reader) number() (n uint64) {
	i := 0
	for ; i < len(r.rest) && i < 18 && r.rest[i] >= '0' && r.rest[i] <= '9'; i++ {
		n = n*10 + uint64(r.rest[i]-'0')
	}
	if i == 0 || i < len(r.rest) && (r.rest[i] >= '0' && r.rest[i] <= '9' || r.rest[i] == '.' || r.rest[i] == 'e' || r.rest[i] == 'E') || i > 1 && r.rest[0] == '0' {
		r.failed = true
	}
	r.rest = r.rest[i:]
	return n
}

package metadata

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"
)

// An item is a part of an AVIF or HEIC file: a picture, or facts about one (ISO/IEC 14496-12, section 8.11).
type item struct {
	id   uint32
	kind string // four characters: Exif, mime, av01 and others
	mime string // of a mime item
	at   []extent
}

// An extent is a run of an item's bytes, and where the item location box says so.
type extent struct {
	span
	own    bool // in the meta box's own data, whose beginning it counts from
	offset span // the number that says where it begins, or begins beyond the item's base
	length span // the one that says how long it is
}

// A span is a part of a file: from, and up to but not with, to.
type span struct{ from, to int }

// A box is one of those that such a file is made of (ISO/IEC 14496-12, section 4.2).
type box struct {
	kind  string
	whole span
	body  span
}

// boxes lists the boxes that fill a span; ok is false where they don't fill it exactly.
func boxes(data []byte, s span) (out []box, ok bool) {
	for at := s.from; at < s.to; {
		if s.to-at < 8 || len(out) == mostBoxes {
			return out, false
		}
		n, head := int64(binary.BigEndian.Uint32(data[at:])), int64(8)
		switch {
		case n == 0: // up to the end
			n = int64(s.to - at)
		case n == 1:
			if s.to-at < 16 {
				return out, false
			}
			n, head = int64(binary.BigEndian.Uint64(data[at+8:])), 16
		}
		if n < head || n > int64(s.to-at) {
			return out, false
		}
		out = append(out, box{string(data[at+4 : at+8]), span{at, at + int(n)}, span{at + int(head), at + int(n)}})
		at += int(n)
	}
	return out, true
}

// A cursor reads big-endian numbers; past the end it gives zeros, and says so.
type cursor struct {
	data []byte
	span
	over bool
}

// next is where the following number lies.
func (c *cursor) next(bytes int) span { return span{c.from, c.from + bytes} }

func (c *cursor) number(bytes int) uint64 {
	if c.to-c.from < bytes {
		c.from, c.over = c.to, true
		return 0
	}
	var v uint64
	for _, b := range c.data[c.from : c.from+bytes] {
		v = v<<8 | uint64(b)
	}
	c.from += bytes
	return v
}

func (c *cursor) text() string {
	s, _, ok := bytes.Cut(c.data[c.from:c.to], []byte{0})
	if c.from += len(s) + 1; !ok {
		c.from, c.over = c.to, true
	}
	return string(s)
}

// mostItems is how many an honest file may have: grids of a thousand tiles and what belongs to them.
const mostItems = 4096

// items lists what the meta box of an AVIF or HEIC file describes. ok is false where its structure isn't wholly
// understood, or the file is an image sequence, which has more of them elsewhere.
func items(data []byte) (out []item, ok bool) {
	if CheckBoxes("", data) != nil {
		return nil, false
	}
	top, ok := boxes(data, span{0, len(data)})
	var inside []box
	metas := 0
	for _, b := range top {
		switch b.kind {
		case "meta":
			metas++
			if b.body.to-b.body.from < 4 {
				return nil, false
			}
			var whole bool
			inside, whole = boxes(data, span{b.body.from + 4, b.body.to})
			ok = ok && whole
		case "ftyp", "mdat", "free", "skip", "uuid":
		default:
			ok = false
		}
	}
	byID := map[uint32]int{}
	own := span{} // the meta box's own data
	for _, b := range inside {
		switch b.kind {
		case "iinf":
			var all bool
			if out, all = itemKinds(data, b.body); !all {
				ok = false
			}
		case "idat":
			own = b.body
		}
	}
	for i, m := range out {
		byID[m.id] = i
	}
	for _, b := range inside {
		if b.kind == "iloc" && !itemPlaces(data, b.body, own, out, byID) {
			ok = false
		}
	}
	return out, ok && metas == 1
}

// Primary is the coded data of an AVIF or HEIC's main picture, nil where it isn't of that kind or isn't found.
func Primary(data []byte, kind string) []byte {
	all, _ := items(data)
	top, _ := boxes(data, span{0, len(data)})
	for _, meta := range top {
		if meta.kind != "meta" || meta.body.to-meta.body.from < 4 {
			continue
		}
		inside, _ := boxes(data, span{meta.body.from + 4, meta.body.to})
		for _, b := range inside {
			if b.kind != "pitm" {
				continue
			}
			c := cursor{data: data, span: b.body}
			bytes := 2
			if version := c.number(1); version > 0 {
				bytes = 4
			}
			c.number(3)
			id := uint32(c.number(bytes))
			for _, m := range all {
				if m.id == id && m.kind == kind && !c.over {
					return bytesOf(data, m)
				}
			}
		}
	}
	return nil
}

// itemKinds reads the item information box.
func itemKinds(data []byte, body span) (out []item, ok bool) {
	c := cursor{data: data, span: body}
	head := 4
	if version := c.number(1); version == 0 {
		head += 2
	} else {
		head += 4
	}
	if body.to-body.from < head {
		return nil, false
	}
	entries, ok := boxes(data, span{body.from + head, body.to})
	if len(entries) > mostItems {
		return nil, false
	}
	for _, e := range entries {
		c := cursor{data: data, span: e.body}
		version := c.number(1)
		c.number(3)
		if e.kind != "infe" || version < 2 {
			return out, false
		}
		m := item{id: uint32(c.number(2))}
		if version > 2 {
			m.id = m.id<<16 | uint32(c.number(2))
		}
		c.number(2)
		kind := c.number(4)
		m.kind = string(binary.BigEndian.AppendUint32(nil, uint32(kind)))
		c.text() // its name
		if m.kind == "mime" {
			m.mime = c.text()
		}
		if c.over && m.kind == "mime" {
			ok = false
		}
		out = append(out, m)
	}
	return out, ok
}

// locations are how an item location box writes what it says (ISO/IEC 14496-12, section 8.11.3): how many bytes each of its
// numbers has, and of how many items it speaks.
type locations struct {
	version                         uint64
	id, offset, length, base, index int
	items                           int
}

// locations reads the beginning of an item location box.
func (c *cursor) locations() locations {
	l := locations{version: c.number(1), id: 2}
	c.number(3)
	sizes := c.number(2)
	l.offset, l.length, l.base = int(sizes>>12), int(sizes>>8&15), int(sizes>>4&15)
	if l.version > 0 {
		l.index = int(sizes & 15)
	}
	if l.version > 1 {
		l.id = 4
	}
	l.items = int(c.number(l.id))
	return l
}

// itemPlaces reads the item location box.
func itemPlaces(data []byte, body, own span, all []item, byID map[uint32]int) bool {
	c := cursor{data: data, span: body}
	l := c.locations()
	if l.items > mostItems || l.version > 2 || l.offset > 8 || l.length > 8 || l.base > 8 || l.index > 8 {
		return false
	}
	sum := 0
	for range l.items {
		id := uint32(c.number(l.id))
		method := uint64(0)
		if l.version > 0 {
			method = c.number(2) & 15
		}
		elsewhere := c.number(2) != 0
		baseAt := c.next(l.base)
		start := c.number(l.base)
		extents := int(c.number(2))
		if sum += extents; c.over || elsewhere || method > 1 || sum > mostExtents {
			return false
		}
		within := span{0, len(data)}
		if method == 1 {
			within = own
		}
		for range extents {
			c.number(l.index)
			e := extent{own: method == 1, offset: c.next(l.offset)}
			from := start + c.number(l.offset)
			e.length = c.next(l.length)
			bytes := c.number(l.length)
			if l.offset == 0 && extents == 1 {
				e.offset = baseAt
			}
			room := uint64(within.to - within.from)
			if c.over || from > room || bytes > room-from {
				return false
			}
			if bytes == 0 {
				bytes = room - from
			}
			e.from = within.from + int(from)
			e.to = e.from + int(bytes)
			if i, known := byID[id]; known {
				all[i].at = append(all[i].at, e)
			}
		}
	}
	return true
}

// tells reports whether an item holds facts rather than a picture.
func (m *item) tells() bool { return m.kind == "Exif" || m.kind == "mime" }

// pictureItems are the kinds that hold pictures, or say how such are put together.
const pictureItems = "av01 hvc1 grid iovl iden tmap jpeg"

// bytesOf joins an item's parts.
func bytesOf(data []byte, m item) []byte {
	var out []byte
	for _, e := range m.at {
		out = append(out, data[e.from:e.to]...)
	}
	return out
}

// itemFacts finds the Exif and XMP blocks of an AVIF or HEIC.
func itemFacts(data []byte) (exif, xmp []byte) {
	all, _ := items(data)
	for _, m := range all {
		switch {
		case m.kind == "Exif" && exif == nil:
			b := bytesOf(data, m)
			if len(b) < 4 {
				continue
			}
			if skip := uint64(binary.BigEndian.Uint32(b)) + 4; skip <= uint64(len(b)) { // ISO/IEC 23008-12, annex A.2.1
				exif = b[skip:]
			}
		case m.mime == "application/rdf+xml" && xmp == nil:
			xmp = bytesOf(data, m)
		}
	}
	return exif, xmp
}

// An edit puts content in a span's place.
type edit struct {
	span
	content string
}

// replaceFacts gives an AVIF or HEIC whose items of facts hold f alone. What they held is cut out, and the places of
// what lies behind it are written anew; the pictures' own bytes stay. ok is false where the structure isn't wholly
// understood, or has no room for f.
func replaceFacts(data []byte, f Facts) (replaced splices, ok bool) {
	all, ok := items(data)
	if !ok || len(all) == 0 {
		return nil, false
	}
	top, _ := boxes(data, span{0, len(data)})
	var edits []edit
	for _, b := range top {
		switch b.kind {
		case "uuid", "free", "skip": // some system's own, or what was there before
			edits = append(edits, edit{b.whole, ""})
		}
	}
	out := bytes.Clone(data)
	exif, xmp := f.Exif, f.XMP
	for _, m := range all {
		if m.tells() && len(m.at) != 1 {
			return nil, false
		}
		content := " "
		switch {
		case !m.tells() && strings.Contains(pictureItems, m.kind):
			continue
		case !m.tells():
			return nil, false
		case m.kind == "Exif" && exif != nil:
			content, exif = "\x00\x00\x00\x00"+string(exif), nil
		case m.kind == "Exif":
			content = noFacts[:min(len(noFacts), m.at[0].to-m.at[0].from)]
		case m.mime == "application/rdf+xml" && xmp != nil:
			content, xmp = string(xmp), nil
		}
		e := m.at[0]
		if e.own { // rare, and small: nothing moves
			if len(content) > e.to-e.from {
				content = ""
			}
			n := copy(out[e.from:e.to], content)
			copy(out[e.from+n:e.to], strings.Repeat(" ", e.to-e.from-n))
			continue
		}
		if !put(out, e.length, uint64(len(content))) {
			return nil, false
		}
		edits = append(edits, edit{e.span, content})
	}
	slices.SortFunc(edits, func(a, b edit) int { return a.from - b.from })
	for i := 1; i < len(edits); i++ {
		if edits[i].from < edits[i-1].to {
			return nil, false
		}
	}
	shift := func(at int) (by int, touched bool) {
		for _, e := range edits {
			if e.to <= at {
				by += len(e.content) - (e.to - e.from)
			}
			touched = touched || e.from < at && at < e.to
		}
		return by, touched
	}
	for _, m := range all {
		for _, e := range m.at {
			by, touched := shift(e.from)
			if !m.tells() && !e.own {
				for _, cut := range edits {
					touched = touched || cut.from < e.to && e.from < cut.to
				}
			}
			if touched || !e.own && by != 0 && !add(out, e.offset, by) {
				return nil, false
			}
		}
	}
	for _, b := range top {
		if b.kind != "mdat" {
			continue
		}
		by := 0
		for _, e := range edits {
			if b.body.from <= e.from && e.to <= b.body.to {
				by += len(e.content) - (e.to - e.from)
			} else if e.from < b.whole.to && b.whole.from < e.to {
				return nil, false
			}
		}
		size := span{b.whole.from, b.whole.from + 4}
		switch binary.BigEndian.Uint32(data[size.from:]) {
		case 0: // up to the end
			continue
		case 1:
			size = span{size.from + 8, size.from + 16}
		}
		if !add(out, size, by) {
			return nil, false
		}
	}
	at := 0
	for _, e := range edits {
		replaced.changed(data, out, at, e.from)
		replaced.put([]byte(e.content)...)
		at = e.to
	}
	replaced.changed(data, out, at, len(data))
	return replaced, exif == nil && xmp == nil
}

// noFacts is an Exif item that says nothing.
const noFacts = "\x00\x00\x00\x00MM\x00*\x00\x00\x00\x08\x00\x00\x00\x00\x00\x00"

// put writes a big-endian number of a span's width; false where it's too wide.
func put(data []byte, at span, v uint64) bool {
	n := at.to - at.from
	if n == 0 || n < 8 && v>>(8*n) != 0 {
		return false
	}
	for i := range n {
		data[at.to-1-i] = byte(v >> (8 * i))
	}
	return true
}

func add(data []byte, at span, by int) bool {
	c := cursor{data: data, span: at}
	v := int64(c.number(at.to-at.from)) + int64(by)
	return v >= 0 && put(data, at, uint64(v))
}

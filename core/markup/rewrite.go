package markup

import (
	"bytes"
	"html"
	"strings"
)

// Was names the attribute that holds the tag as it was before Rewrite, so that a rewritten page can be rewritten again, and restored.
const Was = "data-was"

// An Image is an <img> of a page, or a <source> of a <picture>.
type Image struct {
	Tag       string // img, source
	Offset    int    // of its tag in the page as it was before any rewriting
	InPicture bool
	// InNoscript says that only browsers without scripts show it.
	InNoscript bool
	First      bool // no other image stands before it
	attrs      []attribute
}

// Attr gives the value of an attribute, its character references decoded; ok is false where the tag hasn't got it.
func (i *Image) Attr(name string) (value string, ok bool) {
	for k := range i.attrs {
		if strings.EqualFold(i.attrs[k].name, name) {
			return html.UnescapeString(i.attrs[k].value), true
		}
	}
	return "", false
}

// Attrs gives all attributes in their order, names in lower case and values decoded.
func (i *Image) Attrs() []Attribute {
	list := make([]Attribute, len(i.attrs))
	for k, a := range i.attrs {
		list[k] = Attribute{Name: strings.ToLower(a.name), Value: html.UnescapeString(a.value)}
	}
	return list
}

// A Change says which attributes of a tag are set and which are dropped. All others stay.
type Change struct {
	Set   []Attribute
	Drop  []string
	Style string // declarations for its style attribute, behind those that are there
}

// attribute is one of a tag, with where it stands in it.
type attribute struct {
	name, value string // as they are written
	from, to    int    // of the whole of it
}

// Rewrite gives a copy of a page with its images changed. It calls change for each image in turn; where that gives nil, the image stays.
// All other bytes are the same. Images that were rewritten before are given to change as they were before that.
func Rewrite(page []byte, change func(*Image) *Change) []byte {
	r := &rewriter{change: change, out: make([]byte, 0, len(page)+len(page)/8)}
	r.run(page)
	return r.out
}

// Restore gives a copy of a page as it was before Rewrite.
func Restore(page []byte) []byte { return Rewrite(page, func(*Image) *Change { return nil }) }

type rewriter struct {
	change    func(*Image) *Change
	out       []byte
	seen      int // bytes of the page as it was before
	images    int
	inPicture bool
	noscript  bool
}

// run goes through the page as HTML's tokenizer does (HTML, section 13.2.5), from one < to the next.
func (r *rewriter) run(page []byte) {
	from := 0 // what isn't copied yet
	flush := func(to int) {
		r.copy(page[from:to])
		from = to
	}
	for at := 0; at < len(page); {
		next := bytes.IndexByte(page[at:], '<')
		if next < 0 || at+next+1 >= len(page) {
			break
		}
		at += next
		c := page[at+1]
		switch {
		case c == '!' || c == '?':
			at = afterComment(page, at)
			continue
		case c == '/' && at+2 < len(page) && isLetter(page[at+2]):
			end, _ := tagEnd(page, at)
			switch tagName(page[at:min(end, at+12)]) {
			case "picture":
				r.inPicture = false
			case "noscript":
				r.noscript = false
			}
			at = end
			continue
		case c == '/': // not an end tag: a comment of sorts
			at = after(page, at+2, ">")
			continue
		case !isLetter(c):
			at++
			continue
		}
		end, whole := tagEnd(page, at)
		if !whole { // the page ends within the tag, which then is none
			break
		}
		switch name := string(tagName(page[at:end])); name {
		case "img", "source":
			if name == "source" && !r.inPicture {
				break
			}
			flush(at)
			r.image(name, page[at:end])
			from = end
			if name == "img" {
				r.images++
			}
		case "picture":
			r.inPicture = true
		case "noscript":
			r.noscript = true
		case "script", "style", "textarea", "title", "xmp", "iframe", "noembed", "noframes":
			end = rawEnd(page, end, name)
		case "plaintext":
			end = len(page)
		}
		at = end
	}
	flush(len(page))
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// after gives the offset behind the next end; the page's length where there is none.
func after(page []byte, from int, end string) int {
	if from > len(page) {
		return len(page)
	}
	i := bytes.Index(page[from:], []byte(end))
	if i < 0 {
		return len(page)
	}
	return from + i + len(end)
}

// afterComment skips <!-- -->, <!doctype>, <![CDATA[ ]]> and <? >.
func afterComment(page []byte, at int) int {
	rest := page[at:]
	switch {
	case bytes.HasPrefix(rest, []byte("<!-->")):
		return at + 5
	case bytes.HasPrefix(rest, []byte("<!--->")):
		return at + 6
	case bytes.HasPrefix(rest, []byte("<!--")):
		a, b := after(page, at+4, "-->"), after(page, at+4, "--!>")
		return min(a, b)
	case bytes.HasPrefix(rest, []byte("<![CDATA[")):
		return after(page, at+9, "]]>")
	}
	return after(page, at+1, ">")
}

// tagEnd is where what follows the tag begins that begins at at: a > in quotes doesn't end it where quotes stand for a
// value. whole is false where the page ends before.
func tagEnd(page []byte, at int) (end int, whole bool) {
	const (
		outside = iota // of a name
		inName
		beforeValue
		inValue
	)
	i := at + 1
	for i < len(page) && !isSpace(page[i]) && page[i] != '/' && page[i] != '>' {
		i++
	}
	if page[at+1] == '/' {
		for i = at + 2; i < len(page) && !isSpace(page[i]) && page[i] != '/' && page[i] != '>'; i++ {
		}
	}
	state := outside
	for ; i < len(page); i++ {
		c := page[i]
		if c == '>' {
			return i + 1, true
		}
		switch state {
		case outside:
			if !isSpace(c) && c != '/' {
				state = inName
			}
		case inName:
			switch {
			case c == '=':
				state = beforeValue
			case c == '/':
				state = outside
			case isSpace(c): // a = may still follow
				j := i
				for j < len(page) && isSpace(page[j]) {
					j++
				}
				if j < len(page) && page[j] == '=' {
					i, state = j, beforeValue
				} else {
					i, state = j-1, outside
				}
			}
		case beforeValue:
			switch {
			case isSpace(c):
			case c == '"' || c == '\'':
				end := bytes.IndexByte(page[i+1:], c)
				if end < 0 {
					return len(page), false
				}
				i += 1 + end
				state = outside
			default:
				state = inValue
			}
		case inValue:
			if isSpace(c) {
				state = outside
			}
		}
	}
	return len(page), false
}

// rawEnd is where the end tag of an element begins whose content is text: of scripts with regard to what HTML does for
// scripts in comments in scripts.
func rawEnd(page []byte, at int, name string) int {
	escaped, double := false, false
	for at < len(page) {
		i := bytes.IndexAny(page[at:], "<-")
		if i < 0 {
			return len(page)
		}
		at += i
		rest := page[at:]
		switch {
		case name == "script" && bytes.HasPrefix(rest, []byte("<!--")):
			escaped = true
			at += 2 // the dashes may be those of -->, too
			continue
		case name == "script" && bytes.HasPrefix(rest, []byte("-->")):
			escaped, double = false, false
			at += 3
			continue
		case escaped && !double && named(rest, "<script"):
			double = true
		case double && named(rest, "</script"):
			double = false
		case !double && len(rest) > 2 && rest[1] == '/' && named(rest, "</"+name):
			return at
		}
		at++
	}
	return len(page)
}

// named reports whether text begins with a tag's beginning, in any case.
func named(text []byte, tag string) bool {
	if len(text) <= len(tag) || !strings.EqualFold(string(text[:len(tag)]), tag) {
		return false
	}
	c := text[len(tag)]
	return isSpace(c) || c == '/' || c == '>'
}

func (r *rewriter) copy(raw []byte) {
	r.out = append(r.out, raw...)
	r.seen += len(raw)
}

// tagName is a tag's name in lower case, "" where it's longer than any that matters.
func tagName(raw []byte) string {
	at := 1
	if at < len(raw) && raw[at] == '/' {
		at++
	}
	var name [10]byte
	n := 0
	for ; at+n < len(raw) && n < len(name); n++ {
		c := raw[at+n]
		switch {
		case c >= 'A' && c <= 'Z':
			c += 'a' - 'A'
		case c >= 'a' && c <= 'z':
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '/' || c == '>':
			return string(name[:n])
		default:
			return ""
		}
		name[n] = c
	}
	return ""
}

// wholeTag reports whether a text is one tag of this name and nothing else.
func wholeTag(text, name string) bool {
	if len(text) < 3 || text[0] != '<' || tagName([]byte(text)) != name {
		return false
	}
	end, whole := tagEnd([]byte(text), 0)
	return whole && end == len(text)
}

func (r *rewriter) image(tag string, raw []byte) {
	before := string(raw)
	image := &Image{Tag: tag, Offset: r.seen, InPicture: r.inPicture, InNoscript: r.noscript, First: r.images == 0, attrs: attributes(before)}
	if was, ok := image.Attr(Was); ok && wholeTag(was, tag) {
		before = was
		image.attrs = attributes(before)
	}
	r.seen += len(before)
	c := r.change(image)
	if c != nil && c.Style != "" {
		style, _ := image.Attr("style")
		if style = strings.TrimRight(strings.TrimSpace(style), ";"); style != "" {
			style += ";"
		}
		with := *c
		with.Set = append(append([]Attribute(nil), c.Set...), Attribute{"style", style + c.Style})
		c = &with
	}
	if c == nil {
		r.out = append(r.out, before...)
		return
	}
	r.out = appendRewritten(r.out, before, image.attrs, c)
}

// appendRewritten appends a tag with its changes: what is set takes the place of what was there, what is new goes to the
// end.
func appendRewritten(b []byte, tag string, attrs []attribute, c *Change) []byte {
	start, at := len(b), 0
	var written [32]bool // by index in c.Set
	for _, a := range attrs {
		set := -1
		for i := range c.Set {
			if strings.EqualFold(c.Set[i].Name, a.name) {
				set = i
				break
			}
		}
		if set < 0 && !c.drops(a.name) {
			continue
		}
		b = append(b, tag[at:a.from]...)
		at = a.to
		if set >= 0 && set < len(written) && !written[set] {
			written[set] = true
			b = appendAttribute(b, c.Set[set])
			continue
		}
		for len(b) > start && isSpace(b[len(b)-1]) { // with the space before it
			b = b[:len(b)-1]
		}
	}
	end := len(tag) - 1 // of what stands before > or />
	if end > 0 && tag[end-1] == '/' && !unquotedEnd(tag, attrs) {
		end--
	}
	for end > at && isSpace(tag[end-1]) {
		end--
	}
	b = append(b, tag[at:end]...)
	for i, a := range c.Set {
		if i >= len(written) || !written[i] {
			b = appendAttribute(append(b, ' '), a)
		}
	}
	b = appendAttribute(append(b, ' '), Attribute{Was, tag})
	return append(b, tag[end:]...)
}

func (c *Change) drops(name string) bool {
	for _, d := range c.Drop {
		if strings.EqualFold(d, name) {
			return true
		}
	}
	return strings.EqualFold(name, Was)
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' }

func appendAttribute(b []byte, a Attribute) []byte {
	b = append(append(b, a.Name...), `="`...)
	from := 0
	for i := range len(a.Value) {
		var with string
		switch a.Value[i] {
		case '&':
			with = "&amp;"
		case '"':
			with = "&quot;"
		case '<':
			with = "&lt;"
		case '>':
			with = "&gt;"
		default:
			continue
		}
		b = append(append(b, a.Value[from:i]...), with...)
		from = i + 1
	}
	return append(append(b, a.Value[from:]...), '"')
}

// unquotedEnd reports whether the slash before a tag's end is part of an unquoted value.
func unquotedEnd(tag string, attrs []attribute) bool {
	return len(attrs) > 0 && attrs[len(attrs)-1].to == len(tag)-1
}

// attributes finds a tag's attributes as HTML's tokenizer does (HTML, section 13.2.5.32 on).
func attributes(tag string) []attribute {
	list := make([]attribute, 0, 8)
	i := 1
	for i < len(tag) && !isSpace(tag[i]) && tag[i] != '/' && tag[i] != '>' {
		i++
	}
	for {
		for i < len(tag) && (isSpace(tag[i]) || tag[i] == '/') {
			i++
		}
		if i >= len(tag) || tag[i] == '>' {
			return list
		}
		a := attribute{from: i}
		for i++; i < len(tag) && !isSpace(tag[i]) && tag[i] != '/' && tag[i] != '>' && tag[i] != '='; i++ {
		}
		a.name, a.to = tag[a.from:i], i
		j := i
		for j < len(tag) && isSpace(tag[j]) {
			j++
		}
		if j < len(tag) && tag[j] == '=' {
			for j++; j < len(tag) && isSpace(tag[j]); j++ {
			}
			switch {
			case j < len(tag) && (tag[j] == '"' || tag[j] == '\''):
				end := strings.IndexByte(tag[j+1:], tag[j])
				if end < 0 {
					end = len(tag) - j - 1
				}
				a.value = tag[j+1 : j+1+end]
				i = min(len(tag), j+2+end)
			default:
				from := j
				for j < len(tag) && !isSpace(tag[j]) && tag[j] != '>' {
					j++
				}
				a.value, i = tag[from:j], j
			}
			a.to = i
		}
		list = append(list, a)
	}
}

package svg

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"

	"echolane/core/codec"
)

// What a drawing may have.
const (
	mostBytes    = 16 << 20
	mostElements = 100_000
	deepest      = 200
	mostEntities = 200
)

// A node is an element of the drawing, or text within one.
type node struct {
	name    string            // of an element in SVG's namespace; "" for text
	attrs   map[string]string // by local names
	text    string
	parent  *node
	kids    []*node
	style   map[string]string // its own declarations, the cascade's winners
	classes []string
}

// A document is a drawing that was read.
type document struct {
	root *node
	ids  map[string]*node
}

func broken(format string, args ...any) error {
	return &codec.Error{Type: Type, Problem: fmt.Sprintf(format, args...)}
}

const (
	namespace = "http://www.w3.org/2000/svg"
	xlink     = "http://www.w3.org/1999/xlink"
)

// unseen are elements whose contents are never drawn nor pointed at.
var unseen = []string{"script", "metadata", "title", "desc", "animate", "animateTransform", "animateMotion", "set", "audio", "video", "iframe", "canvas"}

// read reads a drawing.
func read(data []byte) (*document, error) {
	if len(data) > mostBytes {
		return nil, broken("the drawing has %d bytes, and at most %d are read", len(data), mostBytes)
	}
	d := decoder(data)
	doc := &document{ids: map[string]*node{}}
	var sheets strings.Builder
	var at *node
	elements, skip, depth := 0, 0, 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				return nil, &codec.Error{Type: Type, Truncated: strings.Contains(syntax.Msg, "unexpected EOF"), Problem: fmt.Sprintf("line %d: %s", syntax.Line, syntax.Msg)}
			}
			return nil, broken("%s", err)
		}
		switch t := token.(type) {
		case xml.Directive:
			if d.Entity, err = entities(t); err != nil {
				return nil, err
			}
		case xml.StartElement:
			if elements++; elements > mostElements {
				return nil, broken("the drawing has more than %d elements", mostElements)
			}
			if depth++; depth > deepest {
				return nil, broken("elements lie more than %d deep in each other", deepest)
			}
			foreign := t.Name.Space != "" && t.Name.Space != namespace
			if skip > 0 || foreign || slices.Contains(unseen, t.Name.Local) {
				if at == nil && skip == 0 {
					return nil, broken("the outermost element is %q, not svg", t.Name.Local)
				}
				skip++
				continue
			}
			if at == nil && (doc.root != nil || t.Name.Local != "svg") {
				return nil, broken("the outermost element is %q, not svg", t.Name.Local)
			}
			n := &node{name: t.Name.Local, attrs: map[string]string{}, parent: at}
			for _, a := range t.Attr {
				if a.Name.Space == "" || (a.Name.Space == xlink || a.Name.Space == "xlink") && a.Name.Local == "href" && n.attrs["href"] == "" || a.Name.Space == "xml" || strings.HasSuffix(a.Name.Space, "/XML/1998/namespace") {
					n.attrs[a.Name.Local] = a.Value
				}
			}
			n.classes = strings.Fields(n.attrs["class"])
			if id := n.attrs["id"]; id != "" && doc.ids[id] == nil {
				doc.ids[id] = n
			}
			if at == nil {
				doc.root = n
			} else {
				at.kids = append(at.kids, n)
			}
			at = n
		case xml.EndElement:
			depth--
			if skip > 0 {
				skip--
				continue
			}
			if at != nil {
				at = at.parent
			}
		case xml.CharData:
			switch {
			case skip > 0 || at == nil:
			case at.name == "style":
				if kind := strings.ToLower(at.attrs["type"]); kind == "" || kind == "text/css" {
					sheets.Write(t)
					sheets.WriteByte('\n')
				}
			case at.name == "text" || at.name == "tspan" || at.name == "textPath" || at.name == "a":
				at.kids = append(at.kids, &node{text: string(t), parent: at})
			}
		}
	}
	if doc.root == nil {
		return nil, broken("there is no svg element")
	}
	if at != nil {
		return nil, &codec.Error{Type: Type, Truncated: true, Problem: fmt.Sprintf("the drawing ends within %s", at.name)}
	}
	rules, err := rulesOf(sheets.String())
	if err != nil {
		return nil, err
	}
	matched := 0
	if err := doc.root.cascade(rules, &matched); err != nil {
		return nil, err
	}
	return doc, nil
}

func decoder(data []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		switch strings.ToLower(charset) {
		case "iso-8859-1", "us-ascii", "windows-1252", "latin1":
			text, err := io.ReadAll(io.LimitReader(in, mostBytes))
			runes := make([]rune, len(text))
			for i, b := range text {
				runes[i] = rune(b)
			}
			return strings.NewReader(string(runes)), err
		}
		return nil, fmt.Errorf("the drawing is written in %q: write it in UTF-8", charset)
	}
	return d
}

var entity = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`<!ENTITY\s+([\w.:-]+)\s+(?:"([^"]*)"|'([^']*)')\s*>`)
})

// entities are those that a document type names, as drawing programs write them for namespaces. Their texts hold no others, so that
// nothing grows.
func entities(directive []byte) (map[string]string, error) {
	all := map[string]string{}
	for _, m := range entity().FindAllSubmatch(directive, -1) {
		value := string(m[2]) + string(m[3])
		if strings.Contains(value, "&") {
			return nil, broken("the entity %.40s is made of other entities", m[1])
		}
		if len(all) == mostEntities || len(value) > 1000 {
			return nil, broken("the document type has more entities, or longer ones, than a drawing needs")
		}
		all[string(m[1])] = value
	}
	return all, nil
}

// href is what an element points at within the drawing, nil for anything else.
func (d *document) href(n *node) *node {
	if id, ok := strings.CutPrefix(strings.TrimSpace(n.attrs["href"]), "#"); ok {
		return d.ids[id]
	}
	return nil
}

// url is the element that url(#id) names, nil for none; ok says that it is an url().
func (d *document) url(value string) (n *node, ok bool) {
	inner, ok := strings.CutPrefix(strings.TrimSpace(value), "url(")
	if !ok {
		return nil, false
	}
	inner, _, _ = strings.Cut(inner, ")")
	inner = strings.Trim(inner, ` "'`)
	if id, local := strings.CutPrefix(inner, "#"); local {
		return d.ids[id], true
	}
	return nil, true
}

// Package svg draws SVG 2 drawings to pixels: static, without scripts, animations, and anything from outside of the file, with
// the house's fonts. What it can't draw it refuses by name, rather than leave it out.
package svg

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"math"
	"net/url"
	"strings"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Type is the media type.
const Type = "image/svg+xml"

// Format is SVG. It is only read, and drawn at the size that is wanted: Decode draws it at its own.
var Format = &codec.Format{
	Type: Type, Name: "SVG", Endings: []string{".svg"},
	Sniff: Sniff, Probe: Probe, Draw: Draw,
	Decode: func(data []byte, w codec.Want) (codec.Picture, error) {
		info, err := Probe(data)
		if err != nil {
			return codec.Picture{}, err
		}
		p, err := Draw(data, codec.Part{W: float64(info.W), H: float64(info.H)}, info.W, info.H, nil)
		return codec.Picture{RGBA: p}, err
	},
}

// Sniff reports whether a file begins as a drawing does.
func Sniff(data []byte) bool {
	head := bytes.TrimLeft(data[:min(len(data), 4096)], "\xef\xbb\xbf \t\r\n")
	for { // comments, the XML declaration and a document type may come first
		switch {
		case bytes.HasPrefix(head, []byte("<svg")):
			return true
		case bytes.HasPrefix(head, []byte("<?xml")), bytes.HasPrefix(head, []byte("<!--")), bytes.HasPrefix(head, []byte("<!DOCTYPE svg")), bytes.HasPrefix(head, []byte("<?")):
			end := []byte(">")
			if bytes.HasPrefix(head, []byte("<!--")) {
				end = []byte("-->")
			} else if i := bytes.IndexByte(head, '['); i >= 0 && bytes.HasPrefix(head, []byte("<!DOCTYPE")) && i < bytes.IndexByte(head, '>') {
				return true
			}
			_, after, ok := bytes.Cut(head, end)
			if !ok {
				return false
			}
			head = bytes.TrimLeft(after, " \t\r\n")
		default: // a prefix, such as <svg:svg
			return bytes.HasPrefix(head, []byte("<svg:"))
		}
	}
}

// Sides of a drawing that says nothing of its size (CSS Images Level 3, section 5.2), and the longest.
const (
	usualW, usualH = 300, 150
	longest        = 1e5
)

// size is a drawing's own, in CSS pixels: its width and height; where one is missing, as its viewBox has it.
func size(width, height, view string) (w, h float64) {
	m := measures{em: 16}
	w, okW := m.length(width, across)
	h, okH := m.length(height, down)
	okW, okH = okW && w > 0 && !strings.Contains(width, "%"), okH && h > 0 && !strings.Contains(height, "%")
	b, ok := viewBox(view)
	bw, bh := b.x1-b.x0, b.y1-b.y0
	switch {
	case okW && okH:
	case okW && ok:
		h = w * bh / bw
	case okH && ok:
		w = h * bw / bh
	case ok:
		w, h = bw, bh
	default:
		if !okW {
			w = usualW
		}
		if !okH {
			h = usualH
		}
	}
	k := math.Min(1, longest/math.Max(w, h))
	return w * k, h * k
}

// Probe reads the drawing's size, in CSS pixels. Its error is a *codec.Error.
func Probe(data []byte) (codec.Info, error) {
	d := decoder(data)
	for {
		token, err := d.Token()
		if err != nil {
			var syntax *xml.SyntaxError
			problem := err.Error()
			if errors.As(err, &syntax) {
				problem = syntax.Msg
			}
			return codec.Info{}, &codec.Error{Type: Type, Truncated: strings.Contains(problem, "EOF"), Problem: problem}
		}
		switch t := token.(type) {
		case xml.Directive:
			if d.Entity, err = entities(t); err != nil {
				return codec.Info{}, err
			}
		case xml.StartElement:
			if t.Name.Local != "svg" {
				return codec.Info{}, broken("the outermost element is %.40q, not svg", t.Name.Local)
			}
			attrs := map[string]string{}
			for _, a := range t.Attr {
				if a.Name.Space == "" {
					attrs[a.Name.Local] = a.Value
				}
			}
			w, h := size(attrs["width"], attrs["height"], attrs["viewBox"])
			return codec.Info{Type: Type, W: max(1, int(math.Ceil(w-1e-6))), H: max(1, int(math.Ceil(h-1e-6))), Orientation: 1, Alpha: true, Frames: 1, Depth: 8, Coding: "shapes"}, nil
		}
	}
}

// Draw draws a part of a drawing, in CSS pixels of its own size, on w×h pixels. images reads pictures that it holds in data:
// URLs; nil: there are none. Its error is a *codec.Error.
func Draw(data []byte, part codec.Part, w, h int, images func(data []byte) (*raster.RGBA, error)) (*raster.RGBA, error) {
	return draw(data, part, w, h, images, mostWork)
}

func draw(data []byte, part codec.Part, w, h int, images func(data []byte) (*raster.RGBA, error), work int64) (*raster.RGBA, error) {
	doc, err := read(data)
	if err != nil {
		return nil, err
	}
	p := &painter{document: doc, images: images, left: work, dst: layer{RGBA: raster.NewRGBA(w, h)}}
	p.dst.Opaque = false
	root := doc.root
	dw, dh := size(root.attrs["width"], root.attrs["height"], root.attrs["viewBox"])
	onto := scaled(float64(w)/part.W, float64(h)/part.H).After(moved(-part.X, -part.Y))
	s := p.computed(root, &initial, measures{dw, dh, 16})
	at := place{m: onto, measures: measures{dw, dh, s.em}}
	if b, ok := viewBox(root.attrs["viewBox"]); ok {
		at.m = at.m.After(fitted(b, dw, dh, root.attrs["preserveAspectRatio"]))
		at.measures.w, at.measures.h = b.x1-b.x0, b.y1-b.y0
	}
	if c, ok := colourOf(root.style["background-color"], s.colour); ok {
		p.dst.Fill(c.R, c.G, c.B, c.A)
	}
	if !s.gone {
		own := s
		switch {
		case s.opacity < 1 || s.clip != "" || s.mask != "" || s.filter != "":
			g := &node{name: "g", attrs: map[string]string{}, kids: root.kids, style: root.style, parent: root.parent}
			err = p.group(g, &own, at)
		default:
			err = p.children(root, &own, at)
		}
	}
	if err != nil {
		p.dst.Free()
		return nil, err
	}
	p.dst.FindOpaque()
	p.dst.Unpremultiply()
	return p.dst.RGBA, nil
}

// dataURL is what a data: URL holds, nil for anything else (RFC 2397).
func dataURL(s string) []byte {
	rest, ok := strings.CutPrefix(strings.TrimSpace(s), "data:")
	if !ok {
		return nil
	}
	kind, body, ok := strings.Cut(rest, ",")
	if !ok {
		return nil
	}
	if strings.HasSuffix(strings.TrimSpace(kind), ";base64") {
		body = strings.Map(func(r rune) rune {
			if strings.ContainsRune(" \t\r\n", r) {
				return -1
			}
			return r
		}, body)
		if u, err := url.PathUnescape(body); err == nil {
			body = u
		}
		data, err := base64.StdEncoding.DecodeString(body)
		if err != nil {
			if data, err = base64.RawStdEncoding.DecodeString(strings.TrimRight(body, "=")); err != nil {
				return nil
			}
		}
		return data
	}
	text, err := url.PathUnescape(body)
	if err != nil {
		return nil
	}
	return []byte(text)
}

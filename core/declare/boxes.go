package declare

import (
	"slices"
	"strings"
)

// box is what a URL says of a layer, its lengths divided by k.
func (l Layer) box(name string, k float64) Box {
	l = l.lengthsTimes(1 / k)
	b := Box{Name: name}
	if l.Content != "" {
		p := Part{Text: l.Content, Picture: !l.Text}
		b.say("content", p.text())
	}
	plain := func(text []byte) string { return plainly.Replace(string(text)) }
	if l.Width.Declared {
		b.say("width", plain(appendSide(nil, l.Width)))
	}
	if l.Height.Declared {
		b.say("height", plain(appendSide(nil, l.Height)))
	}
	if l.Inset.Declared {
		for i, e := range l.Inset.Edge {
			text := "auto"
			if e.Declared {
				text = e.Length.text()
			}
			b.say(edgeNames[i], text)
		}
	}
	if l.Turn.Declared {
		b.say("rotate", plain(appendTurn(nil, l.Turn)))
	}
	if l.Color.Declared {
		b.say("color", plain(appendColor(nil, l.Color)))
	}
	if l.Font.Declared {
		b.say("font-size", number(l.Font.Size)+"px")
		weight, style, family := "400", "normal", "sans-serif"
		if l.Font.Bold {
			weight = "700"
		}
		if l.Font.Italic {
			style = "italic"
		}
		if l.Font.Mono {
			family = "monospace"
		}
		b.say("font-weight", weight)
		b.say("font-style", style)
		b.say("font-family", family)
	}
	if l.Align != AlignUnset {
		b.say("text-align", aligns[l.Align])
	}
	b.Paint.Opacity, b.Paint.Blend, b.Paint.Background = l.Opacity, l.Blend, l.Background
	if l.Padding.Declared {
		framePadding(&b.Paint.Padding, l.Padding.Edge)
	}
	return b
}

// Boxes are the layers of a request in the order in which they are painted: those under the picture first, then those over it.
func (r *Resolved) Boxes() (under, over []Box) {
	k := r.LayerScale
	if k == 0 {
		k = 1
	}
	list := slices.Clone(r.Layers)
	for name, l := range map[string]*Layer{BeforeLayer: &r.Before, AfterLayer: &r.After} {
		if *l == (Layer{}) {
			continue
		}
		url := l.box(name, k)
		if i := slices.IndexFunc(list, func(b Box) bool { return b.Name == name }); i >= 0 {
			list[i] = url.Over(list[i])
		} else {
			list = append(list, url)
		}
	}
	list = slices.DeleteFunc(list, func(b Box) bool { return !b.Shows() })
	// In the order of the rules, but for ::after, which lies on top of them.
	order := func(b Box) float64 {
		z := float64(b.Z())
		if b.Name == AfterLayer {
			z += 0.5
		}
		return z
	}
	slices.SortStableFunc(list, func(a, b Box) int {
		switch x, y := order(a), order(b); {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	split := 0
	for split < len(list) && list[split].Z() < 0 {
		split++
	}
	return list[:split], list[split:]
}

// Pictures lists the sources that the request names beside the picture itself, as lane/path.
func (r *Resolved) Pictures() []string {
	list := r.Declarations.Pictures()
	add := func(name string) {
		if !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	for i := range r.Layers {
		for _, name := range r.Layers[i].Pictures() {
			add(name)
		}
	}
	for _, f := range r.Fonts {
		add(f.File)
	}
	return list
}

// A FontFace is a site's own font: one face of a family, a file in a lane.
type FontFace struct {
	Family    string
	File      string // lane/path
	MinWeight int    // a variable font goes from there to Weight; 0: it has Weight alone
	Weight    int    // 0: 400
	Italic    bool
}

// ParseURL reads url(lane/path).
func ParseURL(value string) (string, bool) {
	var to string
	reason := readURL(&to, strings.TrimSpace(value))
	return to, reason == ""
}

// FontsOf are those faces of a site's that the layers' families name.
func FontsOf(layers []Box, all []FontFace) (list []FontFace) {
	for i := range layers {
		for _, family := range layers[i].Type().Families {
			for _, f := range all {
				if strings.EqualFold(f.Family, family) && !slices.Contains(list, f) {
					list = append(list, f)
				}
			}
		}
	}
	return list
}

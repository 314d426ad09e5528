package render

import (
	"errors"
	"strings"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/text"
)

// words is what a layer's texts say together.
func words(content []declare.Part) string {
	var s strings.Builder
	for _, p := range content {
		s.WriteString(p.Text)
	}
	return s.String()
}

// TextStyle is how a layer's text is set where a CSS pixel has k canvas pixels.
func TextStyle(t declare.Type, k float64) text.Style {
	size := t.Size * k
	s := text.Style{
		Families: t.Families, Size: size, Weight: t.Weight, Italic: t.Italic, Color: straightOf(t.Color), RightToLeft: t.RightToLeft,
		LetterSpacing: t.LetterSpacing.Of(t.Size) * k, WordSpacing: t.WordSpacing.Of(t.Size) * k, NoWrap: t.Wrap == "nowrap", Balance: t.Wrap == "balance",
		Anywhere: t.Anywhere, Lines: t.Clamp, Stroke: t.Stroke * k, StrokeColor: straightOf(t.StrokeColor), LineColor: straightOf(t.Color), NoHyphens: !t.Hyphens,
	}
	if t.LineHeight > 0 {
		if s.LineHeight = t.LineHeight * k; t.HeightInEms {
			s.LineHeight = t.LineHeight * size
		}
	}
	s.Align = map[string]text.Align{"start": text.Start, "end": text.End, "left": text.Left, "right": text.Right, "center": text.Center, "justify": text.Justify}[t.Align]
	s.Transform = map[string]text.Transform{"uppercase": text.Uppercase, "lowercase": text.Lowercase, "capitalize": text.Capitalize}[t.Transform]
	s.Writing = map[string]text.Writing{"vertical-rl": text.VerticalRL, "vertical-lr": text.VerticalLR}[t.Writing]
	s.Orientation = map[string]text.Orientation{"upright": text.Upright, "sideways": text.Sideways}[t.Orientation]
	s.Space = map[string]text.Space{"normal": text.Collapse, "pre-line": text.KeepBreaks, "pre": text.KeepAll, "pre-wrap": text.KeepAll}[t.Space]
	if t.LineColor.Declared {
		s.LineColor = straightOf(t.LineColor)
	}
	for _, line := range t.Lines {
		s.Underline, s.Overline, s.LineThrough = s.Underline || line == "underline", s.Overline || line == "overline", s.LineThrough || line == "line-through"
	}
	for _, sh := range t.Shadows {
		s.Shadows = append(s.Shadows, text.Shadow{X: sh.X * k, Y: sh.Y * k, Sigma: sh.Blur * k / 2, Color: straightOf(sh.Color)})
	}
	for _, v := range t.Variations {
		s.Variations = append(s.Variations, text.Variation{Axis: v.Axis, Value: v.Value})
	}
	return s
}

// SystemFonts lists the files of the system's fonts that a request's layers may need.
func SystemFonts(r *declare.Resolved) []string {
	var list []string
	seen := map[string]bool{}
	under, over := r.Boxes()
	for _, boxes := range [][]declare.Box{under, over} {
		for i := range boxes {
			content := boxes[i].Content()
			if len(content) == 0 || content[0].Picture {
				continue
			}
			for _, name := range text.SystemFiles(words(content), TextStyle(boxes[i].Type(), 1)) {
				if !seen[name] {
					seen[name] = true
					list = append(list, name)
				}
			}
		}
	}
	return list
}

// set sets the layer's text in a room.
func (b *boxed) set(content string, room, high float64, shrink bool) (*text.Layout, error) {
	t := b.box.Type()
	s := TextStyle(t, b.k)
	var l *text.Layout
	var err error
	fonts := b.job.fonts()
	if t.Most > 0 {
		l, err = text.Fit(content, room, high, t.Least*b.k, t.Most*b.k, s, fonts)
	} else {
		l, err = text.Set(content, room, shrink, s, fonts)
	}
	var missing *text.MissingError
	var broken *text.FontError
	switch {
	case errors.As(err, &missing):
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonGlyphsMissing, Parameter: b.parameter("content"), Given: content, Detail: "no font has glyphs for " + missing.Characters,
			Allowed: "what the site's own fonts and those of the machine have", Remedy: "leave these characters out, or install Debian's " + strings.Join(text.SystemPackages, ", ") + " where the service runs",
		})
	case errors.As(err, &broken):
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonSourceBroken, Parameter: "font-family", Given: broken.File, Detail: broken.Error(), Remedy: "put a whole TTF, OTF, WOFF or WOFF2 file in its place",
		})
	}
	return l, err
}

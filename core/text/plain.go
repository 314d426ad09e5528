// Package text sets text in lines and draws it as browsers do: in every script that Debian's Noto fonts or a site's own have, shaped by
// the fonts' own rules, in the order in which it is read (UAX 9), in lines that end where Unicode lets them (UAX 14).
//
// Set gives a Layout, whose Paint draws it. What fonts a text may need, SystemFiles says; the caller brings the files. Run is for drawings, which
// place their letters themselves, in the fonts that are built in.
package text

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gobolditalic"
	"golang.org/x/image/font/gofont/goitalic"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/gofont/gomonobolditalic"
	"golang.org/x/image/font/gofont/gomonoitalic"
	"golang.org/x/image/font/gofont/goregular"
)

// Plain is how a text without a style of its own looks: a drawing's, in the fonts that are built in.
type Plain struct {
	Size               float64 // pixels to an em
	Bold, Italic, Mono bool
}

// MissingError names the characters that no font has a glyph for.
type MissingError struct{ Characters string }

func (e *MissingError) Error() string {
	return fmt.Sprintf("no font has glyphs for %s", e.Characters)
}

var files = [8][]byte{goregular.TTF, gobold.TTF, goitalic.TTF, gobolditalic.TTF, gomono.TTF, gomonobold.TTF, gomonoitalic.TTF, gomonobolditalic.TTF}

// builtIn are the fonts that are built in, each read once; what is read is never changed.
var builtIn [8]struct {
	once sync.Once
	font *font
	err  error
}

func (s Plain) font() (*font, error) {
	i := 0
	for bit, set := range []bool{s.Bold, s.Italic, s.Mono} {
		if set {
			i |= 1 << bit
		}
	}
	f := &builtIn[i]
	f.once.Do(func() {
		var face *fontFace
		if face, f.err = openFace(files[i], 0); f.err == nil {
			f.font = face.font(nil)
		}
	})
	return f.font, f.err
}

func words(missing map[rune]bool) string {
	var list []string
	for r := range missing {
		list = append(list, fmt.Sprintf("%q (U+%04X)", r, r))
	}
	slices.Sort(list)
	if len(list) > 8 {
		list = append(list[:8], "and others")
	}
	return strings.Join(list, ", ")
}

package declare

import (
	"fmt"
	"math"
	"strings"
)

// Focus is where somebody has said that a source's subject is: a box of the upright picture, or a point where it has no sides, in
// parts of the picture's sides. The zero Focus means that nobody has.
type Focus struct {
	Declared   bool
	X, Y, W, H float64 // left and top edge, width and height, 0–1
}

// FocusGrammar says how a focus is written.
const FocusGrammar = "a point in percent of the picture's width and height, such as 40% 25%, or a box as percent:x,y,width,height, such as percent:30,20,25,40"

// ParseFocus reads a point or a box, as FocusGrammar has them.
func ParseFocus(text string) (f Focus, err error) {
	wrong := func(what string) (Focus, error) { return Focus{}, fmt.Errorf("%q is no focus: %s", text, what) }
	words := fields(strings.ToLower(text))
	if len(words) == 2 {
		f.Declared = true
		for i, to := range []*float64{&f.X, &f.Y} {
			l, ok := parseLength(words[i], "%")
			if !ok || l.Px != 0 {
				return wrong("it is " + FocusGrammar)
			}
			*to = l.Part
		}
	} else {
		var r Region
		if readRegion(&r, text) != "" || r.ToBeFound() || r.X.Px != 0 || r.Y.Px != 0 || r.W.Px != 0 || r.H.Px != 0 {
			return wrong("it is " + FocusGrammar)
		}
		f = Focus{true, r.X.Part, r.Y.Part, r.W.Part, r.H.Part}
	}
	if !f.within() {
		return wrong("it lies beside the picture")
	}
	return f.tidied(), nil
}

// FocusOf is a focus of parts, as it was kept; ok is false where they are none.
func FocusOf(x, y, w, h float64) (f Focus, ok bool) {
	f = Focus{true, x, y, w, h}
	return f.tidied(), f.within()
}

func (f Focus) within() bool {
	const slack = 1e-9
	return f.X >= 0 && f.Y >= 0 && f.W >= 0 && f.H >= 0 && f.X+f.W <= 1+slack && f.Y+f.H <= 1+slack // false also where one is no number
}

// tidied has parts of a ten-thousandth of the sides, finer than anybody can point.
func (f Focus) tidied() Focus {
	round := func(v float64) float64 { return math.Round(v*1e4) / 1e4 }
	return Focus{f.Declared, round(f.X), round(f.Y), round(f.W), round(f.H)}
}

// Box is the focus as the corners of a box, in parts of the picture's sides.
func (f Focus) Box() (x0, y0, x1, y1 float64) { return f.X, f.Y, f.X + f.W, f.Y + f.H }

// String writes it as ParseFocus reads it; "" where nobody has said.
func (f Focus) String() string {
	if !f.Declared {
		return ""
	}
	if f.W == 0 && f.H == 0 {
		return string(append(appendNumber(append(appendNumber(nil, tidy(f.X*100)), "% "...), tidy(f.Y*100)), '%'))
	}
	return string(f.append([]byte("percent:")))
}

// append writes its four numbers, in percent.
func (f Focus) append(b []byte) []byte {
	for i, v := range [4]float64{f.X, f.Y, f.W, f.H} {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendNumber(b, tidy(v*100))
	}
	return b
}

// Follows reports whether the variant depends on where the source's subject is.
func (r *Resolved) Follows() bool {
	return r.Position.Focus == Subject || r.Position.Focus == Faces || r.Mask().Kind == SubjectMask
}

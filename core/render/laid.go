package render

import "math"

// Laid is where one of a picture's layers lies, in pixels of the picture.
type Laid struct {
	Name   string     `json:"name"` // before, after, or its own
	X      float64    `json:"x"`    // of its top left corner, before it is turned
	Y      float64    `json:"y"`
	Width  float64    `json:"width"`
	Height float64    `json:"height"`
	Turn   float64    `json:"turn,omitempty"`   // degrees
	Follow []string   `json:"follow,omitempty"` // width and height, where they follow from what the layer shows
	Over   []Overflow `json:"over,omitempty"`   // how its text is too large for it
}

// Overflow is a way in which a text is too large for its box.
type Overflow string

// The ways.
const (
	Wider  Overflow = "wider"  // a line is longer than the box
	Higher Overflow = "higher" // the lines are more than the box has room for
	Cut    Overflow = "cut"    // line-clamp left lines out
)

// Overflows lists them.
var Overflows = []Overflow{Wider, Higher, Cut}

// Words is the overflow as a sentence says it of a layer's text.
func (o Overflow) Words() string {
	return map[Overflow]string{Wider: "is wider than its box", Higher: "is higher than its box", Cut: "has more lines than line-clamp lets show"}[o]
}

// laid says where the box is that was placed at x, y.
func (b *boxed) laid(x, y float64) Laid {
	round := func(v float64) float64 { return math.Round(v*100) / 100 }
	l := Laid{Name: b.box.Name, X: round(x), Y: round(y), Width: round(b.boxW), Height: round(b.boxH), Turn: b.box.Degrees()}
	for i, follows := range b.follow {
		if follows {
			l.Follow = append(l.Follow, []string{"width", "height"}[i])
		}
	}
	if t := b.letters; t != nil {
		_, h := t.Size()
		w := 0.0
		for _, line := range t.Lines {
			w = math.Max(w, line.Width)
		}
		innerW, innerH := b.boxW-b.edge[1]-b.edge[3], b.boxH-b.edge[0]-b.edge[2]
		long, high := w > innerW+0.5, h > innerH+0.5
		if kind := b.box.Type(); kind.Vertical() {
			blocks, _ := t.Size()
			long, high = blocks > innerW+0.5, w > innerH+0.5
		}
		for _, o := range []struct {
			is  bool
			how Overflow
		}{{long, Wider}, {high, Higher}, {t.Cut, Cut}} {
			if o.is {
				l.Over = append(l.Over, o.how)
			}
		}
	}
	return l
}

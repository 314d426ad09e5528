package text

import "strings"

// A Style is how text looks: CSS's properties, their lengths in pixels.
type Style struct {
	Families      []string // the first that has a character draws it; none: sans-serif
	Size          float64  // pixels to an em
	Weight        int      // 1–1000; 0: 400
	Italic        bool
	Variations    []Variation
	Language      string  // BCP 47; "": as the text's script suggests
	LineHeight    float64 // from line to line; 0: what the fonts say
	LetterSpacing float64
	WordSpacing   float64
	Align         Align
	RightToLeft   bool
	Writing       Writing
	Orientation   Orientation
	Transform     Transform
	Space         Space
	NoWrap        bool
	Anywhere      bool     // a word that is wider than its line is divided
	Balance       bool     // lines are about as long as one another
	NoHyphens     bool     // soft hyphens never show
	Lines         int      // no more than so many, the last with an ellipsis; 0: all
	Color         [4]uint8 // straight
	Stroke        float64  // a line along the letters' edges, half of it within
	StrokeColor   [4]uint8
	Shadows       []Shadow // the first lies on top
	Underline     bool
	Overline      bool
	LineThrough   bool
	LineColor     [4]uint8 // of what is drawn along the text
}

// Variation is a variable font's axis and where on it the font stands, such as wght and 350.
type Variation struct {
	Axis  string
	Value float64
}

// Shadow is a text's.
type Shadow struct {
	X, Y, Sigma float64
	Color       [4]uint8
}

// Align is how lines stand beside each other.
type Align uint8

// The alignments. Start and End go by the direction of the text.
const (
	Start Align = iota
	End
	Left
	Center
	Right
	Justify
)

// Transform changes letters to capitals or back.
type Transform uint8

// The transformations.
const (
	AsWritten Transform = iota
	Uppercase
	Lowercase
	Capitalize
)

// Space is what becomes of white space (CSS Text Level 3, section 3).
type Space uint8

// What becomes of it.
const (
	Collapse   Space = iota // runs of it are one space, also where a line ends in the text
	KeepBreaks              // runs of it are one space, lines end where they do in the text
	KeepAll                 // it stays as it is
)

func (s Style) families() []string {
	if len(s.Families) == 0 {
		return []string{"sans-serif"}
	}
	return s.Families
}

func (s Style) weight() int {
	if s.Weight == 0 {
		return 400
	}
	return s.Weight
}

// bold reports whether the bolder one of two faces is the nearer (CSS Fonts Level 4, section 5.2).
func (s Style) bold() bool { return s.weight() > 500 }

// languageOf is the language that a text is taken for.
func (s Style) languageOf(content string) string {
	if s.Language != "" {
		return s.Language
	}
	for _, r := range content {
		switch scriptOf(r) {
		case "Hira", "Kana":
			return "ja"
		case "Hang":
			return "ko"
		}
	}
	return "en"
}

// spaced is the text with its white space as the style has it, and its case.
func (s Style) prepared(content string) string {
	content = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\f", "\n").Replace(content)
	switch s.Space {
	case Collapse:
		content = collapsed(strings.ReplaceAll(content, "\n", " "))
	case KeepBreaks:
		parts := strings.Split(content, "\n")
		for i, p := range parts {
			parts[i] = collapsed(p)
		}
		content = strings.Join(parts, "\n")
	case KeepAll:
	}
	return transform(content, s.Transform, s.Language)
}

// collapsed makes runs of spaces and tabs one space, and none at either end.
func collapsed(line string) string {
	var b strings.Builder
	space := false
	for _, r := range line {
		if r == ' ' || r == '\t' {
			space = b.Len() > 0
			continue
		}
		if space {
			b.WriteByte(' ')
			space = false
		}
		b.WriteRune(r)
	}
	return b.String()
}

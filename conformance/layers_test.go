package conformance

import (
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/render"
	"echolane/core/text"
)

func keep(t *testing.T, name string, m image.Image) {
	folder := os.Getenv("CONFORMANCE_KEEP")
	if folder == "" {
		return
	}
	if rule, end, found := strings.Cut(name, ", "); found { // a rule makes too long a name
		name = rule + end[strings.LastIndex(end, "-"):]
	}
	f, err := os.Create(folder + "/" + strings.ReplaceAll(strings.ReplaceAll(name, " ", "-"), "/", "_") + ".png")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	png.Encode(f, m)
}

func holdLayers(t *testing.T, cases []Layered) {
	t.Helper()
	photo := find(sources, "photo.png")
	failed := 0
	for _, c := range cases {
		ours, err := c.ours(photo, sources...)
		if err != nil {
			t.Errorf("%s: %v", c.Name, err)
			failed++
			continue
		}
		theirs, err := judge.Stage(c.markup(photo))
		if err != nil {
			t.Fatalf("%s: %v", c.Name, err)
		}
		if ours.Rect != theirs.Rect {
			t.Errorf("%s: %v against %v", c.Name, ours.Rect, theirs.Rect)
			continue
		}
		least := c.Least
		if least == 0 {
			least = 30
		}
		f := Compare(ours, theirs, 0)
		bad := f.PSNR < least
		if c.Slot != "" && !(reaches(ours, theirs) && reaches(theirs, ours)) {
			bad = true
			t.Errorf("%s: the ink reaches over %v, the browser's over %v", c.Name, inkOf(ours, plain), inkOf(theirs, plain))
		}
		if bad {
			failed++
			t.Errorf("%s: PSNR %.1f, worst %d", c.Name, f.PSNR, f.Max)
			keep(t, c.Name+"-ours", ours)
			keep(t, c.Name+"-theirs", theirs)
		}
		for i, l := range c.Layers {
			if l.Text == "" {
				continue
			}
			theirs, err := judge.Broken(fmt.Sprintf("#l%d", i))
			if err != nil {
				t.Fatal(err)
			}
			if strings.Contains(l.Rule, "text-transform") || strings.Contains(l.Rule, "white-space") || strings.ContainsAny(l.Text, "\n") || strings.Contains(l.Rule, "rotate: 8deg") {
				continue // the page has the text as it's written
			}
			if !strings.Contains(l.Rule, "width:") {
				continue
			}
			if got := c.lines(t, i); strings.Join(got, "|") != strings.Join(theirs, "|") {
				t.Errorf("%s: lines\n%q, the browser's\n%q", c.Name, got, theirs)
				if !bad {
					failed++
				}
			}
		}
	}
	t.Logf("%d cases, %d failures", len(cases), failed)
}

// Layers are painted as the browser paints absolutely placed boxes over an <img>.
func TestLayersAreAsTheBrowserPaintsThem(t *testing.T) {
	holdLayers(t, boxes())
}

// plain and faint are differences from the ground, in steps of 255: what is plain in one picture is at least faint in the other.
const plain, faint = 90, 50

// reaches says whether the plain ink of a lies within one pixel of the ink of b.
func reaches(a, b *image.RGBA) bool {
	return inkOf(a, plain).In(inkOf(b, faint).Inset(-1))
}

// inkOf is the box around what differs by more than least from the picture's last pixel.
func inkOf(m *image.RGBA, least int) image.Rectangle {
	var r image.Rectangle
	ground := m.RGBAAt(m.Rect.Max.X-1, m.Rect.Max.Y-1)
	for y := range m.Rect.Dy() {
		for x := range m.Rect.Dx() {
			c := m.RGBAAt(x, y)
			if d := max(abs(c.R, ground.R), abs(c.G, ground.G), abs(c.B, ground.B)); d > least {
				r = r.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	return r
}

func abs(a, b uint8) int { return max(int(a)-int(b), int(b)-int(a)) }

// lines are those of a layer's text by our own setting, in a box whose width is given.
func (c Layered) lines(t *testing.T, i int) []string {
	t.Helper()
	var b declare.Box
	width, side := 0.0, "width"
	whole, edges := c.W, []int{1, 3}
	if strings.Contains(c.Layers[i].Rule, "vertical-") {
		side, whole, edges = "height", c.H, []int{0, 2}
	}
	for one := range strings.SplitSeq(c.Layers[i].Rule, ";") {
		name, value, _ := strings.Cut(one, ":")
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		if p := b.Set(name, strings.TrimSpace(value)); p != nil {
			t.Fatalf("%s: %v", c.Name, p)
		}
	}
	if s := b.Side(side); !s.Auto() {
		width = s.Of(float64(whole))
	}
	for _, l := range edges {
		width -= b.Paint.PaddingEdges()[l].Of(float64(c.W))
		if side := b.Paint.BorderSides()[l]; side.Shows() {
			width -= side.Width
		}
	}
	b.Set("content", cssQuoted(c.Layers[i].Text))
	job := render.Job{Request: declare.Resolved{Layers: []declare.Box{b}}}
	if err := readFonts(&job); err != nil {
		t.Fatal(err)
	}
	l, err := text.Set(c.Layers[i].Text, width, false, render.TextStyle(b.Type(), 1), text.NewFonts(job.Fonts, nil, nil))
	if err != nil {
		t.Fatalf("%s: %v", c.Name, err)
	}
	var list []string
	for _, line := range l.Lines {
		list = append(list, strings.TrimSpace(line.Text))
	}
	return list
}

// Texts in every script are set as the browser sets them in the same fonts.
func TestTextsAreAsTheBrowserSetsThem(t *testing.T) {
	cases := texts()
	if len(cases) < 120 {
		t.Fatalf("only %d texts", len(cases))
	}
	holdLayers(t, cases)
}

// Vertical writing is set as the browser sets it.
func TestColumnsAreAsTheBrowserSetsThem(t *testing.T) {
	holdLayers(t, columns())
}

func TestRandomTextsAreAsTheBrowserSetsThem(t *testing.T) {
	seed := seedOf(t)
	holdLayers(t, randomTexts(rand.New(rand.NewPCG(seed, 11)), 100))
}

// Command subjects reports how well subjects are found, on photographs of Debian's packages and what is cut from them, and on
// pictures that we drew: `make subject-report`. Its argument is where to write a page with the pictures.
package main

import (
	"bufio"
	"bytes"
	_ "embed"
	"errors"
	"flag"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"

	"echolane/bench/corpus"
	"echolane/core/raster"
	"echolane/core/subject"
	"echolane/demo/pictures"
)

//go:embed labels.txt
var labels []byte

//go:embed resources.txt
var resourceLabels []byte

func main() {
	verbose := flag.Bool("v", false, "tell of every picture whose subject is cut")
	fitted := flag.String("fit", "", "fit what a region's cues count, and write it to this `file`")
	flag.Parse()
	if err := run(*verbose, *fitted); err != nil {
		fmt.Fprintln(os.Stderr, "subjects:", err)
		os.Exit(1)
	}
}

// A Labelled is a picture whose subject is known, as the finder sees it.
type Labelled struct {
	Name   string
	Group  string // one of groups
	Truth  subject.Box
	Pixels *raster.RGBA
	W, H   float64
}

// groups are in the order of the report.
var groups = []string{"fitted on", "not fitted on", "resources, fitted on", "resources, not fitted on", "drawn"}

// A tally is how a group went.
type tally struct {
	pictures, crops, whole, centre, worse, better int
	overlap                                       float64
}

func run(verbose bool, fitted string) error {
	set, err := photographs()
	if err != nil {
		return err
	}
	more, err := resources()
	if err != nil {
		return err
	}
	set = append(set, more...)
	for _, l := range pictures.LabelledSet() {
		p := &raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true}
		w, h := float64(l.W), float64(l.H)
		set = append(set, Labelled{l.Name, "drawn", subject.Box{X0: l.X0 / w, Y0: l.Y0 / h, X1: l.X1 / w, Y1: l.Y1 / h}, small(p), w, h})
	}
	if fitted != "" {
		if len(more) == 0 {
			return errors.New("the weights are fitted on those photographs, too")
		}
		return fit(set, fitted)
	}
	found := make([]subject.Found, len(set))
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	for i, l := range set {
		work.Go(func() error {
			found[i] = subject.Subject(l.Pixels)
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	tallies, each := map[string]*tally{}, map[string]map[string]*tally{}
	for i, l := range set {
		if tallies[l.Group] == nil {
			tallies[l.Group], each[l.Group] = &tally{}, map[string]*tally{}
		}
		tallies[l.Group].add(l, found[i], verbose)
		photograph, _, _ := strings.Cut(l.Name, ",")
		if each[l.Group][photograph] == nil {
			each[l.Group][photograph] = &tally{}
		}
		each[l.Group][photograph].add(l, found[i], false)
	}
	for _, group := range groups {
		t := tallies[group]
		if t == nil {
			continue
		}
		n := float64(t.crops)
		fmt.Printf("%-24s  %3d pictures, %4d crops: the subject wholly inside %.1f %% (of the centre's %.1f %%), overlap of boxes %.2f, better than the centre %.1f %%, worse %.1f %%\n",
			group, t.pictures, t.crops, 100*float64(t.whole)/n, 100*float64(t.centre)/n, t.overlap/float64(t.pictures), 100*float64(t.better)/n, 100*float64(t.worse)/n)
		if group == "drawn" {
			continue
		}
		var whole, overlap, cut float64
		for _, t := range each[group] {
			overlap += t.overlap / float64(t.pictures)
			if t.crops > 0 {
				whole, cut = whole+float64(t.whole)/float64(t.crops), cut+1
			}
		}
		fmt.Printf("%-24s  %3d photographs, each counted once with its parts: wholly inside %.1f %%, overlap %.2f\n", "", len(each[group]), 100*whole/cut, overlap/float64(len(each[group])))
	}
	return nil
}

// shapes are the widths to heights that pictures are cut to.
var shapes = []float64{1, 3.0 / 4, 4.0 / 3, 2, 0.5}

func (t *tally) add(l Labelled, found subject.Found, verbose bool) {
	slack := 0.012 // a hair of the outline
	if strings.HasPrefix(l.Group, "resources") {
		slack = 0.03 // labelled on copies of 190 pixels
	}
	t.pictures++
	t.overlap += union(found.Box, l.Truth)
	for _, shape := range shapes {
		w, h := 1.0, 1.0
		if natural := l.W / l.H; shape < natural {
			w = shape / natural
		} else {
			h = natural / shape
		}
		b := l.Truth
		if b.X1-b.X0 > w || b.Y1-b.Y0 > h || w > 0.97 && h > 0.97 {
			continue
		}
		inside := func(v subject.Box) bool {
			x, y := v.X0, v.Y0
			return x <= b.X0+slack && y <= b.Y0+slack && x+w >= b.X1-slack && y+h >= b.Y1-slack
		}
		ours, centre := inside(found.Window(w, h)), inside(subject.Box{X0: 0.5 - w/2, Y0: 0.5 - h/2})
		t.crops++
		for _, c := range []struct {
			yes bool
			n   *int
		}{{ours, &t.whole}, {centre, &t.centre}, {ours && !centre, &t.better}, {centre && !ours, &t.worse}} {
			if c.yes {
				*c.n++
			}
		}
		if verbose && !ours {
			fmt.Printf("  %s %s at %.2f: %.2f, found %.2f, sure %.2f\n", l.Group, l.Name, shape, b, found.Box, found.Sure)
		}
	}
}

// union is how much two boxes have in common of what they cover in all.
func union(a, b subject.Box) float64 {
	w, h := math.Min(a.X1, b.X1)-math.Max(a.X0, b.X0), math.Min(a.Y1, b.Y1)-math.Max(a.Y0, b.Y0)
	if w <= 0 || h <= 0 {
		return 0
	}
	both := w * h
	return both / ((a.X1-a.X0)*(a.Y1-a.Y0) + (b.X1-b.X0)*(b.Y1-b.Y0) - both)
}

// photographs are those that are labelled, and up to eighteen parts of each, in which the subject lies elsewhere.
func photographs() ([]Labelled, error) {
	lines := bufio.NewScanner(bytes.NewReader(labels))
	var read reading
	n := 0
	for lines.Scan() {
		text := lines.Text()
		if strings.HasPrefix(text, "#") {
			continue
		}
		var name string
		var b subject.Box
		if _, err := fmt.Sscan(text, &name, &b.X0, &b.Y0, &b.X1, &b.Y1); err != nil {
			return nil, fmt.Errorf("labels.txt: %q: %w", text, err)
		}
		group := "not fitted on"
		if n++; n%2 == 1 {
			group = "fitted on"
		}
		source, err := os.ReadFile(filepath.Join(corpus.Folder, name))
		if err != nil {
			return nil, err
		}
		read.add(source, name, group, b)
	}
	return read.all()
}

// A reading is of photographs, several at a time.
type reading struct {
	work errgroup.Group
	sets []*[]Labelled
}

// add reads a photograph whose subject is in b.
func (r *reading) add(source []byte, name, group string, b subject.Box) {
	if r.sets == nil {
		r.work.SetLimit(runtime.NumCPU())
	}
	set := new([]Labelled)
	r.sets = append(r.sets, set)
	r.work.Go(func() error {
		p, err := corpus.Reduced(source, 900)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		*set = withParts(p, name, group, b)
		return nil
	})
}

// all are the photographs with their parts, in the order in which they were added.
func (r *reading) all() (set []Labelled, err error) {
	err = r.work.Wait()
	for _, s := range r.sets {
		set = append(set, *s...)
	}
	return set, err
}

// withParts is a photograph and what is cut from it.
func withParts(p *raster.RGBA, name, group string, b subject.Box) []Labelled {
	set := []Labelled{{name, group, b, small(p), float64(p.W), float64(p.H)}}
	for i, part := range parts(b) {
		x0, y0, x1, y1 := int(part.X0*float64(p.W)), int(part.Y0*float64(p.H)), int(part.X1*float64(p.W)), int(part.Y1*float64(p.H))
		cut := p.View(x0, y0, x1, y1)
		w, h := part.X1-part.X0, part.Y1-part.Y0
		in := subject.Box{X0: (b.X0 - part.X0) / w, Y0: (b.Y0 - part.Y0) / h, X1: (b.X1 - part.X0) / w, Y1: (b.Y1 - part.Y0) / h}
		set = append(set, Labelled{fmt.Sprintf("%s, part %d", name, i+1), group, in, small(cut.Copy()), float64(cut.W), float64(cut.H)})
	}
	return set
}

// parts are windows of two sizes of a picture, in which its subject lies left, in the middle and right, above, in the middle and below.
func parts(b subject.Box) (list []subject.Box) {
	const margin = 0.03
	least := math.Max(0.6, 1.25*math.Max(b.X1-b.X0, b.Y1-b.Y0))
	for _, side := range []float64{least, 1.25 * least} {
		if side >= 0.97 {
			break
		}
		axis := func(low, high float64) (at []float64) {
			for _, v := range []float64{low - margin, (low+high)/2 - side/2, high + margin - side} {
				v = math.Min(math.Max(math.Round(v*100)/100, 0), 1-side)
				if len(at) == 0 || math.Abs(at[len(at)-1]-v) > 0.02 {
					at = append(at, v)
				}
			}
			return at
		}
		for _, y := range axis(b.Y0, b.Y1) {
			for _, x := range axis(b.X0, b.X1) {
				list = append(list, subject.Box{X0: x, Y0: y, X1: x + side, Y1: y + side})
			}
		}
	}
	return list
}

// small is the copy that the finder works on.
func small(p *raster.RGBA) *raster.RGBA {
	k := math.Min(1, subject.Side/float64(max(p.W, p.H)))
	w, h := max(1, int(math.Round(float64(p.W)*k))), max(1, int(math.Round(float64(p.H)*k)))
	out := raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
	out.Opaque = true
	return out
}

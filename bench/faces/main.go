// Command faces reports how well faces are found: in photographs that an npm package ships, at several sizes, and how often one is
// found where there is none, in the photographs of Debian's packages and in pictures that we drew: `make face-report`. Its
// argument is the folder with the package's photographs.
package main

import (
	"bufio"
	"bytes"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"echolane/bench/corpus"
	"echolane/core/face"
	"echolane/core/raster"
	"echolane/demo/pictures"
)

//go:embed labels.txt
var labels []byte

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "faces: give the folder with the photographs: make face-report does")
		os.Exit(1)
	}
	if err := run(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "faces:", err)
		os.Exit(1)
	}
}

func run(folder string) error {
	fmt.Println("photographs  longer side  faces' height  upright found  others found  wrong  a picture took")
	for _, side := range []int{640, 480, 400, 320, 270, 230} {
		if err := photographs(folder, side); err != nil {
			return err
		}
	}
	for _, size := range []int{24, 40, 64} {
		found, all, wrong := 0, 0, 0
		for n := range 6 {
			l, boxes := pictures.LabelledFaces(n, size)
			p := &raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true}
			faces := face.Find(p)
			for _, b := range boxes {
				if hit(faces, b[0]/float64(l.W), b[1]/float64(l.H), b[2]/float64(l.W), b[3]/float64(l.H)) {
					found++
				}
				all++
			}
			wrong += max(0, len(faces)-len(boxes))
		}
		fmt.Printf("drawn, %d to %d pixels high: %d of %d, %d wrong\n", size, size*7/5, found, all, wrong)
	}
	return without()
}

func hit(faces []face.Face, x0, y0, x1, y1 float64) bool {
	return slices.ContainsFunc(faces, func(f face.Face) bool {
		x, y, high := (f.X0+f.X1)/2, (f.Y0+f.Y1)/2, (f.Y1-f.Y0)/(y1-y0)
		return x > x0 && x < x1 && y > y0 && y < y1 && high > 0.5 && high < 2
	})
}

func photographs(folder string, side int) error {
	lines := bufio.NewScanner(bytes.NewReader(labels))
	var took time.Duration
	var n, upright, all, turned, others, wrong int
	var high float64
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if words[0] == "#" {
			continue
		}
		source, err := os.ReadFile(filepath.Join(folder, words[0]))
		if err != nil {
			return err
		}
		p, err := corpus.Reduced(source, side) // they are all wider than high
		if err != nil {
			return err
		}
		began := time.Now()
		faces := face.Find(p)
		took += time.Since(began)
		n++
		wrong += len(faces)
		for _, w := range words[1:] {
			var x0, y0, x1, y1 float64
			box, aside := strings.CutPrefix(w, "~")
			if _, err := fmt.Sscanf(box, "%f,%f,%f,%f", &x0, &y0, &x1, &y1); err != nil {
				return fmt.Errorf("labels.txt: %q: %w", w, err)
			}
			ok := hit(faces, x0, y0, x1, y1)
			if ok {
				wrong--
			}
			switch {
			case aside && ok:
				turned, others = turned+1, others+1
			case aside:
				others++
			case ok:
				upright, all = upright+1, all+1
			default:
				all++
			}
			high += (y1 - y0) * float64(p.H)
		}
	}
	fmt.Printf("%11d  %11d  %10.0f px  %6d of %4d  %5d of %4d  %5d  %s\n", n, side, high/float64(all+others), upright, all, turned, others, wrong, (took / time.Duration(n)).Round(time.Millisecond))
	return nil
}

// without counts faces where there are none.
func without() error {
	found, all := 0, 0
	look := func(name string, p *raster.RGBA) {
		all++
		if faces := face.Find(p); len(faces) > 0 {
			found++
			fmt.Printf("none is there, found in %s: %.2f\n", name, faces)
		}
	}
	list, err := corpus.At(640)
	if err != nil {
		return err
	}
	for _, p := range list {
		look(p.Name, p.Pixels)
	}
	for _, l := range pictures.LabelledSet() {
		if !strings.HasPrefix(l.Name, "face") {
			look(l.Name, &raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true})
		}
	}
	fmt.Printf("without a face: one is found in %d of %d pictures\n", found, all)
	return nil
}

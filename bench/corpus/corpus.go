// Package corpus gathers the pictures that compression is measured on: the demo's own, drawn by our code, and the
// photographs of three Debian packages, where these are installed.
package corpus

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// Folder is where the packages put their photographs.
const Folder = "/usr/share/backgrounds"

// Drawn are the demo's pictures that look like photographs.
var Drawn = []string{
	"delta-red.jpg", "festival-dawn.jpg", "box-kite-cliff.jpg", "coast-panorama.jpg", "dragon-tail.jpg", "rokkaku-studio.jpg",
	"festival-crowd.jpg", "spool-turned.jpg",
}

// A Picture is one of them, reduced.
type Picture struct {
	Name   string
	Pixels *raster.RGBA // opaque
}

// At gives all pictures at a width. Without the packages it gives the drawn ones alone, and says so.
func At(width int) ([]Picture, error) {
	var out []Picture
	add := func(name string, source []byte) error {
		p, err := reduced(source, width)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, Picture{name, p})
		return nil
	}
	for _, name := range Drawn {
		source, err := pictures.Load(name)
		if err != nil {
			return nil, err
		}
		if err := add(name, source); err != nil {
			return nil, err
		}
	}
	files, err := filepath.Glob(Folder + "/*")
	if err != nil {
		return nil, err
	}
	sort.Strings(files)
	found := 0
	for _, f := range files {
		switch strings.ToLower(filepath.Ext(f)) {
		case ".jpg", ".jpeg", ".png":
		default:
			continue
		}
		source, err := os.ReadFile(f)
		if err != nil {
			return nil, err
		}
		if err := add(filepath.Base(f), source); err != nil {
			return nil, err
		}
		found++
	}
	if found == 0 {
		fmt.Fprintln(os.Stderr, "no photographs in "+Folder+": only drawn pictures are measured (make quality-report installs them)")
	}
	return out, nil
}

func reduced(source []byte, width int) (*raster.RGBA, error) {
	d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: float64(width)}, EncodingValues: declare.EncodingValues{Format: declare.PNG}}
	limits := policy.DefaultLimits
	limits.SourcePixels, limits.SourceBytes = 1<<28, 1<<28
	r, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: limits})
	if err != nil {
		return nil, err
	}
	p, err := png.Decode(r.Data)
	if err != nil {
		return nil, err
	}
	p.RGBA.Premultiply()
	p.RGBA.Flatten(255, 255, 255)
	return p.RGBA, nil
}

// Package corpus gathers the pictures that compression is measured on: the demo's own, drawn by our code, and the
// pictures of four Debian packages, where these are installed.
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
	Name string

	// Fit says that weights and tables may be fitted on it. The others are only reported on: every second of the drawn
	// ones and of ukui-wallpapers, and all of gnome-backgrounds.
	Fit    bool
	Pixels *raster.RGBA // opaque
}

// At gives all pictures at a width. Without the packages it gives the drawn ones alone, and says so.
func At(width int) ([]Picture, error) {
	var out []Picture
	add := func(name string, fit bool, source []byte) error {
		p, err := Reduced(source, width)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, Picture{name, fit, p})
		return nil
	}
	for i, name := range Drawn {
		source, err := pictures.Load(name)
		if err != nil {
			return nil, err
		}
		if err := add(name, i%2 == 0, source); err != nil {
			return nil, err
		}
	}
	var files []string
	for _, pattern := range []string{"/*", "/gnome/*"} {
		more, err := filepath.Glob(Folder + pattern)
		if err != nil {
			return nil, err
		}
		sort.Strings(more)
		files = append(files, more...)
	}
	found, ukui := 0, 0
	for _, f := range files {
		name, fit := filepath.Base(f), false
		switch strings.ToLower(filepath.Ext(f)) {
		case ".jpg", ".jpeg", ".png", ".webp":
		default:
			continue
		}
		switch {
		case strings.HasPrefix(name, "vnc-"), strings.HasSuffix(name, "-d.webp"): // a grid of 48 pixels; the same in the dark
			continue
		case strings.Contains(name, "_by_"): // lomiri-wallpapers name who took it
			fit = true
		case filepath.Dir(f) == Folder:
			fit = ukui%2 == 0
			ukui++
		}
		source, err := os.ReadFile(f)
		if err != nil {
			return nil, err
		}
		if err := add(name, fit, source); err != nil {
			return nil, err
		}
		found++
	}
	if found == 0 {
		fmt.Fprintln(os.Stderr, "no photographs in "+Folder+": only drawn pictures are measured (make quality-report installs them)")
	}
	return out, nil
}

// Reduced is a picture so many pixels wide, opaque.
func Reduced(source []byte, width int) (*raster.RGBA, error) {
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

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/internal/testbed"
)

// bed is the real binary, PostgreSQL and the demo's pictures, for all tests here: some are narrower than the demo's own, which are
// in cameras.
var (
	bed     *testbed.Bed
	cameras string
)

func TestMain(m *testing.M) {
	var err error
	if bed, err = testbed.New(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	bed.Effort = "predicted" // a quarter of the processor time; what is about searching says so
	// Decoding pictures of a camera's size again and again is most of what tests would do.
	dir := filepath.Join(bed.Dir, "catalogue")
	if err = os.CopyFS(dir, os.DirFS(bed.Pictures)); err == nil {
		err = reduced(dir, 2400, "box-kite-cliff.jpg", "delta-red.jpg", "festival-dawn.jpg")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		bed.Close()
		os.Exit(1)
	}
	cameras, bed.Pictures = bed.Pictures, dir
	code := m.Run()
	if chromium.Browser != nil {
		chromium.Close()
	}
	bed.Close()
	os.Exit(code)
}

// reduced writes pictures of the demo's, at a width, into a folder.
func reduced(dir string, width int, names ...string) error {
	d, err := declare.Parse(fmt.Sprintf("width=%d&quality=85&format=jpeg", width))
	if err != nil {
		return err
	}
	for _, name := range names {
		data, err := os.ReadFile(filepath.Join(bed.Pictures, name))
		if err != nil {
			return err
		}
		made, err := render.Variant(data, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: true})
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), made.Data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

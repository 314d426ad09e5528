package main

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"echolane/internal/testbed"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// peaks measures the most memory that a fresh worker takes for 640 pixels of a picture of 24 megapixels, beside what all workers
// share of the program.
func peaks(r *report) error {
	return onTestBed(func(bed *testbed.Bed, _ testing.TB) error {
		data, err := os.ReadFile(filepath.Join(bed.Pictures, "delta-red.jpg"))
		if err != nil {
			return err
		}
		for _, c := range []struct {
			name  string
			args  []string
			bound float64
		}{{"baseline", []string{"-copy", "none"}, 60}, {"progressive", []string{"-copy", "none", "-progressive"}, 160}} {
			tran := exec.Command("jpegtran", c.args...)
			tran.Stdin = bytes.NewReader(data)
			picture, err := tran.Output()
			if err != nil {
				return fmt.Errorf("jpegtran: %w", err)
			}
			file := filepath.Join(bed.Dir, c.name+".jpg")
			if err := os.WriteFile(file, picture, 0o644); err != nil {
				return err
			}
			var all []float64
			for range 3 {
				most, err := peakOf(bed, file, int64(len(picture)))
				if err != nil {
					return err
				}
				all = append(all, most/1e6)
			}
			r.atMost(fmt.Sprintf("6000 × 4000, a %s JPEG of %.1f MB", c.name, float64(len(picture))/1e6), slices.Max(all), "MB", c.bound)
		}
		return nil
	})
}

// peakOf is the most that a fresh worker took for a variant of a file, in bytes.
func peakOf(bed *testbed.Bed, file string, size int64) (most float64, err error) {
	w, err := workshop.New(workshop.Options{Workers: 1, Program: bed.Worker, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, err
	}
	defer w.Close()
	time.Sleep(500 * time.Millisecond) // the others start
	j, err := jobOf("width=640&format=webp&quality=72")
	if err != nil {
		return 0, err
	}
	j.Predict = true
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	open := func(context.Context) ([]*held.Content, error) {
		return []*held.Content{held.Borrowed(f, 0, size)}, nil
	}
	if _, _, err := w.Render(context.Background(), workshop.For{}, open, j); err != nil {
		return 0, err
	}
	for _, pid := range testbed.WorkersOf(os.Getpid()) {
		most = max(most, ownPeak(pid))
	}
	return most, nil
}

// ownPeak is the most memory that a process has had in bytes, without what it maps of files.
func ownPeak(pid int) float64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	of := func(name string) (kb float64) {
		_, after, _ := strings.Cut(string(text), "\n"+name+":")
		fmt.Sscan(after, &kb)
		return kb
	}
	return (of("VmHWM") - of("RssFile")) * 1024
}

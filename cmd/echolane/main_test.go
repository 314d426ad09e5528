package main

import (
	"fmt"
	"os"
	"testing"

	"echolane/internal/testbed"
)

// bed is the real binary, PostgreSQL and the demo's pictures, for all tests here.
var bed *testbed.Bed

func TestMain(m *testing.M) {
	var err error
	if bed, err = testbed.New(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	bed.Effort = "predicted" // a quarter of the processor time; what is about searching says so
	code := m.Run()
	if chromium.Browser != nil {
		chromium.Close()
	}
	bed.Close()
	os.Exit(code)
}

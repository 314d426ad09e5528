package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

func TestWhatIsMadeFromTheTableIsCurrent(t *testing.T) {
	const root = "../.."
	files, err := Files(root)
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range files {
		if have, err := os.ReadFile(filepath.Join(root, path)); err != nil || !bytes.Equal(have, want) {
			t.Errorf("%s isn't what core/declare makes of it (%v): run go generate ./core/declare", path, err)
		}
	}
}

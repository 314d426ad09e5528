package api

import (
	"bytes"
	"os"
	"testing"
)

// Routes, description and clients come from one table; the files that others read must be its newest state.
func TestWhatIsMadeFromTheOperationsIsCurrent(t *testing.T) {
	for file, text := range Made {
		want, err := text()
		if err != nil {
			t.Fatal(err)
		}
		if have, err := os.ReadFile(file); err != nil || !bytes.Equal(have, want) {
			t.Errorf("%s isn't what the operations say (%v): run `go generate ./service/api`", file, err)
		}
	}
}

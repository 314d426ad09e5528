package workshop

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestWorkersRunTheProgramBuiltForThem(t *testing.T) {
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte("the one")))
	at := func(dir, name string) string { return filepath.Join(dir, name) }
	for _, c := range []struct {
		name, file, text string
		mode             os.FileMode
		sum, because     string
		own              bool
	}{
		{"beside it", "bin/echolane-worker", "the one", 0o755, sum, "", true},
		{"in its place of Debian", "libexec/echolane/echolane-worker", "the one", 0o755, sum, "", true},
		{"of another build", "bin/echolane-worker", "another", 0o755, sum, "of another build", false},
		{"of another build, in its place of Debian", "libexec/echolane/echolane-worker", "another", 0o755, sum, "of another build", false},
		{"not to be run", "bin/echolane-worker", "the one", 0o644, sum, "isn't executable", false},
		{"there is none", "bin/other", "the one", 0o755, sum, "no such file", false},
		{"none was built", "bin/echolane-worker", "the one", 0o755, "", "", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			file := at(dir, c.file)
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(c.text), c.mode); err != nil {
				t.Fatal(err)
			}
			f, because, err := openProgram(at(dir, "bin/echolane"), c.sum)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			if want := map[bool]string{true: file, false: ownProgram}[c.own]; f.Name() != want {
				t.Errorf("they run %s, want %s", f.Name(), want)
			}
			if (because == nil) != (c.because == "") || because != nil && !strings.Contains(because.Error(), c.because) {
				t.Errorf("because %v, want %q", because, c.because)
			}
		})
	}
}

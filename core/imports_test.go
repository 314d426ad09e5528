package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// parsers turn text into values, and do nothing else.
var parsers = []string{"github.com/dunglas/go-urlpattern", "github.com/nlnwa/whatwg-url/", "github.com/tdewolff/parse/"}

// compressions are what parts of files are compressed with: PNG's pixels, JPEG XL's facts.
var compressions = []string{"github.com/klauspost/compress/zlib", "github.com/andybalholm/brotli"}

// digests tell files apart, in a fifth of the time that the standard library's take.
var digests = []string{"github.com/zeebo/blake3"}

func isParser(name string) bool {
	for _, p := range parsers {
		if strings.HasPrefix(name, p) {
			return true
		}
	}
	return false
}

// Imports point one way: the core knows the standard library, x/ packages, pure parsers, a digest and itself, no HTTP,
// no database.
func TestCoreImportsNothingAboveIt(t *testing.T) {
	barred := map[string]bool{"net": true, "net/http": true, "database/sql": true, "os": true, "os/exec": true, "log": true, "log/slog": true}
	files := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range f.Imports {
			name, _ := strconv.Unquote(spec.Path.Value)
			first, _, _ := strings.Cut(name, "/")
			switch {
			case barred[name]:
				t.Errorf("%s imports %s, which the core does without", path, name)
			case strings.HasPrefix(name, "echolane/core/"), strings.HasPrefix(name, "golang.org/x/"), isParser(name), slices.Contains(compressions, name), slices.Contains(digests, name):
			case first == "echolane" || strings.Contains(first, "."):
				t.Errorf("%s imports %s, which lies above the core", path, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 15 {
		t.Errorf("only %d files were looked at", files)
	}
}

package examples

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// Every example in the documentation does what it says, and the picture beside it is what it gives; and every
// name of the language is documented.
func TestTheDocumentedExamplesAreWhatTheyShow(t *testing.T) {
	const docs = "../../docs"
	list, err := All(docs)
	if err != nil {
		t.Fatal(err)
	}
	if len(list) < 20 {
		t.Fatalf("only %d examples", len(list))
	}
	sources := map[string][]byte{}
	for _, e := range list {
		if sources[e.Source] == nil {
			if sources[e.Source], err = pictures.Load(e.Source); err != nil {
				t.Fatal(err)
			}
		}
		asked, shown, err := e.Make(sources[e.Source])
		if err != nil {
			t.Errorf("%s?%s: %v", e.Source, e.Query, err)
			continue
		}
		kept, err := os.ReadFile(filepath.Join(docs, e.Picture))
		if err != nil {
			t.Errorf("%v: run `make examples`", err)
			continue
		}
		info, err := render.Probe(kept)
		if err != nil || info.W != asked.Canvas.W || info.H != asked.Canvas.H {
			t.Errorf("%s is %d × %d, and the query gives %v: run `make examples` (%v)", e.Picture, info.W, info.H, asked.Canvas, err)
		}
		// Bytes may differ with another build of libwebp; how many there are may not by much.
		if a, b := len(kept), len(shown.Data); a > b+b/10+64 || b > a+a/10+64 {
			t.Errorf("%s has %d bytes, and the query gives %d: run `make examples`", e.Picture, a, b)
		}
	}
	text, err := os.ReadFile(filepath.Join(docs, "parameters.md"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range declare.Names() {
		if !strings.Contains(string(text), "\n### "+name) && !strings.Contains(string(text), ", "+name+"\n") && !strings.Contains(string(text), ", "+name+", ") {
			t.Errorf("%s isn't documented", name)
		}
	}
}

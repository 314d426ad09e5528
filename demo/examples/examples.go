// Package examples reads the worked examples out of docs/parameters.md and makes them.
package examples

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
	"echolane/service/workshop"
)

// Example is one picture of the documentation.
type Example struct {
	Picture string // the file that shows it, below docs
	Source  string // of the catalogue
	Query   string
	Sheet   string // that the document has for it
}

// Documents are those that have examples, below docs.
var Documents = []string{"parameters.md", "cards.md", "text.md"}

var rules = regexp.MustCompile("(?s)```css\n(.*?)```")

var form = regexp.MustCompile("!\\[\\]\\((parameters/[a-z-]+\\.(?:webp|avif))\\) `([a-z-]+\\.[a-z]+)\\?([^`]+)`")

// Read finds all examples in the document.
func Read(document string) ([]Example, error) {
	text, err := os.ReadFile(document)
	if err != nil {
		return nil, err
	}
	var list []Example
	var sheet strings.Builder
	for _, m := range rules.FindAllStringSubmatch(string(text), -1) {
		sheet.WriteString(m[1])
	}
	for _, m := range form.FindAllStringSubmatch(string(text), -1) {
		list = append(list, Example{m[1], m[2], m[3], sheet.String()})
	}
	if pictures := strings.Count(string(text), "![]("); pictures != len(list) {
		return nil, fmt.Errorf("%s has %d pictures, and %d of them stand beside their query", document, pictures, len(list))
	}
	return list, nil
}

// All finds the examples of all documents.
func All(docs string) (list []Example, err error) {
	for _, name := range Documents {
		more, err := Read(filepath.Join(docs, name))
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	return list, nil
}

// Make renders an example from its source: as it is asked for, and as the WebP that shows it.
func (e Example) Make(source []byte) (asked, shown render.Result, err error) {
	d, err := declare.Parse(e.Query)
	if err != nil {
		return asked, shown, fmt.Errorf("%s: %w", e.Query, err)
	}
	doc := policy.NewDocument("examples")
	doc.Cards.Values = "open"
	doc.Sheet += e.Sheet + ".hero { animation: toward 6s ease-in-out infinite alternate }\n" // as docs/parameters.md says
	site, _, err := policy.Compile(doc, nil)
	if err != nil {
		return asked, shown, err
	}
	run := func(d declare.Declarations) (render.Result, error) {
		request, no := site.Decide(&policy.Ask{Lane: &policy.CompiledLane{}, Declared: d, Accepted: policy.Accepts(declare.WebP)}, nil)
		if no != nil {
			return render.Result{}, no
		}
		job := render.Job{Request: request, Limits: site.Limits, Pictures: map[string][]byte{}}
		for _, name := range request.Pictures() {
			data, err := pictures.Load(strings.TrimPrefix(name, "catalogue/"))
			if err != nil {
				return render.Result{}, err
			}
			job.Pictures[name] = data
		}
		if err := workshop.ReadFonts(&job); err != nil {
			return render.Result{}, err
		}
		return render.Variant(source, job)
	}
	if asked, err = run(d); err != nil {
		return asked, shown, err
	}
	if strings.HasSuffix(e.Picture, "."+asked.Format.String()) {
		return asked, asked, nil
	}
	// Shown as a browser would show it: the very pixels, in the one format that the pictures here have.
	lossless := declare.Declarations{EncodingValues: declare.EncodingValues{Format: declare.WebP, Quality: declare.Lossless}}
	shown, err = render.Variant(asked.Data, render.Job{Request: lossless.Resolve(declare.Declarations{}, nil), Limits: site.Limits})
	return asked, shown, err
}

// Write makes every example's picture anew.
func Write(docs string) error {
	list, err := All(docs)
	if err != nil {
		return err
	}
	sources := map[string][]byte{}
	for _, e := range list {
		if sources[e.Source] == nil {
			if sources[e.Source], err = pictures.Load(e.Source); err != nil {
				return err
			}
		}
		_, shown, err := e.Make(sources[e.Source])
		if err != nil {
			return fmt.Errorf("%s: %w", e.Picture, err)
		}
		if err := os.WriteFile(filepath.Join(docs, e.Picture), shown.Data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

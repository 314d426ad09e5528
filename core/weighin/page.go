package weighin

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"strings"

	"echolane/core/wording"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"bytes": wording.Bytes, "ms": func(v float64) string { return fmt.Sprintf("%.0f ms", v) },
	"shift": func(v float64) string { return fmt.Sprintf("%.3f", v) }, "px": func(v float64) string { return fmt.Sprintf("%.0f", v) },
	"short": short, "type": shortType, "share": func(left, of int64) string { return wording.Part(of-left, of) }, "saved": func(p Picture) int64 { return p.Saved() },
	"bar": func(v, of int64) string { return fmt.Sprintf("%.1f%%", 100*float64(v)/math.Max(1, float64(of))) },
}).Parse(pageText))

// WritePage writes a report as a page by itself, which prints well. after is of the rewritten page, nil where it wasn't.
func WritePage(w io.Writer, r, after *Report) error {
	return pageTemplate.Execute(w, map[string]any{"Report": r, "After": after, "Rows": Compare(r, after)})
}

// A Row is one screen in a comparison.
type Row struct {
	Name                      string
	Before, Predicted, After  int64 // of pictures; After is -1 where the page wasn't rewritten
	ShiftBefore, ShiftAfter   float64
	ContentMS, ContentMSAfter float64
	Pictures                  int
}

// Compare puts a page's screens beside those of the rewritten page, which may be nil.
func Compare(r, after *Report) []Row {
	var rows []Row
	for i := range r.Views {
		v := &r.Views[i]
		row := Row{Name: v.Name, Before: v.ImageBytes, Predicted: v.AfterBytes, After: -1, ShiftBefore: v.Shift, ContentMS: v.ContentMS, Pictures: len(v.Pictures)}
		if after != nil && i < len(after.Views) {
			a := &after.Views[i]
			row.After, row.ShiftAfter, row.ContentMSAfter = a.ImageBytes, a.Shift, a.ContentMS
		}
		rows = append(rows, row)
	}
	return rows
}

// short is an address' end, which tells pictures apart.
func short(address string) string {
	path, _, _ := strings.Cut(address, "?")
	if i := strings.LastIndexByte(path, '/'); i >= 0 && i < len(path)-1 {
		path = path[i+1:]
	}
	if len(path) > 48 {
		path = path[:47] + "…"
	}
	return path
}

// Short is the end of a picture's address.
func (p *Picture) Short() string { return short(p.URL) }

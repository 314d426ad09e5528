package weighin

import (
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"math"
	"strings"
	"sync"

	"echolane/core/wording"
)

//go:embed page.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Funcs(template.FuncMap{
		"shot": func(int) template.URL { return "" }, "seconds": func(ms int) string { return fmt.Sprintf("%g s", float64(ms)/1000) }, "afterView": func(r *Report, i int) *View {
			if r == nil || i >= len(r.Views) {
				return nil
			}
			return &r.Views[i]
		},
		"bytes": wording.Bytes, "ms": func(v float64) string { return fmt.Sprintf("%.0f ms", v) },
		"shift": func(v float64) string { return fmt.Sprintf("%.3f", v) }, "px": func(v float64) string { return fmt.Sprintf("%.0f", v) },
		"short": short, "type": shortType, "share": func(left, of int64) string { return wording.Part(of-left, of) }, "saved": func(p Picture) int64 { return p.Saved() },
		"waste": func(p Picture) template.CSS { return template.CSS(fmt.Sprintf("%.0f%%", 100*p.Wasted())) }, "shade": shade,
		"pageHeight": func(v View) int { return max(v.PageHeight, v.Height) },
		"bar":        func(v, of int64) string { return fmt.Sprintf("%.1f%%", 100*float64(v)/math.Max(1, float64(of))) },
	}).Parse(pageText))
})

// WritePage writes a report as a page by itself, which prints well. after is of the rewritten page, nil where it wasn't.
// shots are the screenshots by number, from 1.
func WritePage(w io.Writer, r, after *Report, shots [][]byte) error {
	t, err := pageTemplate().Clone()
	if err != nil {
		return err
	}
	t.Funcs(template.FuncMap{"shot": func(n int) template.URL {
		if n < 1 || n > len(shots) {
			return ""
		}
		return template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(shots[n-1]))
	}})
	return t.Execute(w, map[string]any{"Report": r, "After": after, "Rows": Compare(r, after), "Strips": Strips(r, after)})
}

// A Strip is a page's loading over one line, beside that of the rewritten page.
type Strip struct {
	Before Loading
	After  *Loading // nil: it wasn't rewritten
}

// Strips puts a page's loads beside those of the rewritten page, which may be nil.
func Strips(r, after *Report) (all []Strip) {
	for i := range r.Loads {
		s := Strip{Before: r.Loads[i]}
		if after != nil && i < len(after.Loads) {
			s.After = &after.Loads[i]
		}
		all = append(all, s)
	}
	return all
}

// Wasted is the share of the picture's bytes that it would do without, from 0 to 1.
func (p *Picture) Wasted() float64 {
	if p.After == nil || p.Bytes <= 0 {
		return 0
	}
	return math.Max(0, 1-float64(p.After.Bytes)/float64(p.Bytes))
}

// shade is a picture's colour on the map of its page: the redder the more bytes it wastes beside the one that wastes most.
func shade(p Picture, v View) template.CSS {
	most := 1.0
	for i := range v.Pictures {
		most = math.Max(most, float64(v.Pictures[i].Bytes)*v.Pictures[i].Wasted())
	}
	return template.CSS(fmt.Sprintf("color-mix(in oklab, var(--waste) %.0f%%, var(--line))", 100*math.Pow(float64(p.Bytes)*p.Wasted()/most, 0.4)))
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

package weighin

import (
	"fmt"
	"math"
	"slices"
	"strconv"
)

// Marks are the times at which a loading page is looked at, in milliseconds from where it was asked for.
var Marks = []int{500, 1000, 2000, 4000}

// Loading is how a page loads over a throttled line, without scrolling: medians over several loads.
type Loading struct {
	Line       string  `json:"line"`        // such as Slow 4G
	Screen     string  `json:"screen"`      // a view's name
	Loads      int     `json:"loads"`       // that were made
	Unfinished int     `json:"unfinished"`  // of these, those that were cut off
	CutMS      int     `json:"cut_ms"`      // when a load is cut off
	Content    Spread  `json:"content"`     // largest contentful paint, ms
	Shift      Spread  `json:"shift"`       // cumulative layout shift
	LastImage  Spread  `json:"last_image"`  // when the last picture had come, ms
	ImageBytes int64   `json:"image_bytes"` // of pictures in the median load, as far as they had come
	Frames     []Frame `json:"frames"`      // the page at each of the marks, from the load whose largest paint is the median
}

// Spread is the median of some measurements, and the least and greatest of them.
type Spread struct {
	Median float64 `json:"median"`
	Least  float64 `json:"least"`
	Most   float64 `json:"most"`
}

// Frame is what was seen of a loading page at one time.
type Frame struct {
	AtMS int `json:"at_ms"`
	Shot int `json:"shot"` // a screenshot's number; 0: nothing was painted yet

	Data []byte `json:"-"` // JPEG
}

// Load is one load of a page.
type Load struct {
	ContentMS   float64 // largest contentful paint; 0: it wasn't seen
	Shift       float64 // cumulative layout shift
	LastImageMS float64 // when the last picture had come; 0: there was none
	ImageBytes  int64   // of pictures
	Cut         bool    // not all had come when it was cut off
	Frames      []Frame
}

// Summarize gives the medians of loads, of which there is at least one. Where loads were cut off, a time that wasn't reached counts
// as the time at which they were.
func Summarize(line, screen string, cutMS int, loads []Load) Loading {
	out := Loading{Line: line, Screen: screen, Loads: len(loads), CutMS: cutMS}
	of := func(pick func(l *Load) float64) Spread {
		values := make([]float64, len(loads))
		for i := range loads {
			values[i] = pick(&loads[i])
		}
		return spreadOf(values)
	}
	for i := range loads {
		if loads[i].Cut {
			out.Unfinished++
		}
	}
	cut := float64(cutMS)
	out.Content = of(func(l *Load) float64 {
		if l.Cut && l.ContentMS == 0 {
			return cut
		}
		return l.ContentMS
	})
	out.LastImage = of(func(l *Load) float64 {
		if l.Cut {
			return cut
		}
		return l.LastImageMS
	})
	out.Shift = of(func(l *Load) float64 { return l.Shift })
	middle := slices.MinFunc(loads, func(a, b Load) int {
		return int(math.Abs(a.ContentMS-out.Content.Median)*1000) - int(math.Abs(b.ContentMS-out.Content.Median)*1000)
	})
	out.Frames, out.ImageBytes = middle.Frames, middle.ImageBytes
	return out
}

// spreadOf is the spread of values; of an even number the median is the mean of the two in the middle.
func spreadOf(values []float64) Spread {
	slices.Sort(values)
	n := len(values)
	return Spread{Median: (values[(n-1)/2] + values[n/2]) / 2, Least: values[0], Most: values[n-1]}
}

// Over reports whether the median was cut off: it is at least that.
func (l *Loading) Over(s Spread) bool { return s.Median >= float64(l.CutMS) }

// Time is a spread of milliseconds in words, such as 1.9 s (1.8–2.1), or 1.9 s where all are the same.
func (l *Loading) Time(s Spread) string {
	if l.Over(s) {
		return fmt.Sprintf("over %g s", float64(l.CutMS)/1000)
	}
	return inWords(Spread{s.Median / 1000, s.Least / 1000, s.Most / 1000}, 1, " s")
}

// Score is a spread of layout shifts in words, such as 0.120 (0.118–0.125).
func (s Spread) Score() string { return inWords(s, 3, "") }

func inWords(s Spread, digits int, unit string) string {
	text := func(v float64) string { return strconv.FormatFloat(v, 'f', digits, 64) }
	if text(s.Least) == text(s.Most) {
		return text(s.Median) + unit
	}
	return text(s.Median) + unit + " (" + text(s.Least) + "–" + text(s.Most) + ")"
}

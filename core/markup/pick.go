package markup

import "math"

// Picked is the candidate that a browser loads on one screen.
type Picked struct {
	Viewport float64 `json:"viewport"` // CSS pixels
	Density  float64 `json:"density"`
	Shown    float64 `json:"shown"` // the slot's width there, CSS pixels
	Width    int     `json:"width"` // of the candidate, device pixels
	Bytes    int     `json:"bytes"`
	URL      string  `json:"url"`
}

// Pick predicts which candidate a browser loads in a viewport, given in CSS pixels, at a density, in device pixels to one of them. It
// chooses as Chromium does: the first that is dense enough.
func (o *Options) Pick(viewport, density float64) Picked {
	groups := o.groups()
	g := groups[0]
	for _, next := range groups[1:] {
		if viewport >= next.from {
			g = next
		}
	}
	p := &g.pieces[0]
	for i := range g.pieces {
		if viewport >= g.pieces[i].from {
			p = &g.pieces[i]
		}
	}
	shown := o.widthIn(p, g.declared, viewport)
	widths, _ := o.widths(g)
	d := g.declared
	if len(o.Formats) > 0 {
		d.Format = o.Formats[0]
	}
	list := o.candidates(g, d, widths)
	of := func(c Candidate) float64 {
		if c.Density > 0 {
			return c.Density
		}
		return float64(c.Width) / shown
	}
	at := 0
	for at < len(list)-1 && of(list[at]) < density-1e-6 {
		at++
	}
	return Picked{Viewport: viewport, Density: density, Shown: math.Round(shown*100) / 100, Width: list[at].Width, Bytes: list[at].Bytes, URL: list[at].URL}
}

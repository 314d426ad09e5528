package declare

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
)

// Resolved is a request after a site's defaults, its ladder and negotiation, before the source's own size is
// known. Equal texts of it are one variant.
type Resolved struct {
	Declarations            // with Format unset and nothing of delivery; a fit is always set
	Formats      []Format   // what the variant may be delivered in, most wanted first; never empty
	Own          bool       // the source's own data will do, where it's all that is asked for: no quality was given
	Focus        Focus      // where somebody has said that the source's subject is
	Motion       *Motion    // how it moves, where it's a still that is to; its declarations are those of the still
	Layers       []Box      // that the sheet lays under and over it, in the order of its rules
	Fonts        []FontFace // the site's own that they are set in
	LayerScale   float64    // what their lengths are multiplied with; 0: 1
}

// Resolve lays d over the site's defaults and settles the formats: the declared one alone, or offered, the
// site's own that this client takes, in the site's order. Where the slot has a declared side, its resolution
// goes into it: 300 CSS pixels at 2x are 600 device pixels.
func (d Declarations) Resolve(defaults Declarations, offered []Format) (r Resolved) {
	own := d.Quality == 0
	set := d.inherit(&defaults, inheritedSet)
	d.Settle(offered, &r)
	r.Own = own && set.and(paintSet).empty()
	return r
}

// Settle is Resolve where the defaults are in d already.
func (d *Declarations) Settle(offered []Format, r *Resolved) {
	r.Declarations, r.Formats = *d, offered
	r.DeliveryValues = DeliveryValues{}
	if r.Format != FormatUnset {
		r.Formats = single[r.Format]
		r.Format = FormatUnset
	}
	if r.Fit == FitUnset {
		r.Fit = Fill
	}
	// `none` and `scale-down` meet the picture's size in CSS pixels, so they have to know the resolution.
	if r.Resolution != 0 && (r.Width != 0 || r.Height != 0) && r.Fit != None && r.Fit != ScaleDown {
		r.Scale(r.Resolution)
		r.Resolution = 0
	}
}

// single holds each format alone, so that settling for one costs nothing.
var single = func() (s [len(formats)][]Format) {
	for f := range s {
		s[f] = []Format{Format(f)}
	}
	return s
}()

// Scale multiplies the slot and every length by k.
func (r *Resolved) Scale(k float64) {
	r.Width, r.Height = r.Width*k, r.Height*k
	d := &r.Declarations
	d.Position.X.Px, d.Position.Y.Px = d.Position.X.Px*k, d.Position.Y.Px*k
	d.GroundPosition.X, d.GroundPosition.Y = d.GroundPosition.X.times(k), d.GroundPosition.Y.times(k)
	d.MaskPosition.X, d.MaskPosition.Y = d.MaskPosition.X.times(k), d.MaskPosition.Y.times(k)
	for _, s := range []*Side{&d.GroundSize.X, &d.GroundSize.Y, &d.MaskSize.X, &d.MaskSize.Y} {
		if !s.Auto() {
			s.Px *= k
		}
	}
	d.Before, d.After = d.Before.lengthsTimes(k), d.After.lengthsTimes(k)
	if r.LayerScale == 0 {
		r.LayerScale = 1
	}
	r.LayerScale *= k
	if k == 1 {
		return
	}
	if said(d.Filter) {
		d.Filter = writeFilter(d.Filters(), k)
	}
	if said(d.Backdrop) {
		d.Backdrop = writeFilter(d.BackdropFilters(), k)
	}
	if said(d.Padding) {
		edge := d.PaddingEdges()
		for i := range edge {
			edge[i].Px *= k
		}
		framePadding(&d.Padding, edge)
	}
	if said(d.Radius) {
		d.Radius = d.Corners().times(k).text()
	}
	if said(d.Border) {
		d.Border = d.BorderSides().text(k)
	}
	if said(d.Shadows) {
		d.Shadows = writeShadows(d.InnerShadows(), k)
	}
	if said(d.Clip) {
		d.Clip = d.ClipShape().text(k)
	}
	if said(d.MaskImage) {
		d.MaskImage = d.Mask().text(k)
	}
	if IsGradient(d.BackgroundImage) {
		g, _ := ParseGradient(d.BackgroundImage)
		d.BackgroundImage = g.text(k)
	}
}

// said reports whether a value that is kept as text says more than none.
func said(text string) bool { return text != "" && text != "none" }

// Append appends the resolved form's text to b: the address form with every format that may be delivered,
// separated by commas, CSS's initial values left out, and the focus where the variant depends on it.
func (r *Resolved) Append(b []byte) []byte {
	d, start := &r.Declarations, len(b)
	b = d.appendForm(b, d.declared().without(r.idle()), true)
	if len(b) > start {
		b = append(b, '&')
	}
	b = append(b, "format="...)
	for i, f := range r.Formats {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, f.String()...)
	}
	if r.Own {
		b = append(b, ",own"...)
	}
	if r.Motion != nil {
		b = r.Motion.append(b)
	}
	if len(r.Layers) > 0 {
		b = r.appendLayers(b)
	}
	if r.Focus.Declared && r.Follows() {
		b = r.Focus.append(append(b, "&focus="...))
	}
	return b
}

// Some declarations.
var (
	fitSet, positionSet, aspectSet        = setOf("object-fit"), setOf("object-position"), setOf("aspect-ratio")
	groundSet, underSet                   = setOf("background-position", "background-size", "background-repeat"), setOf("mix-blend-mode", "backdrop-filter")
	colourSet, borderSet, mapSet, modeSet = setOf("background-color"), setOf("border"), setOf("gradient-map"), setOf("mask-mode")
	maskSet                               = setOf("mask-position", "mask-size", "mask-repeat")
	beforeSet, afterSet                   = masked(func(d *declaration) bool { return strings.HasPrefix(d.name, BeforeLayer+"-") }), masked(func(d *declaration) bool { return strings.HasPrefix(d.name, AfterLayer+"-") })
)

// idle is the set of declarations that change nothing beside the others.
func (r *Resolved) idle() (set mask) {
	d, fit := &r.Declarations, r.Fit
	if d.Width == 0 && d.Height == 0 && d.Aspect.IsZero() { // no slot to fit into
		set, fit = fitSet.or(positionSet), FitUnset
	}
	if fit == Fill { // nothing is left to position
		set = set.or(positionSet)
	}
	if d.Width != 0 && d.Height != 0 { // CSS ignores the ratio
		set = set.or(aspectSet)
	}
	hidden := func(l *Layer) bool {
		return len(r.Layers) == 0 && (l.Content == "" || l.Opacity.Declared && l.Opacity.Value == 0)
	}
	under := len(r.Layers) > 0 || !hidden(&d.Before)
	if !under {
		set = set.or(beforeSet)
	}
	if hidden(&d.After) {
		set = set.or(afterSet)
	}
	if d.BackgroundImage == "" {
		set = set.or(groundSet)
		if d.Background.A == 0 && !under {
			if set = set.or(underSet); fit != Contain && fit != ScaleDown && fit != None {
				set = set.or(colourSet)
			}
		}
	}
	switch kind := d.Mask().Kind; {
	case kind == NoMask || kind == SubjectMask:
		set = set.or(modeSet)
		fallthrough
	case kind != ImageMask:
		set = set.or(maskSet)
	}
	if said(d.Border) && d.PaddingEdges() == [4]Length{} && !d.Framed() {
		set = set.or(borderSet)
	}
	if d.Map.Strength == 0 {
		set = set.or(mapSet)
	}
	return set
}

// appendLayers tells the sheet's layers apart from others, briefly.
func (r *Resolved) appendLayers(b []byte) []byte {
	var text []byte
	for i := range r.Layers {
		text = r.Layers[i].append(text)
	}
	text = appendNumber(append(text, '*'), r.LayerScale)
	for _, f := range r.Fonts {
		text = fmt.Append(text, f)
	}
	sum := sha256.Sum256(text)
	return base64.RawURLEncoding.AppendEncode(append(b, "&layers="...), sum[:16])
}

func (r Resolved) String() string { return string(r.Append(nil)) }

package declare

// Resolved is a request after a site's defaults, its ladder and negotiation, before the source's own size is
// known. Equal texts of it are one variant.
type Resolved struct {
	Declarations          // with Format unset and nothing of delivery; a fit is always set
	Formats      []Format // what the variant may be delivered in, most wanted first; never empty
}

// Resolve lays d over the site's defaults and settles the formats: the declared one alone, or offered, the
// site's own that this client takes, in the site's order. Where the slot has a declared side, its resolution
// goes into it: 300 CSS pixels at 2x are 600 device pixels.
func (d Declarations) Resolve(defaults Declarations, offered []Format) Resolved {
	r := Resolved{Declarations: d.Over(defaults).WithoutDelivery(), Formats: offered}
	if r.Format != FormatUnset {
		r.Formats = single[r.Format]
		r.Format = FormatUnset
	}
	if r.Fit == FitUnset {
		r.Fit = Fill
	}
	if r.Resolution != 0 && (r.Width != 0 || r.Height != 0) {
		r.Scale(r.Resolution)
		r.Resolution = 0
	}
	return r
}

// single holds each format alone, so that settling for one costs nothing.
var single = func() (s [len(formats)][]Format) {
	for f := range s {
		s[f] = []Format{Format(f)}
	}
	return s
}()

// Scale multiplies the slot by k.
func (r *Resolved) Scale(k float64) { r.Width, r.Height = r.Width*k, r.Height*k }

// Append appends the resolved form's text to b: the address form with every format that may be delivered,
// separated by commas, CSS's initial values left out.
func (r Resolved) Append(b []byte) []byte {
	d := r.Declarations
	if d.Fit == Fill || d.Width == 0 && d.Height == 0 && d.Aspect.IsZero() {
		d.Fit = FitUnset // CSS's initial value, or no slot to fit into
	}
	if d.Width != 0 && d.Height != 0 {
		d.Aspect = Ratio{} // CSS ignores it
	}
	if d.Resolution == 1 {
		d.Resolution = 0
	}
	if d.Grow == GrowNo {
		d.Grow = GrowUnset
	}
	if d.Opacity.Value == 1 {
		d.Opacity = Opacity{}
	}
	start := len(b)
	b = d.AppendAddressForm(b)
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
	return b
}

func (r Resolved) String() string { return string(r.Append(nil)) }

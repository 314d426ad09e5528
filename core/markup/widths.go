package markup

import (
	"fmt"
	"math"
	"slices"
	"sort"

	"echolane/core/declare"
)

// need gives the least and the most device pixels that a group's slot covers on any screen.
func (o *Options) need(g group) (least, most float64) {
	least = math.Inf(1)
	for i := range g.pieces {
		p := &g.pieces[i]
		to := float64(widest)
		if i+1 < len(g.pieces) {
			to = g.pieces[i+1].from
		} else if next := o.next(g); next > 0 {
			to = next
		}
		from := math.Max(narrowest, p.from)
		if to <= from {
			to = from + 1
		}
		step := math.Max(1, (to-from)/24)
		for v := from; v < to; v += step {
			w := o.widthIn(p, g.declared, v)
			density := 2.0
			if v <= phone {
				density = 3
			}
			least, most = math.Min(least, w), math.Max(most, w*density)
		}
		if last := o.widthIn(p, g.declared, to-1); true {
			least, most = math.Min(least, last), math.Max(most, last*map[bool]float64{true: 3, false: 2}[to-1 <= phone])
		}
	}
	return least, most
}

// widest gives the largest width of a group's slot in CSS pixels.
func (o *Options) widest(g group) (w float64) {
	for i := range g.pieces {
		to := float64(widest)
		if i+1 < len(g.pieces) {
			to = g.pieces[i+1].from
		} else if next := o.next(g); next > 0 {
			to = next
		}
		for v := math.Max(narrowest, g.pieces[i].from); v < to; v += math.Max(1, (to-narrowest)/24) {
			w = math.Max(w, o.widthIn(&g.pieces[i], g.declared, v))
		}
		w = math.Max(w, o.widthIn(&g.pieces[i], g.declared, to))
	}
	return w
}

// next gives the viewport width at which the group after g begins; 0: g is the last.
func (o *Options) next(g group) float64 {
	last := g.pieces[len(g.pieces)-1].from
	for _, p := range o.Slot.pieces {
		if p.from > last {
			return p.from
		}
	}
	return 0
}

// limit gives the width of the widest variant of this shape that the source has pixels for.
func (o *Options) limit(d declare.Declarations) float64 {
	w, h := o.natural(d.Over(o.Site))
	full := d.Over(o.Site)
	if full.Aspect.IsZero() || full.Fit == declare.Contain || full.Fit == declare.ScaleDown {
		return w
	}
	return math.Min(w, math.Floor(h*full.Aspect.Value()))
}

// widths chooses the candidates, in device pixels, upwards.
func (o *Options) widths(g group) (widths []int, warning string) {
	limit := math.Max(1, math.Floor(o.limit(g.declared)))
	least, most := o.need(g)
	if g.fixed {
		for _, density := range []float64{1, 1.5, 2, 3} {
			w := math.Round(g.css * density)
			if density == 1.5 && len(o.Rungs) == 0 {
				continue
			}
			if rung, ok := o.onLadder(w); !ok {
				continue
			} else {
				w = rung
			}
			if w <= limit {
				widths = append(widths, int(w))
			}
		}
		if n := len(widths); n == 0 || float64(widths[n-1]) < math.Min(limit, g.css*3) && float64(widths[n-1]) < 0.9*math.Min(limit, g.css*2) {
			if w, ok := o.below(math.Min(limit, 3*g.css)); ok && (n == 0 || int(w) > widths[n-1]) {
				widths = append(widths, int(w))
			}
		}
		slices.Sort(widths)
		widths = slices.Compact(widths)
		if len(widths) == 0 {
			return []int{int(limit)}, "no width of the ladder is as small as the source"
		}
		return widths, ""
	}
	most = math.Min(most, limit)
	all := o.all(least, most, limit)
	if len(all) == 0 {
		return []int{int(limit)}, "no width of the ladder is as small as the source"
	}
	waste := o.Waste
	if waste <= 0 || waste >= 1 {
		waste = DefaultWaste
	}
	weights := make([]float64, len(all))
	for i, w := range all {
		weights[i] = g.curve.bytes(w)
	}
	// From the widest down: as far as the bytes allow.
	at := len(all) - 1
	widths = []int{int(all[at])}
	for at > 0 {
		next := at - 1
		for next > 0 && weights[next-1] >= (1-waste)*weights[at] {
			next--
		}
		if weights[next] < (1-waste)*weights[at]-0.5 && len(o.Rungs) > 0 {
			warning = fmt.Sprintf("between the ladder's rungs %.0f and %.0f more than %.0f %% of the bytes can be wasted", all[next], all[at], 100*waste)
		}
		at = next
		widths = append(widths, int(all[at]))
	}
	slices.Reverse(widths)
	if len(o.Rungs) == 0 {
		widths = g.curve.even(widths, waste)
	}
	return widths, warning
}

// even spaces as many widths so that all steps waste about the same, where that keeps what is promised.
func (c *curve) even(widths []int, waste float64) []int {
	n := len(widths) - 1
	low, high := c.bytes(float64(widths[0])), c.bytes(float64(widths[max(0, n)]))
	if n < 2 || low >= high {
		return widths
	}
	out := slices.Clone(widths)
	for i := 1; i < n; i++ {
		want := low * math.Pow(high/low, float64(i)/float64(n))
		out[i] = int(math.Round(c.width(want)/8) * 8)
	}
	for i := 1; i <= n; i++ {
		if out[i] <= out[i-1] || c.bytes(float64(out[i-1])) < (1-waste)*c.bytes(float64(out[i])) {
			return widths
		}
	}
	return out
}

// all are the widths that could be offered, upwards: from the least that is ever used to the first that is always enough.
func (o *Options) all(least, most, limit float64) (all []float64) {
	if len(o.Rungs) > 0 {
		for _, r := range o.Rungs {
			if r > limit {
				break
			}
			if r >= least || r == o.Rungs[len(o.Rungs)-1] {
				all = append(all, r)
			}
			if r >= most {
				break
			}
		}
		if len(all) == 0 { // all that fit are smaller than what is needed
			if w, ok := o.below(limit); ok {
				all = append(all, w)
			}
		}
		return all
	}
	const step = 1.06
	for w := math.Min(least, most); ; w *= step {
		grain := 8.0
		if w > 512 {
			grain = 16
		}
		r := math.Ceil(w/grain) * grain
		if r >= most {
			break
		}
		if n := len(all); n == 0 || r > all[n-1] {
			all = append(all, r)
		}
	}
	top := math.Ceil(most/16) * 16
	return append(all, math.Min(top, limit))
}

// onLadder rounds a width up to a rung; ok is false where all rungs are narrower.
func (o *Options) onLadder(w float64) (float64, bool) {
	if len(o.Rungs) == 0 {
		return w, true
	}
	i := sort.SearchFloat64s(o.Rungs, w-0.01)
	if i == len(o.Rungs) {
		return 0, false
	}
	return o.Rungs[i], true
}

// below gives the widest rung that is no wider than w.
func (o *Options) below(w float64) (float64, bool) {
	if len(o.Rungs) == 0 {
		return math.Floor(w), true
	}
	i := sort.SearchFloat64s(o.Rungs, w+0.01)
	if i == 0 {
		return 0, false
	}
	return o.Rungs[i-1], true
}

// An Anchor is a width whose variant is worth measuring before Make.
type Anchor struct {
	Declared declare.Declarations // of the slot where it has this shape, without the width
	Width    int                  // device pixels
}

// Anchors gives the widths that are worth measuring, at most six for each shape of the slot: the bytes of all others follow from them.
func Anchors(o Options) (list []Anchor) {
	for _, g := range o.groups() {
		least, most := o.need(g)
		limit := o.limit(g.declared)
		low, high := math.Min(least, limit), math.Min(most, limit)
		n := int(math.Min(6, 2+math.Ceil(math.Log2(math.Max(1, high/low)))))
		var widths []int
		for i := range n {
			w := low * math.Pow(high/low, float64(i)/float64(max(1, n-1)))
			if rung, ok := o.onLadder(w); ok && rung <= high+0.5 {
				w = rung
			} else if rung, ok := o.below(w); ok {
				w = rung
			}
			widths = append(widths, max(1, int(math.Round(w))))
		}
		slices.Sort(widths)
		for _, w := range slices.Compact(widths) {
			list = append(list, Anchor{g.declared, w})
		}
	}
	return list
}

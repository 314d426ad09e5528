package vp8

import (
	"sync"

	"echolane/core/raster"
)

// Shown is what decoders show of the frame that was made last, in Limited range: its reconstruction behind the normal loop
// filter (RFC 6386, section 15).
func (p *Plan) Shown() *raster.YCbCr {
	out := raster.New420(p.w, p.h, raster.Limited)
	var colour sync.WaitGroup
	if p.w*p.h >= raster.LargeArea {
		colour.Go(func() { p.filter(1, 2, &out.Cb, &out.Cr) })
	} else {
		p.filter(1, 2, &out.Cb, &out.Cr)
	}
	p.filter(0, 0, &out.Y, nil)
	colour.Wait()
	return out
}

// filter filters two planes of colour side by side, or one of luma: i and j are the same then, and the second isn't there.
func (p *Plan) filter(i, j int, to, second *raster.Plane) {
	side := 8
	if i == 0 {
		side = 16
	}
	recon := &p.recon[i]
	p.filtered[i] = append(p.filtered[i][:0], recon.pix...)
	if j != i {
		p.filtered[j] = append(p.filtered[j][:0], p.recon[j].pix...)
	}
	s := loopFilter{a: p.filtered[i], b: p.filtered[j], stride: recon.stride}
	if i == j {
		s.apart = 8
	}
	for k := range p.blocks {
		level := p.last.filterLevel[p.blocks[k].segment]
		if level == 0 {
			continue
		}
		s.within(level)
		x, y := k%p.across, k/p.across
		inner := side
		if p.blocks[k].yMode == bPred || !p.coefficients[k].empty() {
			inner = 4
		}
		at := recon.offset(side*x, side*y)
		for dx := 0; dx < side; dx += inner {
			if x > 0 || dx > 0 {
				s.edge(at+dx, true, dx == 0)
			}
		}
		for dy := 0; dy < side; dy += inner {
			if y > 0 || dy > 0 {
				s.edge(at+dy*recon.stride, false, dy == 0)
			}
		}
	}
	copied(to, s.a, recon)
	if second != nil {
		copied(second, s.b, recon)
	}
}

func copied(to *raster.Plane, pix []uint8, recon *reconstruction) {
	for y := range to.H {
		copy(to.Row(y)[:to.W], pix[recon.offset(0, y):])
	}
}

// loopFilter is two planes, or one twice, with the limits of the level in force.
type loopFilter struct {
	a, b                 []uint8
	stride               int
	apart                int   // how far along an edge b's eight samples are from a's
	outer, inner, across int32 // the limits at macroblock edges, at subblock edges, and of interior differences
	sharp                int32 // the high edge variance threshold
}

// within sets the limits of a filter level.
func (s *loopFilter) within(level int) {
	l := int32(level)
	s.outer, s.inner, s.across, s.sharp = 2*(l+2)+l, 2*l+l, l, 0
	if l >= 40 {
		s.sharp = 2
	} else if l >= 15 {
		s.sharp = 1
	}
}

// signed clamps to the range of a signed sample.
func signed(v int32) int32 { return max(-128, min(127, v)) }

// edge filters sixteen samples along an edge that begins at a place: eight of each plane, or one's eight after the other's. upright
// says that it runs down; between says that it is a macroblock edge, which is filtered more.
func (s *loopFilter) edge(at int, upright, between bool) {
	over, along := s.stride, 1
	if upright {
		over, along = along, over
	}
	next := at + s.apart*along
	if s.edges(s.a, s.b, at, next, s.stride, upright, between) {
		return
	}
	s.plainly(s.a, at, over, along, between)
	s.plainly(s.b, next, over, along, between)
}

// plainly filters eight samples along an edge. over is the step across the edge, along the step along it.
func (s *loopFilter) plainly(all []uint8, at, over, along int, between bool) {
	limit, across, sharp := s.inner, s.across, s.sharp
	if between {
		limit = s.outer
	}
	for n := 8; n > 0; n, at = n-1, at+along {
		pix := all[at-4*over : at+3*over+1]
		p0, q0 := int32(pix[3*over]), int32(pix[4*over])
		p1, q1 := int32(pix[2*over]), int32(pix[5*over])
		if 2*abs(p0-q0)+abs(p1-q1)>>1 > limit {
			continue
		}
		p3, p2, q2, q3 := int32(pix[0]), int32(pix[over]), int32(pix[6*over]), int32(pix[7*over])
		up, down := abs(p1-p0), abs(q1-q0)
		if max(up, down, abs(p3-p2), abs(p2-p1), abs(q2-q1), abs(q3-q2)) > across {
			continue
		}
		d := 3 * (q0 - p0)
		edged := up > sharp || down > sharp
		if between && !edged {
			d = signed(d + signed(p1-q1))
			a, b, c := signed((27*d+63)>>7), signed((18*d+63)>>7), signed((9*d+63)>>7)
			pix[3*over], pix[4*over] = clamp(p0+a), clamp(q0-a)
			pix[2*over], pix[5*over] = clamp(p1+b), clamp(q1-b)
			pix[over], pix[6*over] = clamp(p2+c), clamp(q2-c)
			continue
		}
		if edged || between {
			d += signed(p1 - q1)
		}
		d = signed(d)
		less, more := signed(d+4)>>3, signed(d+3)>>3
		pix[3*over], pix[4*over] = clamp(p0+more), clamp(q0-less)
		if !edged {
			d = (less + 1) >> 1
			pix[2*over], pix[5*over] = clamp(p1+d), clamp(q1-d)
		}
	}
}

func abs(v int32) int32 { return max(v, -v) }

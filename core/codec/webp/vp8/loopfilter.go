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
	colour.Go(func() {
		p.filter(1, &out.Cb)
		p.filter(2, &out.Cr)
	})
	p.filter(0, &out.Y)
	colour.Wait()
	return out
}

// filter filters one plane.
func (p *Plan) filter(i int, to *raster.Plane) {
	side := 8
	if i == 0 {
		side = 16
	}
	recon := &p.recon[i]
	s := loopFilter{pix: append(p.filtered[i][:0], recon.pix...)}
	p.filtered[i] = s.pix
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
				s.edge(at+dx, 1, recon.stride, side, dx == 0)
			}
		}
		for dy := 0; dy < side; dy += inner {
			if y > 0 || dy > 0 {
				s.edge(at+dy*recon.stride, recon.stride, 1, side, dy == 0)
			}
		}
	}
	for y := range to.H {
		copy(to.Row(y)[:to.W], s.pix[recon.offset(0, y):])
	}
}

// loopFilter is a plane with the limits of the level in force.
type loopFilter struct {
	pix                  []uint8
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

// edge filters n samples along an edge. over is the step across the edge, along the step along it; between says that it is a
// macroblock edge, which is filtered more.
func (s *loopFilter) edge(at, over, along, n int, between bool) {
	limit, across, sharp := s.inner, s.across, s.sharp
	if between {
		limit = s.outer
	}
	for ; n > 0; n, at = n-1, at+along {
		pix := s.pix[at-4*over : at+3*over+1]
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

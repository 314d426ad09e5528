package matte

import "math"

// A mixture is a few normal distributions of colours, each with its own spread along each axis.
type mixture struct {
	parts [components]struct {
		share        float64
		mean, spread [3]float64 // spread is the variance
	}
}

const components = 5

// mixtureOf fits a mixture to colours by how much each counts: k-means from colours that lie far apart, then the moments.
func mixtureOf(colours [][3]float32, counts []float32) (m mixture, ok bool) {
	var heart [3]float64
	var all float64
	for i, c := range colours {
		w := float64(counts[i])
		all += w
		for k := range c {
			heart[k] += w * float64(c[k])
		}
	}
	if all <= 0 {
		return m, false
	}
	for k := range heart {
		heart[k] /= all
	}
	// The first centre is the mean, each further one the colour that counts most by its distance from those there are.
	centres := [components][3]float64{heart}
	near := make([]float64, len(colours))
	for i, c := range colours {
		near[i] = squared(c, heart)
	}
	for n := 1; n < components; n++ {
		best, at := -1.0, 0
		for i, d := range near {
			if v := d * float64(counts[i]); v > best {
				best, at = v, i
			}
		}
		for k, v := range colours[at] {
			centres[n][k] = float64(v)
		}
		for i, c := range colours {
			near[i] = min(near[i], squared(c, centres[n]))
		}
	}
	of := make([]int, len(colours))
	for range 8 {
		var sums [components][3]float64
		var weights [components]float64
		for i, c := range colours {
			best := math.Inf(1)
			for n := range centres {
				if d := squared(c, centres[n]); d < best {
					best, of[i] = d, n
				}
			}
			w := float64(counts[i])
			weights[of[i]] += w
			for k := range c {
				sums[of[i]][k] += w * float64(c[k])
			}
		}
		for n := range centres {
			if weights[n] > 0 {
				for k := range sums[n] {
					centres[n][k] = sums[n][k] / weights[n]
				}
			}
		}
	}
	const floor = 0.0004 // of a variance: a fiftieth of the axis
	for n := range m.parts {
		m.parts[n].mean = centres[n]
		m.parts[n].spread = [3]float64{floor, floor / 4, floor / 4}
	}
	for i, c := range colours {
		p := &m.parts[of[i]]
		w := float64(counts[i]) / all
		p.share += w
		for k := range c {
			d := float64(c[k]) - p.mean[k]
			p.spread[k] += w * d * d
		}
	}
	for n := range m.parts {
		p := &m.parts[n]
		for k, least := range [3]float64{floor, floor / 4, floor / 4} {
			if p.share > 0 {
				p.spread[k] = least + (p.spread[k]-least)/p.share
			}
		}
	}
	return m, true
}

func squared(c [3]float32, m [3]float64) (sum float64) {
	for k := range c {
		d := float64(c[k]) - m[k]
		if k > 0 {
			d *= 2 // colour counts more than light
		}
		sum += d * d
	}
	return sum
}

// cost is minus the logarithm of how likely a colour is.
func (m *mixture) cost(c [3]float32) float64 {
	var sum float64
	for i := range m.parts {
		p := &m.parts[i]
		if p.share <= 0 {
			continue
		}
		e, scale := 0.0, 1.0
		for k := range c {
			d := float64(c[k]) - p.mean[k]
			e += d * d / p.spread[k]
			scale *= p.spread[k]
		}
		sum += p.share * math.Exp(-e/2) / math.Sqrt(scale)
	}
	return -math.Log(sum + 1e-4)
}

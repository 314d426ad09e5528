package markup

import "math"

// A Weight is the measured size of the variant of a width.
type Weight struct {
	Width int `json:"width"` // device pixels
	Bytes int `json:"bytes"`
}

// curve is how bytes grow with the width: between what was measured by the power that lies between, without that by the
// power that is usual.
type curve struct {
	weights []Weight
	powers  []float64 // from each weight to the next
	limit   float64   // the widest, where nothing was measured
}

// usualPower is the power by which bytes grow with the width where nothing was measured.
const usualPower = 1.7

func curveOf(ws []Weight, limit float64) *curve {
	c := &curve{weights: ws, limit: limit}
	for i := 1; i < len(ws); i++ {
		from, to := ws[i-1], ws[i]
		power := usualPower
		if from.Width < to.Width && from.Bytes > 0 && to.Bytes > from.Bytes {
			power = math.Log(float64(to.Bytes)/float64(from.Bytes)) / math.Log(float64(to.Width)/float64(from.Width))
		}
		c.powers = append(c.powers, power)
	}
	return c
}

func (c *curve) measured() bool { return len(c.weights) > 0 }

// bytes estimates the bytes of a width.
func (c *curve) bytes(width float64) float64 {
	if !c.measured() {
		return math.Pow(width/c.limit, usualPower) * 1e5
	}
	at, power := c.segment(func(w Weight) bool { return float64(w.Width) >= width })
	return float64(at.Bytes) * math.Pow(width/float64(at.Width), power)
}

// width gives the width whose variant has so many bytes.
func (c *curve) width(bytes float64) float64 {
	if !c.measured() {
		return c.limit * math.Pow(bytes/1e5, 1/usualPower)
	}
	at, power := c.segment(func(w Weight) bool { return float64(w.Bytes) >= bytes })
	return float64(at.Width) * math.Pow(bytes/float64(at.Bytes), 1/power)
}

// segment is where the part of the curve begins that holds around the first weight that is enough, and its power.
func (c *curve) segment(enough func(Weight) bool) (at Weight, power float64) {
	if len(c.powers) == 0 {
		return c.weights[0], usualPower
	}
	i := 0
	for i < len(c.weights) && !enough(c.weights[i]) {
		i++
	}
	i = min(max(0, i-1), len(c.powers)-1)
	return c.weights[i], c.powers[i]
}

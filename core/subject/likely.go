package subject

import (
	"math"

	"echolane/core/raster"
)

// Cues are what a region of a picture is judged by, each 0 or more.
type Cues [5]float32

// The cues.
const (
	CuePlaces   = iota // how much its places stand out by colour, surroundings, edges and where they are: 1 for the most of the picture
	CueEdge            // how many of its pixels lie along the picture's border, by the root of its area
	CueWay             // how long its way to the border is: the differences of the regions between
	CueStanding        // how much it stands out from the ground: about 1 for the most of the picture
	CueBehind          // how much it belongs to the ground, 0–1
)

// A Region is a part of a picture of about one colour.
type Region struct {
	Cues
	Area float32 // in pixels
}

// Regions are a picture's, as Subject judges them, and each pixel's of a small copy, w×h: what the weights of likely are fitted on.
func Regions(p *raster.RGBA) (list []Region, of []int32, w, h int) {
	r, cues, w, h, _ := judged(p)
	for k, c := range cues {
		list = append(list, Region{c, r.Area[k]})
	}
	return list, r.Of, w, h
}

// A Layer is one of hidden units, tanh, and what they add up to: a network with one hidden layer.
type Layer struct {
	Units [][len(Cues{}) + 1]float32 // what each cue's root counts, and last what is added
	Out   []float32                  // what each unit counts, and last what is added
}

// Of is what the network says of a region's cues.
func (l *Layer) Of(c Cues) float32 {
	for i, v := range c {
		c[i] = float32(math.Sqrt(float64(min(v, 16))))
	}
	sum := l.Out[len(l.Units)]
	for k := range l.Units {
		u := &l.Units[k]
		v := u[len(c)]
		for i := range c {
			v += u[i] * c[i]
		}
		sum += l.Out[k] * float32(math.Tanh(float64(v)))
	}
	return sum
}

// likely is how likely a region is to belong to the subject, 0–1: `go run ./bench/subjects -fit` finds the weights.
func (c Cues) likely() float32 { return max(0, min(1, weights.Of(c))) }

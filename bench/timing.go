package main

import (
	"slices"
	"time"
)

// alternate runs the functions in turn, rounds times, and gives each one's times in ms, round by round.
// Taking turns spreads what else the machine does evenly over all of them.
func alternate(rounds int, functions ...func()) [][]float64 {
	times := make([][]float64, len(functions))
	for range rounds {
		for i, f := range functions {
			start := time.Now()
			f()
			times[i] = append(times[i], float64(time.Since(start))/1e6)
		}
	}
	return times
}

// ratio is the median, over the rounds, of a's time against the sum of the others' in the same round.
func ratio(a []float64, against ...[]float64) float64 {
	var r []float64
	for i := range a {
		sum := 0.0
		for _, b := range against {
			sum += b[i]
		}
		r = append(r, a[i]/sum)
	}
	return median(r)
}

func median(v []float64) float64 {
	v = slices.Clone(v)
	slices.Sort(v)
	return v[len(v)/2]
}

// sinceStart is a clock for jobs.
func sinceStart() func() time.Duration {
	start := time.Now()
	return func() time.Duration { return time.Since(start) }
}

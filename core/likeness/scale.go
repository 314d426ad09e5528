package likeness

import "math"

// marks are the distances of libjpeg-turbo's qualities from the original, 4:2:0: medians over the pictures of the corpus that may be fitted
// on, at 640 pixels wide. Make them anew with `go run ./bench/qualitytable`.
var marks = []struct{ quality, distance float64 }{
	{0, 0.6}, {5, 0.40392}, {10, 0.22816}, {15, 0.15060}, {20, 0.10976}, {25, 0.08533}, {30, 0.06993}, {35, 0.05884},
	{40, 0.05114}, {45, 0.04454}, {50, 0.03961}, {55, 0.03566}, {60, 0.03201}, {65, 0.02737}, {70, 0.02354}, {75, 0.01847},
	{80, 0.01471}, {85, 0.01136}, {90, 0.00749}, {95, 0.00453}, {98, 0.00224}, {100, 0.0006},
}

// Likeness is a distance on the scale of 0 to 100 whose marks are libjpeg-turbo's qualities on the median
// photograph. Only what can't be told apart by the measure at all is above 100−1.
func Likeness(distance float64) float64 {
	if distance <= 1e-7 {
		return 100
	}
	if distance >= marks[0].distance {
		return 0
	}
	for i := 1; i < len(marks); i++ {
		if a, b := marks[i-1], marks[i]; distance >= b.distance {
			part := math.Log(a.distance/distance) / math.Log(a.distance/b.distance)
			return math.Min(99.9, a.quality+part*(b.quality-a.quality))
		}
	}
	return 99.9
}

// DistanceAt is the distance at which the median photograph has this likeness.
func DistanceAt(likeness float64) float64 {
	likeness = math.Min(100, math.Max(0, likeness))
	for i := 1; i < len(marks); i++ {
		if a, b := marks[i-1], marks[i]; likeness <= b.quality {
			part := (likeness - a.quality) / (b.quality - a.quality)
			return a.distance * math.Pow(b.distance/a.distance, part)
		}
	}
	return marks[len(marks)-1].distance
}

package likeness

import "math"

// marks are the distances of libjpeg-turbo's qualities from the original, 4:2:0: medians over the corpus at 640
// pixels wide. Make them anew with `go run ./bench/qualitytable`.
var marks = []struct{ quality, distance float64 }{
	{0, 0.4}, {5, 0.16054}, {10, 0.10923}, {15, 0.07690}, {20, 0.06176}, {25, 0.05261}, {30, 0.04465}, {35, 0.03887},
	{40, 0.03518}, {45, 0.03162}, {50, 0.02897}, {55, 0.02657}, {60, 0.02454}, {65, 0.02221}, {70, 0.01957}, {75, 0.01707},
	{80, 0.01440}, {85, 0.01175}, {90, 0.00823}, {95, 0.00570}, {98, 0.00237}, {100, 0.0008},
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

// Package wording holds what every part of Echo Lane says the same way: sizes, shortened text, and the word that
// somebody most likely meant.
package wording

import "fmt"

// Bytes writes a size with its unit: 812 B, 38.1 kB, 4.70 MB.
func Bytes(n int64) string {
	switch v := float64(n); {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case v < 99_950:
		return fmt.Sprintf("%.1f kB", v/1e3)
	case v < 999_500:
		return fmt.Sprintf("%.0f kB", v/1e3)
	case v < 999_500_000:
		return fmt.Sprintf("%.2f MB", v/1e6)
	default:
		return fmt.Sprintf("%.2f GB", v/1e9)
	}
}

// Part writes a part of a whole: 98.6 %, or – of nothing.
func Part(part, of int64) string {
	if of <= 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f %%", 100*float64(part)/float64(of))
}

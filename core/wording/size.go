// Package wording holds what every part of Echo Lane says the same way: sizes, shortened text, and the word that
// somebody most likely meant.
package wording

import (
	"fmt"
	"strings"
)

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

// Number writes how many there are of something: 1 variant, 412 variants.
func Number(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Part writes a part of a whole: 98.6 %, or – of nothing.
func Part(part, of int64) string {
	if of <= 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f %%", 100*float64(part)/float64(of))
}

// units are those of sizes, by their names in lower case.
var units = []struct {
	name  string
	bytes float64
}{
	{"tib", 1 << 40}, {"gib", 1 << 30}, {"mib", 1 << 20}, {"kib", 1 << 10}, {"tb", 1e12}, {"gb", 1e9}, {"mb", 1e6}, {"kb", 1e3}, {"b", 1}, {"", 1},
}

// CutUnit parts a size such as 60kB or 1.5 MiB into its number, as it is written, and the bytes that its unit stands for:
// 1 where there is none. Case makes no difference.
func CutUnit(text string) (number string, bytes float64) {
	lower := strings.ToLower(text)
	for _, u := range units {
		if strings.HasSuffix(lower, u.name) {
			return strings.TrimRight(lower[:len(lower)-len(u.name)], " "), u.bytes
		}
	}
	return lower, 1
}

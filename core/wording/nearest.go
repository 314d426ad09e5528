package wording

import "strings"

// Nearest returns the candidate closest to given, or "" where none is close enough to be worth offering.
//
// A candidate of which given is the beginning, or one of whose parts (`object-fit`: `object`, `fit`) it is,
// comes before one that is only some edits away: people shorten names more often than they mistype them.
// Distance is Damerau's (insertion, deletion, substitution, transposition of neighbours) in the optimal
// string alignment form; at most a third of the longer word may differ, rounded up. Case is ignored.
// Of equals the first candidate wins.
func Nearest(given string, candidates []string) string {
	given = strings.ToLower(strings.TrimSpace(given))
	if given == "" {
		return ""
	}
	best, bestScore := "", 1<<30
	for _, c := range candidates {
		if s := score(given, strings.ToLower(c)); s < bestScore {
			best, bestScore = c, s
		}
	}
	return best
}

// Misspelt returns the candidate that given is a misspelling of: at most two letters differ, and less than half of them. "" where
// there is none. Of equals the first candidate wins.
func Misspelt(given string, candidates []string) string {
	given = strings.ToLower(strings.TrimSpace(given))
	best, least := "", 3
	for _, c := range candidates {
		if d := distance(given, strings.ToLower(c)); d < least && 2*d < max(len(given), len(c)) {
			best, least = c, d
		}
	}
	return best
}

// score is the distance between given and candidate, 1<<30 for "too far".
func score(given, candidate string) int {
	d := distance(given, candidate)
	longer := max(len(given), len(candidate))
	if 3*d <= longer+2 {
		return 2 * d
	}
	if strings.HasPrefix(candidate, given) {
		return 2*3 + 1
	}
	for _, part := range strings.Split(candidate, "-") {
		if part == given {
			return 2 * 3
		}
	}
	return 1 << 30
}

func distance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 1 << 20
	}
	var before, last, row [65]int
	for j := 0; j <= len(b); j++ {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last = last, row
	}
	return last[len(b)]
}

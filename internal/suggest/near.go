// Package suggest finds the name that somebody probably meant.
package suggest

import "strings"

// To returns the candidate closest to word, or "" when none is close: at most
// a third of the word's letters (and at least one) may differ. It counts
// insertions, deletions, replacements and swaps of neighbours.
func To(word string, candidates []string) string {
	best, least := "", max(1, len(word)/3)+1
	for _, c := range candidates {
		d := distance(strings.ToLower(word), strings.ToLower(c))
		if d < least {
			best, least = c, d
		}
	}
	return best
}

// Hint returns a sentence naming the nearest candidate, or "".
func Hint(word string, candidates []string) string {
	if c := To(word, candidates); c != "" {
		return "Did you mean " + c + "?"
	}
	return ""
}

// distance is the optimal string alignment distance (Damerau 1964, restricted).
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			d := min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				d = min(d, rows[i-2][j-2]+1)
			}
			rows[i][j] = d
		}
	}
	return rows[len(x)][len(y)]
}

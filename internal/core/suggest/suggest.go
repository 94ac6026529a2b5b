// Package suggest finds the word that was probably meant.
package suggest

// Word returns the word with the fewest edits from s, or "" when none is close.
func Word(s string, words []string) string {
	best, least := "", max(1, len(s)/3)+1
	for _, w := range words {
		if d := Distance(s, w); d < least {
			best, least = w, d
		}
	}
	return best
}

// Distance counts insertions, deletions, substitutions and swaps of neighbours.
func Distance(a, b string) int {
	prev2, prev, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(prev[j]+1, row[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], prev2[j-2]+1)
			}
		}
		prev2, prev, row = prev, row, prev2
	}
	return prev[len(b)]
}

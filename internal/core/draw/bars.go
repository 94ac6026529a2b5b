package draw

import "slices"

// Heights are bars of eight heights, and none.
var Heights = []rune(" ▁▂▃▄▅▆▇█")

// Bar returns the bar of a value where the largest is most; what is there at all is
// seen.
func Bar(n, most int) rune {
	if n <= 0 || most <= 0 {
		return Heights[0]
	}
	return Heights[max(1, min(n*8/most, 8))]
}

// Bars returns a bar for each of the counts.
func Bars(counts []int) string {
	out := make([]rune, len(counts))
	for i, n := range counts {
		out[i] = Bar(n, slices.Max(counts))
	}
	return string(out)
}

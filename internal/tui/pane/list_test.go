package pane

import (
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/tui/canvas"
)

// Whatever the list, its room and its cursor: the chosen item is shown, under its heading or with its heading
// in the first row, and a click on any row finds what is drawn there.
func TestListShowsWhatIsChosen(t *testing.T) {
	for seed := range uint64(500) {
		r := rng.New(seed, 1)
		var of []string // headings of the items
		for g := range 1 + r.Below(6) {
			for range 1 + r.Below(12) {
				of = append(of, fmt.Sprintf("source%d", g))
			}
		}
		n, rows, at := len(of), 2+r.Below(20), r.Below(len(of))
		heading := func(i int) string { return of[i] }
		c := canvas.New(20, rows+1, canvas.NewTheme(true))
		var l List
		l.Draw(c, 2, 1, 20, rows, n, at, heading,
			func(i, y int) { c.PutUpTo(4, y, 20, canvas.Plain, fmt.Sprint("item", i)) })
		lines := strings.Split(ansi.Strip(c.String()), "\n")
		found := false
		above := ""
		for y := 1; y <= rows; y++ {
			line := strings.TrimSpace(lines[y])
			if strings.HasPrefix(line, "source") {
				above = strings.Fields(line)[0]
			}
			i, ok := l.At(5, y)
			if ok != strings.HasPrefix(line, "item") || ok && strings.Fields(line)[0] != fmt.Sprint("item", i) {
				t.Fatalf("seed %d: row %d shows %q, a click finds %d, %v", seed, y, line, i, ok)
			}
			if ok && i == at {
				found = true
			}
			if ok && above != "" && above != of[i] {
				t.Fatalf("seed %d: item %d of %s stands under %s", seed, i, of[i], above)
			}
		}
		if !found {
			t.Fatalf("seed %d: item %d of %d is not among %d rows:\n%s", seed, at, n, rows, strings.Join(lines, "\n"))
		}
		next, before := Jump(at, 1, n, heading), Jump(at, -1, n, heading)
		if next != at && (of[next] == of[at] || of[next-1] != of[at]) || next == at && of[n-1] != of[at] {
			t.Fatalf("seed %d: from %d the next source begins at %d: %v", seed, at, next, of)
		}
		if before > at || before > 0 && of[before] == of[before-1] {
			t.Fatalf("seed %d: from %d the source before begins at %d: %v", seed, at, before, of)
		}
	}
}

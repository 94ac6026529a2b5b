package tui

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

// Keys at random, on every view, in a terminal of changing size, while a drill runs and
// afterwards: whatever they do, the program stands, leaves in order, and the terminal is
// as it was.
func TestRandomKeys(t *testing.T) {
	const seed, steps = 4, 90
	r := rand.New(rand.NewPCG(seed, 0))
	all := strings.Fields(
		`1 2 3 4 5 6 Up Down Left Right Enter Escape Space Tab PageUp PageDown BSpace / ? : + - , . 0 a b c d e f ` +
			`g k l m n o p r s t u v w x y`)
	often := strings.Fields("1 2 3 4 5 6 Up Down Enter Escape Space")
	sizes := [][2]string{{"160", "47"}, {"100", "30"}, {"80", "24"}, {"60", "15"}, {"200", "60"}}
	x := open(t, 160, 47)
	x.sttys("EDITOR=true VISUAL=true " + program + " demo")
	x.wait("● friday-evening", "quote-1")
	var typed []string
	for n := range steps {
		var some []string
		for range 6 {
			from := all
			if r.IntN(3) == 0 {
				from = often
			}
			some = append(some, from[r.IntN(len(from))])
		}
		typed = append(typed, some...)
		x.keys(some...)
		if n%15 == 14 {
			size := sizes[r.IntN(len(sizes))]
			x.tmux("resize-window", "-x", size[0], "-y", size[1])
		}
		if pane := x.pane(); strings.Contains(pane, "left with") || strings.Contains(pane, "goroutine ") {
			t.Fatalf("seed %d: it is gone after %s:\n%s", seed, strings.Join(typed[max(0, len(typed)-30):], " "), pane)
		}
	}
	x.tmux("resize-window", "-x", "160", "-y", "47")
	x.keys("C-c", "C-c")
	pane := x.wait("left with ", "compared\nquay>")
	code := regexp.MustCompile(`left with (\d+)`).FindStringSubmatch(pane)
	if code[1] != "0" && code[1] != "130" || strings.Contains(pane, "panic") {
		t.Fatalf("seed %d: it ended with %s:\n%s", seed, code[1], pane)
	}
	var c int
	_, _ = fmt.Sscan(code[1], &c)
	x.restored(c)
}

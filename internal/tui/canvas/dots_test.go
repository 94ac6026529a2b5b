package canvas

import (
	"strings"
	"testing"
)

// Dots are set where they are wanted, and nowhere outside; empty cells leave what is below them.
func TestDots(t *testing.T) {
	d := NewDots(3, 2)
	for i := range 8 {
		d.Set(0, i, Warm)
	}
	d.Set(3, d.Rise(1), Bad)
	d.Set(3, d.Rise(0), Bad)
	for _, at := range [][2]int{{-1, 0}, {0, -1}, {6, 0}, {0, 8}} {
		d.Set(at[0], at[1], Bad)
	}
	c := New(4, 2, NewTheme(true))
	c.Put(0, 0, Plain, "abcd")
	d.Draw(c, 0, 0)
	if got := strings.Join(plain(c), "|"); got != "⡇⠈cd|⡇⢀" {
		t.Errorf("%q", got)
	}
	if d.Rise(-1) != 7 || d.Rise(0.5) != 3 || d.Rise(2) != 0 {
		t.Errorf("heights %d %d %d", d.Rise(-1), d.Rise(0.5), d.Rise(2))
	}
	NewDots(-1, 3).Draw(c, 0, 0)
}

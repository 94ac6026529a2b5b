package canvas

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
)

func plain(c *Canvas) []string { return strings.Split(ansi.Strip(c.String()), "\n") }

// Text is cut at its edge, wide characters take two cells, marks that combine
// take none, and nothing is written outside.
func TestTextStaysInItsPlace(t *testing.T) {
	for _, c := range []struct {
		x, edge int
		text    string
		want    string
		next    int
	}{
		{0, 10, "quay", "quay", 4},
		{2, 6, "kittiwake", "  kit…", 6},
		{0, 10, "船が着く", "船が着く", 8},
		{0, 5, "船が着く", "船が…", 5},
		{0, 10, "e\u0301tape", "e\u0301tape", 5},
		{0, 10, "👩‍🚀 crew", "👩‍🚀 crew", 7},
		{0, 4, "x👩‍🚀👩‍🚀", "x👩‍🚀…", 4},
		{9, 10, "xy", "         …", 10},
		{12, 10, "off", "", 12},
		{-2, 10, "quay", "ay", 2},
	} {
		canvas := New(10, 1, NewTheme(true))
		next := canvas.PutUpTo(c.x, 0, c.edge, Plain, c.text)
		if got := strings.TrimRight(plain(canvas)[0], " "); got != c.want || next != c.next {
			t.Errorf("%q at %d up to %d: %q, next %d; want %q, %d", c.text, c.x, c.edge, got, next, c.want, c.next)
		}
	}
	canvas := New(8, 1, NewTheme(true))
	canvas.Put(0, 0, Plain, "船船船船")
	canvas.Set(1, 0, Plain, 'x') // half of a wide one
	canvas.Put(4, 0, Plain, "y")
	canvas.Put(5, 0, Plain, "着")
	if got := plain(canvas)[0]; got != " x船y着" {
		t.Errorf("over halves: %q", got)
	}
	narrow := New(4, 1, NewTheme(true))
	narrow.Draw(1, 0, canvas)
	if got := plain(narrow)[0]; got != "  x" {
		t.Errorf("cut inside a wide one: %q", got)
	}
	canvas = New(4, 2, NewTheme(true))
	canvas.Put(0, -1, Plain, "no")
	canvas.Put(0, 2, Plain, "no")
	canvas.Set(4, 0, Plain, 'x')
	canvas.Restyle(-3, 5, 99, Chosen)
	if got := strings.TrimSpace(strings.Join(plain(canvas), "")); got != "" {
		t.Errorf("outside: %q", got)
	}
	if New(-1, -1, NewTheme(true)).String() != "" {
		t.Error("a canvas of no size holds something")
	}
}

// A row is written in runs of one style, and each run leaves no style behind.
func TestRowsAreWrittenInRuns(t *testing.T) {
	c := New(20, 2, NewTheme(true))
	c.Put(0, 0, Warm, "warm warm")
	c.Put(9, 0, Bad, "failed")
	c.Put(0, 1, Plain, "plain")
	rows := strings.Split(c.String(), "\n")
	if n := strings.Count(rows[0], "\x1b["); n != 4 {
		t.Errorf("%d sequences in %q, want 4", n, rows[0])
	}
	if rows[1] != "plain" {
		t.Errorf("a plain row is %q", rows[1])
	}
	other := New(3, 1, NewTheme(false))
	other.Put(0, 0, Plain, "abc")
	c.Draw(18, 1, other)
	c.Frame(10, 0, 5, 2, "title")
	if got := plain(c)[1]; got != "plain     └───┘   ab" {
		t.Errorf("drawn onto it: %q", got)
	}
}

// No meaning by colour alone: every style that stands for a state differs from
// plain text by more than colour only where a glyph or a word says the same.
func TestBothThemesHaveEveryStyle(t *testing.T) {
	for _, dark := range []bool{true, false} {
		theme := NewTheme(dark)
		for s := Plain + 1; s < styles; s++ {
			if theme.before[s] == "" {
				t.Errorf("dark %v: style %d has no look", dark, s)
			}
		}
	}
}

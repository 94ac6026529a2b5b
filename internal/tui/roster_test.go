package tui

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/build"
	"nightdrill.dev/internal/tui/canvas"
)

// A note goes by itself after a while; what went wrong is said for longer, and a question, and
// what is still being done, until they are over.
func TestNotesDoNotStay(t *testing.T) {
	for _, c := range []struct {
		note string
		good bool
		yes  func(string) tea.Cmd
		at   []time.Duration
		want []bool
	}{
		{"3 files written to runs", true, nil, []time.Duration{5 * time.Second, 11 * time.Second}, []bool{true, false}},
		{"the run is gone", false, nil, []time.Duration{11 * time.Second, 31 * time.Second}, []bool{true, false}},
		{"writing …", true, nil, []time.Duration{time.Minute}, []bool{true}},
		{"Delete it? y", true, func(string) tea.Cmd { return nil }, []time.Duration{time.Minute}, []bool{true}},
	} {
		s := &shell{note: c.note, good: c.good, yes: c.yes}
		began := time.Now()
		s.fade(began)
		for i, at := range c.at {
			if s.fade(began.Add(at)); (s.note != "") != c.want[i] {
				t.Errorf("%q after %v: %q", c.note, at, s.note)
			}
		}
	}
}

// A function that is held shows where a debugger finds it, however little room there is.
func TestAHeldFunctionShowsItsPort(t *testing.T) {
	x := stands(&session.State{Name: "quote", Held: true, Address: "127.0.0.1:28226",
		Look: engine.Stats{Ready: 1, Idle: 1, IdleStop: clock.Never}})
	for i, words := range x.words {
		if !strings.Contains(words, ":28226") && i != 1 || ansi.StringWidth(words) > rosterWidths[i] && i > 1 {
			t.Errorf("at length %d: %q", i, words)
		}
	}
}

// Each function stands on the roster, with words as long as all have room for.
func TestTheRosterHasRoomForAll(t *testing.T) {
	five := strings.Fields("quote boarding manifest position tides")
	for _, c := range []struct {
		names []string
		w     int
		level int
	}{{five[:1], 160, 0}, {five[:2], 160, 0}, {five[:3], 160, 1}, {five, 158, 2}, {five, 98, 3},
		{five, 78, rosterLevels}, {strings.Fields(strings.Repeat("a-long-name ", 30)), 158, rosterLevels}} {
		if got := rosterLevel(c.names, c.w); got != c.level {
			t.Errorf("%d functions in %d cells: words of length %d, want %d", len(c.names), c.w, got, c.level)
		}
	}
	for _, l := range []engine.Stats{{}, {Starting: 3}, {Ready: 10, Waiting: 120}, {Ready: 10},
		{Ready: 2, Idle: 1, IdleStop: clock.Never}, {Ready: 12, Idle: 1, IdleStop: clock.Time(99 * time.Second)}} {
		x := meets(&l, 0)
		for i, words := range x.words {
			if n := ansi.StringWidth(words); words == "" || n > rosterWidths[i] ||
				i > 0 && n > ansi.StringWidth(x.words[i-1]) {
				t.Errorf("%+v at length %d: %q", l, i, words)
			}
		}
	}
}

// Where there is no room for each function, they are counted by how they stand.
func TestManyFunctionsAreCounted(t *testing.T) {
	var all []stance
	for i := range 12 {
		x := session.State{Name: "f"}
		switch {
		case i < 2:
			x.Look = engine.Stats{Ready: 1, Idle: 1, IdleStop: clock.Never}
		case i == 2:
			x.Failure = &build.Failure{Text: "f does not start"}
		}
		all = append(all, stands(&x))
	}
	c := canvas.New(80, 1, canvas.NewTheme(true))
	(&shell{w: 80}).drawSum(c, 0, 79, all)
	if got := strings.TrimSpace(ansi.Strip(c.String())); got != "12 functions  1 ✗ failing  2 warm  9 cold" {
		t.Errorf("%q", got)
	}
}

package tui

import (
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
)

// Each function stands on the roster, with words as long as all have room for.
func TestTheRosterHasRoomForAll(t *testing.T) {
	five := strings.Fields("quote boarding manifest position tides")
	for _, c := range []struct {
		names []string
		w     int
		level int
	}{{five[:1], 160, 0}, {five[:2], 160, 0}, {five[:3], 160, 1}, {five, 158, 2}, {five, 98, 3}, {five, 78, rosterLevels}, {strings.Fields(strings.Repeat("a-long-name ", 30)), 158, rosterLevels}} {
		if got := rosterLevel(c.names, c.w); got != c.level {
			t.Errorf("%d functions in %d cells: words of length %d, want %d", len(c.names), c.w, got, c.level)
		}
	}
	for _, l := range []engine.Look{{}, {Starting: 3}, {Ready: 10, Waiting: 120}, {Ready: 10}, {Ready: 2, Idle: 1, IdleStop: clock.Never}, {Ready: 12, Idle: 1, IdleStop: clock.Time(99 * time.Second)}} {
		x := meets(&l, 0)
		for i, words := range x.words {
			if n := ansi.StringWidth(words); words == "" || n > rosterWidths[i] || i > 0 && n > ansi.StringWidth(x.words[i-1]) {
				t.Errorf("%+v at length %d: %q", l, i, words)
			}
		}
	}
}

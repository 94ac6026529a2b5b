package tui

import (
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/files"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
)

// hint is one line for who sees the program for the first time: what is to be seen now, and which
// key to try next. It is given where it holds, until what it proposes was done.
type hint struct {
	text  string
	holds func(s *shell) bool
	done  func(s *shell) bool
}

var hints = []hint{
	{"Each row is an instance: ◆ replied cold, ▅ is work, ┤ it stopped. Press e to lower a limit while it runs.",
		func(s *shell) bool { return s.tab == onDrill && s.running != nil },
		func(s *shell) bool { return s.pressed["e"] || s.running == nil && !s.findings.Empty() }},
	{"The verdict stands first, and the worst function has the cursor: Enter opens its row to the sentences.",
		func(s *shell) bool { return s.tab == onFindings && s.findings.OnPage() },
		func(s *shell) bool { return s.findings.Opened() }},
	{"l shows the instances of this run. 3 sends one event by hand.",
		func(s *shell) bool { return s.tab == onFindings && s.findings.OnPage() },
		func(s *shell) bool { return s.visited[onFire] }},
	{"Enter fires the chosen payload: its reply, its log lines and where the time went appear on the right.",
		func(s *shell) bool { return s.tab == onFire },
		func(s *shell) bool { return s.fire.Fired() > 0 }},
	{"Fire it again: what was cold is warm now, and what differs from the reply before is marked.",
		func(s *shell) bool { return s.tab == onFire },
		func(s *shell) bool { return s.fire.Fired() > 1 }},
	{"w fires it again after each change of the code. 2 shows what is wired to what.",
		func(s *shell) bool { return s.tab == onFire },
		func(s *shell) bool { return s.visited[onWiring] }},
	{"Choose a source and press Enter to put an event on the map; space follows it to where it stops.",
		func(s *shell) bool { return s.tab == onWiring },
		func(s *shell) bool { return s.pressed["space"] }},
	{"That is the loop. ? shows the keys of any view, : finds a command by name; T ends these hints.",
		nil, nil},
}

// guide is how far the hints have come.
type guide struct {
	off  bool
	file string // is there where they were put away for good
	done [16]bool
}

// newGuide returns the hints of a user, who may have put them away.
func newGuide() (g guide) {
	g.file = filepath.Join(files.State(), "no-hints")
	_, err := os.Stat(g.file)
	g.off = err == nil
	return g
}

// noteDone takes down which of the hints have been followed.
func (s *shell) noteDone() {
	for i := range hints[:len(hints)-1] {
		if !s.guide.done[i] && hints[i].done(s) {
			s.guide.done[i] = true
		}
	}
}

// hint returns the hint for now, or "".
func (s *shell) hint() string {
	if s.guide.off {
		return ""
	}
	last := len(hints) - 1 // for who has done all the others
	for i := range last {
		switch {
		case s.guide.done[i]:
		case hints[i].holds(s):
			return hints[i].text
		default:
			last = -1
		}
	}
	if last < 0 {
		return ""
	}
	return hints[last].text
}

// drawHint draws the hint for now above the last line.
func (s *shell) drawHint(c *canvas.Canvas, y int) {
	if text := s.hint(); text != "" {
		if first, _, more := strings.Cut(text, ". "); more && ansi.StringWidth(text) > s.w-4 {
			text = first + "." // what to see matters more than what to press, which the last line has, too
		}
		x := c.Put(1, y, canvas.Warm, "▸ ")
		end := "T no hints"
		if x = c.PutUpTo(x, y, s.w-1, canvas.Plain, text); x+3+len(end) < s.w {
			c.Right(s.w-1, y, canvas.Dim, end)
		}
	}
}

// switchHints puts the hints away for good, or brings them back.
func (s *shell) switchHints() tea.Cmd {
	g := &s.guide
	g.off = !g.off
	var err error
	switch {
	case g.off:
		if err = os.MkdirAll(filepath.Dir(g.file), 0o755); err == nil {
			err = os.WriteFile(g.file, nil, 0o644)
		}
	default:
		err = os.Remove(g.file)
		g.done = [16]bool{}
	}
	switch {
	case err != nil:
		return msg.Complain("That cannot be remembered: %v", err)
	case g.off:
		return msg.Say("Hints are off, also next time; T brings them back.")
	}
	return msg.Say("Hints are on.")
}

package tui

import (
	"os"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/tui/msg"
)

// pointed is a view in which one can point at things: at a place of the view, from 0.
type pointed interface {
	Click(x, y int) tea.Cmd
}

// mouseOff is the variable of the environment that leaves the mouse to the terminal, with any value.
const mouseOff = "NIGHTDRILL_NO_MOUSE"

func wantsMouse() bool { return os.Getenv(mouseOff) == "" }

// wheelRows is how far one step of the wheel scrolls.
const wheelRows = 3

// onMouse handles a click or a turn of the wheel.
func (s *shell) onMouse(m tea.MouseMsg) tea.Cmd {
	if !s.mouse || s.prompt != nil || s.yes != nil || s.asking || s.typing() != nil {
		return nil
	}
	at := m.Mouse()
	switch m.(type) {
	case tea.MouseWheelMsg:
		k, ok := map[tea.MouseButton]rune{tea.MouseWheelUp: tea.KeyUp, tea.MouseWheelDown: tea.KeyDown}[at.Button]
		if !ok || s.help {
			return nil
		}
		var all []tea.Cmd
		for range wheelRows {
			all = append(all, s.current().Key(tea.KeyPressMsg{Code: k}))
		}
		return tea.Batch(all...)
	case tea.MouseClickMsg:
		switch v, ok := s.current().(pointed); {
		case at.Button != tea.MouseLeft:
		case s.help:
			s.help = false
		case at.Y == 0:
			for i, x := range s.tabsAt {
				if at.X >= x[0] && at.X < x[1] {
					return s.show(tab(i))
				}
			}
		case ok && at.Y >= 2 && at.Y < s.h-2:
			return v.Click(at.X, at.Y-2)
		}
	}
	return nil
}

// switchMouse leaves the mouse to the terminal, so that text can be selected, or takes it back.
func (s *shell) switchMouse() tea.Cmd {
	if s.mouse = !s.mouse; s.mouse {
		return msg.Say("The mouse chooses again.")
	}
	return msg.Say("The mouse is the terminal's, to select text; M takes it back.")
}

// Package msg is what views say to the shell and ask of it.
package msg

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/session/catalog"
)

// Ask asks the user for a line of text, which the shell passes to Done. With YesNo, it is a
// question that y answers.
type Ask struct {
	Title, Text string
	YesNo       bool
	Done        func(string) tea.Cmd
}

// Note shows a note in the bottom line.
type Note struct {
	Text string
	Bad  bool
}

// Map asks the shell to show an item on the map of the wiring.
type Map struct{ Item *catalog.Item }

// Start asks the shell to take the start of a function apart.
type Start struct{ Function string }

// Failed returns the note of an error.
func Failed(err error) Note { return Note{Text: err.Error(), Bad: true} }

// Say returns a command that says something in the bottom line.
func Say(format string, args ...any) tea.Cmd {
	return func() tea.Msg { return Note{Text: fmt.Sprintf(format, args...)} }
}

// Complain returns a command that says in the bottom line what is wrong.
func Complain(format string, args ...any) tea.Cmd {
	return func() tea.Msg { return Note{Text: fmt.Sprintf(format, args...), Bad: true} }
}

// Copy copies a text to the clipboard (OSC 52), and says what it is.
func Copy(what, content string) tea.Cmd {
	return tea.Batch(tea.SetClipboard(content), Say("Copied: %s, %d bytes.", what, len(content)))
}

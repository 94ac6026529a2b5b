package fireview

import (
	"fmt"

	"nightdrill.dev/internal/tui/msg"

	tea "charm.land/bubbletea/v2"
)

// worked is what follows work that was done beside the screen: it is called in the screen's turn.
type worked func() tea.Cmd

// work does something that may take a while, such as reading or writing files, beside the screen;
// then takes its result up in the screen's turn.
func work[T any](do func() (T, error), then func(T) tea.Cmd) tea.Cmd {
	return func() tea.Msg {
		result, err := do()
		return worked(func() tea.Cmd {
			if err != nil {
				return msg.Complain("%v", err)
			}
			return then(result)
		})
	}
}

// sentence is an error that is shown as it is.
type sentence string

func (s sentence) Error() string { return string(s) }

func failed(format string, args ...any) error { return sentence(fmt.Sprintf(format, args...)) }

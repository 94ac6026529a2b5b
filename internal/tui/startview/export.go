package startview

import (
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/tui/msg"
)

// export writes the drawings and the tree to files.
func (m *Model) export() tea.Cmd {
	r := m.report
	return func() tea.Msg {
		return msg.Ask{Title: "folder to write the report to", Text: "anatomy", Done: func(dir string) tea.Cmd {
			return func() tea.Msg {
				files, err := export.Anatomy(dir, r)
				if err != nil {
					return msg.Failed(err)
				}
				return msg.Note{Text: files}
			}
		}}
	}
}

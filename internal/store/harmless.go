package store

import (
	"bytes"
	"encoding/json"
	"strconv"

	"nightdrill.dev/internal/core/text"
)

// Harmless takes control characters out of what is written of a run: what another machine called it is not to reach
// the terminal as it is.
func (i *Info) Harmless() {
	for _, of := range []*string{&i.ID, &i.Project, &i.Drill, &i.Name, &i.Note, &i.Machine, &i.Commit, &i.Branch} {
		*of = text.Harmless(*of)
	}
}

// ReadJSON reads what a run was written as. Control characters in its strings become visible, as they do on screens:
// names of functions and sources come from whoever wrote the run.
func ReadJSON(data []byte, to any) error { return json.Unmarshal(harmlessJSON(data), to) }

// harmlessJSON returns a JSON text whose strings are fit to be shown.
func harmlessJSON(data []byte) []byte {
	data = bytes.Map(func(r rune) rune {
		if r == '\n' || r == '\r' || r == '\t' { // between values; in strings they are escaped
			return r
		}
		return text.Visible(r)
	}, data)
	out := data[:0] // what is written is never longer than what was read
	for len(data) > 0 {
		n, visible := 1, true
		if data[0] == '\\' && len(data) > 1 {
			n = 2
			switch data[1] {
			case 'u':
				n = min(6, len(data))
				r, err := strconv.ParseUint(string(data[2:n]), 16, 32)
				visible = err != nil || text.Visible(rune(r)) == rune(r)
			case 'b', 'f', 'n', 'r', 't':
				visible = false
			}
		}
		if visible {
			out = append(out, data[:n]...)
		} else { // two bytes, no more than its escape
			out = append(out, "·"...)
		}
		data = data[n:]
	}
	return out
}

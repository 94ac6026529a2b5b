package record

import (
	"slices"

	"nightdrill.dev/internal/core/clock"
)

// LineKind is the kind of a line of a log.
type LineKind uint8

// The kinds of lines.
const (
	Written         LineKind = iota // by the function
	InstanceStarted                 // its process runs
	InstanceReady
	InstanceStopped
	Noted // by the program
)

var lineKinds = [...]string{"written", "started", "ready", "stopped", "note"}

// MarshalText writes the kind as a word.
func (k LineKind) MarshalText() ([]byte, error) { return []byte(lineKinds[k]), nil }

// UnmarshalText reads a word as a kind; of a later version's, it is a note.
func (k *LineKind) UnmarshalText(word []byte) error {
	if *k = Noted; slices.Contains(lineKinds[:], string(word)) {
		*k = LineKind(slices.Index(lineKinds[:], string(word)))
	}
	return nil
}

// Line is a line of a run's log: what a function wrote, or what happened to an instance. Nothing in
// it would be obeyed by a terminal.
type Line struct {
	At       clock.Time `json:"at"`
	Instance string     `json:"instance"` // such as quote-3; of a service, its name
	Kind     LineKind   `json:"kind"`
	Text     string     `json:"text"`
}

package report

import "fmt"

// Finding is a sentence of a page, with what it is about.
type Finding struct {
	Function string `json:"function,omitempty"` // "" for the run, or a source that several functions share
	Source   string `json:"source,omitempty"`
	Text     string `json:"text"`
	Budget   bool   `json:"-"` // about a budget that was missed
	// Cause is the sentence in a few words where it explains why a function was slow or failed, Weight how
	// much that matters.
	Cause  string `json:"cause,omitempty"`
	Weight Weight `json:"weight,omitempty"`
}

// Weight is how much a finding matters: the worst is the largest.
type Weight int

// Weights of causes.
const (
	None Weight = iota
	WarmsUp
	StartsSlowly
	SlowRoute
	CallsUpstream
	BadReplies
	Waits
	Rejects
	StartFails
	Fails
	Crashes
	NeverStarts
)

// voice collects the findings about one thing.
type voice struct {
	to               *[]Finding
	function, source string
}

// say adds a sentence.
func (v voice) say(format string, args ...any) {
	*v.to = append(*v.to, Finding{Function: v.function, Source: v.source, Text: fmt.Sprintf(format, args...)})
}

// because sets the cause of the last sentence, in a few words, and how much it matters.
func (v voice) because(w Weight, format string, args ...any) {
	last := &(*v.to)[len(*v.to)-1]
	last.Cause, last.Weight = fmt.Sprintf(format, args...), w
}

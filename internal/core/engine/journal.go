package engine

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// A journal is a run's inputs and the effects that they had, as JSON lines: the
// set-up first, then each input, followed by its effects. Reenact plays the
// inputs again and reports whether the effects are the same, byte for byte.

// setup is what an engine is made from.
type setup struct {
	Concurrency int
	Settle      time.Duration
	Limits      []plan.Limits
	Functions   []setupFunction
	Sources     []plan.Source
}

type setupFunction struct {
	Name                  string
	Timeout, StartTimeout time.Duration
	Limits                plan.Limits
	Transport             plan.Transport
	Replace               plan.Replacement
}

type journalLine struct {
	At     *clock.Time `json:"at,omitempty"`
	Input  *Input      `json:"input,omitempty"`
	Effect *Effect     `json:"effect,omitempty"`
	Batch  []int64     `json:"batch,omitempty"`
}

// JournalSetup returns a journal's first line.
func JournalSetup(p *plan.Project, limits []plan.Limits, settle time.Duration) []byte {
	s := setup{Concurrency: p.Concurrency, Settle: settle, Limits: limits, Sources: p.Sources}
	for i := range p.Functions {
		f := &p.Functions[i]
		s.Functions = append(s.Functions, setupFunction{f.Name, f.Timeout, f.StartTimeout, f.Limits, f.Transport,
			f.Replace})
	}
	return appendLine(nil, s)
}

// AppendJournal appends an input and its effects.
func AppendJournal(b []byte, now clock.Time, in Input, fx *Effects) []byte {
	b = appendLine(b, journalLine{At: &now, Input: &in})
	for i := range fx.List {
		f := &fx.List[i]
		line := journalLine{Effect: f}
		if f.Kind == Send {
			line.Batch = fx.Events[f.First : f.First+f.N]
		}
		b = appendLine(b, line)
	}
	return b
}

func appendLine(b []byte, v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain data always marshals
	}
	return append(append(b, text...), '\n')
}

// Reenact plays a journal's inputs to a new engine. visit, if given, gets each
// effect with the project that names it. The error names the first line at
// which the effects differ.
func Reenact(journal []byte, visit func(p *plan.Project, f *Effect, events []int64)) error {
	first, rest, _ := bytes.Cut(journal, []byte("\n"))
	var s setup
	if err := json.Unmarshal(first, &s); err != nil {
		return fmt.Errorf("line 1: not the set-up of a journal: %w", err)
	}
	p := &plan.Project{Concurrency: s.Concurrency, Sources: s.Sources}
	for _, f := range s.Functions {
		p.Functions = append(p.Functions, plan.Function{Name: f.Name, Timeout: f.Timeout, StartTimeout: f.StartTimeout,
			Limits: f.Limits, Transport: f.Transport, Replace: f.Replace})
	}
	e := New(p, s.Limits, s.Settle)
	var fx Effects
	var want []byte
	at := 1
	for len(rest) > 0 || len(want) > 0 {
		var line []byte
		line, rest, _ = bytes.Cut(rest, []byte("\n"))
		at++
		if expected, more, _ := bytes.Cut(want, []byte("\n")); len(want) > 0 {
			if !bytes.Equal(line, expected) {
				return fmt.Errorf("line %d: the journal has\n%s\nthe engine gave\n%s", at, line, expected)
			}
			want = more
			continue
		}
		var l journalLine
		if err := json.Unmarshal(line, &l); err != nil || l.Input == nil || l.At == nil {
			return fmt.Errorf("line %d: wanted an input, found %s", at, line)
		}
		fx.Reset()
		e.Handle(*l.At, *l.Input, &fx)
		_, want, _ = bytes.Cut(AppendJournal(nil, *l.At, *l.Input, &fx), []byte("\n"))
		for i := range fx.List {
			if visit != nil {
				visit(p, &fx.List[i], fx.Events)
			}
		}
	}
	return nil
}

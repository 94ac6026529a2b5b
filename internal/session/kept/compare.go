package kept

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"strings"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/store"
)

// Compared reads two runs and compares them, function by function. They are labelled with their names, or
// A and B where they have none.
func Compared(runs *store.Store, a, b store.Info) ([]*measure.Comparison, error) {
	if a.ID == b.ID {
		return nil, fmt.Errorf("%s cannot be compared with itself; name two runs", a.ID)
	}
	of, err := runs.Load(a.ID)
	if err != nil {
		return nil, err
	}
	to, err := runs.Load(b.ID)
	if err != nil {
		return nil, err
	}
	labels := [2]string{cmp.Or(a.Name, "A"), cmp.Or(b.Name, "B")}
	out, err := CompareLoaded(runs, of, to, labels)
	if err != nil {
		return nil, err
	}
	if again := ReplayedBy(to); again != "" && again == of.ID {
		lines := report.TurnLines(record.TurnsOf(of, to))
		out[0].Sentences = append([]string{strings.Join(lines[:min(len(lines), mostTurns)], " ")}, out[0].Sentences...)
	}
	return out, nil
}

// CompareLoaded compares two runs that were read, function by function, under their
// labels.
func CompareLoaded(runs *store.Store, of, to *record.Run, labels [2]string) ([]*measure.Comparison, error) {
	out := report.CompareRuns(of, to, labels, replies(runs, [2]string{of.ID, to.ID}))
	if out == nil {
		return nil, fmt.Errorf("%s and %s have no function in common that received events in both", of.ID, to.ID)
	}
	return out, nil
}

// mostTurns bounds the lines on outcomes that a comparison begins with.
const mostTurns = 8

// ReplayedBy returns the run that a run replays, or "".
func ReplayedBy(r *record.Run) string {
	var t Manifest
	if len(r.Plan) == 0 || json.Unmarshal(r.Plan, &t) != nil {
		return ""
	}
	return t.Again
}

// CompareVariants compares the variants of a run, function by function.
func CompareVariants(r *record.Run) (out []*measure.Comparison) {
	all := measure.Variants(r)
	for i := range r.Functions {
		if sides := all[r.Functions[i].Name]; sides != nil {
			out = append(out, report.Compare(r.Functions[i].Name, sides, nil))
			delete(all, r.Functions[i].Name)
		}
	}
	return out
}

// replies returns the bytes of replies that two runs kept.
func replies(runs *store.Store, of [2]string) func(side int, number int32) []byte {
	sides := [2]func(int32) []byte{blobsOf(runs, of[0]), blobsOf(runs, of[1])}
	return func(side int, number int32) []byte { return bytes.TrimSpace(sides[side](number)) }
}

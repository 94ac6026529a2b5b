package anatomy

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/stats"
	"nightdrill.dev/internal/core/text"
)

// Side is one of two reports that are compared.
type Side struct {
	Label    string
	Untraced []time.Duration
	Shares   map[string]float64 // ms, by the keys of the classes; empty where they are not shown
	Parts    map[string]float64 // ms, by class and what it was for
	Imports  map[string]float64 // ms of their own; empty where they are not shown
}

// ReadSide reads the JSON of a report. The error says what is not as it should be.
func ReadSide(label string, content []byte) (*Side, error) {
	var in struct {
		Format   string `json:"format"`
		Untraced struct {
			Each []float64 `json:"each"`
		} `json:"untraced_ms"`
		Shares  map[string]float64 `json:"shares_ms"`
		Parts   []part             `json:"parts"`
		Imports []struct {
			Name string  `json:"name"`
			Own  float64 `json:"own_ms"`
		} `json:"imports"`
	}
	if err := json.Unmarshal(content, &in); err != nil {
		return nil, fmt.Errorf("it is not the JSON of an anatomy: %w", err)
	}
	if in.Format != Format {
		return nil, fmt.Errorf("its format is %q, not %q", in.Format, Format)
	}
	s := &Side{Label: label, Shares: in.Shares, Parts: map[string]float64{}, Imports: map[string]float64{}}
	for _, ms := range in.Untraced.Each {
		s.Untraced = append(s.Untraced, time.Duration(ms*float64(time.Millisecond)))
	}
	for _, p := range in.Parts {
		at := slices.Index(Keys[:], p.Class)
		if at < 0 {
			return nil, fmt.Errorf("it has a part of the unknown class %q", p.Class)
		}
		s.Parts[strings.TrimSpace(Words[at]+" "+p.On)] += p.Ms
	}
	for _, x := range in.Imports {
		if x.Own > 0 {
			s.Imports[x.Name] += x.Own
		}
	}
	return s, nil
}

// Side returns the report as a side of a comparison.
func (r *Report) Side(label string) *Side {
	content, err := json.Marshal(r)
	if err != nil {
		panic(err) // numbers and texts always marshal
	}
	s, err := ReadSide(label, content)
	if err != nil {
		panic(err) // it was just written
	}
	return s
}

// Change is a figure that is different on the other side.
type Change struct {
	What   string  `json:"what"`
	Before float64 `json:"before_ms"`
	After  float64 `json:"after_ms"`
}

// Difference is what a comparison of two starts came to.
type Difference struct {
	Verdict string   `json:"verdict"` // on the untraced medians
	Beyond  bool     `json:"beyond_noise"`
	Shares  []Change `json:"shares"`
	Parts   []Change `json:"parts"`   // what changed by at least 2 ms, the most first
	Imports []Change `json:"imports"` // likewise, what was added, what went and what changed by at least 1 ms
}

// Noise of a comparison of two starts: how often one of what is alike may claim a difference.
const alpha = 0.05

// Compare compares two starts: the untraced ones decide whether they differ, the others show by what. Sides of the
// same label are those of one function before and now.
func Compare(a, b *Side) *Difference {
	d := &Difference{}
	x, y := stats.Of(a.Untraced), stats.Of(b.Untraced)
	c := stats.Compare(x, y, stats.Independent)
	before, after := medianOf(a.Untraced), medianOf(b.Untraced)
	interval := ""
	if c.Interval {
		interval = fmt.Sprintf(" (%.2f to %.2f)", c.Lo, c.Hi)
	}
	ratio := float64(after) / float64(max(before, 1))
	both := fmt.Sprintf("The start of %s takes %s, that of %s %s", a.Label, text.Measured(before), b.Label,
		text.Measured(after))
	if a.Label == b.Label {
		both = fmt.Sprintf("A start took %s before, and takes %s now", text.Measured(before), text.Measured(after))
	}
	switch d.Beyond = c.P <= alpha && (!c.Interval || c.Lo > 1 || c.Hi < 1); {
	case !d.Beyond:
		d.Verdict = both + ": no difference beyond noise."
	case ratio < 1:
		d.Verdict = fmt.Sprintf("%s: %.2f × as long%s.", both, ratio, interval)
	default:
		d.Verdict = fmt.Sprintf("%s: %.1f × as long%s.", both, ratio, interval)
	}
	if len(a.Shares) > 0 && len(b.Shares) > 0 {
		for i, key := range Keys {
			d.Shares = append(d.Shares, Change{Words[i], a.Shares[key], b.Shares[key]})
		}
		const least = 2
		d.Parts = changes(a.Parts, b.Parts, least)
	}
	if len(a.Imports) > 0 && len(b.Imports) > 0 {
		const least = 1
		d.Imports = changes(a.Imports, b.Imports, least)
	}
	return d
}

func medianOf(all []time.Duration) time.Duration { return (&Report{Untraced: all}).Median() }

// changes returns what changed by at least so many milliseconds, the most first.
func changes(a, b map[string]float64, least float64) (out []Change) {
	names := map[string]bool{}
	for n := range a {
		names[n] = true
	}
	for n := range b {
		names[n] = true
	}
	for _, n := range slices.Sorted(maps.Keys(names)) {
		if math.Abs(a[n]-b[n]) >= least {
			out = append(out, Change{n, a[n], b[n]})
		}
	}
	slices.SortStableFunc(out, func(x, y Change) int {
		return cmp.Compare(math.Abs(y.After-y.Before), math.Abs(x.After-x.Before))
	})
	return out
}

package infer

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"

	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
)

// Answers relates what payloads contain to how they were answered. Add takes payloads with their answers;
// Rules returns which values go with which answer.
type Answers struct {
	labels []string            // of each payload
	values []map[string]string // of each payload, by JSON Pointer
}

// Rule is a value with which payloads are answered differently from the others.
type Rule struct {
	At    string // JSON Pointer of the field
	Is    string // "= heron", "≥ 9" or "≤ 2"
	Label string // of the answer
	// how many payloads with the value, and without, have the answer
	With, OfWith, Without, OfWithout int
}

// Add takes a payload that was answered so.
func (a *Answers) Add(p *payload.Payload, label string) {
	var doc any
	if p.Request != nil {
		doc = requestDoc(p.Request)
	} else if v, err := jsondiff.Decode(p.Data()); err == nil {
		doc = v
	}
	values := map[string]string{}
	flatten(values, "", doc)
	a.labels, a.values = append(a.labels, label), append(a.values, values)
}

// N returns the number of payloads so far.
func (a *Answers) N() int { return len(a.labels) }

// Counts returns how many payloads have each answer, the most frequent first.
func (a *Answers) Counts() (labels []string, counts map[string]int) {
	counts = map[string]int{}
	for _, l := range a.labels {
		if counts[l]++; counts[l] == 1 {
			labels = append(labels, l)
		}
	}
	slices.SortFunc(labels, func(x, y string) int {
		return cmp.Or(cmp.Compare(counts[y], counts[x]), cmp.Compare(x, y))
	})
	return labels, counts
}

const (
	mostDepth  = 4    // of fields that are looked at
	mostValues = 60   // of a field that are looked at
	mostCuts   = 24   // of a field of numbers
	mostRules  = 6    //
	leastShift = 0.5  // by which the share of an answer must differ
	chance     = 0.05 // that any rule is found where there is none
)

// flatten collects the scalars of a document by their JSON Pointers; lists are left out.
func flatten(to map[string]string, at string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for name, x := range v {
			if next := at + "/" + jsondiff.Escape(name); depth(next) <= mostDepth {
				flatten(to, next, x)
			}
		}
	case string:
		to[at] = v
	case fmt.Stringer: // a number
		to[at] = v.String()
	case bool:
		to[at] = strconv.FormatBool(v)
	}
}

func depth(at string) (n int) {
	for _, r := range at {
		if r == '/' {
			n++
		}
	}
	return n
}

// candidate is a rule with the probability that it is chance.
type candidate struct {
	Rule
	p float64
}

// Rules returns the values with which a less frequent answer goes, the least likely by chance first: by
// Fisher's exact test, with Bonferroni's correction for all that were looked at.
func (a *Answers) Rules() (out []Rule) {
	labels, _ := a.Counts()
	if len(labels) < 2 {
		return nil
	}
	fields := map[string]bool{}
	for _, v := range a.values {
		for at := range v {
			fields[at] = true
		}
	}
	tests := 0
	var found []candidate
	for _, at := range slices.Sorted(maps.Keys(fields)) {
		for _, label := range labels[1:] {
			best := candidate{p: 1}
			for _, c := range a.candidates(at, label) {
				if tests++; c.p < best.p {
					best = c
				}
			}
			if best.p < 1 {
				found = append(found, best)
			}
		}
	}
	slices.SortStableFunc(found, func(x, y candidate) int { return cmp.Compare(x.p, y.p) })
	type same struct {
		label           string
		with, ofWith    int
		without, others int
	}
	seen := map[same]bool{}
	for _, c := range found {
		if c.p*float64(tests) > chance || len(out) == mostRules {
			break
		}
		shift := float64(c.With)/float64(c.OfWith) - float64(c.Without)/float64(max(c.OfWithout, 1))
		// another field that says the same of the same payloads adds nothing
		if key := (same{c.Label, c.With, c.OfWith, c.Without, c.OfWithout}); shift >= leastShift && !seen[key] {
			seen[key] = true
			out = append(out, c.Rule)
		}
	}
	return out
}

// candidates returns the rules for one field and one answer: for each value that several payloads have, and
// where all values are numbers, for being above or below some of them.
func (a *Answers) candidates(at, label string) (out []candidate) {
	type tally struct{ with, n int }
	by := map[string]*tally{}
	all, hits := 0, 0
	numbers := true
	for i, values := range a.values {
		v, ok := values[at]
		if !ok {
			continue
		}
		if by[v] == nil {
			by[v] = &tally{}
			if _, err := strconv.ParseFloat(v, 64); err != nil {
				numbers = false
			}
		}
		all++
		by[v].n++
		if a.labels[i] == label {
			hits++
			by[v].with++
		}
	}
	add := func(is string, with, n int) {
		if n < 2 || n == all {
			return
		}
		out = append(out, candidate{Rule{at, is, label, with, n, hits - with, all - n}, fisher(with, n, hits, all)})
	}
	if len(by) <= mostValues {
		for _, v := range slices.Sorted(maps.Keys(by)) {
			add("= "+v, by[v].with, by[v].n)
		}
	}
	if !numbers || len(by) < 3 {
		return out
	}
	type point struct {
		v    float64
		text string
		t    *tally
	}
	var line []point
	for text, t := range by {
		v, _ := strconv.ParseFloat(text, 64) // it was read before
		line = append(line, point{v, text, t})
	}
	slices.SortFunc(line, func(x, y point) int { return cmp.Or(cmp.Compare(x.v, y.v), cmp.Compare(x.text, y.text)) })
	with, n := 0, 0
	step := max(len(line)/mostCuts, 1)
	for i, x := range line[:len(line)-1] {
		with, n = with+x.t.with, n+x.t.n
		if i%step == 0 {
			add("≤ "+x.text, with, n)
			add("≥ "+line[i+1].text, hits-with, all-n)
		}
	}
	return out
}

// fisher returns the probability that of n payloads drawn from all, at least `with` are among the hits.
func fisher(with, n, hits, all int) (p float64) {
	choose := func(n, k int) float64 {
		if k < 0 || k > n {
			return math.Inf(-1)
		}
		a, _ := math.Lgamma(float64(n + 1))
		b, _ := math.Lgamma(float64(k + 1))
		c, _ := math.Lgamma(float64(n - k + 1))
		return a - b - c
	}
	whole := choose(all, n)
	for k := with; k <= min(n, hits); k++ {
		p += math.Exp(choose(hits, k) + choose(all-hits, n-k) - whole)
	}
	return min(p, 1)
}

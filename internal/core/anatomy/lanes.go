package anatomy

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Lane is a line of a drawing: what a task did, in stretches of the start.
type Lane struct {
	Name  string
	Spans []Span
}

// leastLane is the least that a task does to have a lane.
const leastLane = 2 * time.Millisecond

// Lanes returns the lanes of the start: the main thread with what it waited for in place, and at most so many of the
// others that did something, what did most first.
func (r *Report) Lanes(most int) (out []Lane) {
	if r.Clock == nil {
		return nil
	}
	out = append(out, Lane{"the start", r.Clock.Line})
	type busy struct {
		Lane
		did time.Duration
	}
	var all []busy
	for i := range r.Tasks {
		t := &r.Tasks[i]
		x := busy{Lane: Lane{t.Name, Alone(r.Tasks, i, r.Clock.Total)}}
		if t.ID == t.Process && t.Parent != 0 && t.Command != "" {
			x.Name = t.Command
		}
		for _, s := range x.Spans {
			if s.Class != Unseen && s.Class != Waiting && (s.Class != Sleeping || t.Parent != 0) {
				x.did += s.To - s.From
			}
		}
		if x.did > leastLane {
			all = append(all, x)
		}
	}
	slices.SortStableFunc(all, func(a, b busy) int { return cmp.Compare(b.did, a.did) })
	for _, x := range all[:min(len(all), most)] {
		out = append(out, x.Lane)
	}
	return out
}

// Node is a module of the tree as it is drawn: in a row for its depth, over its part of the whole time.
type Node struct {
	Import   int // its place in the list
	Depth    int
	From, To time.Duration
}

// Flame returns the tree of imports as a drawing: each over the whole of what it takes, next to each other, what takes
// most first.
func (r *Report) Flame() (out []Node, total time.Duration) {
	children := make([][]int, len(r.Imports)+1)
	for i := range r.Imports {
		p := r.Imports[i].Parent
		if p < 0 {
			p = len(r.Imports)
		}
		children[p] = append(children[p], i)
	}
	for _, c := range children {
		slices.SortStableFunc(c, func(a, b int) int { return cmp.Compare(r.Imports[b].Total, r.Imports[a].Total) })
	}
	var lay func(all []int, depth int, from time.Duration)
	lay = func(all []int, depth int, from time.Duration) {
		for _, i := range all {
			to := from + r.Imports[i].Total
			out = append(out, Node{i, depth, from, to})
			lay(children[i], depth+1, from)
			from = to
		}
	}
	roots := children[len(r.Imports)]
	lay(roots, 0, 0)
	for _, i := range roots {
		total += r.Imports[i].Total
	}
	return out, total
}

// Folded returns the tree as folded stacks: for each module those that load it and it, and its own microseconds.
func (r *Report) Folded() string {
	var out strings.Builder
	for i := range r.Imports {
		own := r.Imports[i].Own.Microseconds()
		if own == 0 {
			continue
		}
		out.WriteString(strings.Join(r.Stack(i), ";"))
		out.WriteByte(' ')
		out.WriteString(strconv.FormatInt(own, 10))
		out.WriteByte('\n')
	}
	return out.String()
}

// Stack returns the names of those that load a module, the outermost first, and its own.
func (r *Report) Stack(i int) (names []string) {
	for ; i >= 0; i = r.Imports[i].Parent {
		names = append(names, strings.ReplaceAll(r.Imports[i].Name, ";", ":"))
	}
	slices.Reverse(names)
	return names
}

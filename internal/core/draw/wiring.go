package draw

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Wiring is a map of what reaches what: sources on the left, functions on the
// right, wires between them. Lay gives every part its place in cells of a grid,
// for the screen and for pictures alike.
type Wiring struct {
	Title              string
	Sources, Functions []WiringNode
	Wires              []WiringWire
}

// WiringNode is a source or a function, with the lines that are written at it.
type WiringNode struct {
	Name  string
	About string // what it is, in a few words
	Ways  []WiringWay
	Lines int // below the name
}

// WiringWay is a way on from a node: of a function's replies, of a source's dead
// letters.
type WiringWay struct {
	N    int    // how many went that way; 0 where it is not known, too
	What string // what goes that way
	To   string // the source that it leads to
	Then string // the functions that this leads to; "" for none
}

// Words describes what goes that way, and how many events did.
func (w *WiringWay) Words() string {
	if w.N == 0 {
		return w.What
	}
	what := w.What
	switch {
	case what == "publishes":
		what = "published"
	case w.N == 1:
		what = strings.TrimSuffix(what, "s")
	}
	return fmt.Sprintf("%d %s", w.N, what)
}

// WiringWire leads from a source to a function.
type WiringWire struct {
	Source, Function int
	Takes            string // which events; "" for all
	Counts           string // how many it took; "" for none
}

// Corner is a place in the grid.
type Corner struct{ X, Y int }

// Box is the place of a node.
type Box struct{ X, Y, W, H int }

// WiringPlan is a map laid out.
type WiringPlan struct {
	W, H      int // that it takes; H may be more than there was
	Sources   []Box
	Functions []Box
	Wires     [][]Corner // the corners of each wire, from the source on
	Label     []Box      // of each wire: room for words upon it
}

const (
	wiringGap  = 2 // between a node and its wires
	leastLabel = 8 // room for words on a wire
)

// Lay lays the map out in a width and, if it can, within a height. Nodes are
// given the room that they ask for; where there is too little height they are
// drawn with their names alone.
func (m *Wiring) Lay(w, h int) *WiringPlan {
	p := &WiringPlan{W: w, Sources: make([]Box, len(m.Sources)), Functions: make([]Box, len(m.Functions))}
	side := min(max(w*25/100, min(max(w*30/100, 20), 34)), 46)
	ports := make([]int, len(m.Sources)) // wires of each source
	for _, x := range m.Wires {
		ports[x.Source]++
	}
	lines := func(n WiringNode, least int, full bool) int {
		if full {
			return max(1+n.Lines, least)
		}
		return max(1, least)
	}
	// as roomy as it fits: with all lines and a gap, without the gap, names alone
	full, gap := true, 1
	for _, try := range []struct {
		full bool
		gap  int
	}{{true, 1}, {true, 0}, {false, 1}, {false, 0}} {
		full, gap = try.full, try.gap
		left, right := -gap, -gap
		for i, n := range m.Sources {
			left += lines(n, ports[i], full) + gap
		}
		for _, n := range m.Functions {
			right += lines(n, 1, full) + gap
		}
		if max(left, right) <= h {
			break
		}
	}
	y := 0
	for i, n := range m.Sources {
		p.Sources[i] = Box{0, y, side, lines(n, ports[i], full)}
		y += p.Sources[i].H + gap
	}
	p.H = y - gap
	// each wire leaves its source in a row of its own
	rows := make([]int, len(m.Wires))
	used := make([]int, len(m.Sources))
	for i, x := range m.Wires {
		rows[i] = p.Sources[x.Source].Y + used[x.Source]
		used[x.Source]++
	}
	p.placeFunctions(m, rows, side, gap, h, func(n WiringNode) int { return lines(n, 1, full) })
	p.route(m, rows, side)
	return p
}

// placeFunctions places each function near the middle of what leads to it, in an order in which few
// wires cross, and where possible in a row in which no wire to another begins.
func (p *WiringPlan) placeFunctions(m *Wiring, rows []int, side, gap, h int, height func(WiringNode) int) {
	sum, n := make([]int, len(m.Functions)), make([]int, len(m.Functions))
	for i, x := range m.Wires {
		sum[x.Function] += rows[i]
		n[x.Function]++
	}
	order := make([]int, len(m.Functions))
	middle := func(f int) int {
		if n[f] == 0 {
			return 1 << 20 // nothing leads there: at the end
		}
		return sum[f] * 16 / n[f]
	}
	total := -gap
	for i := range order {
		order[i] = i
		total += height(m.Functions[i]) + gap
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(middle(a), middle(b)) })
	p.H = max(p.H, total)
	begins := map[int]int{} // rows in which wires begin, and the functions that those lead to
	for i, x := range m.Wires {
		begins[rows[i]] = x.Function
	}
	y, left := 0, total
	for _, f := range order {
		hf := height(m.Functions[f])
		// as near to its wires as leaves room for those below
		at := y
		if want := middle(f) / 16; n[f] > 0 {
			at = max(y, min(want, p.H-left))
		}
		y = nearest(at, y, max(p.H, h)-left, func(y int) bool {
			to, busy := begins[y]
			return !busy || to == f
		})
		p.Functions[f] = Box{p.W - side, y, side, hf}
		y += hf + gap
		left -= hf + gap
		p.H = max(p.H, y-gap)
	}
}

// nearest returns the row nearest to one, between two bounds, that is free; the row
// itself where none is.
func nearest(near, lo, hi int, free func(int) bool) int {
	for d := 0; near-d >= lo || near+d <= hi; d++ {
		for _, y := range [2]int{near + d, near - d} {
			if y >= lo && y <= hi && free(y) {
				return y
			}
		}
	}
	return near
}

// route sets the corners of every wire: along its own row to the column of its function, along that
// to the function's row, and on.
func (p *WiringPlan) route(m *Wiring, rows []int, side int) {
	from, to := side+wiringGap, p.W-side-wiringGap
	// a column for each function that needs one, from the right
	var bent []int
	for f := range m.Functions {
		for i, x := range m.Wires {
			if x.Function == f && rows[i] != p.Functions[f].Y {
				bent = append(bent, f)
				break
			}
		}
	}
	// functions whose wires come from above turn in the order from right to left,
	// those whose wires come from below from left to right, so that they do not
	// cross each other
	slices.SortStableFunc(bent, func(a, b int) int {
		da, db := fall(m, rows, p, a), fall(m, rows, p, b)
		if (da > 0) != (db > 0) {
			return cmp.Compare(db, da)
		}
		if da > 0 {
			return cmp.Compare(p.Functions[b].Y, p.Functions[a].Y)
		}
		return cmp.Compare(p.Functions[a].Y, p.Functions[b].Y)
	})
	p.apart(m, rows, bent)
	column := make([]int, len(m.Functions))
	step := 2
	if room := to - from - leastLabel; len(bent)*step > room {
		step = 1
	}
	for i, f := range bent {
		column[f] = max(to-2-(len(bent)-1-i)*step, from+1)
	}
	left := to - 2 - len(bent)*step
	for i, x := range m.Wires {
		y, target := rows[i], p.Functions[x.Function].Y
		path := []Corner{{from, y}}
		if y != target {
			path = append(path, Corner{column[x.Function], y}, Corner{column[x.Function], target})
		}
		p.Wires = append(p.Wires, append(path, Corner{to, target}))
		p.Label = append(p.Label, Box{from + 1, y, max(left-from-2, 0), 1})
	}
}

// apart changes the order of columns, from left to right, so that no wire lies
// upon another: one that begins in the row of a function that it does not lead to
// turns off before that function's column. Where wires want it both ways, it stays.
func (p *WiringPlan) apart(m *Wiring, rows, bent []int) {
	for range len(bent) {
		changed := false
		for i, x := range m.Wires {
			turns := slices.Index(bent, x.Function)
			for at := 0; at < turns; at++ {
				if f := bent[at]; p.Functions[f].Y == rows[i] && f != x.Function {
					bent = slices.Insert(slices.Delete(bent, turns, turns+1), at, x.Function)
					changed = true
					break
				}
			}
		}
		if !changed {
			return
		}
	}
}

// fall returns how far a function's wires fall on their way; below 0 they rise.
func fall(m *Wiring, rows []int, p *WiringPlan, f int) (sum int) {
	for i, x := range m.Wires {
		if x.Function == f {
			sum += p.Functions[f].Y - rows[i]
		}
	}
	return sum
}

// Arms of a line in a cell, as bits.
const (
	North = 1 << iota
	East
	South
	West
)

// Stroke is a line in one cell.
type Stroke struct {
	Corner
	Arms uint8 // where it leaves the cell; more than two where wires to one function join
}

// Strokes returns the cells of each wire, from the source on. Wires that lead to one
// function flow together; those that lead to others pass over each other, and have
// no arms there but their own.
func (p *WiringPlan) Strokes(m *Wiring) [][]Stroke {
	of := make([]map[Corner]uint8, len(m.Functions))
	out := make([][]Stroke, len(p.Wires))
	for i, path := range p.Wires {
		f := m.Wires[i].Function
		if of[f] == nil {
			of[f] = map[Corner]uint8{}
		}
		at := path[0]
		of[f][at] |= West
		out[i] = append(out[i], Stroke{Corner: at})
		for _, to := range path[1:] {
			for at != to {
				ahead, back := East, West
				step := Corner{at.X + 1, at.Y}
				switch {
				case to.Y > at.Y:
					ahead, back, step = South, North, Corner{at.X, at.Y + 1}
				case to.Y < at.Y:
					ahead, back, step = North, South, Corner{at.X, at.Y - 1}
				}
				of[f][at] |= uint8(ahead)
				of[f][step] |= uint8(back)
				at = step
				out[i] = append(out[i], Stroke{Corner: at})
			}
		}
		of[f][at] |= East
	}
	for i := range out {
		for k := range out[i] {
			out[i][k].Arms = of[m.Wires[i].Function][out[i][k].Corner]
		}
	}
	return out
}

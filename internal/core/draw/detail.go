package draw

import (
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

// Levels of detail: what a lane did in stretches of fixed length, each level
// sixteen times as coarse as the one before. A window whose cells are much longer
// than a stretch is drawn from those, so that drawing costs the same whether a lane
// had a hundred invocations or a million.

const (
	finest     = 1 << 24 // ns, about 17 ms
	coarser    = 4       // each level is 2⁴ times the one before
	levelCount = 3
	few        = 2000 // invocations of a lane that are always drawn one by one
)

type level struct {
	length    clock.Time
	from      int // number of the first stretch
	stretches []stretch
}

// stretch is what a lane did in a stretch of time.
type stretch struct {
	busy  int64 // ns, all slots together
	n     int32 // invocations that touch it
	flags uint8
}

const (
	hasCold = 1 << iota
	hasFirst
	hasFailed
)

// add enters an invocation into every level.
func (l *Lane) add(v *record.Invocation) {
	if l.levels == nil {
		for i := range levelCount {
			length := clock.Time(finest) << (coarser * i)
			l.levels = append(l.levels, level{length: length, from: int(l.Instance.Spawned / length)})
		}
	}
	flags := uint8(0)
	switch v.Class {
	case engine.Cold:
		flags = hasCold
	case engine.First:
		flags = hasFirst
	}
	for i := range l.levels {
		k := &l.levels[i]
		first, last := max(int(v.Assigned/k.length)-k.from, 0), max(int(v.Done/k.length)-k.from, 0)
		for len(k.stretches) <= last {
			k.stretches = append(k.stretches, stretch{})
		}
		for s := first; s <= last; s++ {
			x := &k.stretches[s]
			from := k.length * clock.Time(s+k.from)
			x.busy += int64(max(min(v.Done, from+k.length)-max(v.Assigned, from), 0))
			x.n++
			x.flags |= flags
		}
		if Bad(v) {
			k.stretches[last].flags |= hasFailed
		}
	}
}

// detail returns the coarsest level that a window can be drawn from without
// showing it, or nil when it is to be drawn from the invocations themselves.
func (l *Lane) detail(w Window) *level {
	if len(l.Invocations) < few {
		return nil
	}
	cell := (w.To - w.From) / clock.Time(max(w.Cells, 1))
	var fit *level
	for i := range l.levels {
		if l.levels[i].length*8 <= cell {
			fit = &l.levels[i]
		}
	}
	return fit
}

// fill draws a window's cells from a level.
func (k *level) fill(cells []Cell, w Window, slots int) {
	for i := range cells {
		from, to := w.Cell(i)
		first := max(int(from/k.length)-k.from, 0)
		last := min(int((to-1)/k.length)-k.from, len(k.stretches)-1)
		x := &cells[i]
		for s := first; s <= last; s++ {
			y := &k.stretches[s]
			if y.n == 0 {
				continue
			}
			// a stretch on the border counts in both cells, by its part
			at := k.length * clock.Time(s+k.from)
			part := float64(min(at+k.length, to)-max(at, from)) / float64(k.length)
			x.State = Busy
			x.N += int(y.n)
			x.Share += float64(y.busy) * part / float64(to-from) / float64(slots)
			if whole := at >= from; whole { // a mark stands in one cell
				x.Cold = x.Cold || y.flags&hasCold != 0
				x.First = x.First || y.flags&hasFirst != 0
				x.Failed = x.Failed || y.flags&hasFailed != 0
			}
		}
	}
}

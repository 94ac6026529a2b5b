package fault

import (
	"testing"
	"time"
)

// Shares come out as they are set, the same seed does the same again, and
// setting one kind leaves the fates of the others as they were.
func TestFates(t *testing.T) {
	const n = 200_000
	all := Rules{Duplicate: Whole / 10, Delay: Whole / 20, DelayBy: time.Second, Reorder: Whole / 5,
		Within: 300 * time.Millisecond, Redeliver: Whole / 50, RedeliverBy: 5 * time.Second, DropAck: Whole / 100}
	fewer := all
	fewer.Duplicate, fewer.Reorder = 0, 0
	var times [len(Names)]int
	for i := range n {
		f := all.Of(7, 2, i)
		for k := range Names {
			if f.Kinds&(1<<k) != 0 {
				times[k]++
			}
		}
		moved := f.Delay
		if f.Kinds&Delayed != 0 {
			moved -= time.Second
		}
		if moved < 0 || moved >= 300*time.Millisecond || f.Kinds&Reordered == 0 && moved != 0 {
			t.Fatalf("event %d is moved by %v", i, moved)
		}
		copies := 0
		for _, kind := range []uint8{Duplicated, Redelivered} {
			if f.Kinds&kind != 0 {
				copies++
			}
		}
		if len(f.Copies) != copies || f.AckLost != (f.Kinds&AckLost != 0) {
			t.Fatalf("event %d: %+v", i, f)
		}
		const others = Delayed | Redelivered | AckLost
		if g := fewer.Of(7, 2, i); g.Kinds != f.Kinds&others {
			t.Fatalf("event %d has %b without duplicates and reordering, %b with", i, g.Kinds, f.Kinds)
		}
	}
	for k, share := range []Share{all.Duplicate, all.Delay, all.Reorder, all.Redeliver, all.DropAck} {
		if want := n * int(share) / int(Whole); times[k] < want*95/100 || times[k] > want*105/100 {
			t.Errorf("%s: %d of %d, want about %d", Names[k], times[k], n, want)
		}
	}
	if f := (Rules{}).Of(7, 2, 1); f.Kinds != 0 || f.Copies != nil || f.Delay != 0 {
		t.Errorf("without rules: %+v", f)
	}
}

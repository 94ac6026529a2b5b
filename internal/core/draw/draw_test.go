package draw

import (
	"math"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

func ms(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }

func run() *record.Run {
	return &record.Run{Length: ms(1000), Functions: []record.Function{{Name: "f", PerInstance: 1}},
		Sources: []record.Source{{Name: "s", To: []int{0}}},
		Instances: []record.Instance{{Number: 1, Spawned: ms(100), Ready: ms(200), Stopped: ms(800)},
			{ID: 1, Number: 2, Spawned: ms(500)}},
		Invocations: []record.Invocation{
			{ID: 1, Assigned: ms(200), Done: ms(310), Class: engine.Cold, Status: 200},
			{ID: 2, Assigned: ms(400), Done: ms(450), Class: engine.Warm, Status: 200},
			{ID: 3, Assigned: ms(600), Done: ms(650), Class: engine.Warm, Status: 500},
		},
		Arrivals:   []record.Arrival{{Arrived: ms(100)}, {Arrived: ms(101)}, {Arrived: ms(700)}, {Arrived: ms(705)}},
		Deliveries: []record.Delivery{{Event: 3, Outcome: engine.Rejected, Ended: ms(705)}},
		Levels:     []record.Level{{At: ms(100), Waiting: 2}, {At: ms(210), Waiting: 1}, {At: ms(310)}},
	}
}

// word writes a row with a letter for each cell.
func word(cells []Cell) string {
	s := ""
	for _, c := range cells {
		switch {
		case c.Failed:
			s += "x"
		case c.Cold:
			s += "c"
		case c.State == Busy:
			s += "w"
		default:
			s += string(" s.w"[c.State])
		}
	}
	return s
}

func TestALaneShowsWhatItsInstanceDid(t *testing.T) {
	var c Chart
	r := run()
	c.Update(r)
	w := Window{0, ms(1000), 10}
	// 100 to 200 starting, 200 to 310 cold, 400 to 450 warm, 600 to 650 failed, gone at 800
	if got := word(c.Row(c.Lanes()[0], w, r.Length)); got != " sccw.x.  " {
		t.Errorf("lane %q", got)
	}
	if got := word(c.Row(c.Lanes()[1], w, r.Length)); got != "     sssss" {
		t.Errorf("a lane that is still starting: %q", got)
	}
	if share := c.Row(c.Lanes()[0], w, r.Length)[4].Share; share != 0.5 {
		t.Errorf("busy share %v, want 0.5", share)
	}
	// zoomed in to where nothing ends, the cold answer is still seen
	if got := word(c.Row(c.Lanes()[0], Window{ms(250), ms(290), 4}, r.Length)); got != "cccc" {
		t.Errorf("inside an invocation: %q", got)
	}
}

// However time is cut into cells, each event is counted once.
func TestCountsAddUpInEveryWindow(t *testing.T) {
	var c Chart
	c.Update(run())
	for _, cells := range []int{1, 3, 7, 64, 1000} {
		for k, want := range map[Kind]int{Arrived: 4, Rejected: 1, Lost: 0} {
			got, total := c.Counts(k, 0, Window{0, ms(1000), cells})
			sum := 0
			for _, n := range got {
				sum += n
			}
			if sum != want || total != want {
				t.Errorf("%d cells: %d, in all %d; want %d", cells, sum, total, want)
			}
		}
	}
	got := c.Waiting(0, Window{0, ms(400), 4})
	if got[0] != 0 || got[1] != 2 || got[2] != 2 || got[3] != 1 {
		t.Errorf("waiting %v", got)
	}
}

// A chart that followed a run step by step is the same as one that saw it whole.
func TestAChartFollowsARun(t *testing.T) {
	whole := run()
	var c, once Chart
	part := *whole
	part.Invocations, part.Arrivals, part.Deliveries, part.Levels = whole.Invocations[:1], whole.Arrivals[:2], nil,
		whole.Levels[:1]
	part.Open = []record.Invocation{{ID: 2, Assigned: ms(400)}}
	part.Length = ms(500)
	c.Update(&part)
	if got := word(c.Row(c.Lanes()[0], Window{0, ms(1000), 10}, part.Length)); got != " sccw...  " &&
		got != " sccww..  " {
		t.Errorf("with one in flight: %q", got)
	}
	c.Update(whole)
	once.Update(whole)
	w := Window{0, ms(1000), 50}
	if a, b := word(c.Row(c.Lanes()[0], w, whole.Length)), word(once.Row(once.Lanes()[0], w, whole.Length)); a != b {
		t.Errorf("step by step %q, at once %q", a, b)
	}
	if i := c.Near(c.Lanes()[0], ms(430)); c.Invocation(2) == nil || i != 1 {
		t.Errorf("near 430 ms is %d, want the second", i)
	}
}

// The axis of distributions goes from a power of ten to a power of ten, and has two of them at least.
func TestDecades(t *testing.T) {
	for _, c := range []struct{ least, most, lo, hi float64 }{{3, 40, 1, 100}, {1, 1, 1, 100}, {10, 1000, 10, 1000},
		{0.02, 5000, 0.01, 10000}, {math.Inf(1), 0, 1, 100}} {
		if a := Decades(c.least, c.most); math.Abs(a.Lo/c.lo-1) > 1e-9 || math.Abs(a.Hi/c.hi-1) > 1e-9 || !a.Log {
			t.Errorf("from %v to %v it is %+v, want %v to %v", c.least, c.most, a, c.lo, c.hi)
		}
	}
}

// Drawn from a level of detail, a lane looks as it does drawn from every
// invocation, but for what lies on the border of two cells.
func TestLevelsOfDetailShowTheSame(t *testing.T) {
	r := large(200_000)
	r.Invocations[70_000].Status = 500
	var c Chart
	c.Update(r)
	l := c.Lanes()[r.Invocations[70_000].Instance]
	w := Window{0, r.Length, 100}
	if l.detail(w) == nil || l.detail(Window{0, ms(500), 100}) != nil {
		t.Fatal("wide cells are not drawn from a level, or narrow ones are")
	}
	coarse := c.Row(l, w, r.Length)
	levels := l.levels
	l.levels = nil
	fine := c.Row(l, w, r.Length)
	l.levels = levels
	failed := 0
	for i := range fine {
		if d := fine[i].Share - coarse[i].Share; fine[i].State != coarse[i].State || d > 0.01 || d < -0.01 {
			t.Errorf("cell %d: %+v from the level, %+v from the invocations", i, coarse[i], fine[i])
		}
		if coarse[i].Failed {
			failed++
		}
	}
	if failed != 1 {
		t.Errorf("the one failure is shown in %d cells", failed)
	}
}

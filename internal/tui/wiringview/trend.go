package wiringview

import (
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
)

// grain is the stretch of time of which a trend keeps one count.
const grain = 100 * time.Millisecond

// trend counts, over the time of a run, what came to each source and each function, and what became of it.
// It takes in only what is new of a run that grows.
type trend struct {
	run                             string
	arrivals, deliveries, calls     int     // seen so far
	received, lost                  [][]int // by source
	done, longest                   [][]int // by function; the longest in microseconds
	sourcesOfRun, functionsOfTheRun map[string]int
}

// raise adds to a count, or raises it, at a moment.
func raise(counts *[]int, at clock.Time, by func(int) int) {
	i := max(int(at/clock.Time(grain)), 0)
	for len(*counts) <= i {
		*counts = append(*counts, 0)
	}
	(*counts)[i] = by((*counts)[i])
}

func oneMore(n int) int { return n + 1 }

// update takes in what a run holds beyond what was seen of it.
func (t *trend) update(r *record.Run) {
	if t.run != r.ID || t.sourcesOfRun == nil || t.arrivals > len(r.Arrivals) {
		*t = trend{run: r.ID, received: make([][]int, len(r.Sources)), lost: make([][]int, len(r.Sources)),
			done: make([][]int, len(r.Functions)), longest: make([][]int, len(r.Functions)),
			sourcesOfRun: map[string]int{}, functionsOfTheRun: map[string]int{}}
		for i := range r.Sources {
			t.sourcesOfRun[r.Sources[i].Name] = i
		}
		for i := range r.Functions {
			t.functionsOfTheRun[r.Functions[i].Name] = i
		}
	}
	for ; t.arrivals < len(r.Arrivals); t.arrivals++ {
		a := &r.Arrivals[t.arrivals]
		raise(&t.received[a.Source], a.Arrived, oneMore)
	}
	for ; t.deliveries < len(r.Deliveries); t.deliveries++ {
		if d := &r.Deliveries[t.deliveries]; d.Outcome != engine.Done && d.Outcome != engine.Skipped {
			raise(&t.lost[d.Source], d.Ended, oneMore)
		}
	}
	for ; t.calls < len(r.Invocations); t.calls++ {
		v := &r.Invocations[t.calls]
		raise(&t.done[v.Function], v.Done, oneMore)
		took := int(v.Done.Sub(v.Assigned) / time.Microsecond)
		raise(&t.longest[v.Function], v.Done, func(n int) int { return max(n, took) })
	}
}

// columns cuts counts over a length of time into up to n columns, summing or taking the largest of each.
func columns(counts []int, length clock.Time, n int, largest bool) []int {
	grains := int(length/clock.Time(grain)) + 1
	n = min(n, grains)
	out := make([]int, n)
	for i, v := range counts {
		k := min(i*n/grains, n-1)
		if largest {
			out[k] = max(out[k], v)
		} else {
			out[k] += v
		}
	}
	return out
}

// drawTrend draws how what is under the cursor went over the run that is shown, in the rows above a bottom
// row, and returns how many rows it took: of a source what it received and what was not done, of a
// function its invocations and the longest of them. Without a run, it draws the latest firings.
func (m *Model) drawTrend(c *canvas.Canvas, x, bottom, edge int) (rows int) {
	const name, after = 12, 16
	wide := min(edge-x-name-after, 120)
	if wide < 12 {
		return 0
	}
	row := func(y int, what string, style canvas.Style, counts []int, words string) {
		c.PutUpTo(x, y, x+name, canvas.Dim, what)
		for i, n := range counts {
			c.Set(x+name+i, y, style, draw.Bar(n, slices.Max(counts)))
		}
		c.PutUpTo(x+name+len(counts)+1, y, edge, canvas.Dim, words)
	}
	r := m.live
	if r == nil && m.ofRun != nil {
		r = m.run
	}
	if r == nil {
		return m.drawFirings(c, bottom, wide, row)
	}
	m.trend.update(r)
	length := max(r.Length, 1)
	per := max(length.Seconds()/float64(wide), grain.Seconds())
	rate := func(counts []int) string {
		return "peak " + draw.Short(float64(int(float64(slices.Max(counts))/per+0.5))) + "/s"
	}
	if m.right {
		fn, ok := m.trend.functionsOfTheRun[m.plan.Functions[m.at[1]].Name]
		if !ok || len(m.trend.done[fn]) == 0 {
			return 0
		}
		calls := columns(m.trend.done[fn], length, wide, false)
		longest := columns(m.trend.longest[fn], length, wide, true)
		row(bottom-1, "invocations", canvas.Warm, calls, rate(calls))
		row(bottom, "longest", canvas.Plain, longest,
			"to "+figure.Duration(time.Duration(slices.Max(longest))*time.Microsecond))
		return 2
	}
	src, ok := m.trend.sourcesOfRun[m.plan.Sources[m.at[0]].Name]
	if !ok || len(m.trend.received[src]) == 0 {
		return 0
	}
	received := columns(m.trend.received[src], length, wide, false)
	rows = 1
	if len(m.trend.lost[src]) > 0 {
		lost := columns(m.trend.lost[src], length, wide, false)
		sum := 0
		for _, n := range lost {
			sum += n
		}
		row(bottom, "not done", canvas.Bad, lost, fmt.Sprintf("%d in total", sum))
		rows++
	}
	row(bottom-rows+1, "received", canvas.Plain, received, rate(received))
	return rows
}

// drawFirings draws how long the latest firings took, the oldest first.
func (m *Model) drawFirings(c *canvas.Canvas, bottom, wide int,
	row func(y int, what string, style canvas.Style, counts []int, words string)) int {
	name := ""
	if m.right {
		name = m.plan.Functions[m.at[1]].Name
	} else {
		name = m.plan.Sources[m.at[0]].Name
	}
	all := m.s.LatestDelivered(wide, func(e *explain.Delivered) bool {
		return !e.Open && (m.right && e.Function == name || !m.right && e.Source == name)
	})
	if len(all) < 2 {
		return 0
	}
	var took []int
	for i := len(all) - 1; i >= 0; i-- {
		took = append(took, int(all[i].Took/time.Microsecond))
	}
	row(bottom, fmt.Sprintf("latest %d", len(took)), canvas.Warm, took,
		"to "+figure.Duration(time.Duration(slices.Max(took))*time.Microsecond))
	return 1
}

package findings

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
)

// left is where drawings begin; names stand before it.
const left = 18

// drawLadder draws where the time of starts went, function by function.
func (m *Model) drawLadder(c *canvas.Canvas, y int) int {
	rungs := draw.Ladder(m.page)
	most := 0.0
	for _, r := range rungs {
		most = max(most, r.Total)
	}
	if len(rungs) == 0 {
		return y
	}
	y = m.section(c, y, "Start ladder: where a cold start's time goes, medians", 1)
	words := 44
	for _, r := range rungs {
		words = max(words, ansi.StringWidth(ladderWords(r.Parts))+3)
	}
	if m.w < 110 || words > m.w/2 {
		words = 0
	}
	axis := draw.Linear(most)
	cells := max(m.w-left-2-words, 10)
	for _, r := range rungs {
		c.PutUpTo(1, y, left-1, canvas.Bold, r.Function)
		if len(r.Parts) == 0 {
			c.PutUpTo(left, y, m.w-1, canvas.Dim, text.Plural(r.N, "start")+": too few for a median, which needs 6")
			y++
			continue
		}
		x := left
		for i, p := range r.Parts {
			until := left + int(math.Round(axis.At(p.To)*float64(cells)))
			if until <= x {
				until = x + 1
			}
			glyph, style := '▄', canvas.Warm
			if p.Start {
				if glyph, style = '━', canvas.Cold; i == 0 && len(r.Parts) > 2 {
					glyph = '╌'
				}
			}
			for k := x; k < min(until, m.w-1); k++ {
				c.Set(k, y, style, glyph)
			}
			text := partWords(p)
			pick := record.Filter{Function: r.Function, Class: engine.Cold.String()}
			if !p.Start {
				pick = record.Filter{Function: r.Function, First: 1, Last: 1}
			}
			between := ""
			if p.Hi > 0 {
				between = fmt.Sprintf(", 95 %% interval %s to %s", figure.Millis(&p.Lo), figure.Millis(&p.Hi))
			}
			m.add(x, y, until-x, pick, "%s: %s ms%s, of %d starts", r.Function, text, between, r.N)
			x = until
		}
		if words > 0 {
			c.PutUpTo(max(x+2, left), y, m.w-1, canvas.Dim, ladderWords(r.Parts))
		} else {
			y++
			c.PutUpTo(left, y, m.w-1, canvas.Dim, ladderWords(r.Parts))
		}
		y++
		for _, own := range r.Own {
			from, to := left+int(math.Round(axis.At(own.From)*float64(cells))),
				left+int(math.Round(axis.At(own.To)*float64(cells)))
			for k := from; k < max(to, from+1) && k < m.w-1; k++ {
				c.Set(k, y, canvas.Warm, '▔')
			}
			at := max(to, from+1) + 1
			words := "of it “" + own.Name + "” " + figure.Millis(new(own.To-own.From)) + " ms"
			if long := words + ", " + report.OwnWords(own.Name); at+ansi.StringWidth(long) < m.w ||
				from-1-ansi.StringWidth(long) >= left {
				words = long
			}
			if wide := ansi.StringWidth(words); at+wide >= m.w && from-1-wide >= left { // before it
				at = from - 1 - wide
			}
			c.PutUpTo(at, y, m.w-1, canvas.Dim, words)
			y++
		}
	}
	legend := "╌ spawn, to the command's own code   ━ boot, to ready   ▄ its first reply"
	if most == 0 {
		legend = "What one start took stands at its invocation in the lanes (l)."
	}
	c.PutUpTo(1, y, m.w-1, canvas.Dim, legend)
	return y + 1
}

func partWords(p draw.Part) string { return p.Name + " " + figure.Millis(new(p.To-p.From)) }

// ladderWords returns how long each part of a start took.
func ladderWords(parts []draw.Part) string {
	var texts []string
	for _, p := range parts {
		texts = append(texts, partWords(p))
	}
	return strings.Join(texts, ", ") + " ms"
}

// drawWarmUps draws service time by the n-th invocation of an instance.
func (m *Model) drawWarmUps(c *canvas.Canvas, y int) int {
	for i, curve := range draw.Curves(m.page, 3) {
		if i == 0 {
			y = m.section(c, y, "Warm-up: service time by the n-th invocation of an instance, median and quartiles", 1)
		}
		y = m.drawWarmUp(c, y, &curve)
	}
	return y
}

const curveRows = 5

func (m *Model) drawWarmUp(c *canvas.Canvas, y int, curve *draw.Curve) int {
	name, w, axis := curve.Function, &curve.WarmUp, curve.Axis
	words := c.PutUpTo(1, y, m.w/2, canvas.Bold, name) + 2
	c.PutUpTo(words, y, m.w-1, canvas.Dim, report.WarmUpText(w))
	y++
	m.decades(c, y, m.w-left-2, axis)
	step := max(min((m.w-left-2)/len(w.Points), 6), 2)
	dots := canvas.NewDots(m.w-left-2, curveRows)
	for i, p := range w.Points {
		x := i * step
		if left+x >= m.w-2 {
			break
		}
		for k := dots.Rise(axis.At(p.P75)); k <= dots.Rise(axis.At(p.P25)); k++ {
			dots.Set(2*x, k, canvas.Dim)
		}
		style, mid := canvas.Warm, dots.Rise(axis.At(p.P50))
		if w.Steady != nil && p.From < *w.Steady {
			style = canvas.Cold
		} else if w.Steady != nil && p.From == *w.Steady && i > 0 {
			for k := range curveRows {
				c.Set(left+x-1, y+k, canvas.Faint, '┊') // warm from here on
			}
		}
		dots.Set(2*x, mid, style)
		dots.Set(2*x+1, mid, style)
		if i%2 == 0 || step > 4 {
			c.PutUpTo(left+x, y+curveRows, left+x+2*step-1, canvas.Dim, draw.Short(float64(p.From)))
		}
		nth := report.Ordinal(p.From)
		if p.To > p.From {
			nth += " to " + report.Ordinal(p.To)
		}
		m.add(left+x, y+mid/4, 1, record.Filter{Function: name, First: p.From, Last: p.To},
			"%s, %s invocation: %s ms, half of them between %s and %s, of %d", name, nth, figure.Millis(&p.P50),
			figure.Millis(&p.P25), figure.Millis(&p.P75), p.N)
	}
	dots.Draw(c, left, y)
	return y + curveRows + 1
}

// decades draws a line at each power of ten of a logarithmic axis, and writes its ends.
func (m *Model) decades(c *canvas.Canvas, y, w int, axis draw.Axis) {
	for _, t := range axis.Ticks() {
		row := y + curveRows - 1 - min(int(t.At*curveRows), curveRows-1)
		for x := range w {
			c.Set(left+x, row, canvas.Faint, '·')
		}
		c.Right(left-1, row, canvas.Dim, draw.ShortMillis(t.Value))
	}
}

// steps returns how many steps of the timeline a cell holds, and how many cells there are.
func (m *Model) steps(cells int) (per, n int) {
	all := 0
	if t := m.page.Time; t != nil && t.Step > 0 && len(t.Sources) > 0 {
		all = len(t.Sources[0].Arrived)
	}
	per = max((all+cells-1)/max(cells, 1), 1)
	return per, (all + per - 1) / per
}

// drawTimes draws latency over time, with the instances and those that waited.
func (m *Model) drawTimes(c *canvas.Canvas, y int) int {
	t := m.page.Time
	cells := m.w - left - 22
	per, n := m.steps(cells)
	if n == 0 {
		return y
	}
	courses := draw.Courses(m.page)
	for i, course := range courses {
		name, f, axis := course.Function, course.Of, course.Axis
		if i == 0 {
			y = m.section(c, y, "Over time: latency (⠒ median, ⡇ to p95, ⠈ longest), instances and waiting events", 1)
		}
		c.PutUpTo(1, y, m.w-1, canvas.Bold, name)
		y++
		m.decades(c, y, n, axis)
		dots := canvas.NewDots(n, curveRows)
		rise := func(d time.Duration) int { return dots.Rise(axis.At(figure.Milliseconds(d))) }
		instances, waiting := make([]int, n), make([]int, n)
		for i := range n {
			at := -1 // the step with the longest, which is what the cell shows
			for k := i * per; k < min((i+1)*per, len(f.Done)); k++ {
				instances[i], waiting[i] = max(instances[i], f.Instances[k]), max(waiting[i], f.Waiting[k])
				if f.Done[k] > 0 && (at < 0 || f.Max[k] > f.Max[at]) {
					at = k
				}
			}
			if at < 0 {
				continue
			}
			style := canvas.Warm
			if f.Cold[at] > 0 {
				style = canvas.Cold
			}
			mid := rise(f.P50[at])
			for k := rise(f.P95[at]); k < mid; k++ {
				dots.Set(2*i, k, canvas.Dim)
			}
			dots.Set(2*i+1, rise(f.Max[at]), style)
			dots.Set(2*i, mid, style)
			dots.Set(2*i+1, mid, style)
			from, to := time.Duration(i*per)*t.Step, time.Duration((i+1)*per)*t.Step
			m.add(left+i, y+mid/4, 1, record.Filter{Function: name, From: from, To: to},
				"%s, %.2f to %.2f s: median %s, p95 %s, longest %s; instances %d, waiting %d", name, from.Seconds(),
				to.Seconds(),
				figure.Duration(f.P50[at]), figure.Duration(f.P95[at]), figure.Duration(f.Max[at]),
				instances[i], waiting[i])
		}
		dots.Draw(c, left, y)
		y += curveRows
		y = m.bars(c, y, "instances", instances, canvas.Plain, "peak %d")
		if maxOf(waiting) > 0 {
			y = m.bars(c, y, "waiting", waiting, canvas.Bad, "peak %d")
		}
	}
	if len(courses) > 0 {
		y = m.timeAxis(c, y, per, n)
	}
	return y
}

func maxOf(all []int) (most int) {
	for _, n := range all {
		most = max(most, n)
	}
	return most
}

// bars draws counts over time in one row, and says the most of them, or their sum.
func (m *Model) bars(c *canvas.Canvas, y int, name string, counts []int, style canvas.Style, words string) int {
	c.Right(left-1, y, canvas.Dim, name)
	most, sum := maxOf(counts), 0
	for i, n := range counts {
		sum += n
		c.Set(left+i, y, style, draw.Bar(n, most))
	}
	value := most
	if strings.Contains(words, "total") {
		value = sum
	}
	c.PutUpTo(left+len(counts)+1, y, m.w-1, canvas.Dim, fmt.Sprintf(words, value))
	return y + 1
}

// timeAxis writes the times below a drawing, and above them the names of the drill's moments.
func (m *Model) timeAxis(c *canvas.Canvas, y, per, n int) int {
	axis := draw.Axis{Hi: (time.Duration(per*n) * m.page.Time.Step).Seconds()}
	free := left
	for _, mark := range m.page.Marks {
		name := text.Harmless(mark.Text)
		if x := left + int(axis.At(mark.At.Seconds())*float64(n)); x >= free && x+1+ansi.StringWidth(name) < m.w {
			free = c.Put(x, y, canvas.Plain, "╵"+name) + 1
		}
	}
	if free > left {
		y++
	}
	for _, t := range axis.Ticks() {
		x := left + int(t.At*float64(n))
		c.Put(x, y, canvas.Dim, "╷"+draw.Short(t.Value)+" s")
	}
	return y + 1
}

// drawRates draws what was offered and what was completed, source by source, how much
// was behind, and what was rejected.
func (m *Model) drawRates(c *canvas.Canvas, y int) int {
	t := m.page.Time
	per, n := m.steps(m.w - left - 22)
	if n == 0 {
		return y
	}
	l := m.page.Summary.Load
	title := "offered against completed"
	if l.Offered != nil && l.Completed != nil {
		title = fmt.Sprintf("offered %s/s, completed %s/s", draw.Short(math.Round(*l.Offered*10)/10),
			draw.Short(math.Round(*l.Completed*10)/10))
	}
	if l.Most > 0 && l.MostAfter != nil {
		title += fmt.Sprintf("; peak of %d instances after %.1f s", l.Most, *l.MostAfter)
	}
	if l.Rest != nil {
		title += fmt.Sprintf("; at rest %.1f s after the last event", *l.Rest)
	}
	y = m.section(c, y, title+"; each source to its own peak", 1)
	for src, name := range m.page.Sources {
		s := &t.Sources[src]
		arrived, done, away, behind := make([]int, n), make([]int, n), make([]int, n), make([]int, n)
		lag := time.Duration(0)
		for i := range n {
			for k := i * per; k < min((i+1)*per, len(s.Arrived)); k++ {
				arrived[i], done[i], away[i] = arrived[i]+s.Arrived[k], done[i]+s.Done[k],
					away[i]+s.Rejected[k]+s.Lost[k]
				behind[i] = max(behind[i], s.Behind[k])
				lag = max(lag, s.Lag[k])
			}
		}
		if maxOf(arrived) == 0 {
			continue
		}
		c.PutUpTo(1, y, left-1, canvas.Bold, name)
		most := max(maxOf(arrived), maxOf(done))
		for i := range n {
			c.Set(left+i, y, canvas.Dim, draw.Bar(arrived[i], most))
			c.Set(left+i, y+1, canvas.Warm, draw.Bar(done[i], most))
			if from, to := time.Duration(i*per)*t.Step, time.Duration((i+1)*per)*t.Step; arrived[i]+done[i] > 0 {
				m.add(left+i, y+1, 1, record.Filter{Source: name, From: from, To: to},
					"%s, %.2f to %.2f s: %d received, %d done, %d rejected or failed, %d behind", name, from.Seconds(),
					to.Seconds(), arrived[i], done[i], away[i], behind[i])
			}
		}
		count := m.page.Summary.Sources[name]
		c.PutUpTo(left+n+1, y, m.w-1, canvas.Dim, fmt.Sprintf("%d received", count.Arrived))
		c.Right(left-1, y+1, canvas.Dim, "done")
		c.PutUpTo(left+n+1, y+1, m.w-1, canvas.Dim, fmt.Sprintf("%d done", count.Done))
		y += 2
		if maxOf(away) > 0 {
			y = m.bars(c, y, "rejected, failed", away, canvas.Bad, "%d in total")
		}
		if maxOf(behind) > 0 && m.page.Kinds[name] != "http" {
			y = m.bars(c, y, "behind", behind, canvas.Cold, "peak %d, "+shortLag(lag))
		}
	}
	y = m.timeAxis(c, y, per, n)
	return m.beside(c, y, m.page.Summary.Beside.Rates)
}

func shortLag(d time.Duration) string {
	return strings.ReplaceAll(draw.ShortMillis(figure.Milliseconds(d)), "%", "%%")
}

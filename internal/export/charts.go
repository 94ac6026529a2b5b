package export

import (
	"fmt"
	"image/color"
	"math"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
)

// Size is the width of pictures in points, and how much higher than usual they are;
// 0 stands for what is usual.
type Size struct{ Width, Height float64 }

const (
	usualWidth = 720.0
	margin     = 24.0
	names      = 130.0 // of functions, left of what is drawn
)

func (z Size) width() float64 {
	if z.Width <= 0 {
		return usualWidth
	}
	return z.Width
}

// scale returns a height, stretched to what was requested.
func (z Size) height(usual float64) float64 {
	if z.Height <= 0 {
		return usual
	}
	return math.Max(z.Height, usual/2)
}

// classes are the classes of answers in the order in which they are shown.
var classes = []engine.Class{engine.Cold, engine.First, engine.Warm}

func classColor(c engine.Class) color.Color {
	return [...]color.Color{lamp, frost, steel}[c]
}

func classShade(c engine.Class) color.Color {
	return [...]color.Color{glow, rime, color.RGBA{0xd3, 0xd9, 0xe8, 0xff}}[c]
}

// head writes the title of a picture and what run it is of.
func (s *sheet) head(title string, m *measure.Summary) float64 {
	s.text(margin, margin+8, ink, textSize+4, title)
	s.text(margin, margin+22, quiet, textSize, fmt.Sprintf("%s, %s, run %s, %.1f s", m.Project, m.Drill, m.Run,
		m.Seconds))
	return margin + 34
}

// ladder draws the phases from spawn to the first answer, by function.
func ladder(kind string, z Size, p *report.Page) *sheet {
	rungs := draw.Ladder(p)
	s := newSheet(kind, z.width(), z.height(96+40*float64(max(len(rungs), 1))))
	y := s.head("Start ladder: where a cold start's time goes (medians)", p.Summary)
	most := 0.0
	for _, r := range rungs {
		most = max(most, r.Total)
	}
	row := (s.h - y - margin - 20) / float64(max(len(rungs), 1))
	c := &plot{sheet: s, x: margin + names, y: y, w: s.w - 2*margin - names - 90, h: row * float64(len(rungs)),
		ax: draw.Linear(most)}
	if len(rungs) == 0 {
		s.text(margin, y+14, quiet, textSize, "No instance was started in this run.")
		return s
	}
	c.below(draw.ShortMillis, true)
	for i, r := range rungs {
		top := y + row*float64(i)
		h := math.Min(row*0.42, 14)
		s.text(margin, top+h, ink, textSize, s.fit(textSize, names-8, r.Function))
		s.text(margin, top+h+10, quiet, textSize-1, fmt.Sprintf("%d starts", r.N))
		if len(r.Parts) == 0 {
			s.text(c.x, top+h, quiet, textSize-1, "too few starts for a median, which needs 6")
		}
		for k, part := range r.Parts {
			of := map[bool][]color.Color{true: {rime, frost, frost}, false: {glow}}[part.Start]
			x0, x1 := c.px(part.From), c.px(part.To)
			s.mark(x0, top+2, math.Max(x1-x0, 0.8), h, of[min(k, len(of)-1)])
			label := part.Name + " " + draw.ShortMillis(part.To-part.From)
			if w := s.width(textSize-1, label); w+4 < x1-x0 {
				s.text(x0+3, top+h-1, map[bool]color.Color{true: color.White, false: ink}[part.Start && k > 0],
					textSize-1, label)
			} else if part.To == r.Total && x1+w+6 < s.w {
				s.text(x1+4, top+h-1, ink, textSize-1, label)
			}
			if part.Hi > 0 { // between what it lies with 95 % certainty
				a, b := c.px(part.From+part.Lo), c.px(part.From+part.Hi)
				at := top + h + 4 + 3*float64(k)
				s.line(ink, 0.7, xy{a, at}, xy{b, at})
				s.line(ink, 0.7, xy{a, at - 1.5}, xy{a, at + 1.5})
				s.line(ink, 0.7, xy{b, at - 1.5}, xy{b, at + 1.5})
			}
		}
		for _, own := range r.Own {
			x0, x1 := c.px(own.From), c.px(own.To)
			s.mark(x0, top+h+12, math.Max(x1-x0, 0.8), 3, lamp)
			{
				s.text(x1+3, top+h+16, quiet, textSize-2, own.Name+" "+draw.ShortMillis(own.To-own.From))
			}
		}
	}
	return s
}

// distribution draws where cold, first and warm answers lie, on a logarithmic axis.
func distribution(kind string, z Size, p *report.Page) *sheet {
	rows, axis := draw.Distributions(p)
	rows = slices.DeleteFunc(rows, func(d draw.Distribution) bool { return d.What == "start" })
	s := newSheet(kind, z.width(), z.height(92+30*float64(max(len(rows), 1))))
	y := s.head("Latency, from due to done: cold, first and warm", p.Summary)
	if len(rows) == 0 {
		s.text(margin, y+14, quiet, textSize, "No event was answered in this run.")
		return s
	}
	h := (s.h - y - margin - 20) / float64(len(rows))
	c := &plot{sheet: s, x: margin + names, y: y, w: s.w - 2*margin - names, h: h * float64(len(rows)), ax: axis}
	c.below(draw.ShortMillis, true)
	last := ""
	for i, r := range rows {
		base := y + h*float64(i+1) - 4
		if r.Function != last {
			s.text(margin, base-10, ink, textSize, s.fit(textSize, names-8, r.Function))
			last = r.Function
		}
		s.text(margin, base, classColor(r.Class), textSize-1, fmt.Sprintf("%s, %d", r.What, r.Figures.N))
		most := 1
		for _, n := range r.Of.Counts {
			most = max(most, n)
		}
		for k, n := range r.Of.Counts {
			if n == 0 {
				continue
			}
			x0, x1 := c.px(figure.Milliseconds(r.Of.Low(k))), c.px(figure.Milliseconds(r.Of.Low(k+1)))
			tall := (h - 8) * math.Sqrt(float64(n)/float64(most)) // what is rare is seen too
			s.mark(x0, base-tall, math.Max(x1-x0-0.3, 0.5), tall, classShade(r.Class))
		}
		written := 0.0
		for _, v := range []struct {
			at   *float64
			text string
		}{{r.Figures.P50, "p50"}, {r.Figures.P95, "p95"}, {r.Figures.P99, "p99"}} {
			if v.at == nil {
				continue
			}
			x := c.px(*v.at)
			s.line(classColor(r.Class), 1.1, xy{x, base - h + 6}, xy{x, base})
			label := v.text + " " + draw.ShortMillis(*v.at)
			from, down := math.Max(x+2, written), 12.0 // they may lie close together
			if edge := s.w - s.width(textSize-2.5, label)*1.1 - 4; from > edge {
				from, down = edge, 20
			}
			s.text(from, base-h+down, classColor(r.Class), textSize-2.5, label)
			written = from + s.width(textSize-2.5, label)*1.1 + 6
		}
	}
	return s
}

// warmUp draws service time by the n-th invocation of an instance.
func warmUp(kind string, z Size, p *report.Page) *sheet {
	curves := draw.Curves(p, 2)
	s := newSheet(kind, z.width(), z.height(90+110*float64(max(len(curves), 1))))
	y := s.head("Warm-up: service time by the n-th invocation of an instance (median and quartiles)", p.Summary)
	if len(curves) == 0 {
		s.text(margin, y+14, quiet, textSize, "No instance had more than one invocation.")
		return s
	}
	h := (s.h - y - margin) / float64(len(curves))
	for i, k := range curves {
		c := &plot{sheet: s, x: margin + names, y: y + h*float64(i) + 6, w: s.w - 2*margin - names, h: h - 34,
			ax: draw.Axis{Lo: 0.9, Hi: float64(k.Longest), Log: true}, ay: k.Axis}
		c.beside(draw.ShortMillis)
		c.below(func(v float64) string { return draw.Short(v) }, false)
		s.text(margin, c.y+10, ink, textSize, s.fit(textSize, names-50, k.Function))
		var band, back, median []xy
		for _, q := range k.WarmUp.Points {
			x := c.px(math.Sqrt(float64(q.From) * float64(q.To)))
			band = append(band, xy{x, c.py(q.P75)})
			back = append([]xy{{x, c.py(q.P25)}}, back...)
			median = append(median, xy{x, c.py(q.P50)})
		}
		s.area(glow, append(band, back...)...)
		s.line(lamp, 1.4, median...)
		for _, m := range median {
			s.dot(m.x, m.y, 1.8, lamp)
		}
		if n := k.WarmUp.Steady; n != nil {
			x := c.px(float64(*n))
			s.dashed(ink, 0.8, xy{x, c.y}, xy{x, c.y + c.h})
			text := report.WarmUpText(&k.WarmUp)
			if w := s.width(textSize-1, text); x+w+6 < s.w-margin {
				s.text(x+4, c.y+8, ink, textSize-1, text)
			} else {
				s.textRight(x-4, c.y+8, ink, textSize-1, text)
			}
		}
	}
	return s
}

// timeline draws a run over time: latency, what came and what was done, instances,
// waiting and what was rejected.
func timeline(kind string, z Size, p *report.Page) *sheet {
	t := p.Time
	courses := draw.Courses(p)
	s := newSheet(kind, z.width(), z.height(90+190*float64(max(len(courses), 1))+110))
	y := s.head("Over time", p.Summary)
	if len(courses) == 0 {
		s.text(margin, y+14, quiet, textSize, "No event was answered in this run.")
		return s
	}
	n := len(t.Functions[0].Done)
	span := draw.Axis{Hi: (time.Duration(n) * t.Step).Seconds()}
	per := 1 / t.Step.Seconds()
	x, w := margin+names, s.w-2*margin-names
	seconds := func(v float64) string { return draw.Short(v) + " s" }
	part := func(y, h float64, most float64, write func(float64) string) *plot {
		c := &plot{sheet: s, x: x, y: y, w: w, h: h, ax: span, ay: draw.Linear(most)}
		c.beside(write)
		c.below(seconds, false)
		return c
	}
	each := (s.h - y - margin - 110) / float64(len(courses))
	for i, course := range courses {
		f, top := course.Of, y+each*float64(i)
		s.text(margin, top+14, ink, textSize, s.fit(textSize, names-50, course.Function))
		s.text(margin, top+26, quiet, textSize-1, "latency: median,")
		s.text(margin, top+37, quiet, textSize-1, "p95, longest")
		c := &plot{sheet: s, x: x, y: top + 6, w: w, h: each*0.55 - 26, ax: span, ay: course.Axis}
		c.beside(draw.ShortMillis)
		c.below(seconds, false)
		for k := range n {
			if f.Done[k] == 0 {
				continue
			}
			x0, x1 := x+w*float64(k)/float64(n), x+w*float64(k+1)/float64(n)
			of, shade := color.Color(lamp), color.Color(glow)
			if f.Cold[k] > 0 {
				of, shade = frost, rime
			}
			s.mark(x0, c.py(figure.Milliseconds(f.P95[k])), x1-x0-0.4,
				c.py(figure.Milliseconds(f.P50[k]))-c.py(figure.Milliseconds(f.P95[k]))+0.5, shade)
			s.line(of, 1.3, xy{x0, c.py(figure.Milliseconds(f.P50[k]))},
				xy{x1 - 0.4, c.py(figure.Milliseconds(f.P50[k]))})
			s.line(of, 0.5, xy{(x0 + x1) / 2, c.py(figure.Milliseconds(f.P95[k]))},
				xy{(x0 + x1) / 2, c.py(figure.Milliseconds(f.Max[k]))})
		}
		most := 4.0 // whole numbers beside it
		for k := range n {
			most = max(most, float64(f.Instances[k]), float64(f.Waiting[k]))
		}
		c = part(top+each*0.55+6, each*0.45-34, most, draw.Short)
		s.text(margin, c.y+8, ink, textSize-1, "instances")
		s.text(margin, c.y+19, coral, textSize-1, "waiting (dashed)")
		c.steps(ink, 1.1, n, func(k int) float64 { return float64(f.Instances[k]) }, false)
		c.steps(coral, 0.9, n, func(k int) float64 { return float64(f.Waiting[k]) }, true)
	}
	offered, done, away := make([]float64, n), make([]float64, n), make([]float64, n)
	most := 1.0
	for i := range t.Sources {
		for k := range n {
			offered[k] += float64(t.Sources[i].Arrived[k]) * per
			done[k] += float64(t.Sources[i].Done[k]) * per
			away[k] += float64(t.Sources[i].Rejected[k]+t.Sources[i].Lost[k]) * per
			most = max(most, offered[k], done[k])
		}
	}
	c := part(s.h-margin-100, 80, most, func(v float64) string { return draw.Short(v) + "/s" })
	s.text(margin, c.y+8, quiet, textSize-1, "offered (dashed)")
	s.text(margin, c.y+19, lamp, textSize-1, "completed")
	s.text(margin, c.y+30, coral, textSize-1, "rejected, failed")
	c.steps(quiet, 0.9, n, func(k int) float64 { return offered[k] }, true)
	c.steps(lamp, 1.3, n, func(k int) float64 { return done[k] }, false)
	for k := range n {
		if away[k] > 0 {
			x0 := x + w*float64(k)/float64(n)
			s.mark(x0, c.py(away[k]), w/float64(n)-0.4, c.py(0)-c.py(away[k]), coral)
		}
	}
	s.moments(p.Marks, func(at time.Duration) float64 { return x + w*span.At(at.Seconds()) }, y-4, s.h-margin)
	return s
}

// moments draws the names of a drill's moments across a picture, from its top to its bottom.
func (s *sheet) moments(marks []plan.Mark, at func(time.Duration) float64, top, bottom float64) {
	free := 0.0
	for _, m := range marks {
		x := at(m.At)
		if x > s.w-margin {
			continue
		}
		s.dashed(faint, 0.7, xy{x, top}, xy{x, bottom})
		if w := s.width(textSize-1, m.Text); x >= free && x+w < s.w {
			s.text(x+2, top+2, ink, textSize-1, m.Text)
			free = x + w + 6
		}
	}
}

// mostSingle is up to how many invocations the lanes have a mark for each.
const mostSingle = 20_000

// lanes draws the life of each instance.
func lanes(kind string, z Size, r *record.Run, m *measure.Summary) *sheet {
	chart := &draw.Chart{}
	chart.Update(r)
	all := chart.Lanes()
	rows := 0
	last := int32(-1)
	for _, l := range all {
		if rows++; l.Instance.Function != last {
			rows, last = rows+1, l.Instance.Function
		}
	}
	var shown []int // sources that anything came to
	for i := range r.Sources {
		if _, n := chart.Counts(draw.Arrived, i, draw.Window{To: r.Length, Cells: 1}); n > 0 {
			shown = append(shown, i)
		}
	}
	s := newSheet(kind, z.width(), z.height(120+12*float64(max(rows, 1))+40*float64(len(shown))))
	y := s.head("Instance lanes", m)
	x, w := margin+names, s.w-2*margin-names
	span := draw.Axis{Hi: max(r.Length.Seconds(), 1e-3)}
	px := func(t clock.Time) float64 { return x + span.At(t.Seconds())*w }
	s.lanesLegend(x, y+4)
	top := y + 14
	y += 16
	row := math.Max((s.h-y-margin-20-40*float64(len(shown)))/float64(max(rows, 1)), 3)
	single := len(r.Invocations) <= mostSingle
	last = -1
	for _, l := range all {
		in := &l.Instance
		if in.Function != last {
			last = in.Function
			s.text(margin, y+row-2, ink, textSize, s.fit(textSize, names-8, r.Functions[in.Function].Name))
			y += row
		}
		mid, end := y+row/2, in.Stopped
		if end == 0 {
			end = r.Length
		}
		s.textRight(x-5, mid+3, quiet, math.Min(textSize-2, row), fmt.Sprint(in.Number))
		ready := in.Ready
		if ready == 0 {
			ready = end
		}
		s.dashed(frost, math.Min(row*0.5, 3), xy{px(in.Spawned), mid}, xy{px(ready), mid})
		s.line(faint, 0.8, xy{px(ready), mid}, xy{px(end), mid})
		s.marks++
		if single {
			for _, i := range l.Invocations {
				v := &r.Invocations[i]
				s.invocation(v, px(v.Assigned), px(v.Done), y, row)
			}
		} else {
			cells := chart.Row(l, draw.Window{From: 0, To: r.Length, Cells: int(w)}, r.Length)
			for k, c := range cells {
				if c.N > 0 {
					of := color.Color(lamp)
					if c.Cold || c.First {
						of = frost
					}
					if c.Failed {
						of = coral
					}
					tall := (row - 1.5) * math.Max(c.Share, 0.15)
					s.mark(x+float64(k), y+row-0.75-tall, 1, tall, of)
				}
			}
		}
		if in.Stopped > 0 {
			s.line(quiet, 0.9, xy{px(end), y + 1}, xy{px(end), y + row - 1})
			if in.Reason != engine.RunOver && row >= 8 {
				if text := in.Reason.String(); px(end)+3+s.width(textSize-3, text) < s.w {
					s.text(px(end)+2, mid+2, quiet, textSize-3, text)
				}
			}
		}
		y += row
	}
	c := &plot{sheet: s, x: x, y: y, w: w, h: 0, ax: span}
	c.below(func(v float64) string { return draw.Short(v) + " s" }, false)
	y += 20
	win := draw.Window{To: r.Length, Cells: 200}
	for _, i := range shown {
		arrived, all := chart.Counts(draw.Arrived, i, win)
		rejected, away := chart.Counts(draw.Rejected, i, win)
		lost, gone := chart.Counts(draw.Lost, i, win)
		s.text(margin, y+10, ink, textSize, s.fit(textSize, names-8, r.Sources[i].Name))
		s.text(margin, y+21, quiet, textSize-2, fmt.Sprintf("%d received, %d", all, away))
		s.text(margin, y+30, quiet, textSize-2, fmt.Sprintf("rejected, %d failed", gone))
		most := 1
		for _, n := range arrived {
			most = max(most, n)
		}
		for k := range arrived {
			x0, wide := x+w*float64(k)/200, w/200-0.3
			if arrived[k] > 0 {
				tall := 22 * float64(arrived[k]) / float64(most)
				s.mark(x0, y+26-tall, wide, tall, faint)
			}
			if bad := rejected[k] + lost[k]; bad > 0 {
				tall := math.Min(22*float64(bad)/float64(most), 26)
				s.mark(x0, y+26-tall, wide, tall, coral)
			}
		}
		y += 40
	}
	s.moments(r.Marks, func(at time.Duration) float64 { return px(r.Begins.Add(at)) }, top, y)
	return s
}

// invocation draws one in its lane: a mark at where a cold one begins, a bar as long
// as it took.
func (s *sheet) invocation(v *record.Invocation, from, to, y, row float64) {
	tall := math.Max(row-3, 1)
	switch {
	case draw.Bad(v):
		s.mark(from, y+1.5, math.Max(to-from, 0.8), tall, coral)
		s.line(coral, 0.8, xy{to - 2, y + 1}, xy{to + 2, y + row - 1})
		s.line(coral, 0.8, xy{to - 2, y + row - 1}, xy{to + 2, y + 1})
	case v.Class == engine.Warm:
		s.mark(from, y+1.5+tall*0.2, math.Max(to-from, 0.5), tall*0.8, lamp)
	default:
		s.mark(from, y+1.5+tall*0.2, math.Max(to-from, 0.5), tall*0.8, classColor(v.Class))
		s.diamond(from, y+row/2, math.Min(row/2, 3.2), classColor(v.Class))
		s.marks--
	}
}

func (s *sheet) lanesLegend(x, y float64) {
	for _, k := range []struct {
		text string
		draw func(x float64)
	}{
		{"starting", func(x float64) { s.dashed(frost, 2.5, xy{x, y - 3}, xy{x + 16, y - 3}) }},
		{"cold", func(x float64) {
			s.area(frost, xy{x + 4, y - 3}, xy{x + 8, y - 7}, xy{x + 12, y - 3}, xy{x + 8, y + 1})
		}},
		{"first", func(x float64) {
			s.area(steel, xy{x + 4, y - 3}, xy{x + 8, y - 7}, xy{x + 12, y - 3}, xy{x + 8, y + 1})
		}},
		{"warm", func(x float64) { s.rect(x, y-6, 16, 6, lamp) }},
		{"idle", func(x float64) { s.line(faint, 0.8, xy{x, y - 3}, xy{x + 16, y - 3}) }},
		{"failed", func(x float64) {
			s.line(coral, 0.9, xy{x + 5, y - 6}, xy{x + 11, y})
			s.line(coral, 0.9, xy{x + 5, y}, xy{x + 11, y - 6})
		}},
		{"stopped, and why", func(x float64) { s.line(quiet, 0.9, xy{x + 8, y - 7}, xy{x + 8, y + 1}) }},
	} {
		k.draw(x)
		s.text(x+20, y, quiet, textSize-1, k.text)
		x += 28 + s.width(textSize-1, k.text)
	}
}

// comparison draws the medians of sides with their intervals, figure by figure.
func comparison(kind string, z Size, c *measure.Comparison) *sheet {
	var rows []report.Row
	for _, r := range report.Rows(c) {
		if r.Between != nil || len(r.Contrasts) > 0 && r.Contrasts[0] != nil {
			rows = append(rows, r)
		}
	}
	each := 16 + 11*float64(len(c.Sides))
	var said []string
	for _, text := range c.Sentences {
		said = append(said, wrapped(text, z.width()-2*margin)...)
	}
	s := newSheet(kind, z.width(), z.height(92+each*float64(max(len(rows), 1))+12*float64(len(said))))
	s.text(margin, margin+8, ink, textSize+4, c.Title+": "+strings.Join(labels(c), ", "))
	y := margin + 26.0
	for _, text := range said {
		s.text(margin, y, quiet, textSize, text)
		y += 12
	}
	y += 8
	if len(rows) == 0 {
		s.text(margin, y+14, quiet, textSize, "Too few samples on the sides to compare.")
		return s
	}
	each = (s.h - y - margin) / float64(len(rows))
	right := 170.0
	x, w := margin+names, s.w-2*margin-names-right
	for _, r := range rows {
		p := &plot{sheet: s, x: x, y: y, w: w, h: each - 6, ax: draw.FigureOf(r).Axis}
		unit := r.Unit
		if unit != "" {
			unit = ", " + unit
		}
		s.text(margin, y+10, ink, textSize, s.fit(textSize, names-8, strings.TrimSpace(r.What)+unit))
		s.line(mist, 0.5, xy{x, y + each - 3}, xy{s.w - margin, y + each - 3})
		step := (each - 10) / float64(len(c.Sides))
		for i, v := range r.Values {
			at := y + 8 + step*float64(i)
			of := []color.Color{quiet, lamp, frost, steel, coral}[min(i, 4)]
			if v == nil {
				s.text(x, at+3, quiet, textSize-2, c.Sides[i].Label+": –")
				continue
			}
			if len(r.Between) > i && r.Between[i][0] != nil {
				s.line(of, 1.2, xy{p.px(*r.Between[i][0]), at}, xy{p.px(*r.Between[i][1]), at})
			}
			s.dot(p.px(*v), at, 2.6, of)
			label := c.Sides[i].Label + " " + r.Text(i)
			if px := p.px(*v) + 6; px+s.width(textSize-2, label) < x+w+right*0.3 {
				s.text(px, at-2.5, ink, textSize-2, label)
			} else {
				s.textRight(p.px(*v)-6, at-2.5, ink, textSize-2, label)
			}
			if i > 0 && len(r.Contrasts) >= i && r.Contrasts[i-1] != nil {
				k := r.Contrasts[i-1]
				of := color.Color(quiet)
				if k.Beyond {
					of = ink
				}
				s.textRight(s.w-margin, at+3, of, textSize-1, report.ContrastMark(k))
			}
		}
		y += each
	}
	return s
}

func labels(c *measure.Comparison) (out []string) {
	for i := range c.Sides {
		out = append(out, c.Sides[i].Label)
	}
	return out
}

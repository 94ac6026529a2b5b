package findings

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/forecast"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/scroll"
)

// What the forecast asks for.
type (
	// Foretell asks to forecast a run under other limits, which are tried as the command line writes them.
	Foretell struct{ ID, Tries string }
	// Cancel ends the forecast that is being made.
	Cancel struct{}
	// Imagine asks for the lanes of the simulated run of a setting.
	Imagine struct{ Cell int }
	// Try asks to carry the drill out with a setting.
	Try struct{ Cell int }
	// Even asks from which rate of events on one value of a limit costs less than another.
	Even struct{ What string }
)

// outlook is the page of a forecast.
type outlook struct {
	tries   string
	f       *forecast.Forecast   // nil while it is made
	far     func() (percent int) // how far it is
	trials  string               // how well earlier ones were
	even    *forecast.BreakEven  // nil where it was not asked for
	evenFar func() (percent int) // while that is made
	x, y    int                  // the chosen setting: the value of the first limit, and what the others are
	figure  int                  // which figure the grid shows
	scrollX int
	top     scroll.Page
}

// figures of a grid.
var figures = []string{"margin to the tightest budget", "warm p95 of %s, ms", "cold p50 of %s, ms", "requests rejected",
	"instances started", "memory held, GiB s", "cost"}

// askForecast asks which limits to try: of the function that is chosen, where it is not said otherwise.
func (m *Model) askForecast() tea.Cmd {
	s := m.page.Summary
	name := ""
	if m.row >= 0 && m.row < len(m.rows) {
		name = m.rows[m.row]
	}
	f, ok := s.Functions[name]
	if !ok {
		return msg.Complain("The run has no function to forecast")
	}
	values := "1..8"
	for _, v := range []int{f.Instances.Peak, 2 * f.Instances.Peak} {
		if v > 8 {
			values += fmt.Sprintf(",%d", v)
		}
	}
	suggested := fmt.Sprintf("%s.max=%s %s.keep_warm=0,1", name, values, name)
	if m.outlook != nil && m.outlook.tries != "" {
		suggested = m.outlook.tries
	}
	id := m.Shown()
	return func() tea.Msg {
		return msg.Ask{Title: "Forecast this run with (limits, x2, a drill, 1d)",
			Text: suggested,
			Done: func(tries string) tea.Cmd { return func() tea.Msg { return Foretell{id, tries} } }}
	}
}

// Forecasting notes that a forecast is being made; far tells how far it is.
func (m *Model) Forecasting(tries string, far func() (percent int)) {
	m.outlook = &outlook{tries: tries, far: far}
}

// Forecast shows a forecast; trials says how well earlier ones were. With nil, none could be made.
func (m *Model) Forecast(f *forecast.Forecast, trials string) {
	if m.outlook == nil {
		return
	}
	if f == nil {
		if m.outlook.evenFar = nil; m.outlook.f == nil {
			m.outlook = nil
		}
		return
	}
	o := m.outlook
	o.f, o.far, o.trials = f, nil, trials
	at := 0
	switch {
	case f.Verified != nil:
		at = f.Verified.Cell
	case f.Best != nil:
		at = *f.Best
	}
	o.x, o.y = at/o.stride(), at%o.stride()
	o.figure = o.shown(o.figure)
}

// shown returns a figure of the grid, or the next one where that says nothing: a margin, without any budgets.
func (o *outlook) shown(figure int) int {
	if figure %= len(figures); figure > 0 || o.budgeted() {
		return figure
	}
	return 1
}

// budgeted reports whether the drill has budgets.
func (o *outlook) budgeted() bool {
	return slices.ContainsFunc(o.f.Cells, func(c forecast.Cell) bool { return len(c.Budgets) > 0 })
}

// stride is how many settings have the same value of the first limit.
func (o *outlook) stride() int {
	n := 1
	for i := 1; i < len(o.f.Tries); i++ {
		n *= len(o.f.Tries[i].Values)
	}
	return n
}

// columns is how many values of the first limit are tried.
func (o *outlook) columns() int { return len(o.f.Cells) / o.stride() }

func (o *outlook) cell() int { return o.x*o.stride() + o.y }

// outlookKey handles a key of the page.
func (m *Model) outlookKey(k tea.KeyPressMsg) tea.Cmd {
	o := m.outlook
	if o.f == nil {
		if key.Matches(k, Keys.Escape) {
			m.outlook = nil
			return func() tea.Msg { return Cancel{} }
		}
		return nil
	}
	if o.evenFar != nil && key.Matches(k, Keys.Escape) {
		o.evenFar = nil
		return func() tea.Msg { return Cancel{} }
	}
	cell := o.cell()
	switch {
	case key.Matches(k, Keys.Escape):
		m.outlook = nil
	case key.Matches(k, Keys.Older):
		o.x = max(o.x-1, 0)
	case key.Matches(k, Keys.Newer):
		o.x = min(o.x+1, o.columns()-1)
	case key.Matches(k, scroll.Keys.Up):
		o.y = max(o.y-1, 0)
	case key.Matches(k, scroll.Keys.Down):
		o.y = min(o.y+1, o.stride()-1)
	case k.String() == "m":
		o.figure = o.shown(o.figure + 1)
	case key.Matches(k, Keys.Forecast):
		return m.askForecast()
	case k.String() == "b":
		return func() tea.Msg {
			return msg.Ask{Title: "From which rate on is it worth it? A function to keep warm, or two values of a " +
				"limit",
				Text: o.f.Subject(), Done: func(what string) tea.Cmd { return func() tea.Msg { return Even{what} } }}
		}
	case key.Matches(k, Keys.Open), key.Matches(k, Keys.Lanes):
		if o.f.Cells[cell].Refused != nil {
			return msg.Complain("This setting is not forecast: %s", *o.f.Cells[cell].Refused)
		}
		return func() tea.Msg { return Imagine{cell} }
	case key.Matches(k, Keys.Vary):
		name := o.f.Cells[cell].Name(o.f)
		if o.f.Traffic != 1 || o.f.Seconds > 0 {
			return msg.Complain("A drill has its own traffic; a forecast with a factor or a time cannot be tried live")
		}
		return func() tea.Msg {
			return msg.Ask{Title: "Carry the drill out with " + name + "? y / any other key", YesNo: true,
				Done: func(string) tea.Cmd { return func() tea.Msg { return Try{cell} } }}
		}
	default:
		o.top.Key(k)
	}
	return nil
}

// outlookHelp returns the keys of the page.
func (m *Model) outlookHelp() []key.Binding {
	bind := func(k, help string) key.Binding { return key.NewBinding(key.WithKeys(k), key.WithHelp(k, help)) }
	if m.outlook.f == nil {
		return []key.Binding{bind("esc", "cancel")}
	}
	return []key.Binding{bind("←→↑↓", "choose a setting"), bind("m", "another figure"), bind("enter", "its lanes"),
		bind("v", "try it live"), bind("b", "break-even"), bind("w", "other limits"), Keys.Escape}
}

// drawOutlook draws the page.
func (m *Model) drawOutlook(out *canvas.Canvas) {
	o := m.outlook
	if o.f == nil {
		percent := 0
		if o.far != nil {
			percent = o.far()
		}
		out.Put(2, 1, canvas.Plain, "Forecasting: "+o.tries)
		if percent > 0 {
			out.Put(2, 3, canvas.Dim, fmt.Sprintf("%d %% simulated   esc cancels", percent))
		} else {
			out.Put(2, 3, canvas.Dim, "reading the run …   esc cancels")
		}
		return
	}
	f := o.f
	page := canvas.New(m.w, 80+2*o.stride()+2*len(f.Cells[o.cell()].Functions)+3*len(m.page.Summary.Budgets),
		out.Theme())
	y := canvas.Flow(page, 1, 0, m.w-1, canvas.Bold, f.Sentence)
	words := f.From() + "; if the machine is as it was then." + f.Spread()
	if f.Dropped > 0 {
		words += " " + f.Left()
	}
	y = canvas.Flow(page, 1, y, m.w-1, canvas.Dim, words+" "+o.trials)
	y = o.drawGrid(page, m.w, y+1)
	y = o.drawCell(page, m.w, y+1)
	y = o.drawEven(page, m.w, y+1)
	o.top.Fit(y, m.h)
	o.top.Draw(out, 0, page)
	o.top.Rest(out)
}

// text returns what a setting has of the chosen figure.
func (o *outlook) text(c *forecast.Cell) string {
	rejected, started, memory, cost := c.Totals()
	l := c.Functions[o.f.Subject()].Latency
	number := func(v *float64) string {
		if v == nil {
			return "–"
		}
		return figure.Small(*v)
	}
	switch o.figure {
	case 0:
		v, margin := c.Tightest()
		if v == nil {
			return "–"
		}
		return figure.Signed(margin)
	case 1:
		return figure.Millis(l.Warm.P95)
	case 2:
		return figure.Millis(l.Cold.P50)
	case 3:
		return fmt.Sprintf("%.0f", rejected)
	case 4:
		return fmt.Sprintf("%.0f", started)
	case 5:
		return number(memory)
	}
	return number(cost)
}

// cellWidth is the width of a column of the grid.
const cellWidth = 11

// drawGrid draws the settings: a column for each value of the first limit, a row for what the others are.
func (o *outlook) drawGrid(c *canvas.Canvas, w, y int) int {
	f := o.f
	title := figures[o.figure]
	if strings.Contains(title, "%s") {
		title = fmt.Sprintf(title, f.Subject())
	}
	x := c.Put(1, y, canvas.Bold, title)
	c.PutUpTo(x+3, y, w-1, canvas.Dim, "m shows the next figure")
	y += 2
	if len(f.Tries) == 0 {
		c.Put(1, y, canvas.Plain, o.text(&f.Cells[0]))
		return y + 1
	}
	var names, values []string
	for _, t := range f.Tries[1:] {
		names = append(names, t.Name)
	}
	for row := range o.stride() {
		var of []string
		for _, t := range f.Tries[1:] {
			of = append(of, string(f.Cells[row].Limits[t.Name]))
		}
		values = append(values, strings.Join(of, "  "))
	}
	left := len(strings.Join(names, "  "))
	for _, v := range values {
		left = max(left, len(v))
	}
	left = min(left+2, w/3)
	room := max((w-left-2)/cellWidth, 1)
	o.scrollX = max(min(o.scrollX, o.x), o.x-room+1)
	last := min(o.columns(), o.scrollX+room)
	c.PutUpTo(left+2, y, w-1, canvas.Dim, f.Tries[0].Name)
	if o.columns() > room {
		c.Right(w-1, y, canvas.Dim, fmt.Sprintf("%d to %d of %d", o.scrollX+1, last, o.columns()))
	}
	y++
	c.PutUpTo(1, y, left, canvas.Dim, strings.Join(names, "  "))
	for i := o.scrollX; i < last; i++ {
		c.Right(left+(i-o.scrollX+1)*cellWidth-1, y, canvas.Dim, f.Tries[0].Values[i])
	}
	y++
	for row := range o.stride() {
		c.PutUpTo(1, y, left, canvas.Dim, values[row])
		for i := o.scrollX; i < last; i++ {
			at := i*o.stride() + row
			text, style := o.mark(at)
			edge := left + (i-o.scrollX+1)*cellWidth - 1
			c.Right(edge, y, style, text)
			if i == o.x && row == o.y {
				c.Restyle(edge-cellWidth+2, y, cellWidth-1, canvas.Chosen)
			}
		}
		y++
	}
	if f.Knee != nil {
		if i := *f.Knee / o.stride(); i >= o.scrollX && i < last {
			c.Right(left+(i-o.scrollX+1)*cellWidth-1, y, canvas.Dim, "▴")
			c.PutUpTo(left+(i-o.scrollX+1)*cellWidth, y, w-1, canvas.Dim, "nothing gets better")
		}
		y++
	}
	return canvas.Flow(c, 1, y, w-1, canvas.Dim, o.legend())
}

// mark returns what stands for a setting in the grid.
func (o *outlook) mark(at int) (string, canvas.Style) {
	c := &o.f.Cells[at]
	if c.Refused != nil {
		return "·", canvas.Dim
	}
	text, style := o.text(c), canvas.Plain
	if c.Extrapolated {
		text, style = "~"+text, canvas.Dim
	}
	switch {
	case o.f.Best != nil && *o.f.Best == at:
		return text + " ◂", canvas.Good
	case !c.Kept:
		return text + " !", canvas.Bad
	}
	return text + "  ", style
}

// legend explains those marks that are there.
func (o *outlook) legend() string {
	var parts []string
	some := func(of func(*forecast.Cell) bool, words string) {
		for i := range o.f.Cells {
			if of(&o.f.Cells[i]) {
				parts = append(parts, words)
				return
			}
		}
	}
	if o.f.Best != nil && o.budgeted() {
		parts = append(parts, "◂ the cheapest that keeps all budgets")
	} else if o.f.Best != nil {
		parts = append(parts, "◂ the cheapest")
	}
	some(func(c *forecast.Cell) bool { return c.Refused == nil && !c.Kept }, "! misses a budget")
	some(func(c *forecast.Cell) bool { return c.Refused == nil && c.Extrapolated }, "~ more in flight than was seen")
	some(func(c *forecast.Cell) bool { return c.Refused != nil }, "· not forecast")
	return strings.Join(parts, "; ")
}

// drawCell draws what the chosen setting would do, beside what was measured of it.
func (o *outlook) drawCell(c *canvas.Canvas, w, y int) int {
	f := o.f
	at := o.cell()
	x := &f.Cells[at]
	name := x.Name(f)
	if name == "" {
		name = "the limits of the run"
	}
	c.Rule(y, name)
	y++
	if x.Refused != nil {
		return canvas.Flow(c, 1, y, w-1, canvas.Bad, "Not forecast: "+*x.Refused+".")
	}
	if v := f.Verified; v != nil && v.Cell == at {
		return o.drawVerified(c, w, y)
	}
	interval := w >= 114 // there is room for them
	put := func(texts [8]string, style canvas.Style) {
		edge := 13
		for i, width := range [...]int{14, 14, 17, 10, 17, 11, 9, 8} {
			if width < 17 || interval {
				edge += width
				c.Right(edge, y, style, texts[i])
			}
		}
		y++
	}
	put([8]string{"cold p50, ms", "warm p50, ms", "95 % interval", "p95, ms", "95 % interval", "rejected", "started",
		"GiB s"}, canvas.Dim)
	for _, fn := range slices.Sorted(maps.Keys(x.Functions)) {
		v := x.Functions[fn]
		if v.Offered == 0 && v.Started == 0 {
			continue
		}
		c.PutUpTo(1, y, 14, canvas.Bold, fn)
		memory, warm := "–", &v.Latency.Warm
		if v.Memory != nil {
			memory = figure.Small(*v.Memory)
		}
		put([8]string{figure.Millis(v.Latency.Cold.P50), figure.Millis(warm.P50), report.MedianBetween(warm),
			figure.Millis(warm.P95), figure.Between(warm.P95Lo, warm.P95Hi), fmt.Sprintf("%.0f", v.Rejected),
			fmt.Sprintf("%.0f", v.Started), memory}, canvas.Plain)
	}
	if len(x.Budgets) > 0 {
		y++
	}
	for i := range x.Budgets {
		b := &x.Budgets[i]
		style, sign := canvas.Good, "✓"
		switch {
		case b.Few:
			style, sign = canvas.Dim, "–"
		case !b.Held:
			style, sign = canvas.Bad, "✗"
		}
		end := c.PutUpTo(1, y, w-1, style, sign+" "+b.Text)
		if b.Measured != nil && !b.Few {
			c.PutUpTo(end+2, y, w-1, canvas.Dim, strings.Replace(report.BudgetSays(b), "measured", "forecast", 1))
		}
		y++
	}
	return y
}

// drawVerified draws a forecast beside what was measured.
func (o *outlook) drawVerified(c *canvas.Canvas, w, y int) int {
	v := o.f.Verified
	y = canvas.Flow(c, 1, y, w-1, canvas.Plain, fmt.Sprintf("Tried live, run %s: median error of the latencies %s.",
		v.Run, figure.Percent(v.Error)))
	edges := []int{42, 62, 74}
	for i, t := range []string{"forecast", "95 % within", "measured"} {
		c.Right(edges[i], y, canvas.Dim, t)
	}
	y++
	for i := range v.Each {
		x := &v.Each[i]
		name, write := x.What, func(v float64) string { return fmt.Sprintf("%.0f", v) }
		if x.Unit != "" {
			name, write = x.What+", "+x.Unit, func(v float64) string { return figure.Millis(&v) }
		}
		c.PutUpTo(1, y, 32, canvas.Plain, name)
		c.Right(edges[0], y, canvas.Plain, write(x.Forecast))
		if x.Lo != nil && x.Hi != nil {
			c.Right(edges[1], y, canvas.Dim, figure.Millis(x.Lo)+" to "+figure.Millis(x.Hi))
		}
		style := canvas.Bold
		if !x.Within {
			style = canvas.Bad
		}
		c.Right(edges[2], y, style, write(x.Measured))
		y++
	}
	return y
}

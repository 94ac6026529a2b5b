package startview

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
)

// looks are how the classes are drawn: each has a sign of its own, for those who do not see the colours.
var looks = [anatomy.Classes]struct {
	style canvas.Style
	sign  rune
}{anatomy.Running: {canvas.Warm, '█'}, anatomy.Waiting: {canvas.Bad, '▒'}, anatomy.Disk: {canvas.Good, '▓'},
	anatomy.Network: {canvas.Cold, '━'}, anatomy.Sleeping: {canvas.Dim, '┄'}, anatomy.Unseen: {canvas.Faint, '░'}}

func ms(d time.Duration) string {
	switch v := float64(d) / float64(time.Millisecond); {
	case v >= 100:
		return fmt.Sprintf("%.0f", v)
	case v >= 10:
		return fmt.Sprintf("%.1f", v)
	default:
		return fmt.Sprintf("%.2f", v)
	}
}

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	c := canvas.New(m.w, m.h, theme)
	r := m.report
	if r == nil {
		m.drawEmpty(c)
		return c
	}
	y := 0
	title := fmt.Sprintf("%s %s: %s ms from exec to ready", r.Function, r.Version, ms(r.Median()))
	x := c.Put(1, y, canvas.Bold, title)
	lo, hi := slices.Min(r.Untraced), slices.Max(r.Untraced)
	c.PutUpTo(x+2, y, m.w, canvas.Dim, fmt.Sprintf("median of %d without looking, %s to %s", len(r.Untraced), ms(lo),
		ms(hi)))
	y++
	for _, line := range m.change {
		c.PutUpTo(1, y, m.w-1, canvas.Good, text.Harmless(line))
		y++
	}
	if m.trouble != "" {
		c.PutUpTo(1, y, m.w-1, canvas.Bad, text.Harmless(strings.ReplaceAll(m.trouble, "\n", " · ")))
		y++
	}
	most := max(m.h/4, 4)
	sentences := r.Sentences()
	for i, s := range sentences {
		rows := strings.Split(ansi.Wrap(text.Harmless(s), m.w-5, ""), "\n")
		if y+len(rows) > 1+most {
			c.PutUpTo(3, y, m.w-1, canvas.Dim, fmt.Sprintf("and %d more; nightdrill anatomy %s prints all",
				len(sentences)-i, r.Function))
			y++
			break
		}
		c.Put(1, y, canvas.Warm, "▸")
		for _, row := range rows {
			c.PutUpTo(3, y, m.w-1, canvas.Plain, row)
			y++
		}
	}
	if a := r.Clock; a != nil && r.Trusts(r.ClockTook) {
		y = m.drawShares(c, y, a)
		y = m.drawLanes(c, y, a)
	}
	last := m.h - len(r.Unavailable)
	for i, u := range r.Unavailable {
		c.PutUpTo(1, last+i, m.w-1, canvas.Dim, "not seen: "+text.Harmless(u))
	}
	if m.tree != nil && len(m.tree.all) > 0 && y < last-3 {
		m.drawTree(c, y, last)
	}
	return c
}

func (m *Model) drawEmpty(c *canvas.Canvas) {
	lines := []string{"What is the first slow second of " + m.chosen() + " spent on?", "",
		"enter starts it six times without looking, then once for each way of looking: where the time goes,",
		"what it opens, connects to and runs, and what its runtime loads. None of this is part of a run.", "",
		"f chooses another function."}
	if m.doing != "" {
		lines = []string{"Taking the start of " + m.chosen() + " apart.", "", m.doing + " …", "", "esc ends it."}
	}
	if m.trouble != "" {
		lines = nil
		for line := range strings.Lines(m.trouble) {
			lines = append(lines, text.Harmless(strings.TrimRight(line, "\n")))
		}
		lines = append(lines, "", "enter tries again, f chooses another function.")
	}
	y := max(m.h/3-len(lines)/2, 1)
	for i, l := range lines {
		style := canvas.Dim
		if i == 0 {
			style = canvas.Bold
			if m.trouble != "" {
				style = canvas.Bad
			}
		}
		for _, row := range strings.Split(ansi.Wrap(l, max(m.w-8, 20), ""), "\n") {
			c.PutUpTo(4, y, m.w-2, style, row)
			y++
		}
	}
}

// drawShares draws the shares of the start as one bar, with what they are under it.
func (m *Model) drawShares(c *canvas.Canvas, y int, a *anatomy.Account) int {
	c.Rule(y, fmt.Sprintf("where the time went; a start of its own of %s ms", ms(a.Total)))
	y++
	wide := m.w - 2
	at, sum := 0, time.Duration(0)
	for class, d := range a.Shares {
		sum += d
		to := int(float64(sum) / float64(max(a.Total, 1)) * float64(wide))
		for ; at < to; at++ {
			c.Set(1+at, y, looks[class].style, looks[class].sign)
		}
	}
	y++
	x := 1
	for class, d := range a.Shares {
		words := fmt.Sprintf("%s %s ms, %.0f %%", anatomy.Words[class], ms(d), 100*float64(d)/float64(max(a.Total, 1)))
		if d < 50*time.Microsecond {
			continue
		}
		if x+ansi.StringWidth(words)+4 > m.w {
			x, y = 1, y+1
		}
		c.Set(x, y, looks[class].style, looks[class].sign)
		x = c.Put(x+2, y, canvas.Plain, words) + 3
	}
	return y + 1
}

// drawLanes draws threads and children on a line of time.
func (m *Model) drawLanes(c *canvas.Canvas, y int, a *anatomy.Account) int {
	room := min(max((m.h-y)/2-2, 2), 8)
	left := min(18, m.w/5)
	wide := m.w - left - 2
	c.Rule(y, "its threads and children, over time")
	y++
	for _, part := range []int{0, 1, 2, 3, 4} {
		x := left + wide*part/4
		label := strings.TrimSuffix(ms(a.Total*time.Duration(part)/4), "0.00")
		if part == 0 {
			label = "0"
		}
		if part == 4 {
			label += " ms"
			c.Right(m.w-1, y, canvas.Dim, label)
		} else {
			c.Put(x, y, canvas.Dim, "╷"+label)
		}
	}
	y++
	for _, l := range m.report.Lanes(room) {
		c.PutUpTo(1, y, left-1, canvas.Plain, text.Harmless(l.Name))
		for col := range wide {
			from := time.Duration(float64(a.Total) * float64(col) / float64(wide))
			to := time.Duration(float64(a.Total) * float64(col+1) / float64(wide))
			if class, ok := mostOf(l.Spans, from, to); ok {
				c.Set(left+col, y, looks[class].style, looks[class].sign)
			}
		}
		y++
	}
	return y
}

// mostOf returns the class that takes most of a stretch; ok is false where there is none.
func mostOf(spans []anatomy.Span, from, to time.Duration) (class anatomy.Class, ok bool) {
	var sums [anatomy.Classes]time.Duration
	first, _ := slices.BinarySearchFunc(spans, from, func(s anatomy.Span, at time.Duration) int {
		return int(s.To - at)
	})
	for _, s := range spans[first:] {
		if s.From >= to {
			break
		}
		sums[s.Class] += max(min(s.To, to)-max(s.From, from), 0)
	}
	best := time.Duration(0)
	for k, d := range sums {
		if d > best {
			best, class, ok = d, anatomy.Class(k), true
		}
	}
	return class, ok
}

// drawTree draws the tree of what was loaded: a row for each depth on the way to the cursor, as wide as the time.
func (m *Model) drawTree(c *canvas.Canvas, y, last int) {
	t, r := m.tree, m.report
	title := fmt.Sprintf("what %s loaded, %s; a start of its own of %s ms", r.Language, text.Plural(len(t.all), "name"),
		ms(r.TreeTook))
	if m.filter != "" {
		title += ", with “" + text.Harmless(m.filter) + "”"
	}
	c.Rule(y, title)
	y++
	trusted := r.Trusts(r.TreeTook)
	if t.at >= 0 {
		x := &t.all[t.at]
		words := text.Harmless(x.Name)
		if trusted {
			words += fmt.Sprintf("   whole %s ms, %.0f %% of the start   own %s ms", ms(x.Total),
				100*float64(x.Total)/float64(max(r.Median(), 1)), ms(x.Own))
		}
		if place := r.ImportedBy[x.Name]; place != "" {
			words += "   imported by " + text.Harmless(place)
		}
		c.PutUpTo(1, y, m.w-1, canvas.Bold, words)
	}
	y++
	path := t.path()
	wide := m.w - 2
	from, width := 0, wide
	level := t.roots()
	total := t.total()
	for depth := 0; y < last && len(level) > 0 && width > 0; depth++ {
		at, next := float64(from), -1
		var nextFrom, nextWidth int
		for _, i := range level {
			share := float64(width) / float64(max(len(level), 1))
			if total > 0 && trusted {
				share = float64(t.all[i].Total) / float64(total) * float64(width)
			}
			begin, end := int(at+0.5), int(at+share+0.5)
			at += share
			chosen := depth < len(path) && path[depth] == i
			if chosen {
				next, nextFrom, nextWidth = i, begin, max(end-begin, 1)
				end = max(end, begin+1)
			}
			if end <= begin {
				continue
			}
			style := canvas.Cold
			switch {
			case i == t.at:
				style = canvas.Chosen
			case !t.fits(i):
				style = canvas.Faint
			case chosen:
				style = canvas.ChosenCold
			}
			name := short(t.all[i].Name)
			content := ansi.Truncate(" "+text.Harmless(name), max(end-begin-1, 0), "…")
			content += strings.Repeat(" ", max(end-begin-1-ansi.StringWidth(content), 0)) + "│"
			c.PutUpTo(1+begin, y, 1+end, style, content)
		}
		y++
		if next < 0 {
			break
		}
		level, total = t.children[next], t.all[next].Total
		// what it loads is drawn under it; where that is too narrow to be read, over the whole width
		from, width = nextFrom, nextWidth
		if width < wide/3 {
			from, width, total = 0, wide, sumOf(t, level)
		} else {
			width = int(float64(width) * float64(sumOf(t, level)) / float64(max(total, 1)))
			total = sumOf(t, level)
		}
	}
	m.drawLargest(c, y+1, last)
}

// drawLargest lists what took most by itself, where there is room.
func (m *Model) drawLargest(c *canvas.Canvas, y, last int) {
	t := m.tree
	if last-y < 4 || !m.report.Trusts(m.report.TreeTook) {
		return
	}
	order := t.wanted()
	slices.SortStableFunc(order, func(a, b int) int { return int(t.all[b].Own - t.all[a].Own) })
	c.Rule(y, "the largest by themselves, ms")
	y++
	for _, i := range order[:min(len(order), last-y)] {
		x := &t.all[i]
		c.Right(10, y, canvas.Plain, ms(x.Own))
		words := text.Harmless(x.Name)
		if x.Parent >= 0 {
			words += "  loaded by " + text.Harmless(short(t.all[x.Parent].Name))
		}
		style := canvas.Plain
		if i == t.at {
			style = canvas.Bold
		}
		c.PutUpTo(13, y, m.w-1, style, words)
		y++
	}
}

func sumOf(t *tree, all []int) (sum time.Duration) {
	for _, i := range all {
		sum += t.all[i].Total
	}
	return sum
}

// short returns a name without the folders before it.
func short(name string) string {
	if at := strings.LastIndex(name, "node_modules/"); at >= 0 {
		return name[at+len("node_modules/"):]
	}
	if len(name) > 40 {
		return name[strings.LastIndexByte(name, '/')+1:]
	}
	return name
}

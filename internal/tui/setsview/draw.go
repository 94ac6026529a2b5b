package setsview

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/infer"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/template"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/tui/canvas"
)

// arrivalColumns is how many parts the time of a recording is distinguished in.
const arrivalColumns = 48

// page is a payload that is laid out.
type page struct {
	rows   []canvas.Row
	first  int // the row of its first mistake; -1 for none
	faults int
}

func (m *Model) leftWidth() int { return max(m.w*2/5, 30) }

// Draw draws the view.
func (m *Model) Draw(theme *canvas.Theme) *canvas.Canvas {
	c := canvas.New(m.w, m.h, theme)
	set := m.set()
	if set == nil {
		for i, l := range []string{"No payload sets yet.", "",
			"nightdrill payloads import FILE --as NAME   imports a recording: HAR, CloudEvents, JSON lines, an " +
				"access log, a folder",
			"nightdrill record --to URL --as NAME        records what passes through to a running service",
			"R                                           records messages of a broker",
			"payloads: {NAME: {schema: FILE}}            in nightdrill.yaml generates them from a JSON Schema"} {
			c.PutUpTo(2, 1+i, m.w-1, canvas.Dim, l)
		}
		m.drawCopying(c)
		return c
	}
	left := m.leftWidth()
	for y := range m.h {
		c.Set(left, y, canvas.Faint, '│')
	}
	rows := min(max(m.h/3, 5), len(m.plan.Sets)+1)
	m.drawSets(c, left, rows)
	m.drawAbout(c, rows+1, left, set)
	right := canvas.New(m.w-left-2, m.h, theme)
	high := m.drawPayload(right, set)
	table := canvas.New(m.w-left-2, m.h-high, theme)
	m.drawFields(table, set, m.h-high)
	right.Fill(0, high, m.w-left-2, m.h-high)
	right.Draw(0, high, table)
	c.Draw(left+2, 0, right)
	m.drawCopying(c)
	return c
}

func (m *Model) drawSets(c *canvas.Canvas, w, h int) {
	title := "Payload sets"
	listed := m.listed()
	if m.filter != "" {
		title = fmt.Sprintf("Payload sets: %d of %d with “%s”", len(listed), len(m.plan.Sets), text.Harmless(m.filter))
	}
	m.panes.Heading(c, 0, 0, w, onSets, title)
	if len(listed) == 0 {
		c.PutUpTo(2, 1, w, canvas.Dim, "No set has that in its name or source. / asks again, esc lists all.")
	}
	wide := 0
	var names []string
	for i := range m.plan.Sets {
		names = append(names, m.plan.Sets[i].Name)
		wide = max(wide, ansi.StringWidth(m.plan.Sets[i].Name))
	}
	wide = min(wide, w/2)
	names = text.Shorten(names, wide)
	none := func(int) string { return "" }
	m.drawn.Draw(c, 2, 1, w, h-1, len(listed), slices.Index(listed, m.at), none, func(n, y int) {
		set := &m.plan.Sets[listed[n]]
		c.PutUpTo(2, y, 2+wide, canvas.Plain, names[listed[n]])
		c.Right(2+wide+7, y, canvas.Plain, fmt.Sprint(len(set.Payloads)))
		kind, style := "recorded", canvas.Cold
		if set.Maker != nil {
			kind, style = "generated", canvas.Warm
		}
		x := c.PutUpTo(2+wide+8, y, w, style, kind)
		if source, ok := m.source(set); ok && 2+wide+24+len(source) <= w {
			c.PutUpTo(max(x+2, 2+wide+19), y, w, canvas.Dim, "for "+source)
		}
	})
}

// drawAbout draws what is in the set under the cursor.
func (m *Model) drawAbout(c *canvas.Canvas, y, w int, set *payload.Set) {
	put := func(name string, style canvas.Style, format string, args ...any) {
		if y < m.h {
			c.PutUpTo(2, y, 12, canvas.Dim, name)
			c.PutUpTo(12, y, w, style, text.Harmless(fmt.Sprintf(format, args...)))
			y++
		}
	}
	c.PutUpTo(2, y, w, canvas.Bold, set.Name)
	y++
	put("from", canvas.Plain, "%s", set.Origin)
	a := m.known[set]
	if a == nil {
		put("", canvas.Dim, "reading…")
		return
	}
	o := a.overview
	if o.Most == 0 {
		put("sizes", canvas.Dim, "no bodies")
	} else {
		content := canvas.Size(int64(o.Least)) + " to " + canvas.Size(int64(o.Most))
		if w >= 50 {
			content += ", median " + canvas.Size(int64(o.Median))
			if len(o.Sizes) > 0 {
				content += "  " + draw.Bars(o.Sizes)
			}
		}
		put("sizes", canvas.Plain, "%s", content)
	}
	if set.FitsName != "" {
		of := min(len(set.Payloads), looked)
		switch {
		case set.Maker != nil && set.Maker.Mode == "broken":
			put("schema", canvas.Plain, "%s, each violates one keyword", set.FitsName)
		case a.wrong > 0:
			put("schema", canvas.Bad, "✗ %d of %d violate %s", a.wrong, of, set.FitsName)
		default:
			put("schema", canvas.Good, "✓ all satisfy %s", set.FitsName)
		}
	} else if set.Maker == nil {
		put("schema", canvas.Dim, "none")
	}
	if set.Maker != nil {
		put("generated", canvas.Plain, "%s, seed %d", set.Maker.Mode, set.Maker.Seed)
	}
	if set.Expect != nil {
		put("expects", canvas.Plain, "%s", expects(set.Expect))
	}
	for i, r := range o.Redacted {
		if i == 4 {
			put("", canvas.Dim, "and at %d more places", len(o.Redacted)-i)
			break
		}
		put(map[bool]string{true: "redacted"}[i == 0], canvas.Warm, "%s, in %d", r.Where, r.N)
	}
	if y++; o.Arrivals == nil || y+5 >= m.h {
		return
	}
	content := "as recorded over " + brief(o.Span)
	if w >= 50 {
		content += ", from " + o.First.Format("2006-01-02 15:04:05")
	}
	c.PutUpTo(2, y, w, canvas.Bold, content)
	m.drawArrivals(c, y+1, w, &o)
}

// drawArrivals draws how many came when, and the scale beside it.
func (m *Model) drawArrivals(c *canvas.Canvas, y, w int, o *payload.Overview) {
	rows := min(max(m.h-y-2, 1), 5)
	wide := max(w-10, 8)
	counts := make([]int, wide)
	for i, n := range o.Arrivals { // each part is one column, or several
		from, to := i*wide/len(o.Arrivals), (i+1)*wide/len(o.Arrivals)
		if from == to {
			counts[from] += n
		}
		for k := from; k < to; k++ {
			counts[k] = n
		}
	}
	most := slices.Max(counts)
	for i, n := range counts {
		full := (n*rows*8 + most - 1) / most
		for r := range rows {
			if part := min(full-r*8, 8); part > 0 {
				c.Set(8+i, y+rows-1-r, canvas.Cold, draw.Heights[part])
			}
		}
	}
	c.Right(7, y, canvas.Dim, fmt.Sprint(most))
	c.Right(7, y+rows-1, canvas.Dim, "0")
	x := c.PutUpTo(8, y+rows, w, canvas.Dim, "0")
	end := brief(o.Span)
	c.Right(max(8+wide, x+ansi.StringWidth(end)+1), y+rows, canvas.Dim, end)
	c.PutUpTo(x+3, y+rows, 8+wide-ansi.StringWidth(end)-1, canvas.Faint,
		"columns of "+brief(o.Span/time.Duration(min(wide, len(o.Arrivals)))))
}

// brief writes a duration in three digits.
func brief(d time.Duration) string {
	for unit := time.Duration(1); unit < time.Hour; unit *= 10 {
		if d < 1000*unit {
			return text.Duration(d.Round(unit))
		}
	}
	return text.Duration(d.Round(time.Minute))
}

func expects(x *payload.Expect) string {
	var parts []string
	if len(x.Status) > 0 {
		parts = append(parts, "status "+strings.Trim(fmt.Sprint(x.Status), "[]"))
	}
	if x.Recorded {
		parts = append(parts, "the reply as recorded")
	}
	if x.SchemaName != "" {
		parts = append(parts, "a reply that satisfies "+x.SchemaName)
	}
	for _, v := range x.Values {
		parts = append(parts, "a value at "+v.At)
	}
	return strings.Join(parts, ", ")
}

// faults returns what of a payload does not fit its set's schema.
func faults(set *payload.Set, p *payload.Payload) []generate.Fault {
	if set.Fits == nil {
		return nil
	}
	kind := ""
	if p.Event != nil {
		kind = p.Event.DataContentType
	}
	if p.Request == nil && !event.IsJSON(kind) {
		return nil // a body of another form, made from data that fits
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(p.Data()))
	if err != nil {
		return []generate.Fault{{Text: "not valid JSON: " + err.Error()}}
	}
	return generate.Faults(set.Fits.Validate(v))
}

// drawPayload draws the payload, and returns how many rows it takes.
func (m *Model) drawPayload(c *canvas.Canvas, set *payload.Set) int {
	p := m.payload()
	title := fmt.Sprintf("payload %d of %d", m.n+1, len(set.Payloads))
	if m.mode != "" {
		title = fmt.Sprintf("payload %d, preview: %s, seed %d", m.n+1, m.mode, m.seed)
		if m.w < 120 {
			title = fmt.Sprintf("%d, %s, seed %d", m.n+1, m.mode, m.seed)
		}
	}
	w, h := m.w-m.leftWidth()-2, m.h-max(m.h*2/5, 6)
	a := m.known[set]
	if a != nil {
		h = max(h, m.h-len(m.fields(set, a))-2)
	}
	if m.learned != nil {
		m.drawLearned(c, w, h)
		return h
	}
	x := m.panes.Heading(c, 0, 0, w, onPayload, title)
	switch {
	case m.trouble != "":
		c.PutUpTo(2, 1, w, canvas.Bad, text.Harmless(m.trouble))
		return h
	case p == nil:
		c.PutUpTo(2, 1, w, canvas.Dim, "generating…")
		return h
	}
	if m.pageOf != p || m.pageWide != w {
		m.page, m.pageOf, m.pageWide = m.layOut(set, p, w-3), p, w
		if m.gets {
			m.beside(set, p, w-3)
		}
		if m.page.first > h-3 { // the mistake is what one looks for
			m.panes.Scroll[onPayload] = m.page.first - (h-3)/2
		}
	}
	says, style := "", canvas.Good
	switch {
	case m.breaks != "":
		says, style = "✗ violates "+m.breaks, canvas.Bad
	case m.page.faults > 0:
		says, style = fmt.Sprintf("✗ %d errors", m.page.faults), canvas.Bad
	case set.Fits != nil:
		says = "✓ fits"
	}
	if !p.Time.IsZero() && m.w >= 100 {
		x = c.PutUpTo(x+2, 0, w, canvas.Dim, p.Time.Format("15:04:05.000"))
	}
	c.Right(max(w-1, x+ansi.StringWidth(says)+2), 0, style, text.Harmless(says))
	top := m.panes.First(onPayload, len(m.page.rows), h-2)
	for i := range h - 2 {
		if top+i < len(m.page.rows) {
			c.PutRow(2, 1+i, w-1, m.page.rows[top+i])
		}
	}
	if more := len(m.page.rows) - top - (h - 2); more > 0 {
		c.Right(w-1, h-2, canvas.Dim, fmt.Sprintf(" %d more lines ", more))
		return h
	}
	return min(h, max(len(m.page.rows)+3, m.h/3))
}

// drawLearned draws what of an example corresponds to what of an event, and the template.
func (m *Model) drawLearned(c *canvas.Canvas, w, h int) {
	x := m.learned
	m.panes.Heading(c, 0, 0, w, onPayload, fmt.Sprintf("%s as a shape for %s", x.file, x.source))
	wide, parts := 0, 0
	part := func(f *template.Found) string {
		if f.Anew {
			return f.Part + ", made anew"
		}
		return f.Part
	}
	for i := range x.Found {
		wide, parts = max(wide, ansi.StringWidth(x.Found[i].At)), max(parts, ansi.StringWidth(part(&x.Found[i])))
	}
	wide = min(wide, w/3)
	rows := []canvas.Row{}
	verdict := canvas.Span{Style: canvas.Good, Text: "✓ it makes the example again"}
	if x.trouble != "" {
		verdict = canvas.Span{Style: canvas.Bad, Text: "✗ " + text.Harmless(x.trouble)}
	}
	rows = append(rows, canvas.Row{verdict}, canvas.Row{{Style: canvas.Dim, Text: fmt.Sprintf(
		"from each event: %s; as in the example: %s", text.Plural(len(x.Found), "place"),
		text.Plural(x.Constant, "value"))}}, canvas.Row{})
	for i := range x.Found {
		f := &x.Found[i]
		at := ansi.Truncate(text.Harmless(f.At), wide, "…")
		rows = append(
			rows,
			canvas.Row{{Style: canvas.Plain, Text: at + strings.Repeat(" ", wide-ansi.StringWidth(at)+2)},
				{Style: canvas.Bold, Text: fmt.Sprintf("%-*s", parts+2, part(f))},
				{Style: canvas.Dim, Text: ansi.Truncate(text.Harmless(payload.Line([]byte(f.Value), 60)),
					max(w-wide-parts-8, 8), "…")}},
		)
	}
	rows = append(rows, canvas.Row{}, canvas.Row{{Style: canvas.Dim, Text: "the template"}})
	for l := range strings.Lines(x.Template) {
		rows = append(rows, canvas.Code(text.Harmless(strings.TrimRight(l, "\r\n")), "application/json")...)
	}
	rows = canvas.Wrap(rows, w-3)
	top := m.panes.First(onPayload, len(rows), h-2)
	for i := range h - 2 {
		if top+i < len(rows) {
			c.PutRow(2, 1+i, w-1, rows[top+i])
		}
	}
	if more := len(rows) - top - (h - 2); more > 0 {
		c.Right(w-1, h-2, canvas.Dim, fmt.Sprintf(" %d more lines ", more))
	}
}

// shownBytes is how much of a body is laid out.
const shownBytes = 256 << 10

// layOut lays a payload out, with its errors at their places.
func (m *Model) layOut(set *payload.Set, p *payload.Payload, width int) page {
	out := page{first: -1}
	var rows []canvas.Row
	kind := ""
	if p.Request != nil {
		r := payload.Shown(p.Request)
		rows = append(rows, canvas.Row{{Style: canvas.Bold, Text: text.Harmless(r.Method + " " + r.Target)}})
		kind = r.HeaderValue("Content-Type")
		for _, h := range r.Header {
			rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: h.Name + ": "},
				{Style: canvas.Plain, Text: text.Harmless(h.Value)}})
		}
	} else {
		e := p.Event
		kind = e.DataContentType
		rows = append(rows, canvas.Row{{Style: canvas.Bold, Text: text.Harmless(e.Type)},
			{Style: canvas.Dim, Text: text.Harmless("  " + e.ID + "  from " + e.Source)}})
		for _, f := range append([]event.Field{{Name: "subject", Value: e.Subject}}, e.Extensions...) {
			if f.Value != "" {
				rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: f.Name + ": "},
					{Style: canvas.Plain, Text: text.Harmless(f.Value)}})
			}
		}
	}
	rows = append(rows, canvas.Row{})
	data := p.Data()
	found := faults(set, p)
	out.faults = len(found)
	var lines []jsondiff.Line
	isJSON := false
	if len(data) <= shownBytes {
		lines, isJSON = jsondiff.Lines(data)
	}
	switch {
	case len(data) == 0:
		rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: "(no data)"}})
	case isJSON:
		marked := map[string]bool{}
		coloured := colour(lines)
		for i, l := range lines {
			row := coloured[i]
			for _, f := range found {
				if f.At == l.At && !marked[f.At+f.Text] {
					marked[f.At+f.Text] = true
					row = append(row, canvas.Span{Style: canvas.Bad, Text: "  ◂ " + text.Harmless(f.Text)})
					if out.first < 0 {
						out.first = len(rows)
					}
				}
			}
			rows = append(rows, row)
		}
	case text.IsText(data):
		for _, f := range found {
			rows = append(rows, canvas.Row{{Style: canvas.Bad, Text: "◂ " + text.Harmless(f.Text)}})
		}
		content := string(data[:min(len(data), shownBytes)])
		for l := range strings.Lines(content) {
			rows = append(rows, canvas.Code(text.Harmless(strings.TrimRight(l, "\r\n")), kind)...)
		}
	default:
		rows = append(rows, canvas.Hex(data[:min(len(data), 16<<10)], width)...)
	}
	if len(data) > shownBytes {
		rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: fmt.Sprintf("(the first of %s)",
			canvas.Size(int64(len(data))))}})
	}
	out.rows = canvas.Wrap(rows, width)
	return out
}

// colour returns each line of JSON in its colours.
func colour(lines []jsondiff.Line) []canvas.Row {
	content := make([]string, len(lines))
	for i, l := range lines {
		content[i] = text.Harmless(l.Text)
	}
	rows := canvas.Code(strings.Join(content, "\n"), "application/json")
	for len(rows) < len(lines) {
		rows = append(rows, canvas.Row{})
	}
	return rows
}

// beside draws what the functions receive to the right of the payload, or under it where there is
// no room.
func (m *Model) beside(set *payload.Set, p *payload.Payload, width int) {
	source, _ := m.source(set)
	half := (width - 3) / 2
	narrow := width < 80
	if narrow {
		half = width
	}
	var right []canvas.Row
	for _, d := range m.s.Sent(source, p) {
		right = append(right, canvas.Row{{Style: canvas.Warm, Text: d.Function + " gets, " + d.Form}})
		if d.Wrong != "" {
			right = append(right, canvas.Row{{Style: canvas.Bad, Text: text.Harmless(d.Wrong)}})
			continue
		}
		right = append(right, canvas.Row{{Style: canvas.Bold,
			Text: text.Harmless(d.Method + " " + payload.ShownTarget(d.Target))}})
		kind := event.Value(d.Header, "Content-Type")
		for _, h := range d.Header {
			value := h.Value
			if payload.SecretHeader(h.Name) {
				value = payload.Hidden
			}
			right = append(right, canvas.Row{{Style: canvas.Dim, Text: h.Name + ": "},
				{Style: canvas.Plain, Text: text.Harmless(value)}})
		}
		right = append(right, canvas.Row{})
		body := d.Body[:min(len(d.Body), shownBytes)]
		if lines, ok := jsondiff.Lines(body); ok {
			right = append(right, colour(lines)...)
		} else if text.IsText(body) {
			for l := range strings.Lines(string(body)) {
				right = append(right, canvas.Code(text.Harmless(strings.TrimRight(l, "\r\n")), kind)...)
			}
		} else {
			right = append(right, canvas.Hex(body[:min(len(body), 4<<10)], half)...)
		}
		right = append(right, canvas.Row{})
	}
	if right == nil {
		right = canvas.Rows(canvas.Bad, "No wire of "+source+" takes it.")
	}
	right = canvas.Wrap(right, half)
	if narrow {
		m.page.rows = append(append(m.page.rows, canvas.Row{}), right...)
		return
	}
	left := m.layOut(set, p, half).rows
	rows := make([]canvas.Row, max(len(left), len(right)))
	for i := range rows {
		used := 0
		if i < len(left) {
			for _, s := range left[i] {
				used += ansi.StringWidth(s.Text)
			}
			rows[i] = append(rows[i], left[i]...)
		}
		rows[i] = append(rows[i], canvas.Span{Style: canvas.Faint, Text: strings.Repeat(" ", max(half-used, 0)) +
			" │ "})
		if i < len(right) {
			rows[i] = append(rows[i], right[i]...)
		}
	}
	m.page.rows = rows
}

// drawFields draws the places of the data: what the schema says of them, and what
// occurs there how often.
func (m *Model) drawFields(c *canvas.Canvas, set *payload.Set, h int) {
	w := m.w - m.leftWidth() - 2
	a := m.known[set]
	title := "Fields"
	if a != nil && a.learned > 0 {
		title = "Fields across " + text.Plural(a.learned, "payload")
	}
	m.panes.Heading(c, 0, 0, w, onFields, title)
	if a == nil {
		return
	}
	rows := m.fields(set, a)
	if len(rows) == 0 {
		c.PutUpTo(2, 1, w, canvas.Dim, "No JSON data.")
		return
	}
	names := 0
	for _, r := range rows {
		names = max(names, ansi.StringWidth(r.name))
	}
	names = min(names, w/3)
	schema := 0
	if set.Maker != nil && len(set.Maker.Outline) > 0 && w >= 70 {
		schema = w / 3
		c.PutUpTo(w-schema, 0, w, canvas.Dim, "required by "+set.Origin)
	}
	top := m.panes.First(onFields, len(rows), h-1)
	for i := range h - 1 {
		if top+i >= len(rows) {
			break
		}
		r, y := rows[top+i], 1+i
		if r.whole {
			c.PutUpTo(2, y, w-1, r.style, r.what)
			continue
		}
		c.PutUpTo(2, y, 2+names, canvas.Field, r.name)
		c.Right(2+names+7, y, r.style, r.share)
		x := 2 + names + 9
		x = c.PutUpTo(x, y, w-1, canvas.Plain, r.what)
		if r.bars != "" {
			x = c.PutUpTo(x+2, y, w-1, canvas.Cold, r.bars)
		}
		if schema > 0 && r.says != "" {
			used := x + 3
			c.PutUpTo(max(used, w-schema), y, w-1, canvas.Dim, r.says)
		}
	}
	if more := len(rows) - top - (h - 1); more > 0 {
		c.Right(w-1, h-1, canvas.Dim, fmt.Sprintf(" %d more ", more))
	}
}

type fieldRow struct {
	name, share, what, says string
	style                   canvas.Style
	bars                    string // how numbers are distributed
	whole                   bool   // what stands across all columns
}

// fields joins what the schema names with what occurs.
func (m *Model) fields(set *payload.Set, a *about) (out []fieldRow) {
	var outline []generate.Member
	if set.Maker != nil {
		outline = set.Maker.Outline
	}
	seen := map[string]bool{}
	says := map[string]string{}
	for _, o := range outline {
		says[o.At] = o.Text
	}
	name := func(at string) string {
		if at == "" {
			return "(root)"
		}
		depth := strings.Count(at, "/") - 1
		last := at[strings.LastIndex(at, "/")+1:]
		if last == "*" {
			last = "each item"
		}
		return text.Harmless(strings.Repeat("  ", depth) + strings.NewReplacer("~1", "/", "~0", "~").Replace(last))
	}
	for _, f := range a.fields {
		seen[f.At] = true
		style := canvas.Plain
		if f.N < f.Of {
			style = canvas.Warm
		}
		row := fieldRow{name: name(f.At), share: infer.Percent(f.N, f.Of), what: text.Harmless(f.What),
			says: text.Harmless(says[f.At]), style: style}
		if len(f.Spread) > 0 {
			row.bars = draw.Bars(f.Spread)
		}
		out = append(out, row)
	}
	for _, o := range outline {
		if !seen[o.At] && len(a.fields) > 0 {
			out = append(out, fieldRow{name: name(o.At), share: "never", says: text.Harmless(o.Text),
				style: canvas.Bad})
		}
	}
	if len(out) > 0 && len(a.answers) > 0 {
		out = append(out, fieldRow{whole: true})
	}
	for _, x := range a.answers {
		out = append(out, fieldRow{what: x.text, style: x.style, whole: true})
	}
	return out
}

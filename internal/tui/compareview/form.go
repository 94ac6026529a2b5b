package compareview

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/stats"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/input"
	"nightdrill.dev/internal/tui/pane"
)

// Choices is what can be compared in the project.
type Choices struct {
	Functions []FunctionChoice
	Drills    []string
}

// FunctionChoice is a function with its variants, and its limits as the project sets them.
type FunctionChoice struct {
	Name     string
	Variants []string // names with their function, the function itself first
	Limits   map[string]string
}

// Limits requests a drill under two limits, one after the other, and their comparison.
type Limits struct {
	Drill string
	Sides [2]string // changes of limits, such as quote.max=2
}

// FormKeys are the keys of the form.
var FormKeys = struct{ Field, Change, Toggle, Start, Close key.Binding }{
	Field:  key.NewBinding(key.WithKeys("up", "down"), key.WithHelp("↑↓", "choose a field")),
	Change: key.NewBinding(key.WithKeys("left", "right"), key.WithHelp("←→ or a value", "change it")),
	Toggle: pane.Bind("choose, or not", "space"),
	Start:  pane.Bind("start", "enter"),
	Close:  pane.Bind("close", "esc"),
}

// kind is what a form compares.
type kind int

const (
	ofVariants kind = iota
	ofRuns
	ofLimits
	kinds
)

var kindNames = [kinds]string{"variants of a function", "two past runs", "one drill under two limits"}

// limitNames are the limits that the form offers; the command line takes all.
var limitNames = []string{"max", "keep_warm", "idle_after", "start_rate", "guaranteed"}

// form is where a comparison is set up.
type form struct {
	what       kind
	field      int
	function   int
	off        map[string]bool // variants that are left out
	variant    int             // under the cursor
	cold, warm int
	late       bool // the cold starts do not end early
	runs       [2]int
	drill      int
	limit      int
	values     [2]string
	typed      *input.Line // of a field with a value; nil while none is typed
	known      map[string]estimate
	trouble    string
}

// estimate is what the latest run of a function tells about the next.
type estimate struct {
	start, warm    float64 // medians, ms; 0 where they are not known
	scatterOfStart float64
	scatterOfWarm  float64
}

// estimateMsg has the estimate of a function.
type estimateMsg struct {
	function string
	estimate
}

// Offer sets what can be compared.
func (m *Model) Offer(c Choices) { m.choices = c }

// Typing reports whether the form has the keys.
func (m *Model) Typing() bool { return m.form != nil }

// Paste handles a paste into a field.
func (m *Model) Paste(x tea.PasteMsg) tea.Cmd {
	f := m.form
	if f.typed == nil && f.typable(f.fields()[f.field]) {
		f.typed = input.New("", nil)
	}
	if f.typed != nil {
		f.typed.Update(x)
	}
	return nil
}

// openForm opens the form, with values that suit what is shown.
func (m *Model) openForm() tea.Cmd {
	f := &form{off: map[string]bool{}, cold: usualCold, warm: usualWarm, known: map[string]estimate{}}
	if i := slices.IndexFunc(m.choices.Functions, func(c FunctionChoice) bool { return len(c.Variants) > 1 }); i >= 0 {
		f.function = i
	} else {
		f.what = ofLimits
	}
	if len(m.runs) > 1 {
		f.runs = [2]int{1, 0}
	}
	m.form = f
	m.setValues()
	return m.estimate()
}

// setValues sets the two values of a limit to what the project has, and twice that.
func (m *Model) setValues() {
	f := m.form
	if len(m.choices.Functions) == 0 {
		return
	}
	value := m.choices.Functions[f.function].Limits[limitNames[f.limit]]
	f.values = [2]string{value, value}
	if n, err := strconv.Atoi(value); err == nil {
		f.values[1] = strconv.Itoa(max(2*n, n+1))
	}
}

// estimate reads what the latest run with the chosen function tells.
func (m *Model) estimate() tea.Cmd {
	if m.store == nil || len(m.choices.Functions) == 0 {
		return nil
	}
	name := m.choices.Functions[m.form.function].Name
	if _, ok := m.form.known[name]; ok {
		return nil
	}
	runs, from := m.store, m.runs
	return func() tea.Msg { return estimateMsg{name, estimateOf(runs, from, name)} }
}

// mostRead bounds the runs that are read for an estimate.
const mostRead = 5

func estimateOf(runs *store.Store, from []store.Info, name string) (e estimate) {
	read := 0
	for i := range from {
		h := from[i].Headline
		if h == nil || read == mostRead {
			continue
		}
		for _, of := range h.Functions {
			if of.Name != name || of.Start == nil {
				continue
			}
			read++
			page, err := runs.Page(from[i].ID)
			if err != nil {
				continue
			}
			f := page.Summary.Functions[name]
			figure := func(x *measure.Figures, to, scatter *float64) {
				if x.P50 != nil && x.P50Lo != nil && *to == 0 {
					*to, *scatter = *x.P50, stats.Scatter(*x.P50Lo, *x.P50Hi, x.N)
				}
			}
			figure(&f.Start, &e.start, &e.scatterOfStart)
			figure(&f.Service.Warm, &e.warm, &e.scatterOfWarm)
		}
		if e.start > 0 && e.warm > 0 {
			break
		}
	}
	return e
}

// The fields of a form.
const (
	onWhat = iota
	onFunction
	onVariants
	onCold
	onWarm
	onEarly
	onFirst
	onSecond
	onDrill
	onLimit
	onValueA
	onValueB
)

// fields returns the fields of what is compared, in their order.
func (f *form) fields() []int {
	switch f.what {
	case ofRuns:
		return []int{onWhat, onFirst, onSecond}
	case ofLimits:
		return []int{onWhat, onDrill, onFunction, onLimit, onValueA, onValueB}
	}
	return []int{onWhat, onFunction, onVariants, onCold, onWarm, onEarly}
}

// typable reports whether a field has a value that is typed.
func (f *form) typable(field int) bool {
	return slices.Contains([]int{onCold, onWarm, onValueA, onValueB}, field)
}

// formKey handles a key of the form.
func (m *Model) formKey(k tea.KeyPressMsg) tea.Cmd {
	f := m.form
	fields := f.fields()
	field := fields[f.field]
	f.trouble = ""
	switch name := k.String(); {
	case name == "esc" && f.typed != nil:
		f.typed = nil
	case name == "esc":
		m.form = nil
	case name == "enter":
		if f.take(field); f.trouble == "" {
			return m.startForm()
		}
	case name == "up", name == "down", name == "tab", name == "shift+tab":
		if f.take(field); f.trouble != "" {
			return nil
		}
		by := 1
		if name == "up" || name == "shift+tab" {
			by = -1
		}
		f.field = min(max(f.field+by, 0), len(fields)-1)
	case f.typed != nil:
		f.typed.Update(k)
	case name == "left":
		return m.changeField(field, -1)
	case name == "right":
		return m.changeField(field, 1)
	case name == "space" || name == " ":
		switch all := m.variantsOf(); {
		case field == onVariants && f.variant < len(all):
			f.off[all[f.variant]] = !f.off[all[f.variant]]
		case field == onEarly:
			f.late = !f.late
		}
	case f.typable(field) && len(k.Text) > 0:
		f.typed = input.New("", nil)
		f.typed.Update(k)
	}
	return nil
}

// take sets a field to what was typed.
func (f *form) take(field int) {
	if f.typed == nil {
		return
	}
	value := strings.TrimSpace(f.typed.Value())
	number := func(to *int, least, most int) {
		n, err := strconv.Atoi(value)
		if err != nil || n < least || n > most {
			f.trouble = fmt.Sprintf("%q must be a whole number from %d to %d", value, least, most)
			return
		}
		*to = n
	}
	switch field {
	case onCold:
		number(&f.cold, 1, 10_000)
	case onWarm:
		number(&f.warm, 0, 1_000_000)
	case onValueA:
		f.values[0] = value
	case onValueB:
		f.values[1] = value
	}
	if f.trouble == "" {
		f.typed = nil
	}
}

func (m *Model) variantsOf() []string {
	if len(m.choices.Functions) == 0 {
		return nil
	}
	return m.choices.Functions[m.form.function].Variants
}

// step moves a choice among n, and stays at the ends.
func step(at *int, by, n int) { *at = max(min(*at+by, n-1), 0) }

// coldSteps and warmSteps are what the arrows choose from.
var (
	coldSteps = []int{6, 10, 20, 30, 50, 100, 200, 500}
	warmSteps = []int{0, 50, 100, 200, 500, 1000, 2000, 5000}
)

// nextOf returns the step above or below a number.
func nextOf(steps []int, n, by int) int {
	i, there := slices.BinarySearch(steps, n)
	if by < 0 || there {
		i += by
	}
	return steps[min(max(i, 0), len(steps)-1)]
}

func (m *Model) changeField(field, by int) tea.Cmd {
	f := m.form
	switch field {
	case onWhat:
		f.what = (f.what + kinds + kind(by)) % kinds
	case onFunction:
		step(&f.function, by, len(m.choices.Functions))
		f.variant = 0
		m.setValues()
		return m.estimate()
	case onVariants:
		step(&f.variant, by, len(m.variantsOf()))
	case onCold:
		f.cold = nextOf(coldSteps, f.cold, by)
	case onWarm:
		f.warm = nextOf(warmSteps, f.warm, by)
	case onEarly:
		f.late = !f.late
	case onFirst:
		step(&f.runs[0], -by, len(m.runs))
	case onSecond:
		step(&f.runs[1], -by, len(m.runs))
	case onDrill:
		step(&f.drill, by, len(m.choices.Drills))
	case onLimit:
		step(&f.limit, by, len(limitNames))
		m.setValues()
	case onValueA, onValueB:
		value := &f.values[field-onValueA]
		if n, err := strconv.Atoi(*value); err == nil {
			*value = strconv.Itoa(max(n+by, 0))
		}
	}
	return nil
}

// startForm does what the form says, or what is wrong with it.
func (m *Model) startForm() tea.Cmd {
	f := m.form
	complain := func(format string, args ...any) tea.Cmd {
		f.trouble = fmt.Sprintf(format, args...)
		return nil
	}
	switch f.what {
	case ofRuns:
		a, b := f.runs[0], f.runs[1]
		switch {
		case len(m.runs) < 2:
			return complain("there are no two runs yet: start a drill in the Drill view (4)")
		case a == b:
			return complain("a run cannot be compared with itself: choose another with ←→")
		}
		m.form = nil
		return m.Compare(m.runs[a].ID, m.runs[b].ID)
	case ofLimits:
		switch {
		case len(m.choices.Drills) == 0 || len(m.choices.Functions) == 0:
			return complain("the project has no drill yet")
		case f.values[0] == f.values[1]:
			return complain("both sides have the same value: change one of them")
		}
		of := m.choices.Functions[f.function].Name + "." + limitNames[f.limit] + "="
		start := Limits{Drill: m.choices.Drills[f.drill], Sides: [2]string{of + f.values[0], of + f.values[1]}}
		m.form = nil
		return func() tea.Msg { return start }
	}
	var of []string
	for _, name := range m.variantsOf() {
		if !f.off[name] {
			of = append(of, name)
		}
	}
	if len(of) < 2 {
		return complain("at least two variants are needed; space chooses them, functions.NAME.variants in the " +
			"project " +
			"file defines them")
	}
	start := Variants{Function: m.choices.Functions[f.function].Name, Of: of, Cold: f.cold, Warm: f.warm,
		Early: !f.late}
	m.form = nil
	return func() tea.Msg { return start }
}

// foresight returns how long the comparison will take, and which differences it will detect.
func (m *Model) foresight() string {
	f := m.form
	n := 0
	for _, name := range m.variantsOf() {
		if !f.off[name] {
			n++
		}
	}
	e, ok := f.known[m.choices.Functions[f.function].Name]
	if !ok || e.start == 0 {
		return "How long it takes, and which differences it can detect, is known once the function has had six starts."
	}
	const around = 80 // ms: to stop an instance, and to look after it
	took := float64(n*f.cold)*(e.start+around) + float64(n*f.warm)*e.warm
	out := fmt.Sprintf("It takes about %s", text.Duration(rounded(took)))
	if !f.late {
		out = fmt.Sprintf("It takes up to about %s", text.Duration(rounded(took)))
	}
	const figures = 8 // that are compared, about
	alpha := stats.LateNoise / float64(figures*max(n-1, 1))
	var seen []string
	for _, x := range []struct {
		what    string
		scatter float64
		n       int
	}{{"the start", e.scatterOfStart, f.cold}, {"warm service time", e.scatterOfWarm, f.warm}} {
		if ratio := stats.Foreseen(x.scatter, x.n, alpha); x.scatter > 0 && !math.IsInf(ratio, 0) {
			seen = append(seen, fmt.Sprintf("from %s in %s", shareOf(ratio-1), x.what))
		}
	}
	if len(seen) > 0 {
		out += ", and will detect differences " + text.List(seen)
	}
	return out + ", if things are as in the latest run."
}

// shareOf returns a share in a few words.
func shareOf(share float64) string {
	if share >= 1 {
		return fmt.Sprintf("%.1f ×", share+1)
	}
	return fmt.Sprintf("%.0f %%", math.Ceil(share*100))
}

// rounded returns a time in milliseconds for a sentence.
func rounded(ms float64) time.Duration {
	d := time.Duration(ms * 1e6)
	if d > time.Minute {
		return d.Round(10 * time.Second)
	}
	return max(d.Round(time.Second), time.Second)
}

// drawForm draws the form.
func (m *Model) drawForm(c *canvas.Canvas) {
	f := m.form
	c.Rule(0, "Set up a comparison")
	const values = 29
	y := 2
	for i, field := range f.fields() {
		name, value := m.fieldText(field)
		style := canvas.Dim
		if i == f.field {
			style = canvas.Warm
			c.Set(1, y, canvas.Warm, '▸')
		}
		c.PutUpTo(3, y, values-1, style, name)
		switch {
		case field == onVariants:
			y = m.drawVariants(c, values, y, i == f.field)
			continue
		case i == f.field && f.typed != nil:
			f.typed.Draw(c, values, y, m.w-2, canvas.Chosen)
		case i == f.field:
			c.PutUpTo(values, y, m.w-2, canvas.Chosen, " "+value+" ")
		default:
			c.PutUpTo(values+1, y, m.w-2, canvas.Plain, value)
		}
		y++
	}
	y++
	if f.trouble != "" {
		y = canvas.Flow(c, 3, y, m.w-2, canvas.Bad, f.trouble) + 1
	}
	y = canvas.Flow(c, 3, y, m.w-2, canvas.Dim, m.whatHappens()) + 1
	if f.what == ofVariants && len(m.choices.Functions) > 0 {
		canvas.Flow(c, 3, y, m.w-2, canvas.Plain, m.foresight())
	}
}

// drawVariants draws the variants to choose from, as many in a row as there is room for.
func (m *Model) drawVariants(c *canvas.Canvas, x, y int, focused bool) int {
	f, at := m.form, x
	all := m.variantsOf()
	if len(all) < 2 {
		c.PutUpTo(x+1, y, m.w-2, canvas.Dim, "none; functions.NAME.variants in the project file defines them")
		return y + 1
	}
	for i, name := range all {
		sign := "● "
		style := canvas.Plain
		if f.off[name] {
			sign, style = "○ ", canvas.Dim
		}
		if focused && i == f.variant {
			style = canvas.Chosen
		}
		label := " " + sign + text.Harmless(name) + " "
		if at > x && at+len(label) > m.w-2 {
			at, y = x, y+1
		}
		at = c.PutUpTo(at, y, m.w-2, style, label) + 1
	}
	return y + 1
}

// fieldText returns the name of a field, and its value.
func (m *Model) fieldText(field int) (name, value string) {
	f := m.form
	run := func(i int) string {
		if i >= len(m.runs) {
			return "no run yet"
		}
		r := &m.runs[i]
		out := text.Harmless(r.Label(time.Now()))
		if r.Note != "" {
			out += ", " + text.Harmless(r.Note)
		}
		return out
	}
	of := func(all []string, i int) string {
		if i >= len(all) {
			return "none"
		}
		return all[i]
	}
	switch field {
	case onWhat:
		return "compare", kindNames[f.what]
	case onFunction:
		if len(m.choices.Functions) == 0 {
			return "function", "none"
		}
		return "function", m.choices.Functions[f.function].Name
	case onVariants:
		return "variants", ""
	case onCold:
		return "cold starts of each", strconv.Itoa(f.cold)
	case onWarm:
		return "warm invocations of each", strconv.Itoa(f.warm)
	case onEarly:
		if f.late {
			return "end early", "no: all cold starts are made"
		}
		return "end early", "yes: where the verdict on the starts is clear"
	case onFirst:
		return "run A", run(f.runs[0])
	case onSecond:
		return "run B", run(f.runs[1])
	case onDrill:
		return "drill", of(m.choices.Drills, f.drill)
	case onLimit:
		return "limit", limitNames[f.limit]
	case onValueA:
		return "value of A", f.values[0]
	}
	return "value of B", f.values[1]
}

// whatHappens describes what enter will do.
func (m *Model) whatHappens() string {
	switch m.form.what {
	case ofRuns:
		return "Enter compares the two runs, function by function."
	case ofLimits:
		return "Enter carries the drill out twice, with the same events, and compares the two runs."
	}
	return "Enter starts each variant cold, one after the other and in turns, so that other load on the machine " +
		"affects " +
		"all alike; then it sends each the warm invocations, in turns too."
}

// formHelp returns the keys of the form.
func (m *Model) formHelp() []key.Binding {
	out := []key.Binding{FormKeys.Start, FormKeys.Field, FormKeys.Change}
	if f := m.form; f.fields()[f.field] == onVariants {
		out = append(out, FormKeys.Toggle)
	}
	return append(out, FormKeys.Close)
}

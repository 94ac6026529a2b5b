package forecast

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/figure"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
)

// Format names the form of a forecast as JSON.
const Format = "nightdrill.forecast/1"

// Try is one limit with the values that are tried.
type Try struct {
	Function string   // "" for the project total
	Limit    string   // as the project file calls it, or concurrency
	Values   []string // in the order in which they stand in the grid
}

// ParseTry reads FUNCTION.LIMIT=VALUES or concurrency=VALUES; VALUES are separated by commas, and may be ranges of
// whole numbers: 1..4,6,8..16/4 are 1, 2, 3, 4, 6, 8, 12 and 16.
func ParseTry(content string) (t Try, err error) {
	name, values, ok := strings.Cut(content, "=")
	fn, limit, dotted := cutLast(name, ".")
	switch {
	case !ok || name == "" || values == "":
		return t, fmt.Errorf("%q is not FUNCTION.LIMIT=VALUES, such as quote.max=1..8", content)
	case !dotted && name != "concurrency":
		return t, fmt.Errorf("%q names no limit of a function; expected such as quote.max=1..8, or concurrency=4..12",
			name)
	case !dotted:
		limit = name
	}
	t = Try{Function: fn, Limit: limit}
	for _, v := range strings.Split(values, ",") {
		from, to, ranged := strings.Cut(v, "..")
		if !ranged {
			t.Values = append(t.Values, v)
			continue
		}
		to, by, stepped := strings.Cut(to, "/")
		step, errStep := 1, error(nil)
		if stepped {
			step, errStep = strconv.Atoi(by)
		}
		a, errFrom := strconv.Atoi(from)
		b, errTo := strconv.Atoi(to)
		if errFrom != nil || errTo != nil || errStep != nil || a < 0 || b < a || step < 1 {
			return t, fmt.Errorf("%q in %q is not a range, such as 1..8 or 4..16/4", v, content)
		}
		if (b-a)/step >= MostCells {
			return t, fmt.Errorf("%q has more than %d values; give a step, such as 0..%d/%d", v, MostCells, b, (b-a)/20)
		}
		for n := a; n <= b; n += step {
			t.Values = append(t.Values, strconv.Itoa(n))
		}
	}
	for i, v := range t.Values {
		if v == "" || slices.Contains(t.Values[:i], v) {
			return t, fmt.Errorf("%q names a value twice, or none", content)
		}
	}
	return t, nil
}

func cutLast(s, sep string) (before, after string, ok bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return "", s, false
}

// Name is FUNCTION.LIMIT.
func (t *Try) Name() string {
	if t.Function == "" {
		return t.Limit
	}
	return t.Function + "." + t.Limit
}

// Forecast is what settings would do.
type Forecast struct {
	Format   string    `json:"format"`
	Project  string    `json:"project"`
	Drill    string    `json:"drill"`
	Run      string    `json:"run"`
	Traffic  float64   `json:"traffic"` // times that of the run
	Tries    []TryJSON `json:"tries"`
	Cells    []Cell    `json:"cells"` // the values of the last try vary fastest
	Best     *int      `json:"best"`  // the cheapest cell that keeps all budgets; nil for none
	Knee     *int      `json:"knee"`  // the first cell of the first try beyond which nothing gets better; nil for none
	Sentence string    `json:"sentence"`
	Refusals []string  `json:"refusals"` // of the run as a whole
	Verified *Verified `json:"verified"` // nil where nothing was tried live
	Seeds    int       `json:"seeds"`
	Dropped  int       `json:"changes_left_out"` // changes of limits by the drill that what is tried replaces
}

// TryJSON is a try as JSON.
type TryJSON struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Cell is what one setting would do.
type Cell struct {
	Limits       map[string]Value        `json:"limits"` // such as {"quote.max": 3}
	Functions    map[string]FunctionCell `json:"functions"`
	Budgets      []measure.Verdict       `json:"budgets"`
	Kept         bool                    `json:"kept"` // all budgets, as far as they can be judged
	Extrapolated bool                    `json:"extrapolated"`
	Refused      *string                 `json:"refused"`
	Setting      []plan.Limits           `json:"-"`
	Concurrency  int                     `json:"-"` // of the project; 0 for as it was

	wrong string // why its limits do not fit together
}

// Value is the value of a limit, as the project file writes it; in JSON a number where it is one.
type Value string

// MarshalJSON writes a number as one.
func (v Value) MarshalJSON() ([]byte, error) {
	if n, err := strconv.Atoi(string(v)); err == nil {
		return json.Marshal(n)
	}
	return json.Marshal(string(v))
}

// FunctionCell is what one setting would do to a function. The bounds of figures are those that held in 95 of 100
// simulations.
type FunctionCell struct {
	Latency  measure.LatencyFigures `json:"latency"`
	Service  measure.ByClass        `json:"service"`
	Rejected float64                `json:"rejected"` // deliveries, the median of the simulations
	Offered  float64                `json:"offered"`
	Started  float64                `json:"started"`
	Peak     float64                `json:"peak"` // instances
	InFlight int                    `json:"in_flight"`
	Memory   *float64               `json:"memory_gib_s"`
	Cost     *float64               `json:"cost"`
	Cold     float64                `json:"cold"` // cold deliveries
}

// Verified is a forecast beside what was measured.
type Verified struct {
	Run   string          `json:"run"`
	Cell  int             `json:"cell"`
	Each  []VerifiedValue `json:"figures"`
	Error float64         `json:"median_error"` // of the figures, as a share
}

// VerifiedValue is one figure.
type VerifiedValue struct {
	What     string   `json:"what"`
	Unit     string   `json:"unit"` // ms; "" for a number
	Forecast float64  `json:"forecast"`
	Lo       *float64 `json:"lo"`
	Hi       *float64 `json:"hi"`
	Measured float64  `json:"measured"`
	Within   bool     `json:"within"`
}

// Order is what is forecast.
type Order struct {
	Tries   []Try
	Traffic float64 // 0 for 1
	Seeds   int     // simulations of each setting; 0 for 20
}

// DefaultSeeds is how many times each setting is simulated.
const DefaultSeeds = 20

// settings returns all combinations of what is tried, the values of the last varying fastest.
func (b *Base) settings(tries []Try) (out []Cell, err error) {
	out = []Cell{{Limits: map[string]Value{}, Setting: slices.Clone(b.Limits)}}
	for i := range tries {
		t := &tries[i]
		var next []Cell
		for _, c := range out {
			for _, v := range t.Values {
				x := Cell{Limits: maps.Clone(c.Limits), Setting: slices.Clone(c.Setting), Concurrency: c.Concurrency}
				x.Limits[t.Name()] = Value(v)
				if err := b.set(&x, t, v); err != nil {
					return nil, fmt.Errorf("%s=%s: %w", t.Name(), v, err)
				}
				next = append(next, x)
			}
		}
		out = next
	}
	for i := range out { // once all limits of a setting are known: they must fit together
		for fn := range b.Project.Functions {
			if why := b.Project.Functions[fn].CheckLimits(&out[i].Setting[fn]); why != "" {
				out[i].wrong = why
			}
		}
	}
	return out, nil
}

// set sets one limit of a setting.
func (b *Base) set(c *Cell, t *Try, value string) error {
	if t.Function == "" && t.Limit == "concurrency" {
		n, err := strconv.Atoi(value)
		if err != nil || n < 1 {
			return fmt.Errorf("%q must be a whole number of at least 1", value)
		}
		c.Concurrency = n
		return nil
	}
	fn := b.Project.FunctionNamed(t.Function)
	if fn < 0 {
		return fmt.Errorf("unknown function %q", t.Function)
	}
	return c.Setting[fn].Set(t.Limit, value)
}

// MostCells bounds a grid.
const MostCells = 400

// mostEvents bounds a simulation, whose records are kept in memory while its figures are computed.
const mostEvents = 3_000_000

// Grid is the work of a forecast: jobs that may be done in any order, and several at once.
type Grid struct {
	base  *Base
	held  []bool
	out   *Forecast
	parts [][]simulated
}

// NewGrid lays out what is simulated. The error says which limit or value is wrong.
func (b *Base) NewGrid(o Order) (*Grid, error) {
	count := 1
	for i := range o.Tries {
		if count *= max(len(o.Tries[i].Values), 1); count > MostCells {
			return nil, fmt.Errorf("these are more than %d settings; try fewer values at once", MostCells)
		}
	}
	cells, err := b.settings(o.Tries)
	if err != nil {
		return nil, err
	}
	seeds, traffic := cmp.Or(o.Seeds, DefaultSeeds), cmp.Or(o.Traffic, 1)
	if n := float64(len(b.events)) * traffic; n > mostEvents {
		return nil, fmt.Errorf("these are %.0f events in each simulation; at most %d are simulated", n, mostEvents)
	}
	f := &Forecast{Format: Format, Project: b.Run.Project, Drill: b.Run.Drill, Run: b.Run.ID, Traffic: traffic,
		Tries: []TryJSON{}, Cells: cells, Refusals: []string{}, Seeds: seeds}
	for i := range o.Tries {
		f.Tries = append(f.Tries, TryJSON{o.Tries[i].Name(), o.Tries[i].Values})
	}
	for _, r := range b.Refusals {
		f.Refusals = append(f.Refusals, r.Words())
	}
	g := &Grid{base: b, held: b.Held(o.Tries), out: f, parts: make([][]simulated, len(cells))}
	for i := range g.parts {
		g.parts[i] = make([]simulated, seeds)
	}
	f.Dropped = len(b.Changes) - len(Changes(b.Changes, g.held, cells[0].Concurrency > 0))
	return g, nil
}

// Held returns of which functions limits are tried.
func (b *Base) Held(tries []Try) []bool {
	held := make([]bool, len(b.functions))
	for i := range tries {
		if fn := b.Project.FunctionNamed(tries[i].Function); fn >= 0 {
			held[fn] = true
		}
	}
	return held
}

// Jobs returns how many simulations there are.
func (g *Grid) Jobs() int { return len(g.parts) * g.out.Seeds }

// Do does the i-th of the jobs.
func (g *Grid) Do(i int) {
	seed, cell := i/len(g.parts), i%len(g.parts)
	if c := &g.out.Cells[cell]; c.wrong == "" {
		g.parts[cell][seed] = g.base.one(Setting{Limits: c.Setting, Concurrency: c.Concurrency, Held: g.held,
			Traffic: g.out.Traffic, Seed: uint64(seed + 1)})
	}
}

// Conclude returns the forecast, once all jobs are done.
func (g *Grid) Conclude() *Forecast {
	for i := range g.parts {
		if c := &g.out.Cells[i]; c.wrong != "" {
			c.Refused, c.Budgets, c.Functions = &c.wrong, []measure.Verdict{}, map[string]FunctionCell{}
			continue
		}
		g.base.fill(&g.out.Cells[i], g.parts[i])
	}
	g.base.conclude(g.out)
	return g.out
}

// simulated is what is kept of one simulation.
type simulated struct {
	summary  *measure.Summary
	inFlight []int
}

func (b *Base) one(s Setting) simulated {
	r, most := b.simulate(s)
	return simulated{measure.Analyze(r).Summary, most}
}

// fill enters what the simulations of a setting came to: of each figure the median, and between which values 95 % are.
func (b *Base) fill(c *Cell, parts []simulated) {
	c.Functions = map[string]FunctionCell{}
	began, most := make([]int, len(b.functions)), make([]int, len(b.functions))
	for fn := range b.functions {
		name := b.functions[fn].name
		pick := func(of func(*measure.FunctionFigures) *float64) (mid, lo, hi *float64) {
			var all []float64
			for i := range parts {
				f := parts[i].summary.Functions[name]
				if v := of(&f); v != nil {
					all = append(all, *v)
				}
			}
			if 2*len(all) <= len(parts) {
				return nil, nil, nil
			}
			return quantile(all, 0.5), quantile(all, 0.025), quantile(all, 0.975)
		}
		number := func(of func(*measure.FunctionFigures) float64) float64 {
			v, _, _ := pick(func(f *measure.FunctionFigures) *float64 { x := of(f); return &x })
			if v == nil {
				return 0
			}
			return *v
		}
		var x FunctionCell
		figures := func(to *measure.Figures, of func(*measure.FunctionFigures) *measure.Figures) {
			to.N = int(number(func(f *measure.FunctionFigures) float64 { return float64(of(f).N) }))
			to.P50, to.P50Lo, to.P50Hi = pick(func(f *measure.FunctionFigures) *float64 { return of(f).P50 })
			to.P95, to.P95Lo, to.P95Hi = pick(func(f *measure.FunctionFigures) *float64 { return of(f).P95 })
			to.P99, to.P99Lo, to.P99Hi = pick(func(f *measure.FunctionFigures) *float64 { return of(f).P99 })
			to.Max, _, _ = pick(func(f *measure.FunctionFigures) *float64 { return of(f).Max })
			to.Mean, _, _ = pick(func(f *measure.FunctionFigures) *float64 { return of(f).Mean })
		}
		for _, class := range []engine.Class{engine.Cold, engine.First, engine.Warm} {
			figures(x.Latency.Of(class),
				func(f *measure.FunctionFigures) *measure.Figures { return f.Latency.Of(class) })
			figures(x.Service.Of(class),
				func(f *measure.FunctionFigures) *measure.Figures { return f.Service.Of(class) })
		}
		figures(&x.Latency.Retried, func(f *measure.FunctionFigures) *measure.Figures { return &f.Latency.Retried })
		x.Rejected = number(func(f *measure.FunctionFigures) float64 { return float64(f.Outcomes.Rejected) })
		x.Offered = number(func(f *measure.FunctionFigures) float64 { return float64(f.Outcomes.Deliveries) })
		x.Started = number(func(f *measure.FunctionFigures) float64 { return float64(f.Instances.Started) })
		x.Peak = number(func(f *measure.FunctionFigures) float64 { return float64(f.Instances.Peak) })
		x.Cold = number(func(f *measure.FunctionFigures) float64 { return float64(f.Latency.Cold.N) })
		x.Memory, _, _ = pick(func(f *measure.FunctionFigures) *float64 { return f.Resources.Held })
		x.Cost, _, _ = pick(func(f *measure.FunctionFigures) *float64 {
			if f.Cost == nil {
				return nil
			}
			return &f.Cost.Total
		})
		for i := range parts {
			most[fn] = max(most[fn], parts[i].inFlight[fn])
		}
		x.InFlight, began[fn] = most[fn], int(x.Started)
		c.Functions[name] = x
	}
	c.Budgets = b.budgets(parts)
	c.Kept = true
	for i := range c.Budgets {
		c.Kept = c.Kept && (c.Budgets[i].Held || c.Budgets[i].Few)
	}
	c.Extrapolated = b.extrapolates(most)
	if why := b.refusal(c, began, most); why != "" {
		c.Refused = &why
	}
}

// budgets judges each budget by the median of the simulations; its bounds are where 95 % of them are.
func (b *Base) budgets(parts []simulated) (out []measure.Verdict) {
	out = []measure.Verdict{}
	for i, v := range parts[0].summary.Budgets {
		var all []float64
		held, few := 0, 0
		for k := range parts {
			x := &parts[k].summary.Budgets[i]
			if x.Measured != nil {
				all = append(all, *x.Measured)
			}
			if x.Held {
				held++
			}
			if x.Few {
				few++
			}
		}
		v.Measured, v.Lo, v.Hi = quantile(all, 0.5), quantile(all, 0.025), quantile(all, 0.975)
		v.Few = 2*few > len(parts)
		v.Held = !v.Few && 2*held > len(parts)-few
		out = append(out, v)
	}
	return out
}

// quantile returns a quantile of values; nil of none.
func quantile(all []float64, q float64) *float64 {
	if len(all) == 0 {
		return nil
	}
	all = slices.Sorted(slices.Values(all))
	v := all[min(int(q*float64(len(all))), len(all)-1)]
	return &v
}

// Words is a refusal as a sentence.
func (r Refusal) Words() string {
	text := r.Text
	if r.Function != "" {
		text = r.Function + ": " + text
	}
	if r.Remedy != "" {
		text += "; " + r.Remedy
	}
	return text
}

// Totals returns what a setting comes to over all functions: deliveries rejected, instances started, memory held in
// GiB s and cost, which are nil where they are not known of all that were used.
func (c *Cell) Totals() (rejected, started float64, memory, cost *float64) {
	held, paid := 0.0, 0.0
	memory, cost = &held, &paid
	for _, f := range c.Functions {
		if f.Offered == 0 && f.Started == 0 {
			continue
		}
		rejected, started = rejected+f.Rejected, started+f.Started
		if f.Memory == nil {
			memory = nil
		} else {
			held += *f.Memory
		}
		if f.Cost == nil {
			cost = nil
		} else {
			paid += *f.Cost
		}
	}
	return rejected, started, memory, cost
}

// Subject returns the function whose latency stands for a setting: the first whose limits are tried, or else the one
// with the most deliveries.
func (f *Forecast) Subject() string {
	for _, t := range f.Tries {
		if fn, _, ok := cutLast(t.Name, "."); ok {
			return fn
		}
	}
	best := ""
	if len(f.Cells) > 0 {
		all := f.Cells[0].Functions
		for _, name := range slices.Sorted(maps.Keys(all)) {
			if best == "" || all[name].Offered > all[best].Offered {
				best = name
			}
		}
	}
	return best
}

// Reasons returns why settings are not forecast, each reason once, with how many settings it is of.
func (f *Forecast) Reasons() (out []string) {
	count := map[string]int{}
	for i := range f.Cells {
		if why := f.Cells[i].Refused; why != nil {
			if count[*why]++; count[*why] == 1 {
				out = append(out, *why)
			}
		}
	}
	for i, why := range out {
		if n := count[why]; n > 1 {
			out[i] = fmt.Sprintf("%s (%d settings)", why, n)
		}
	}
	return out
}

// price returns what a setting costs: by the user's rates, or else the memory that is held; of all functions.
func (c *Cell) price() float64 {
	_, _, memory, cost := c.Totals()
	switch {
	case cost != nil && *cost > 0:
		return *cost
	case memory != nil:
		return *memory
	}
	return 0
}

// Tightest returns the budget of a setting that is nearest to being missed, or missed by most, with its margin as a
// share of its bound; nil where none can be judged.
func (c *Cell) Tightest() (v *measure.Verdict, margin float64) {
	for i := range c.Budgets {
		x := &c.Budgets[i]
		b, err := measure.ParseBudget(x.Text)
		if err != nil || x.Measured == nil || x.Few {
			continue
		}
		m := 1.0 // of what is exact, or a bound of 0: held or missed, with nothing in between
		switch left := b.Bound - *x.Measured; {
		case !x.Held && (b.Bound == 0 || b.Op == "==" || b.Op == "!="):
			m = math.Inf(-1)
		case b.Bound == 0 || b.Op == "==" || b.Op == "!=":
		case b.Op[0] == '<':
			m = left / b.Bound
		default:
			m = -left / b.Bound
		}
		if x.Held != (m >= 0) { // where the median does not decide
			m = -m
		}
		if v == nil || m < margin {
			v, margin = x, m
		}
	}
	return v, margin
}

// rejected returns the share of the deliveries that a setting rejects.
func (c *Cell) rejected() float64 {
	rejected, offered := 0.0, 0.0
	for _, f := range c.Functions {
		rejected, offered = rejected+f.Rejected, offered+f.Offered
	}
	if offered == 0 {
		return 0
	}
	return rejected / offered
}

// conclude finds the best setting and where nothing gets better any more, and says so.
func (b *Base) conclude(f *Forecast) {
	best := -1
	refused := 0
	for i := range f.Cells {
		c := &f.Cells[i]
		if c.Refused != nil {
			refused++
			continue
		}
		if c.Kept && (best < 0 || c.price() < f.Cells[best].price()*(1-1e-9)) {
			best = i
		}
	}
	if best >= 0 {
		f.Best = &best
	}
	var parts []string
	switch {
	case refused == len(f.Cells):
		why := *f.Cells[0].Refused
		f.Sentence = "None of this can be forecast from run " + f.Run + ": " + why + "."
		return
	case best < 0:
		parts = append(parts, "No setting keeps all budgets.")
	case len(b.Run.Budgets) == 0:
		parts = append(parts, fmt.Sprintf("%s is the cheapest; the drill has no budgets to keep.",
			f.Cells[best].Name(f)))
	default:
		parts = append(parts, fmt.Sprintf("%s is the cheapest that keeps all budgets.", f.Cells[best].Name(f)))
	}
	if best >= 0 {
		if share := f.Cells[best].rejected(); share >= fewRejected {
			rejected, _, _, _ := f.Cells[best].Totals()
			parts = append(parts, fmt.Sprintf("It rejects %.0f requests (%s).", rejected, figure.Percent(share)))
		}
	}
	parts = append(parts, f.edges(best)...)
	if refused > 0 {
		text := fmt.Sprintf("%d of %d settings are not forecast", refused, len(f.Cells))
		if 2*refused > len(f.Cells) {
			text += ": " + f.Reasons()[0]
		}
		parts = append(parts, text+".")
	}
	f.Sentence = strings.Join(parts, " ")
}

// Name is a setting in words, in the order of the tries.
func (c *Cell) Name(f *Forecast) string {
	var parts []string
	for _, t := range f.Tries {
		parts = append(parts, t.Name+" "+string(c.Limits[t.Name]))
	}
	return strings.Join(parts, " with ")
}

const (
	fewRejected = 0.001 // of the deliveries, that count as none
	noBetter    = 0.03  // of a figure, that counts as no difference
)

// edges returns below which value of the first limit requests are rejected, and above which nothing gets better; the
// other
// limits are those of the best setting, or their first values.
func (f *Forecast) edges(best int) (out []string) {
	if len(f.Tries) == 0 || len(f.Tries[0].Values) < 2 {
		return nil
	}
	stride := 1
	for _, t := range f.Tries[1:] {
		stride *= len(t.Values)
	}
	row := 0
	if best >= 0 {
		row = best % stride
	}
	at := func(i int) *Cell { return &f.Cells[i*stride+row] }
	n := len(f.Tries[0].Values)
	for i := n - 1; i > 0; i-- {
		if at(i).Refused == nil && at(i-1).Refused == nil && at(i).rejected() < fewRejected &&
			at(i-1).rejected() >= fewRejected {
			out = append(out, fmt.Sprintf("Below %s %s requests are rejected.", f.Tries[0].Name, f.Tries[0].Values[i]))
			break
		}
	}
	for i := 0; i < n-1; i++ {
		if at(i).Refused != nil || at(i+1).Refused != nil || !f.flat(at, i, n) {
			continue
		}
		knee := i*stride + row
		f.Knee = &knee
		out = append(out, fmt.Sprintf("Above %s nothing gets better.", f.Tries[0].Values[i]))
		break
	}
	return out
}

// flat reports whether nothing gets better from a value on.
func (f *Forecast) flat(at func(int) *Cell, from, n int) bool {
	for i := from + 1; i < n; i++ {
		if at(i).Refused != nil {
			continue
		}
		if at(from).rejected()-at(i).rejected() > fewRejected {
			return false
		}
		for name, x := range at(from).Functions {
			y := at(i).Functions[name]
			for _, v := range [][2]*float64{{x.Latency.Warm.P50, y.Latency.Warm.P50}, {x.Latency.Warm.P95,
				y.Latency.Warm.P95}} {
				if v[0] != nil && v[1] != nil && *v[1] < *v[0]*(1-noBetter) && *v[0]-*v[1] > 0.5 {
					return false
				}
			}
		}
	}
	return true
}

// Verify sets what was measured of a setting beside its forecast.
func (f *Forecast) Verify(cell int, r *record.Run) {
	s := measure.Analyze(r).Summary
	v := &Verified{Run: r.ID, Cell: cell}
	var errors []float64
	add := func(what string, is measure.Figures, was measure.Figures) {
		for _, x := range []struct {
			name             string
			forecast, lo, hi *float64
			measured         *float64
		}{{"p50", is.P50, is.P50Lo, is.P50Hi, was.P50}, {"p95", is.P95, is.P95Lo, is.P95Hi, was.P95}} {
			if x.forecast == nil || x.measured == nil || *x.measured <= 0 {
				continue
			}
			v.Each = append(v.Each, VerifiedValue{what + " " + x.name, "ms", *x.forecast, x.lo, x.hi, *x.measured,
				x.lo != nil && *x.measured >= *x.lo && *x.measured <= *x.hi})
			errors = append(errors, math.Abs(*x.forecast / *x.measured - 1))
		}
	}
	for name, x := range f.Cells[cell].Functions {
		was := s.Functions[name]
		if was.Attempts == 0 {
			continue
		}
		add(name+" cold", x.Latency.Cold, was.Latency.Cold)
		add(name+" warm", x.Latency.Warm, was.Latency.Warm)
		v.Each = append(v.Each, VerifiedValue{name + " rejected", "", x.Rejected, nil, nil,
			float64(was.Outcomes.Rejected),
			math.Abs(x.Rejected-float64(was.Outcomes.Rejected)) <= 0.02*max(x.Offered, 1)})
		v.Each = append(v.Each, VerifiedValue{name + " started", "", x.Started, nil, nil,
			float64(was.Instances.Started),
			x.Started == float64(was.Instances.Started)})
	}
	subject := f.Subject() + " " // first
	slices.SortFunc(v.Each, func(a, b VerifiedValue) int {
		first := func(x VerifiedValue) int {
			if strings.HasPrefix(x.What, subject) {
				return 0
			}
			return 1
		}
		return cmp.Or(first(a)-first(b), strings.Compare(a.What, b.What))
	})
	if m := quantile(errors, 0.5); m != nil {
		v.Error = *m
	}
	f.Verified = v
}

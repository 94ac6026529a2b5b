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

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
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
	Runs     []string  `json:"runs"`     // all that it was made from
	Traffic  float64   `json:"traffic"`  // times that of the run, or of the drill
	Arrivals string    `json:"arrivals"` // the drill whose feeds send the events; "" for the events of the run
	Seconds  float64   `json:"seconds"`  // for which they are repeated; 0 for once
	Events   float64   `json:"events"`   // of each simulation, about
	Tries    []TryJSON `json:"tries"`
	Cells    []Cell    `json:"cells"` // the values of the last try vary fastest
	Best     *int      `json:"best"`  // the cheapest cell that keeps all budgets; nil for none
	Knee     *int      `json:"knee"`  // the first cell of the first try beyond which nothing gets better; nil for none
	Sentence string    `json:"sentence"`
	Refusals []string  `json:"refusals"` // of the run as a whole
	Verified *Verified `json:"verified"` // nil where nothing was tried live
	Seeds    int       `json:"seeds"`
	Dropped  int       `json:"changes_left_out"` // changes of limits by the drill that what is tried replaces
	// Widened is, of functions whose forecasts that were tried live needed it, by which factor the intervals of their
	// times reach lower and higher than simulations do.
	Widened map[string]float64 `json:"widened"`
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
	// Needed is, of each function, by which factors the simulations' intervals of its times would have had to reach
	// lower and higher to hold what was measured; below 1, they had room. A setting that was refused has none.
	Needed map[string][]float64 `json:"needed"`
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
	Traffic Traffic
	Seeds   int // simulations of each setting; 0 for as many as are fitting, 20 at most
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

const (
	// mostKept bounds a simulation whose records are kept in memory while its figures are computed; longer ones
	// compute them as they go.
	mostKept = 1_000_000
	// mostRecorded is how many events a grid has whose simulations are recorded all the same: without records it takes
	// half as long.
	mostRecorded = 200_000
	// mostEvents bounds a simulation: it takes a quarter of an hour, about.
	mostEvents = 1_000_000_000
	// plenty is how many events of all simulations of a setting there are as a rule, at most.
	plenty = 200_000_000
	// fewSeeds is how many simulations say little about how far they are apart.
	fewSeeds = 5
)

// Grid is the work of a forecast: jobs that may be done in any order, and several at once.
type Grid struct {
	bases   []*Base // seeds take turns
	held    []bool
	traffic []*offers // of each base
	long    bool
	out     *Forecast
	parts   [][]simulated
}

// NewGrid lays out what is simulated. The error says which limit or value is wrong.
func (b *Base) NewGrid(o Order) (*Grid, error) { return NewGrid([]*Base{b}, o) }

// NewGrid lays out what is simulated from several runs, such as at other times of the day; budgets and limits that are
// not tried are those of the first. The error says which limit or value is wrong.
func NewGrid(bases []*Base, o Order) (*Grid, error) {
	b := bases[0]
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
	var traffic []*offers
	n := 0.0
	for _, b := range bases {
		t, err := b.newOffers(o.Traffic)
		if err != nil {
			return nil, err
		}
		traffic, n = append(traffic, t), max(n, t.events())
	}
	if n > mostEvents {
		return nil, fmt.Errorf("these are about %s events in each simulation; at most %s are simulated",
			figure.Count(n), figure.Count(mostEvents))
	}
	seeds := cmp.Or(o.Seeds, min(max(int(plenty/max(n, 1)), 2), DefaultSeeds))
	seeds = (seeds + len(bases) - 1) / len(bases) * len(bases)
	f := &Forecast{Format: Format, Project: b.Run.Project, Drill: b.Run.Drill, Run: b.Run.ID, Traffic: traffic[0].times,
		Runs:    []string{},
		Seconds: o.Traffic.For.Seconds(), Events: n,
		Tries: []TryJSON{}, Cells: cells, Refusals: []string{}, Seeds: seeds}
	if o.Traffic.Drill != nil {
		f.Arrivals = o.Traffic.Drill.Name
	}
	for i := range o.Tries {
		f.Tries = append(f.Tries, TryJSON{o.Tries[i].Name(), o.Tries[i].Values})
	}
	for _, b := range bases {
		f.Runs = append(f.Runs, b.Run.ID)
		for _, r := range b.Refusals {
			f.Refusals = append(f.Refusals, r.Words())
		}
	}
	g := &Grid{bases: bases, held: b.Held(o.Tries), traffic: traffic,
		long: n > mostKept || n*float64(seeds*len(cells)) > mostRecorded && measure.Streams(b.Run.Budgets), out: f,
		parts: make([][]simulated, len(cells))}
	for i := range g.parts {
		g.parts[i] = make([]simulated, seeds)
	}
	if f.Dropped = len(b.Changes); traffic[0].inTime {
		f.Dropped -= len(Changes(b.Changes, g.held, cells[0].Concurrency > 0))
	}
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

// Events returns how many events are simulated in all, about.
func (g *Grid) Events() float64 { return g.out.Events * float64(g.Jobs()) }

// Do does the i-th of the jobs. tick, if not nil, is called with how many events were simulated since it was last
// called; the job ends early where it returns false.
func (g *Grid) Do(i int, tick func(events int) (goOn bool)) {
	seed, cell := i/len(g.parts), i%len(g.parts)
	c := &g.out.Cells[cell]
	if c.wrong != "" {
		return
	}
	from := seed % len(g.bases)
	x := g.bases[from].simulate(Setting{Limits: c.Setting, Concurrency: c.Concurrency, Held: g.held,
		Seed: uint64(seed + 1),
		Tick: tick}, g.traffic[from], g.long)
	r := x.run()
	g.parts[cell][seed].inFlight = x.most
	if g.long {
		g.parts[cell][seed].summary = x.figures.Summary()
	} else {
		g.parts[cell][seed].summary = measure.Analyze(r).Summary
	}
}

// Conclude returns the forecast, once all jobs are done.
func (g *Grid) Conclude() *Forecast {
	for i := range g.parts {
		if c := &g.out.Cells[i]; c.wrong != "" {
			c.Refused, c.Budgets, c.Functions = &c.wrong, []measure.Verdict{}, map[string]FunctionCell{}
			continue
		}
		g.fill(&g.out.Cells[i], g.parts[i])
	}
	g.bases[0].conclude(g.out)
	return g.out
}

// fill enters what the simulations of a setting came to, of those runs that can tell it.
func (g *Grid) fill(c *Cell, parts []simulated) {
	var kept []simulated
	why := ""
	for from, b := range g.bases {
		var of []simulated
		for seed := from; seed < len(parts); seed += len(g.bases) {
			of = append(of, parts[seed])
		}
		if text := b.fill(c, of); text == "" {
			kept = append(kept, of...)
		} else if why == "" {
			why = text
		}
	}
	switch {
	case kept == nil:
		c.Refused = &why
		g.bases[0].fill(c, parts)
	case len(g.bases) > 1:
		g.bases[0].fill(c, kept)
		for _, b := range g.bases[1:] { // it was seen if it was in any
			c.Extrapolated = c.Extrapolated && b.extrapolates(most(kept))
		}
	}
}

// most returns the most that each function had in flight in any simulation.
func most(parts []simulated) []int {
	out := slices.Clone(parts[0].inFlight)
	for _, p := range parts {
		for fn := range out {
			out[fn] = max(out[fn], p.inFlight[fn])
		}
	}
	return out
}

// simulated is what is kept of one simulation.
type simulated struct {
	summary  *measure.Summary
	inFlight []int
}

// fill enters what the simulations of a setting came to: of each figure the median, and between which values 95 % are.
// It returns why the run cannot tell it, or "".
func (b *Base) fill(c *Cell, parts []simulated) (why string) {
	c.Functions = map[string]FunctionCell{}
	began, most := make([]int, len(b.functions)), most(parts)
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
			if len(all) < fewSeeds {
				return quantile(all, 0.5), nil, nil
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
		x.InFlight, began[fn] = most[fn], int(x.Started)
		c.Functions[name] = x
	}
	c.Budgets = b.budgets(parts)
	c.Kept = true
	for i := range c.Budgets {
		c.Kept = c.Kept && (c.Budgets[i].Held || c.Budgets[i].Few)
	}
	c.Extrapolated = b.extrapolates(most)
	return b.refusal(c, began, most)
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
		if len(all) < fewSeeds {
			v.Lo, v.Hi = nil, nil
		}
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
	of := ""
	if 2*refused > len(f.Cells) && refused < len(f.Cells) {
		parts = append(parts, fmt.Sprintf("%d of %d settings are not forecast: %s.", refused, len(f.Cells),
			f.Reasons()[0]))
		of = " of the others"
	}
	switch {
	case refused == len(f.Cells):
		why := *f.Cells[0].Refused
		f.Sentence = "None of this can be forecast from run " + f.Run + ": " + why + "."
		return
	case len(f.Tries) == 0:
		f.Sentence = f.own()
		return
	case best < 0 && of != "":
		parts = append(parts, "None"+of+" keeps all budgets.")
	case best < 0:
		parts = append(parts, "No setting keeps all budgets.")
	case len(b.Run.Budgets) == 0:
		parts = append(parts, fmt.Sprintf("%s is the cheapest%s; the drill has no budgets to keep.",
			f.Cells[best].Name(f), of))
	default:
		parts = append(parts, fmt.Sprintf("%s is the cheapest%s that keeps all budgets.", f.Cells[best].Name(f), of))
	}
	if best >= 0 {
		if share := f.Cells[best].rejected(); share >= fewRejected {
			rejected, _, _, _ := f.Cells[best].Totals()
			parts = append(parts, fmt.Sprintf("It rejects %.0f requests (%s).", rejected, figure.Percent(share)))
		}
	}
	parts = append(parts, f.edges(best)...)
	if refused > 0 && of == "" {
		parts = append(parts, fmt.Sprintf("%d of %d settings are not forecast.", refused, len(f.Cells)))
	}
	f.Sentence = strings.Join(parts, " ")
}

// own returns what the limits of the run come to, where no others are tried.
func (f *Forecast) own() string {
	c := &f.Cells[0]
	rejected, _, _, _ := c.Totals()
	text := "The limits of the run keep all budgets."
	switch missed, _ := c.Tightest(); {
	case !c.Kept && missed != nil:
		text = "The limits of the run miss a budget: " + missed.Text + "."
	case len(c.Budgets) == 0:
		text = "With the limits of the run; the drill has no budgets to keep."
	}
	if share := c.rejected(); share >= fewRejected {
		text += fmt.Sprintf(" %.0f requests are rejected (%s).", rejected, figure.Percent(share))
	}
	return text
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
// other limits are those of the best setting, or their first values.
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
	v := &Verified{Run: r.ID, Cell: cell, Needed: map[string][]float64{}}
	var errors []float64
	add := func(name, class string, is measure.Figures, was measure.Figures) {
		for _, x := range []struct {
			name             string
			forecast, lo, hi *float64
			measured         *float64
		}{{"p50", is.P50, is.P50Lo, is.P50Hi, was.P50}, {"p95", is.P95, is.P95Lo, is.P95Hi, was.P95}} {
			if x.forecast == nil || x.measured == nil || *x.measured <= 0 {
				continue
			}
			if by, ok := need(x.lo, x.hi, *x.measured); ok && f.Cells[cell].Refused == nil {
				v.Needed[name] = append(v.Needed[name], by*max(f.Widened[name], 1))
			}
			v.Each = append(v.Each, VerifiedValue{name + " " + class + " " + x.name, "ms", *x.forecast, x.lo, x.hi,
				*x.measured, x.lo != nil && *x.measured >= *x.lo && *x.measured <= *x.hi})
			errors = append(errors, math.Abs(*x.forecast / *x.measured - 1))
		}
	}
	for name, x := range f.Cells[cell].Functions {
		was := s.Functions[name]
		if was.Attempts == 0 {
			continue
		}
		add(name, "cold", x.Latency.Cold, was.Latency.Cold)
		add(name, "warm", x.Latency.Warm, was.Latency.Warm)
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

// From returns what a forecast was made from, in words.
func (f *Forecast) From() string {
	of := "Forecast from run " + f.Run
	if n := len(f.Runs); n > 1 {
		of = fmt.Sprintf("Forecast from runs %s and %s", strings.Join(f.Runs[:n-1], ", "), f.Runs[n-1])
	}
	switch times := strconv.FormatFloat(f.Traffic, 'g', -1, 64); {
	case f.Arrivals != "" && f.Traffic != 1:
		of += fmt.Sprintf(", with %s times the traffic of drill %s", times, f.Arrivals)
	case f.Arrivals != "":
		of += ", with the traffic of drill " + f.Arrivals
	case f.Traffic != 1:
		of += fmt.Sprintf(", with %s times its traffic", times)
	}
	switch days := f.Seconds / (24 * 3600); {
	case f.Seconds == 0:
		return of
	case days < 1:
		of += fmt.Sprintf(", repeated for %s hours", strconv.FormatFloat(f.Seconds/3600, 'g', 3, 64))
	case days == 1:
		of += ", repeated for a day"
	default:
		of += fmt.Sprintf(", repeated for %s days", strconv.FormatFloat(days, 'g', 3, 64))
	}
	return of + fmt.Sprintf(" (about %s events)", figure.Count(f.Events))
}

// Left returns which changes of the drill are left out, as a sentence.
func (f *Forecast) Left() string {
	if f.Arrivals != "" || f.Seconds > 0 {
		return "Changes of limits that the drill makes are left out."
	}
	return "What is tried holds from the beginning to the end: changes that the drill makes to it are left out."
}

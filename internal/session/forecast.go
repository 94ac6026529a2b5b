package session

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/forecast"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/store"
)

// Forecasting is what forecasts are made from, and the last of them.
type Forecasting struct {
	Base  *forecast.Base
	Order forecast.Order
	Made  *forecast.Forecast // nil before it is made

	dir   string
	bases []*forecast.Base // Base is the first
	drill *plan.Drill
}

// ForecastOf returns what can be forecast from: one or more runs by their names, or the last finished runs of drills,
// all of one drill. The error says what is missing.
func (d *Workspace) ForecastOf(names ...string) (*Forecasting, error) {
	x := &Forecasting{dir: d.Dir}
	for _, name := range names {
		drill, b, err := d.baseOf(name)
		switch {
		case err != nil:
			return nil, err
		case x.Base == nil:
			x.Base, x.drill = b, drill
		case drill.Name != x.drill.Name:
			return nil, fmt.Errorf("runs %s and %s are of the drills %s and %s; forecast from runs of one",
				x.Base.Run.ID,
				b.Run.ID, x.drill.Name, drill.Name)
		case slices.ContainsFunc(x.bases, func(o *forecast.Base) bool { return o.Run.ID == b.Run.ID }):
			return nil, fmt.Errorf("run %s is named twice", b.Run.ID)
		}
		x.bases = append(x.bases, b)
	}
	return x, nil
}

// baseOf returns what was learnt from a run, and its drill as it was then.
func (d *Workspace) baseOf(name string) (*plan.Drill, *forecast.Base, error) {
	info, err := d.runOf(name)
	if err != nil {
		return nil, nil, err
	}
	r, err := d.Runs.Load(info.ID)
	if err != nil {
		return nil, nil, err
	}
	drill := d.DrillNamed(r.Drill)
	if drill == nil {
		return nil, nil, fmt.Errorf("run %s is of a drill %s, which the project does not have (any more)", r.ID,
			r.Drill)
	}
	of := *drill
	of.Limits = slices.Clone(drill.Limits)
	for fn := range of.Limits {
		if fn >= len(r.Functions) {
			break
		}
		f, l := &r.Functions[fn], &of.Limits[fn]
		l.Max, l.PerInstance, l.KeepWarm, l.Guaranteed = f.Max, f.PerInstance, f.KeepWarm, f.Guaranteed
	}
	b, err := forecast.New(d.Project, &of, r, runtime.NumCPU())
	return &of, b, err
}

// total reports whether the project's total is tried.
func (x *Forecasting) total() bool {
	return slices.ContainsFunc(x.Order.Tries, func(t forecast.Try) bool { return t.Function == "" })
}

// Live returns the drill under the limits of a cell, without the changes that the forecast leaves out, too.
func (x *Forecasting) Live(p *plan.Project, cell int) (*plan.Drill, error) {
	of := *x.drill
	if t := x.Order.Traffic.Drill; t != nil {
		of = *t
		of.Limits, of.Changes = x.drill.Limits, nil
		return project.ChangeLimits(p, &of, LimitChanges(x.Made, cell))
	}
	of.Changes = forecast.Changes(x.drill.Changes, x.Base.Held(x.Order.Tries), x.total())
	return project.ChangeLimits(p, &of, LimitChanges(x.Made, cell))
}

// Simulated returns what the run would look like under the limits of a cell, in one of its simulations.
func (x *Forecasting) Simulated(cell int) *record.Run {
	c := &x.Made.Cells[cell]
	t, left := x.Order.Traffic, mostShown
	t.For = 0 // one repetition shows it
	r, err := x.Base.SimulateTraffic(forecast.Setting{Limits: c.Setting, Concurrency: c.Concurrency,
		Held: x.Base.Held(x.Order.Tries), Seed: 1, Levels: true,
		Tick: func(events int) bool {
			left -= events
			return left > 0
		}}, t)
	if err != nil { // it was forecast with that traffic
		panic(err)
	}
	r.Simulated = cmp.Or(c.Name(x.Made), "its own limits")
	return r
}

// mostShown is how many events of a simulated run are shown, about.
const mostShown = 500_000

// Measured sets what a run measured of a cell beside its forecast, and keeps how far off that was.
func (x *Forecasting) Measured(cell int, r *record.Run) error {
	x.Made.Verify(cell, r)
	return KeepTrial(x.dir, Trial{Drill: r.Drill, Base: x.Made.Run, Run: r.ID, Setting: x.Made.Cells[cell].Name(x.Made),
		Error: x.Made.Verified.Error, Needed: x.Made.Verified.Needed})
}

// runOf returns a run by its name, or the last finished run of a drill.
func (d *Workspace) runOf(name string) (store.Info, error) {
	if d.DrillNamed(name) == nil {
		return d.Runs.Find(name)
	}
	all, err := d.Runs.List()
	if err != nil {
		return store.Info{}, err
	}
	for _, i := range all {
		if i.Drill == name && i.Finished {
			return i, nil
		}
	}
	return store.Info{}, fmt.Errorf("drill %s has no finished run to forecast from; make one: nightdrill run %s",
		name, name)
}

// Make simulates on all processors; done, if not nil, is called with which share of the events is done, and the
// context ends it.
func (x *Forecasting) Make(ctx context.Context, o forecast.Order, done func(share float64)) error {
	f, err := x.simulate(ctx, o, done)
	if err != nil {
		return err
	}
	trials, _ := Trials(x.dir) // where they cannot be read, nothing is known of them
	f.Widen(reaches(trials))
	x.Order, x.Made = o, f
	return nil
}

func (x *Forecasting) simulate(ctx context.Context, o forecast.Order, done func(share float64)) (*forecast.Forecast,
	error) {
	g, err := forecast.NewGrid(x.bases, o)
	if err != nil {
		return nil, err
	}
	jobs := make(chan int)
	var all sync.WaitGroup
	var mu sync.Mutex
	sum, of, jobsDone := 0.0, max(g.Events(), 1), 0
	tick := func(n int) bool {
		mu.Lock()
		defer mu.Unlock()
		sum += float64(n)
		if done != nil {
			// of events that are estimated: never quite all
			done(min(max(sum/of, float64(jobsDone)/float64(g.Jobs())), 0.999))
		}
		return ctx.Err() == nil
	}
	for range max(runtime.GOMAXPROCS(0), 1) {
		all.Go(func() {
			for i := range jobs {
				g.Do(i, tick)
				mu.Lock()
				jobsDone++
				mu.Unlock()
				tick(0)
			}
		})
	}
	for i := range g.Jobs() {
		if ctx.Err() != nil {
			break
		}
		jobs <- i
	}
	close(jobs)
	all.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if done != nil {
		done(1)
	}
	return g.Conclude(), nil
}

// ParseTraffic reads which events are simulated, by words in any order: x2 for twice as many, the name of a drill whose
// feeds send them, and a time for which they are repeated, such as 1d or 6h.
func (d *Workspace) ParseTraffic(words []string) (t forecast.Traffic, err error) {
	for _, w := range words {
		factor, isFactor := strings.CutPrefix(w, "x")
		v, errFactor := strconv.ParseFloat(factor, 64)
		days, isDays := strings.CutSuffix(w, "d")
		n, errDays := strconv.ParseFloat(days, 64)
		duration, errDuration := time.ParseDuration(w)
		switch drill := d.DrillNamed(w); {
		case drill != nil && t.Drill != nil:
			return t, fmt.Errorf("%s and %s are two drills; name one", t.Drill.Name, w)
		case drill != nil:
			t.Drill = drill
		case isFactor && errFactor == nil && t.Times != 0, (isDays && errDays == nil || errDuration == nil) &&
			t.For != 0:
			return t, fmt.Errorf("%q is the second of its kind; give one factor and one time", w)
		case isFactor && errFactor == nil:
			if !(v >= 0.01 && v <= 100) {
				return t, fmt.Errorf("%q is not a factor from x0.01 to x100", w)
			}
			t.Times = v
		case isDays && errDays == nil:
			if !(n > 0 && n <= mostDays) {
				return t, fmt.Errorf("%q must be more than 0d and at most %dd", w, mostDays)
			}
			t.For = time.Duration(n * float64(24*time.Hour))
		case errDuration == nil:
			if duration < time.Second || duration > mostDays*24*time.Hour {
				return t, fmt.Errorf("%q must be from 1s to %dd", w, mostDays)
			}
			t.For = duration
		default:
			return t, fmt.Errorf("%q is not a factor such as x2, a time such as 1d or 6h, or a drill (%s)", w,
				strings.Join(d.drillNames(), ", "))
		}
	}
	return t, nil
}

const mostDays = 366

func (d *Workspace) drillNames() (out []string) {
	for i := range d.Project.Drills {
		out = append(out, d.Project.Drills[i].Name)
	}
	return out
}

// BreakEven compares two values of a limit over rates of events.
func (x *Forecasting) BreakEven(ctx context.Context, of forecast.Try, done func(share float64)) (
	*forecast.BreakEven, error) {
	var at []*forecast.Forecast
	for i, factor := range forecast.Factors {
		o := forecast.Order{Tries: []forecast.Try{of}, Traffic: forecast.Traffic{Times: factor}, Seeds: x.Order.Seeds}
		f, err := x.simulate(ctx, o, func(share float64) {
			if done != nil {
				done((float64(i) + share) / float64(len(forecast.Factors)))
			}
		})
		if err != nil {
			return nil, err
		}
		at = append(at, f)
	}
	return x.Base.NewBreakEven(of, at)
}

// Trial is a forecast that was tried live.
type Trial struct {
	Drill   string  `json:"drill"`
	Base    string  `json:"base"` // the run that it was made from
	Run     string  `json:"run"`
	Setting string  `json:"setting"`
	Error   float64 `json:"median_error"` // as a share
	// Needed is, of each function, by which factors its intervals would have had to reach lower and higher
	Needed map[string][]float64 `json:"needed,omitempty"`
}

const mostTrials = 200

// KeepTrial keeps how well a forecast was.
func KeepTrial(dir string, t Trial) error {
	all, err := Trials(dir)
	if err != nil {
		return err
	}
	all = append(all, t)
	all = all[max(len(all)-mostTrials, 0):]
	content, err := json.Marshal(all)
	if err != nil {
		return err
	}
	folder, err := store.Folder(dir)
	if err != nil {
		return err
	}
	beside := filepath.Join(folder, trialsFile+".new")
	if err := os.WriteFile(beside, content, 0o600); err != nil {
		return err
	}
	return os.Rename(beside, filepath.Join(folder, trialsFile))
}

const trialsFile = "forecasts.json"

// Trials returns how well the forecasts of a project were, the oldest first. A damaged file counts as none.
func Trials(dir string) (out []Trial, err error) {
	content, err := os.ReadFile(filepath.Join(filepath.Dir(store.Path(dir)), trialsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if json.Unmarshal(content, &out) != nil {
		return nil, nil
	}
	return out, nil
}

// reaches returns, of each function, how far its intervals have to reach, by the last forecasts that were tried live.
func reaches(trials []Trial) map[string]float64 {
	needed, out := map[string][]float64{}, map[string]float64{}
	for _, t := range trials[max(len(trials)-lastTrials, 0):] {
		for name, all := range t.Needed {
			needed[name] = append(needed[name], all...)
		}
	}
	for name, all := range needed {
		out[name] = forecast.Reach(all)
	}
	return out
}

// lastTrials is of how many forecasts it is learnt how far intervals have to reach: machines change.
const lastTrials = 40

// TrialsSentence returns how well the last forecasts were; "" for none.
func TrialsSentence(all []Trial) string {
	all = all[max(len(all)-6, 0):]
	if len(all) == 0 {
		return ""
	}
	worst := 0.0
	for _, t := range all {
		worst = max(worst, t.Error)
	}
	if len(all) == 1 {
		return "The last forecast that was tried live was within " + figure.Percent(worst) + " (median of its figures)."
	}
	return fmt.Sprintf("The last %d forecasts that were tried live were within %s (median of the figures of each).",
		len(all), figure.Percent(worst))
}

// LimitChanges returns a setting of a forecast as the changes of limits that [project.ChangeLimits] takes.
func LimitChanges(f *forecast.Forecast, cell int) (out []string) {
	for _, t := range f.Tries {
		out = append(out, t.Name+"="+string(f.Cells[cell].Limits[t.Name]))
	}
	slices.SortStableFunc(out, strings.Compare)
	return out
}

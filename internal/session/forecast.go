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
	"strings"
	"sync"

	"nightdrill/internal/core/figure"
	"nightdrill/internal/core/forecast"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/record"
	"nightdrill/internal/project"
	"nightdrill/internal/store"
)

// Forecasting is what forecasts are made from, and the last of them.
type Forecasting struct {
	Base  *forecast.Base
	Order forecast.Order
	Made  *forecast.Forecast // nil before it is made

	drill *plan.Drill
}

// ForecastOf returns what can be forecast from: a run by its name, or the last finished run of a drill. The error says
// what is missing.
func (d *Workspace) ForecastOf(name string) (*Forecasting, error) {
	info, err := d.runOf(name)
	if err != nil {
		return nil, err
	}
	r, err := d.Runs.Load(info.ID)
	if err != nil {
		return nil, err
	}
	drill := d.DrillNamed(r.Drill)
	if drill == nil {
		return nil, fmt.Errorf("run %s is of a drill %s, which the project does not have (any more)", r.ID, r.Drill)
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
	if err != nil {
		return nil, err
	}
	return &Forecasting{Base: b, drill: &of}, nil
}

// total reports whether the project's total is tried.
func (x *Forecasting) total() bool {
	return slices.ContainsFunc(x.Order.Tries, func(t forecast.Try) bool { return t.Function == "" })
}

// Live returns the drill under the limits of a cell, without the changes that the forecast leaves out, too.
func (x *Forecasting) Live(p *plan.Project, cell int) (*plan.Drill, error) {
	of := *x.drill
	of.Changes = forecast.Changes(x.drill.Changes, x.Base.Held(x.Order.Tries), x.total())
	return project.ChangeLimits(p, &of, LimitChanges(x.Made, cell))
}

// Simulated returns what the run would look like under the limits of a cell, in one of its simulations.
func (x *Forecasting) Simulated(cell int) *record.Run {
	c := &x.Made.Cells[cell]
	r := x.Base.Simulate(forecast.Setting{Limits: c.Setting, Concurrency: c.Concurrency,
		Held: x.Base.Held(x.Order.Tries), Traffic: x.Order.Traffic, Seed: 1, Levels: true})
	r.Simulated = cmp.Or(c.Name(x.Made), "its own limits")
	return r
}

// Measured sets what a run measured of a cell beside its forecast, and keeps how far off that was.
func (x *Forecasting) Measured(dir string, cell int, r *record.Run) error {
	x.Made.Verify(cell, r)
	return KeepTrial(dir, Trial{Drill: r.Drill, Base: x.Made.Run, Run: r.ID, Setting: x.Made.Cells[cell].Name(x.Made),
		Error: x.Made.Verified.Error})
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

// Make simulates on all processors; done, if not nil, is called with how many simulations are done, and the context
// ends
// it.
func (x *Forecasting) Make(ctx context.Context, o forecast.Order, done func(n, of int)) error {
	g, err := x.Base.NewGrid(o)
	if err != nil {
		return err
	}
	jobs := make(chan int)
	var all sync.WaitGroup
	var mu sync.Mutex
	n := 0
	for range max(runtime.GOMAXPROCS(0), 1) {
		all.Go(func() {
			for i := range jobs {
				g.Do(i)
				mu.Lock()
				n++
				if done != nil {
					done(n, g.Jobs())
				}
				mu.Unlock()
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
		return ctx.Err()
	}
	x.Order, x.Made = o, g.Conclude()
	return nil
}

// BreakEven makes the curve of what an instance kept warm costs over rates of events.
func (x *Forecasting) BreakEven(ctx context.Context, function string, done func(n, of int)) (*forecast.BreakEven,
	error) {
	var at []*forecast.Forecast
	for i, factor := range forecast.Factors {
		o := forecast.Order{Tries: forecast.EvenTries(function), Traffic: factor, Seeds: x.Order.Seeds}
		err := x.Make(ctx, o, func(n, of int) {
			if done != nil {
				done(i*of+n, len(forecast.Factors)*of)
			}
		})
		if err != nil {
			return nil, err
		}
		at = append(at, x.Made)
	}
	return x.Base.NewBreakEven(function, at)
}

// Trial is a forecast that was tried live.
type Trial struct {
	Drill   string  `json:"drill"`
	Base    string  `json:"base"` // the run that it was made from
	Run     string  `json:"run"`
	Setting string  `json:"setting"`
	Error   float64 `json:"median_error"` // as a share
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

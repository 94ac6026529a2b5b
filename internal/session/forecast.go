package session

import (
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
	"nightdrill/internal/store"
)

// ForecastOf returns what can be forecast from: a run by its name, or the last finished run of a drill; and the drill
// under the limits that the run had. The error says what is missing.
func (d *Workspace) ForecastOf(name string) (*forecast.Base, *plan.Drill, error) {
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
	return b, &of, err
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

// Forecast simulates on all processors; done, if not nil, is called with how many simulations are done, and the context
// ends it.
func Forecast(ctx context.Context, b *forecast.Base, o forecast.Order, done func(n, of int)) (*forecast.Forecast,
	error) {
	g, err := b.NewGrid(o)
	if err != nil {
		return nil, err
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
		return nil, ctx.Err()
	}
	return g.Conclude(), nil
}

// Trial is a forecast that was tried live.
type Trial struct {
	Drill   string  `json:"drill"`
	Base    string  `json:"base"` // the run that it was made from
	Run     string  `json:"run"`
	Setting string  `json:"setting"`
	Error   float64 `json:"median_error"` // as a share
	Worst   float64 `json:"worst_error"`
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

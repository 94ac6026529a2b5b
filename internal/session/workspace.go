// Package session is what the command line and the screens share: an open
// project, its runs, and drills that are in progress.
package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/objects"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/publish"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/live/upstream"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/build"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/store"
)

// Workspace is an open project.
type Workspace struct {
	*project.Loaded
	Dir     string // of the project; it stays the same when the project is read again
	Runs    *store.Store
	Log     *logs.Log      // what functions and services write
	Whole   *plan.Expanded // the project with its variants
	Objects *objects.Store
	// Entrances are the addresses and names of the front and the object store; Enter sets them.
	Entrances Entrances
	aside     *aside
	works     *build.Builder
	renewed   func(*build.Code) // is called with code that has changed
	given     string            // the folder, as the user named it
	unkept    bool              // runs are not written, to see what writing them costs
}

// Entrances are the addresses and names by which the listeners of a project are reached.
type Entrances struct {
	Hosts   []string // names that requests may be addressed to, beside those of this machine
	Objects string   // where the object store listens; "" for the usual address
	Publish string   // where events are published; likewise
}

// Enter sets how the listeners are reached. It is called before they listen.
func (d *Workspace) Enter(e Entrances) {
	for i := range d.Whole.Functions { // the names by which functions reach this machine are this machine's
		if at := d.Whole.Functions[i].ReachAt; at != "" && !slices.Contains(e.Hosts, at) {
			e.Hosts = append(e.Hosts[:len(e.Hosts):len(e.Hosts)], at)
		}
	}
	d.Entrances = e
	d.Objects.Allow(e.Hosts)
}

// Open reads a project and opens its runs. The context ends what takes long, also the making
// of payloads later on.
func Open(ctx context.Context, dir string) (*Workspace, error) {
	l, err := project.Load(ctx, dir)
	if err != nil {
		return nil, err
	}
	runs, err := store.Open(l.Dir)
	if err != nil {
		return nil, err
	}
	a, err := openAside(l.Dir)
	if err != nil {
		_ = runs.Close()
		return nil, err
	}
	d, err := newWorkspace(l, runs, a, logs.New(a.log()))
	if err != nil {
		a.close()
		_ = runs.Close()
		return nil, err
	}
	d.given = dir
	return d, nil
}

func newWorkspace(l *project.Loaded, runs *store.Store, a *aside, log *logs.Log) (*Workspace, error) {
	objects, err := catalog.OpenStore(l, a.second)
	if err != nil {
		return nil, err
	}
	d := &Workspace{Dir: l.Dir, Runs: runs, Log: log, aside: a}
	d.take(l, objects)
	return d, nil
}

// take takes a project up, with the store of its objects.
func (d *Workspace) take(l *project.Loaded, objects *objects.Store) {
	old := d.works
	d.Loaded, d.Whole, d.Objects = l, plan.Expand(l.Project), objects
	d.works = build.New(d.Whole, d.Log)
	d.works.Renewed = d.renewed
	if old == nil {
		return
	}
	for _, c := range d.works.Codes {
		for _, was := range old.Codes {
			if was.Function().Name == c.Function().Name {
				c.Continue(was)
			}
		}
	}
}

// Close ends the services and closes the project's runs.
func (d *Workspace) Close() error {
	d.works.Services.Close()
	d.Objects.Close()
	d.Log.Close()
	d.aside.close()
	return d.Runs.Close()
}

// Prepare prepares the functions of a drill to be started: services run and are reset, code is
// built and prepared. say, if not nil, is called with each step.
func (d *Workspace) Prepare(ctx context.Context, drill *plan.Drill, say func(string)) error {
	var all []int
	p, _ := d.planOf(drill)
	for i := range p.Functions {
		if n := d.codeOf(p.Functions[i].Name); !slices.Contains(all, n) {
			all = append(all, n)
		}
	}
	if failure := d.works.Prepare(ctx, all, say); failure != nil {
		if n := len(failure.Lines); n > 0 {
			return fmt.Errorf("%s\n%s", failure.Text, strings.Join(failure.Lines[max(0, n-20):], "\n"))
		}
		return failure
	}
	return d.works.Services.Reset(ctx)
}

// planOf returns the project that a drill runs: its own, or one in which every
// variant is a function.
func (d *Workspace) planOf(drill *plan.Drill) (*plan.Project, *plan.Drill) {
	if drill.Cold != nil {
		return d.ColdPlan(drill)
	}
	return d.Project, drill
}

// codeOf returns the index of a function, or a variant, in the standing form.
func (d *Workspace) codeOf(name string) int {
	name = strings.TrimSuffix(name, plan.DroppedMark)
	return d.Whole.FunctionNamed(name)
}

// Drill returns a drill by its name; the only one there is when the name is empty.
func (d *Workspace) Drill(name string) (*plan.Drill, error) {
	var names []string
	for i := range d.Drills {
		names = append(names, d.Drills[i].Name)
	}
	switch {
	case len(names) == 0:
		return nil, fmt.Errorf("the project has no drills; add one under drills: in %s", project.File)
	case name == "" && len(names) == 1:
		return &d.Drills[0], nil
	case name == "":
		return nil, fmt.Errorf("missing name of the drill; available: %s", strings.Join(names, ", "))
	}
	if drill := d.DrillNamed(name); drill != nil {
		return drill, nil
	}
	return nil, fmt.Errorf("unknown drill %q; available: %s", name, strings.Join(names, ", "))
}

// mostObject is up to which size an object is kept with a run that reports it.
const mostObject = 4 << 20

// saveEvery is how much of a run is lost at most when the program is killed.
const saveEvery = 500 * time.Millisecond

// Running is a drill in progress.
type Running struct {
	ID      string
	Drill   *plan.Drill
	Began   time.Time
	driver  *runner.Drill
	stop    context.CancelFunc
	done    chan struct{}
	mu      sync.Mutex
	err     error // of keeping the run
	page    *report.Page
	tally   tally
	sources []plan.Source
	runs    *store.Store
	rule    plan.Keeping // by which old runs are trimmed
	log     *runLog
}

// Start begins a drill. It ends by itself, by Stop, or with the context. A
// journal of the engine's inputs is written where one is given.
func (d *Workspace) Start(ctx context.Context, drill *plan.Drill, journal io.Writer) (*Running, error) {
	now := time.Now()
	r := &Running{ID: newID(now), Drill: drill, Began: now, done: make(chan struct{}), runs: d.Runs, rule: d.Keep,
		log: newRunLog(d.Log)}
	ctx, r.stop = context.WithCancel(ctx)
	own, err := d.objectsOf(r.ID)
	if err != nil {
		r.stop()
		return nil, err
	}
	begun := false
	var entrance *publish.Entrance
	var mqtt *publish.MQTT
	made := make(chan struct{}) // closed when the driver is there
	var calm atomic.Pointer[runner.Drill]
	var neighbours *upstream.Set
	leave := func() {
		r.stop()
		entrance.Close()
		whole := false
		if r.driver != nil {
			whole = r.driver.Snapshot().Finished
			r.driver.CloseReceiver()
		}
		if err := neighbours.End(whole); err != nil {
			r.failed(err)
		}
		mqtt.Close()
		if own != d.Objects {
			own.Close()
		}
	}
	defer func() {
		if !begun {
			leave()
		}
	}()
	p, drill, err := d.bringAllObjects(own, d.Project.With(drill), drill)
	if err != nil {
		return nil, err
	}
	if drill.Cold != nil {
		if p, drill = p.ColdPlan(drill); len(drill.Feeds) == 0 {
			return nil, errors.New("nothing to start: no wire of the drill's sources leads to a function that is " +
				"started here")
		}
	}
	p = d.withSession(p)
	config := runner.Config{ID: r.ID, Log: d.Log, Objects: own, Plan: kept.NewManifest(p, drill),
		Machine: kept.Machine(), Commit: kept.Commit(d.Dir), Branch: kept.Branch(d.Dir),
		ReadObject: func(bucket, key string) []byte { return own.Bytes(bucket, key, mostObject) }}
	config.Code = d.codeFor(p)
	if journal != nil {
		config.Journal = journal
	}
	if publishable(p) { // each drill has an address of its own
		project := func() *plan.Project { return p }
		take := func(source int, all []payload.Payload, trace string) error {
			<-made
			if calm.Load() != nil {
				return nil // what functions publish in the calm pass is dropped
			}
			return r.driver.Publish(source, all, trace)
		}
		entrance, err = publish.Open(cmp.Or(d.Entrances.Publish, "127.0.0.1:0"), d.Entrances.Hosts, project, take,
			nil, mayBeLater)
		if err != nil {
			return nil, err
		}
		config.Publish = entrance.URL()
		if d.MQTT {
			if mqtt, err = publish.OpenMQTT("127.0.0.1:0", project, take, mayBeLater, func(text string) {
				d.Log.Add(time.Now(), "publishing", "publishing", logs.Note, text)
			}); err != nil {
				return nil, err
			}
			config.MQTT = mqtt.URL()
		}
	}
	if neighbours, err = d.neighbours(drill, func(text string) {
		d.Log.Add(time.Now(), "upstreams", "upstreams", logs.Note, text)
	}); err != nil {
		return nil, err
	}
	config.Upstreams, config.BindAt, config.Hosts = neighbours, d.bindAt(), d.Entrances.Hosts
	r.driver, r.sources = runner.New(p, drill, config), p.Sources
	if drill.Calm > 0 {
		calm.Store(d.calmPass(p, drill, config))
	}
	close(made)
	var w *store.Writer
	if !d.unkept {
		if w, err = d.Runs.Begin(r.driver.Snapshot(), now); err != nil {
			return nil, err
		}
	}
	begun = true
	go func() {
		defer close(r.done)
		defer leave()
		over := make(chan struct{})
		go func() {
			defer close(over)
			if pass := calm.Load(); pass != nil {
				d.Log.Add(time.Now(), "calm pass", "calm pass", logs.Note,
					fmt.Sprintf("%d warm invocations of each function, one at a time", drill.Calm))
				pass.Run(ctx)
				r.driver.SetCalm(pass.Calm())
				calm.Store(nil)
			}
			defer d.feedDrill(ctx, p, drill, r)()
			r.driver.Run(ctx)
		}()
		r.keep(w, over)
	}()
	return r, nil
}

// keep writes the run as it grows, and its end.
func (r *Running) keep(w *store.Writer, over <-chan struct{}) {
	tick := time.NewTicker(saveEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if w != nil {
				r.failed(errors.Join(w.Append(r.driver.Snapshot()), w.Lines(r.Lines())))
			}
		case <-over:
			run := r.driver.Snapshot()
			r.sayFailed(run)
			if r.page = report.NewPage(run); w == nil {
				return
			}
			err := w.Lines(r.log.end(r.driver.At))
			r.failed(errors.Join(err, w.Finish(run, r.page)))
			_, _ = r.runs.Trim(r.rule) // what could not be trimmed is retried after the next
			return
		}
	}
}

// calmPass prepares the warm invocations that are made one at a time before a drill.
func (d *Workspace) calmPass(p *plan.Project, drill *plan.Drill, c runner.Config) *runner.Drill {
	of := *drill
	of.Cold, of.Calm, of.Budgets, of.Marks = &plan.ColdStarts{N: 1, Warm: drill.Calm, Cached: true}, 0, nil, nil
	for i := range p.Functions {
		of.Cold.Of = append(of.Cold.Of, p.Functions[i].Name)
	}
	alone, pass := p.ColdPlan(&of)
	c.Plan, c.Journal, c.ReadObject = nil, nil, nil
	c.Code = d.codeFor(alone)
	return runner.New(alone, pass, c)
}

// codeFor returns which code each function of a project runs.
func (d *Workspace) codeFor(p *plan.Project) (out []runner.Code) {
	for i := range p.Functions {
		c := d.works.Codes[d.codeOf(p.Functions[i].Name)]
		label := c.Label()
		if !slices.Equal(c.Function().Env, d.Whole.Functions[c.Fn].Env) {
			label += " +env" // values that were set for the session
		}
		code := runner.Code{Version: label}
		_, code.Size = build.Package(&p.Functions[i], d.Dir)
		if p.Functions[i].Prepare != nil {
			code.Prepared = c.Prepared()
		}
		out = append(out, code)
	}
	return out
}

// withSession returns a project whose functions have the environment that was set for the
// session, where any was.
func (d *Workspace) withSession(p *plan.Project) *plan.Project {
	with := *p
	with.Functions = slices.Clone(p.Functions)
	for i := range with.Functions {
		with.Functions[i].Env = d.works.Codes[d.codeOf(with.Functions[i].Name)].Function().Env
	}
	return &with
}

// mostSaid bounds the failed invocations whose last log line is looked up.
const mostSaid = 500

// sayFailed enters the last line that functions wrote during invocations that failed.
func (r *Running) sayFailed(run *record.Run) {
	for _, v := range run.FailedInvocations(mostSaid) {
		line := r.driver.LastLine(v)
		if line == "" {
			continue
		}
		if run.Said == nil {
			run.Said = map[uint64]string{}
		}
		run.Said[v.ID] = payload.Short(line, 200)
	}
}

// failed notes whether what was recorded so far is kept: each write takes in what
// those before it could not.
func (r *Running) failed(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err = nil; err != nil {
		r.err = fmt.Errorf("the run could not be kept: %w", err)
	}
}

// newID names a run by its time, and two letters for those of the same second.
func newID(now time.Time) string {
	const letters = "abcdefghjkmnpqrstuvwxyz"
	return now.Format("20060102-150405-") + string([]byte{letters[rand.IntN(len(letters))],
		letters[rand.IntN(len(letters))]})
}

// Stop ends the drill early; what was measured is kept as an unfinished run.
func (r *Running) Stop() { r.stop() }

// Done is closed when the drill is over, its processes are gone and the run is kept.
func (r *Running) Done() <-chan struct{} { return r.done }

// Err returns why the run could not be kept, if so.
func (r *Running) Err() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

// Page returns the findings, once the drill is over.
func (r *Running) Page() *report.Page {
	<-r.done
	return r.page
}

// Snapshot returns what has been recorded so far.
func (r *Running) Snapshot() *record.Run { return r.driver.Snapshot() }

// Lines returns the lines of the log so far. What was returned stays as it is.
func (r *Running) Lines() []record.Line { return r.log.upTo(r.driver.At) }

// Limits returns the limits that hold now: for all functions together, and of each.
func (r *Running) Limits() (all int, each []plan.Limits) { return r.driver.Limits() }

// SetLimits changes a function's limits while the drill runs. The error says why
// they cannot hold.
func (r *Running) SetLimits(fn int, l plan.Limits) error { return r.driver.SetLimits(fn, l) }

// SetConcurrency changes the limit for all functions together.
func (r *Running) SetConcurrency(n int) error { return r.driver.SetConcurrency(n) }

// Replace replaces a function's instances as by a new version of its code.
func (r *Running) Replace(fn int) { r.driver.Replace(fn) }

// At returns a moment as the run's time.
func (r *Running) At(t time.Time) clock.Time { return r.driver.At(t) }

// Looks returns the state of each function now.
func (r *Running) Looks() []engine.Stats { return r.driver.Stats() }

// Beside calls start, which starts a program that is not one of the project, such as an editor: it
// does not end with any of them.
func Beside(start func() error) error { return proc.Beside(start) }

package session

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	live "nightdrill.dev/internal/live/anatomy"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/live/upstream"
	"nightdrill.dev/internal/session/build"
)

// UntracedStarts is how many starts are taken without looking, for the truth.
const UntracedStarts = 6

// mostForUntraced bounds the time of the untraced starts of a function that starts slowly.
const mostForUntraced = 40 * time.Second

// Anatomy starts a function, or a variant such as quote@small, several times and takes its start apart: some starts
// without looking, then one for each way of looking. Where dropped is wanted, the function's files leave the page cache
// before each start. say, if not nil, is called with each step.
func (d *Workspace) Anatomy(ctx context.Context, function string, dropped bool, say func(string)) (*anatomy.Report,
	error) {
	n := d.Whole.FunctionNamed(function)
	if n < 0 {
		return nil, fmt.Errorf("unknown function %q; available: %s", function, strings.Join(names(d.Whole.Functions,
			func(f plan.Function) string { return f.Name }), ", "))
	}
	if t := d.Whole.Functions[n].Transport; t == plan.Attach || t == plan.OneShot {
		return nil, fmt.Errorf("%s is not started by Night Drill and kept (transport: %v), so there is no start to "+
			"take apart", function, t)
	}
	if say == nil {
		say = func(string) {}
	}
	if failure := d.works.Prepare(ctx, []int{n}, say); failure != nil {
		return nil, fmt.Errorf("%w%s", failure, lastOf(failure.Lines))
	}
	f := d.works.Codes[n].Function()
	x := &taker{f: &f, dir: d.Dir, say: say, report: &anatomy.Report{Function: f.Name,
		Version: d.works.Codes[n].Label(), ImportedBy: map[string]string{}}}
	neighbours, err := d.neighbours(nil, say)
	if err != nil {
		return nil, err
	}
	defer func() { _ = neighbours.Close() }() // nothing is recorded
	if x.calls = neighbours; neighbours.StopRecording() != nil {
		x.calls = nil
	}
	if dropped {
		if err := x.dropping(ctx); err != nil {
			return nil, err
		}
	}
	if err := x.untraced(ctx); err != nil {
		return nil, err
	}
	for _, take := range []func(context.Context) error{x.clock, x.names, x.tree} {
		if err := take(ctx); err != nil {
			return nil, err
		}
	}
	return x.report, nil
}

// Starts returns the functions and variants whose starts can be taken apart.
func (d *Workspace) Starts() (names []string) {
	for i := range d.Whole.Functions {
		if t := d.Whole.Functions[i].Transport; t != plan.Attach && t != plan.OneShot {
			names = append(names, d.Whole.Functions[i].Name)
		}
	}
	return names
}

func lastOf(lines []string) string {
	const most = 20
	if len(lines) == 0 {
		return ""
	}
	return "\n" + strings.Join(lines[max(0, len(lines)-most):], "\n")
}

// taker takes one function's start apart.
type taker struct {
	f      *plan.Function
	dir    string
	drop   bool     // its files leave the page cache before each start
	files  []string // those
	say    func(string)
	report *anatomy.Report
	calls  *upstream.Set // stand-ins for what it calls; nil for none
}

// start starts the function once, and returns how long it took from exec to ready.
func (x *taker) start(ctx context.Context, env []string, line func(string),
	running func(*runner.Once)) (took time.Duration, err error) {
	if x.drop {
		proc.DropFiles(x.files)
	}
	var last []string
	o := runner.StartOnce(ctx, x.f, env, x.calls, func(text string) {
		const most = 10
		if last = append(last, text); len(last) > most {
			last = last[1:]
		}
		if line != nil {
			line(text)
		}
	}, running)
	o.End()
	switch {
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case o.Ready.IsZero():
		return 0, fmt.Errorf("%s does not start: %s%s", x.f.Name, o.Why, lastOf(last))
	}
	return max(o.Ready.Sub(o.Exec), 0), nil
}

// dropping finds out which files the function reads, by a start of its own.
func (x *taker) dropping(ctx context.Context) error {
	x.say("a start that shows which files it has mapped")
	watched, _ := build.Watched(x.dir, x.f.Watch) // without them the mapped ones are dropped
	for _, file := range watched {
		x.files = append(x.files, filepath.Join(x.dir, filepath.FromSlash(file)))
	}
	if len(x.f.Start) > 0 {
		x.files = append(x.files, proc.Program(x.f.Start[0]))
	}
	_, err := x.start(ctx, nil, nil, func(o *runner.Once) {
		o.AtReady = func() { x.files = append(x.files, proc.Mapped(o.PID)...) }
	})
	if x.drop = err == nil; x.drop && proc.DropFiles(x.files) < 0 {
		x.cannot("a start with dropped files: this system does not show what is in its cache")
	}
	return err
}

func (x *taker) untraced(ctx context.Context) error {
	began := time.Now()
	for i := range UntracedStarts {
		if i >= 1 && time.Since(began) > mostForUntraced {
			break
		}
		x.say(fmt.Sprintf("start %d of %d, without looking", i+1, UntracedStarts))
		took, err := x.start(ctx, nil, nil, nil)
		if err != nil {
			return err
		}
		x.report.Untraced = append(x.report.Untraced, took)
	}
	return nil
}

func (x *taker) cannot(format string, args ...any) {
	x.report.Unavailable = append(x.report.Unavailable, fmt.Sprintf(format, args...))
}

// tries is how often a start is taken again that took much longer than those without looking: the machine may have
// been busy just then.
const tries = 3

// again takes starts until the times of one can be trusted, or it was tried often enough.
func (x *taker) again(take func() (took time.Duration, err error)) error {
	for range tries {
		took, err := take()
		if err != nil || x.report.Trusts(took) {
			return err
		}
	}
	return nil
}

// clock takes a start beside which its threads are looked at.
func (x *taker) clock(ctx context.Context) error {
	err := x.again(func() (time.Duration, error) { return x.clockOnce(ctx) })
	if err == nil && x.report.Clock != nil && !x.report.Trusts(x.report.ClockTook) {
		x.cannot("where the time goes: that start took %s, more than 1.3 times the untraced median of %s",
			text.Measured(x.report.ClockTook),
			text.Measured(x.report.Median()))
	}
	return err
}

func (x *taker) clockOnce(ctx context.Context) (took time.Duration, err error) {
	x.say("a start beside the clock: where the time goes")
	var sampler *live.Sampler
	pid := int32(0)
	var tasks []anatomy.Task
	why := ""
	took, err = x.start(ctx, nil, nil, func(o *runner.Once) {
		pid, sampler = int32(o.PID), live.Sample(o.PID, o.Exec)
		o.AtReady = func() { tasks, why = sampler.End() }
	})
	if sampler != nil && tasks == nil {
		tasks, why = sampler.End()
	}
	switch {
	case err != nil:
		return 0, err
	case len(tasks) > 0:
		x.report.Tasks, x.report.Clock, x.report.ClockTook = tasks, anatomy.Of(tasks, pid, took), took
	}
	if why != "" {
		x.cannot("where the time goes: %s", why)
	}
	return took, nil
}

// names takes a start in which what it opens, connects to and runs is read.
func (x *taker) names(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "nightdrill-")
	if err != nil {
		x.cannot("what it opens, connects to and runs: %v", err)
		return nil
	}
	defer os.RemoveAll(dir) //nolint:errcheck // in the system's place for such
	out := filepath.Join(dir, "names")
	traced := *x.f
	if traced.Start, err = live.Traced(out, x.f.Start); err != nil {
		x.cannot("what it opens, connects to and runs: %v", err)
		return nil
	}
	x.say("a start in which system calls are read: what it opens, connects to and runs")
	y := *x
	y.f = &traced
	took, err := y.start(ctx, nil, nil, nil)
	if err != nil {
		if why := live.Traces(ctx); why != "" {
			x.cannot("what it opens, connects to and runs: %s; nightdrill doctor has a remedy", why)
			return ctx.Err()
		}
		x.cannot("what it opens, connects to and runs: traced, %v", err)
		return ctx.Err()
	}
	names, conflict, err := live.ReadNames(out)
	if err != nil {
		x.cannot("what it opens, connects to and runs: %v", err)
		return nil
	}
	if conflict != "" {
		x.cannot("what it opens, connects to and runs: %s", conflict)
	}
	x.report.Names, x.report.NamesTook = names, took
	return nil
}

// tree takes a start in which the runtime reports what it loads.
func (x *taker) tree(ctx context.Context) error {
	language := live.LanguageOf(x.f)
	if language == "" {
		x.cannot("what it imports: %s is no runtime that reports that (Python, Node, Java and Go do)",
			filepath.Base(x.f.Start[0]))
		return nil
	}
	err := x.again(func() (time.Duration, error) { return x.treeOnce(ctx) })
	if err != nil {
		x.cannot("what it imports: %v", err)
		return ctx.Err()
	}
	if len(x.report.Imports) == 0 {
		x.cannot("what it imports: %s reports nothing besides its own file", language)
	}
	if !x.report.Trusts(x.report.TreeTook) {
		x.cannot("the times of imports: that start took %s, more than 1.3 times the untraced median of %s",
			text.Measured(x.report.TreeTook),
			text.Measured(x.report.Median()))
	}
	files, _ := build.Watched(x.dir, x.f.Watch) // without them no place is found
	for _, i := range anatomy.Largest(x.report.Imports, 10) {
		name := x.report.Imports[i].Name
		if place := live.ImportedBy(language, name, x.dir, files); place != "" {
			x.report.ImportedBy[name] = place
		}
	}
	return nil
}

func (x *taker) treeOnce(ctx context.Context) (time.Duration, error) {
	t, err := live.NewTree(x.f)
	if err != nil {
		return 0, err
	}
	defer t.Close()
	x.say("a start in which " + t.Language + " reports what it loads")
	took, err := x.start(ctx, t.Env, t.Hear, nil)
	if err != nil {
		return 0, fmt.Errorf("with %s: %w", strings.Join(t.Env, " "), err)
	}
	x.report.Language, x.report.TreeTook, x.report.Imports = t.Language, took, t.Imports(took)
	return took, nil
}

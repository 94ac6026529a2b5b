package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/upstream"
)

// Once is one start of a function, outside of any run.
type Once struct {
	Began, Exec, Ready time.Time // Ready is the zero value where it did not become ready
	Loader, Import     time.Duration
	PID                int
	Why                string // it did not become ready; "" where it did

	AtReady func() // called as soon as it is ready, or not any more; may be set by running

	runner *Runner
	l      *launched
}

// StartOnce starts a function with more in its environment, calls running as soon as its command runs, and waits
// until it is ready. neighbours are the stand-ins that it may call, or nil; line, if not nil, hears its output. End is
// to be called in any case.
func StartOnce(ctx context.Context, fn *plan.Function, env []string, neighbours *upstream.Set, line func(string),
	running func(o *Once)) *Once {
	p := &plan.Project{Functions: []plan.Function{*fn}, Concurrency: 1}
	d := newRunner(Config{ID: fmt.Sprint(time.Now().UnixNano()), Upstreams: neighbours}, p, []plan.Limits{fn.Limits},
		0, 1)
	d.heard = line
	o := &Once{runner: d, l: &launched{caller: &caller{d: d}}}
	var err error
	if o.Began, err = d.launch(o.l, fn, d.unique(fn, "1"), fn.Name, env...); err != nil {
		o.Why = err.Error()
		o.l.giveBack()
		o.l = nil
		return o
	}
	o.Exec, o.PID = o.l.process.Runs, o.l.process.PID
	if running != nil {
		running(o)
	}
	ctx, end := context.WithTimeout(ctx, fn.StartTimeout)
	defer end()
	at, _, err := o.l.awaitReady(ctx, fn)
	if o.AtReady != nil {
		o.AtReady()
	}
	o.l.forget()
	switch {
	case err == nil:
		o.Ready = at
		if o.l.loader != nil {
			o.Loader, o.Import = o.l.loader.hello.Loader, o.l.loader.hello.Load
		}
	case errors.Is(err, context.DeadlineExceeded):
		o.Why = fmt.Sprintf("it was not ready within %v", text.Duration(fn.StartTimeout))
	case errors.Is(err, proc.ErrEnded):
		o.l.process.Gone()
		o.Why = "it " + o.l.process.How() + " before it was ready"
	default:
		o.Why = err.Error()
	}
	return o
}

// End stops the function, and waits until nothing is left of it.
func (o *Once) End() {
	defer func() {
		o.runner.mu.Lock()
		sockets := o.runner.sockets
		o.runner.mu.Unlock()
		if sockets != nil {
			sockets.Close()
		}
		o.runner.endLife()
	}()
	if o.l == nil {
		return
	}
	p := o.l.process
	p.Stop(grace)
	<-p.Done()
	p.Gone()
	p.Output.Forget()
	o.l.giveBack()
}

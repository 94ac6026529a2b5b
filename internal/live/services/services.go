// Package services runs what functions need beside them: a database, a broker.
// Need starts a service once and waits until it is ready, Reset brings those
// that run back to their beginning, Close ends them.
package services

import (
	"context"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
)

const (
	askEvery = 10 * time.Millisecond
	grace    = 5 * time.Second
)

// Set is the services of a project.
type Set struct {
	log   *logs.Log
	state string // the folder of the project in which data of services is kept
	all   []*service
}

type service struct {
	plan.Service
	port   int        // of one that gets a port; 0 before it is known
	place  sync.Mutex // of port
	mu     sync.Mutex // held while it starts
	proc   *proc.Process
	left   proc.Ran // the command that began it, where it has ended since
	given  bool     // it gets a folder for its data; Data is whether that is kept
	began  bool     // by us
	theirs bool     // it was there before we came
	fresh  bool     // it has just begun with what its seed made, and was not needed since
}

// New returns the services of a project, none of them started. state is the folder in which the data of those is kept
// that Night Drill gives a folder for it.
func New(list []plan.Service, state string, log *logs.Log) *Set {
	s := &Set{log: log, state: state}
	for i := range list {
		s.all = append(s.all, &service{Service: list[i], given: list[i].Data})
	}
	return s
}

func (s *Set) say(name string, kind logs.Kind, text string) {
	if s.log != nil {
		s.log.Add(time.Now(), name, name, kind, text)
	}
}

func (s *Set) command(x *service, args []string) proc.Command {
	env := x.Env
	if x.Port {
		p := strconv.Itoa(x.port)
		args, env = proc.Expand(args, "port", p), append(slices.Clone(env), "PORT="+p)
	}
	if x.given {
		args, env = proc.Expand(args, "data", s.data(x)), append(slices.Clone(env), "DATA="+s.data(x))
	}
	return proc.Command{Args: args, Dir: x.Dir, Env: env, Line: func(at time.Time, text string) {
		if s.log != nil {
			s.log.Add(at, x.Name, x.Name, logs.Line, text)
		}
	}}
}

// Need makes sure that a service is there. One that was started elsewhere is
// used, and not ended by us.
func (s *Set) Need(ctx context.Context, i int) error {
	x := s.all[i]
	if _, err := s.Address(i); err != nil {
		return fmt.Errorf("service %s: %w", x.Name, err)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.theirs && x.answers(ctx) || x.began && x.alive() {
		x.fresh = false
		return nil
	}
	x.began, x.theirs = false, false
	if x.answers(ctx) {
		x.theirs = true
		s.say(x.Name, logs.Ready, "already running; it is used as it is")
		return nil
	}
	if x.given {
		if err := os.MkdirAll(s.data(x), 0o700); err != nil {
			return fmt.Errorf("service %s: %w", x.Name, err)
		}
	}
	if x.Seed != nil {
		x.fresh = true
		return s.begin(ctx, x)
	}
	return s.run(ctx, x)
}

// run starts a service and waits until it is ready. The lock is held.
func (s *Set) run(ctx context.Context, x *service) error {
	ctx, cancel := context.WithTimeout(ctx, x.StartTimeout)
	defer cancel()
	if x.Ready.By == plan.ReadyExit {
		c := s.command(x, x.Start)
		c.Leaves = true // what it started, and did not wait for, is the service
		r := proc.Run(ctx, c)
		if r.Err != nil {
			return fmt.Errorf("service %s: %w%s", x.Name, r.Err, last(r.Lines))
		}
		x.began, x.left = true, r
		s.say(x.Name, logs.Ready, fmt.Sprintf("ready after %v", text.Measured(r.Took)))
		return nil
	}
	began := time.Now()
	c := s.command(x, x.Start)
	c.After = x.Stop
	p, err := proc.Start(c)
	if err != nil {
		return fmt.Errorf("service %s does not start: %w", x.Name, err)
	}
	x.proc = p
	if err := x.wait(ctx, p); err != nil {
		p.Stop(time.Second)
		p.Gone()
		return fmt.Errorf("service %s %w%s", x.Name, err, last(p.Output.Last(20)))
	}
	x.began = true
	s.say(x.Name, logs.Ready, fmt.Sprintf("ready after %v", text.Measured(time.Since(began))))
	return nil
}

// Address returns where a service that gets a port listens, also before it is started; "" for others.
func (s *Set) Address(i int) (string, error) {
	x := s.all[i]
	if !x.Port {
		return "", nil
	}
	x.place.Lock()
	defer x.place.Unlock()
	if x.port == 0 {
		port, err := proc.FreePort()
		if err != nil {
			return "", err
		}
		x.port = port
		if x.Ready.By == plan.ReadyTCP && x.Ready.Path == "" {
			x.Ready.Path = net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
		}
		x.Ready.Path = strings.ReplaceAll(x.Ready.Path, "{port}", strconv.Itoa(port))
	}
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(x.port)), nil
}

func last(lines []string) string {
	if len(lines) == 0 {
		return ""
	}
	return "; its last line: " + lines[len(lines)-1]
}

func (x *service) alive() bool {
	if x.proc == nil {
		return true // a command that came to its end
	}
	select {
	case <-x.proc.Done():
		return false
	default:
		return true
	}
}

// answers reports whether the service can be reached, as far as its condition says.
func (x *service) answers(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	switch x.Ready.By {
	case plan.ReadyTCP:
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", x.Ready.Path)
		if err == nil {
			conn.Close()
		}
		return err == nil
	case plan.ReadyHTTP:
		return proc.Answers(ctx, x.Ready.Path)
	}
	return false
}

func (x *service) wait(ctx context.Context, p *proc.Process) error {
	if x.Ready.By == plan.ReadyRuns {
		return nil
	}
	if x.Ready.By == plan.ReadyLine {
		_, _, err := p.WaitReady(ctx, x.Ready, nil)
		return x.why(ctx, p, err, fmt.Sprintf("no line of its output matched %q", x.Ready.Line))
	}
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	for !x.answers(ctx) {
		select {
		case <-tick.C:
		case <-p.Done():
			return x.why(ctx, p, proc.ErrEnded, "")
		case <-ctx.Done():
			return x.why(ctx, p, ctx.Err(), "nothing answered at "+x.Ready.Path)
		}
	}
	return nil
}

func (x *service) why(ctx context.Context, p *proc.Process, err error, missing string) error {
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return fmt.Errorf("was not ready within %v: %s", text.Duration(x.StartTimeout), missing)
	}
	return fmt.Errorf("does not start: it %s before it was ready", p.How())
}

// Reset resets the services that run.
func (s *Set) Reset(ctx context.Context) error {
	for _, x := range s.all {
		if err := s.reset(ctx, x); err != nil {
			return err
		}
	}
	return nil
}

func (s *Set) reset(ctx context.Context, x *service) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.began && !x.theirs {
		return nil
	}
	if x.Reset != nil {
		ctx, cancel := context.WithTimeout(ctx, x.StartTimeout)
		r := proc.Run(ctx, s.command(x, x.Reset))
		cancel()
		if r.Err != nil {
			return fmt.Errorf("service %s could not be reset: %w%s", x.Name, r.Err, last(r.Lines))
		}
	}
	if x.Seed == nil {
		return nil
	}
	if x.fresh { // it was seeded just now
		x.fresh = false
		return nil
	}
	return s.again(ctx, x)
}

// Names returns the services that run now, with a word for those that are not ours.
func (s *Set) Names() (out []string) {
	for _, x := range s.all {
		if !x.mu.TryLock() {
			out = append(out, x.Name+" (starting)")
			continue
		}
		switch {
		case x.theirs:
			out = append(out, x.Name+" (already running)")
		case x.began && x.alive():
			out = append(out, x.Name)
		}
		x.mu.Unlock()
	}
	return out
}

// Close ends the services that we began.
func (s *Set) Close() {
	var all sync.WaitGroup
	for _, x := range s.all {
		all.Go(func() {
			x.mu.Lock()
			defer x.mu.Unlock()
			if !x.began {
				return
			}
			s.end(x)
		})
	}
	all.Wait()
}

// end ends a service that we began. The lock is held.
func (s *Set) end(x *service) {
	x.began = false
	if x.Stop != nil {
		ctx, cancel := context.WithTimeout(context.Background(), grace)
		defer cancel()
		if r := proc.Run(ctx, s.command(x, x.Stop)); r.Err != nil {
			s.say(x.Name, logs.Note, "stop: "+strings.TrimSpace(r.Err.Error()))
		}
	}
	x.left.EndLeft(grace)
	x.left = proc.Ran{}
	if x.proc != nil {
		x.proc.Stop(grace)
		x.proc.Gone()
		x.proc = nil
	}
}

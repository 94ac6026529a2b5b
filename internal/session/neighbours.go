package session

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"strings"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/upstream"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/ingest"
	"nightdrill.dev/internal/store"
)

// ChangeUpstreams changes settings of upstreams for as long as the program runs, as --upstream does.
func (d *Workspace) ChangeUpstreams(changes []string) error {
	all, err := project.ChangeUpstreams(d.Project.Upstreams, changes)
	if err != nil {
		return err
	}
	d.Project.Upstreams, d.Whole.Upstreams = all, all
	return nil
}

// ChangeUpstreamsOf returns a drill with other settings of upstreams.
func (d *Workspace) ChangeUpstreamsOf(drill *plan.Drill, changes []string) (*plan.Drill, error) {
	own := drill.Upstreams
	if own == nil {
		own = d.Project.Upstreams
	}
	all, err := project.ChangeUpstreams(own, changes)
	if err != nil {
		return nil, err
	}
	changed := *drill
	changed.Upstreams = all
	return &changed, nil
}

// recorded reports whether an upstream has a recording.
func recorded(u *plan.Upstream) bool {
	info, err := os.Stat(u.Recording)
	return err == nil && info.Mode().IsRegular()
}

// neighbours prepares the stand-ins for the services that functions call: those of a drill, or of the session where it
// is nil. In the session a recording that is not there yet is an empty one. It is nil where there are none.
func (d *Workspace) neighbours(drill *plan.Drill, say func(string)) (*upstream.Set, error) {
	seed := uint64(1)
	if drill != nil {
		seed = drill.Seed
	}
	all := d.Project.UpstreamsOf(drill, recorded)
	if len(all) == 0 {
		return nil, nil
	}
	key, err := ingest.RedactionKey(d.Dir)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if s := all[i].Service; s >= 0 {
			at, err := d.works.Services.Address(s)
			if err != nil {
				return nil, fmt.Errorf("upstreams.%s: %w", all[i].Name, err)
			}
			all[i].URL = "http://" + at
		}
	}
	var authority *upstream.Authority
	if hosts := upstream.ProxiedHosts(all); hosts != nil {
		folder, err := store.Folder(d.Dir)
		if err != nil {
			return nil, err
		}
		if authority, err = upstream.OpenAuthority(folder, hosts); err != nil {
			return nil, err
		}
	}
	return upstream.Open(upstream.Options{Authority: authority, Upstreams: all, Seed: seed, Key: key,
		Hosts: d.Entrances.Hosts, Say: say,
		Append: drill == nil,
		Recording: func(u *plan.Upstream) ([]payload.Payload, error) {
			list, err := project.ReadRecording(u)
			if drill == nil && errors.Is(err, fs.ErrNotExist) {
				say(u.Name + ": nothing was recorded yet, so each call is missing")
				return nil, nil
			}
			return list, err
		}})
}

// bindAt returns the host at which functions in other networks reach the listeners of this machine: that at which
// events
// are published; "" for 127.0.0.1.
func (d *Workspace) bindAt() string {
	host, _, err := net.SplitHostPort(d.Entrances.Publish)
	if err != nil {
		return ""
	}
	return host
}

// openNeighbours prepares the stand-ins of the session; the lock is held.
func (s *Session) openNeighbours() *upstream.Set {
	set, err := s.Workspace.neighbours(nil, func(text string) {
		s.Log.Add(time.Now(), "upstreams", "upstreams", logs.Note, text)
	})
	if s.apart = err; err != nil {
		s.trouble = err.Error()
		return nil
	}
	return set
}

// UpstreamTrouble returns why functions do not get the addresses of their upstreams, or nil.
func (s *Session) UpstreamTrouble() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.apart
}

// Neighbour is an upstream as it works now.
type Neighbour struct {
	Name      string
	Mode      plan.Mode
	Behaviour plan.Behaviour
	Calls     int64
	Recorded  bool // there is a recording
}

// Neighbours returns the upstreams as they work now.
func (s *Session) Neighbours() []Neighbour {
	s.mu.Lock()
	driver := s.driver
	s.mu.Unlock()
	return neighboursOf(driver.Neighbours())
}

func neighboursOf(set *upstream.Set) (out []Neighbour) {
	if set == nil {
		return nil
	}
	for i := range set.Upstreams {
		out = append(out, Neighbour{set.Upstreams[i].Name, set.Mode(i), set.Behaviour(i), set.Calls(i),
			recorded(&set.Upstreams[i])})
	}
	return out
}

// Words describes an upstream in a line.
func (n *Neighbour) Words() string {
	words := fmt.Sprintf("calls %s: %s", n.Name, map[plan.Mode]string{plan.Pass: "passed on", plan.Record: "recorded",
		plan.Replay: "answered from the recording"}[n.Mode])
	if how := n.Behaviour.String(); how != "" {
		words += ", " + how
	}
	words += fmt.Sprintf("; %s so far", text.Plural(int(n.Calls), "call"))
	if !n.Recorded {
		words += "; not recorded yet"
	}
	return words
}

// SetUpstreams changes settings of upstreams for the session, and for drills that it starts. It returns what holds now.
func (s *Session) SetUpstreams(changes []string) (said string, err error) {
	s.mu.Lock()
	was, driver := s.Project.Upstreams, s.driver
	s.mu.Unlock()
	all, err := project.ChangeUpstreams(was, changes)
	if err != nil {
		return "", err
	}
	set := driver.Neighbours()
	for i := range all {
		if set == nil || i >= len(set.Upstreams) {
			break
		}
		if all[i].Behaviour != was[i].Behaviour {
			set.SetBehaviour(i, all[i].Behaviour)
		}
		if all[i].Mode != was[i].Mode {
			if err := set.SetMode(i, max(all[i].Mode, plan.Pass)); err != nil {
				return "", fmt.Errorf("upstreams.%s: %w", all[i].Name, err)
			}
		}
	}
	s.mu.Lock()
	s.Project.Upstreams, s.Whole.Upstreams = all, all
	s.mu.Unlock()
	s.changed()
	var words []string
	for _, n := range s.Neighbours() {
		words = append(words, n.Words())
	}
	return strings.Join(words, "; "), nil
}

// Neighbours returns the upstreams of the drill as they work now.
func (r *Running) Neighbours() []Neighbour { return neighboursOf(r.driver.Neighbours()) }

// SetUpstream changes how the stand-in for an upstream behaves while the drill runs.
func (r *Running) SetUpstream(i int, b plan.Behaviour) error {
	if why := b.Check(); why != "" {
		return errors.New(why)
	}
	r.driver.SetUpstream(i, b)
	return nil
}

const (
	spansWithin = 2 * time.Second        // spans of a firing are waited for so long,
	spansQuiet  = 250 * time.Millisecond // and no longer once none came for so long
)

// AwaitSpans waits until the spans of a firing, which is over, have come; not at all where its functions send none.
func (s *Session) AwaitSpans(ctx context.Context, f *Firing) {
	began, last, seen := time.Now(), time.Now(), -1
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		v := s.Look(f)
		if v.Refused != nil || v.Trace == nil {
			return
		}
		expected, n := false, 0
		for _, t := range v.Trace.Attempts {
			expected = expected || s.Whole.Functions[t.Function].Spans
			n += len(t.Spans)
		}
		if n != seen {
			seen, last = n, time.Now()
		}
		if !expected || time.Since(began) > spansWithin || n > 0 && time.Since(last) > spansQuiet {
			return
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

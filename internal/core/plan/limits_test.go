package plan

import (
	"strings"
	"testing"
	"time"
)

// Limits that cannot hold are distinguished, and a change is said in words.
func TestLimits(t *testing.T) {
	good := Limits{Max: 8, Guaranteed: 2, PerInstance: 3, KeepWarm: 3, IdleAfter: time.Second}
	if why := good.Check(); why != "" || good.Instances() != 3 {
		t.Errorf("%+v: %s, %d instances", good, why, good.Instances())
	}
	for want, change := range map[string]func(*Limits){
		"limits must not be negative": func(l *Limits) { l.Max = -1 },
		"per_instance must be at most 1000": func(l *Limits) {
			l.PerInstance,
				l.KeepWarm = 1001, 0
		},
		"guaranteed is 9, but max is 8": func(
			l *Limits) {
			l.Guaranteed = 9
		},
		"keep_warm is 4, but a max of 8 with 3 on each instance " +
			"needs only 3": func(l *Limits) { l.KeepWarm = 4 },
		"max 8 → 9, idle_after 1s → 2s, start_rate unbounded → 2.5/s, start_burst 1 → 3, rejects everything": nil,
	} {
		l := good
		if change == nil {
			l.Max, l.IdleAfter, l.StartEvery, l.StartBurst, l.TurnAway = 9, 2*time.Second, 400*time.Millisecond, 3, true
			if got := l.Difference(good); got != want {
				t.Errorf("the difference is %q, want %q", got, want)
			}
			if got := good.Difference(l); got != "max 9 → 8, idle_after 2s → 1s, start_rate 2.5/s → unbounded, "+
				"accepts events again" {
				t.Errorf("back it is %q", got)
			}
			continue
		}
		if change(&l); l.Check() != want {
			t.Errorf("%+v: %q, want %q", l, l.Check(), want)
		}
	}
	for every, want := range map[time.Duration]string{0: "unbounded", time.Millisecond: "1000/s",
		300 * time.Millisecond: "3.333/s", 40 * time.Second: "1.5/m", 20 * time.Minute: "3/h",
		2 * time.Hour: "0.500/h"} {
		if got := (Limits{StartEvery: every}).StartRate(); got != want {
			t.Errorf("one each %v is %q, want %q", every, got, want)
		}
	}
	if why := SharesFit(4, []Limits{{Guaranteed: 3}, {Guaranteed: 2}}); why != "the functions' guaranteed shares add "+
		"up to 5, but the project's concurrency is 4" {
		t.Errorf("shares: %q", why)
	}
}

// A limit is set by its name; what a transport does not allow is told.
func TestLimitsByName(t *testing.T) {
	l := Limits{Max: 4, PerInstance: 1}
	for _, c := range []struct{ name, value, wrong string }{
		{"max", "6", ""}, {"guaranteed", "2", ""}, {"per_instance", "3", ""}, {"keep_warm", "1", ""},
		{"idle_after", "90s", ""}, {"start_rate", "2.5/s", ""}, {"start_burst", "2", ""}, {"turn_away", "true", ""},
		{"max", "-1", "must be a whole number"}, {"idle_after", "soon", "is not a duration"},
		{"start_rate", "0/s", "is not a rate"}, {"turn_away", "maybe", "neither true nor false"},
		{"mox", "1", "unknown limit"},
	} {
		if err := l.Set(c.name, c.value); (err == nil) != (c.wrong == "") || err != nil &&
			!strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s=%s: %v, want %q", c.name, c.value, err, c.wrong)
		}
	}
	if want := (Limits{Max: 6, Guaranteed: 2, PerInstance: 3, KeepWarm: 1, IdleAfter: 90 * time.Second,
		StartEvery: 400 * time.Millisecond, StartBurst: 2, TurnAway: true}); l != want {
		t.Errorf("set one by one they are %+v, want %+v", l, want)
	}
	for transport, want := range map[Transport]string{HTTPTransport: "", Lines: "one event at a time",
		OneShot: "a process for each", Attach: "started elsewhere"} {
		f := Function{Transport: transport}
		if why := f.CheckLimits(&Limits{Max: 6, PerInstance: 3, KeepWarm: 1}); !strings.Contains(why, want) ||
			want == "" && why != "" {
			t.Errorf("%v: %q, want %q", transport, why, want)
		}
	}
	attached := Limits{Max: 6, PerInstance: 1}
	if why := (&Function{Transport: Attach}).CheckLimits(&attached); why != "" || attached.PerInstance != 6 {
		t.Errorf("of an attached function: %q, %+v", why, attached)
	}
}

// A plan of cold starts has each variant once, or once more with its files dropped;
// what someone else starts, and what was left out, is not in it.
func TestColdPlan(t *testing.T) {
	l := Limits{Max: 0, Guaranteed: 0, PerInstance: 1, TurnAway: true, StartEvery: time.Second}
	variant := func(name string, change func(*Function)) Function {
		f := Function{Name: name, Limits: l}
		change(&f)
		return f
	}
	p := &Project{Concurrency: 2, Functions: []Function{{Name: "f", Limits: l, Variants: []Function{
		variant("f@warm", func(f *Function) { f.Limits.Max, f.Limits.KeepWarm = 1, 1 }),
		variant("f@else", func(f *Function) { f.Transport = Attach }),
		variant("f@out", func(*Function) {}),
	}}, {Name: "g", Limits: l}},
		Sources: []Source{{Name: "s", Kind: Queue, Attempts: 3, DeadLetter: 1, Wires: []Wire{{To: 0}, {To: 1},
			{To: 0}}}, {Name: "dead"}}}
	d := &Drill{Feeds: []Feed{{Source: 0}}, Cold: &ColdStarts{N: 3, Cached: true, Dropped: true,
		Of: []string{"f", "f@warm", "g"}}, Changes: []Change{{}}}
	cold, drill := p.ColdPlan(d)
	var names string
	for i := range cold.Functions {
		f, s := &cold.Functions[i], &cold.Sources[i]
		names += f.Name + " "
		if f.Limits.Max < 1 || f.Limits.TurnAway || f.Limits.StartEvery != 0 || s.Wires[0].To != i ||
			s.DeadLetter != -1 || s.Attempts != 1 || drill.Feeds[i].Source != i {
			t.Errorf("%s: %+v by %+v", f.Name, f.Limits, s)
		}
	}
	if names != "f f:dropped f@warm g g:dropped " || len(drill.Changes) != 0 ||
		cold.Concurrency < len(cold.Functions) || p.Functions[0].Limits.TurnAway == false {
		t.Errorf("the plan has %q, %d changes, a limit of %d", names, len(drill.Changes), cold.Concurrency)
	}
}

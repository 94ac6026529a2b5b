package engine

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

var update = flag.Bool("update", false, "write the traces of testdata anew")

// TestScenarios plays the files of testdata. Lines at the margin set the
// project up or are inputs; the indented lines below an input are the effects
// that it must have, with those of timers that came due before it.
func TestScenarios(t *testing.T) {
	files, _ := filepath.Glob("testdata/*.txt")
	if len(files) == 0 {
		t.Fatal("no scenarios")
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			got := play(t, string(text))
			if *update {
				if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			} else if got != string(text) {
				t.Errorf("%s: the trace differs; got\n%s", file, got)
			}
		})
	}
}

type stage struct {
	t     *testing.T
	p     plan.Project
	e     *Engine
	fx    Effects
	names map[string]int32  // instances by name
	sent  map[string]uint64 // invocations by slot name
	out   strings.Builder
}

func play(t *testing.T, text string) string {
	s := &stage{t: t, names: map[string]int32{}, sent: map[string]uint64{}, p: plan.Project{Concurrency: 100}}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if strings.HasPrefix(line, "  ") {
			continue
		}
		s.out.WriteString(line + "\n")
		words := strings.Fields(line)
		if len(words) == 0 || words[0] == "#" {
			continue
		}
		switch words[0] {
		case "project":
			s.p.Concurrency = s.settings(words[1:]).int("concurrency", 100)
		case "function":
			set := s.settings(words[2:])
			s.p.Functions = append(s.p.Functions, plan.Function{Name: words[1],
				Timeout: set.time("timeout", 10*time.Second), StartTimeout: set.time("start_timeout", 10*time.Second),
				Transport: plan.Transport(max(slices.Index(plan.Transports, set.m["transport"]), 0)),
				Replace:   plan.Replacement(max(slices.Index(plan.Replacements, set.m["replace"]), 0)),
				Limits:    set.limits(plan.Limits{Max: 10, PerInstance: 1, IdleAfter: time.Minute})})
		case "source":
			s.source(words)
		default:
			s.step(words)
		}
	}
	return s.out.String()
}

type settings struct {
	t *testing.T
	m map[string]string
}

func (s *stage) settings(words []string) settings {
	m := map[string]string{}
	for _, w := range words {
		k, v, ok := strings.Cut(w, "=")
		if !ok {
			s.t.Fatalf("%q is not a setting", w)
		}
		m[k] = v
	}
	return settings{s.t, m}
}

func (s settings) int(name string, otherwise int) int {
	if v, ok := s.m[name]; ok {
		n, err := strconv.Atoi(v)
		if err != nil {
			s.t.Fatal(err)
		}
		return n
	}
	return otherwise
}

func (s settings) time(name string, otherwise time.Duration) time.Duration {
	if v, ok := s.m[name]; ok {
		d, err := time.ParseDuration(v)
		if err != nil {
			s.t.Fatal(err)
		}
		return d
	}
	return otherwise
}

func (s settings) limits(l plan.Limits) plan.Limits {
	return plan.Limits{Max: s.int("max", l.Max), Guaranteed: s.int("guaranteed", l.Guaranteed),
		PerInstance: s.int("per_instance", l.PerInstance),
		KeepWarm:    s.int("keep_warm", l.KeepWarm), IdleAfter: s.time("idle_after", l.IdleAfter),
		StartEvery: s.time("start_every", l.StartEvery), StartBurst: s.int("start_burst", l.StartBurst),
		TurnAway: s.m["turn_away"] == "yes"}
}

// source NAME KIND [-> FUNCTION] [setting=value ...]
func (s *stage) source(words []string) {
	src := plan.Source{Name: words[1], DeadLetter: -1}
	rest := words[3:]
	if len(rest) > 1 && rest[0] == "->" {
		src.Wires = []plan.Wire{{To: s.p.FunctionNamed(rest[1])}}
		rest = rest[2:]
	}
	set := s.settings(rest)
	src.Kind = plan.Kind(slices.Index(plan.Kinds, words[2]))
	src.Wait = set.time("wait", 0)
	src.BatchMax, src.BatchWait = set.int("batch", 1), set.time("fill", 0)
	src.Attempts, src.Backoff = set.int("attempts", 3), set.time("backoff", 0)
	if d, ok := set.m["dead_letter"]; ok {
		src.DeadLetter = s.p.SourceNamed(d)
	}
	switch src.Kind {
	case plan.Queue:
		src.Lease, src.LeaseMost = set.time("lease", time.Minute), set.time("extend", 0)
		src.MaxAge, src.Delay = set.time("max_age", 0), set.time("delay", 0)
	case plan.Stream:
		src.Partitions = set.int("partitions", 1)
		src.OnFailure = plan.OnFailure(max(slices.Index([]string{"skip", "split"}, set.m["on_failure"]), 0))
	case plan.Schedule:
		src.WhileRunning = plan.WhileRunning(max(slices.Index([]string{"drop", "wait", "parallel"},
			set.m["while_running"]), 0))
	case plan.Storage:
		src.Poll = set.time("poll", 0)
	}
	s.p.Sources = append(s.p.Sources, src)
}

func (s *stage) step(words []string) {
	if s.e == nil {
		var limits []plan.Limits
		for _, f := range s.p.Functions {
			limits = append(limits, f.Limits)
		}
		s.e = New(&s.p, limits, 20*time.Second)
	}
	at, err := time.ParseDuration(words[0])
	if err != nil {
		s.t.Fatalf("%q: %v", words, err)
	}
	in, times := Input{}, 1
	slot := func(name string) {
		instance, n, _ := strings.Cut(name, "/")
		id, ok := s.names[instance]
		if !ok {
			s.t.Fatalf("%q: no such instance", words)
		}
		k, _ := strconv.Atoi(n)
		in.Instance, in.Slot, in.Invocation = id, int32(k), s.sent[name]
	}
	switch words[1] {
	case "arrive":
		in.Kind, in.Source = Arrived, int32(s.p.SourceNamed(words[2]))
		in.Routes = 1<<len(s.p.Sources[in.Source].Wires) - 1
		for _, w := range words[3:] {
			if n, ok := strings.CutPrefix(w, "x"); ok {
				times, _ = strconv.Atoi(n)
			} else if w == "unmatched" {
				in.Routes = 0
			} else if w == "async" {
				in.Async = true
			} else {
				set := s.settings([]string{w})
				in.Key, in.Delay = int32(set.int("key", int(in.Key))), set.time("delay", in.Delay)
			}
		}
	case "ready", "exit", "start-failed":
		in.Kind = map[string]InputKind{"ready": Ready, "exit": Exited, "start-failed": StartFailed}[words[1]]
		slot(words[2])
	case "answer":
		in.Kind = Answered
		slot(words[2])
		status, _ := strconv.Atoi(words[3])
		in.Status = int32(status)
		for _, w := range words[4:] {
			if d, ok := strings.CutPrefix(w, "retry_after="); ok {
				in.RetryAfter, _ = time.ParseDuration(d)
				continue
			}
			if w == "lost" {
				in.AckLost = true
				continue
			}
			if to, ok := strings.CutPrefix(w, "then="); ok {
				in.Then = append(in.Then, Then{Source: int32(s.p.SourceNamed(to)), Takes: 1})
				continue
			}
			n, _ := strconv.Atoi(strings.TrimPrefix(w, "retry="))
			in.Retry = append(in.Retry, int32(n))
		}
	case "break":
		in.Kind, in.Result = Broken, Disconnected
		slot(words[2])
	case "limits":
		in.Kind, in.Function = SetLimits, int32(s.p.FunctionNamed(words[2]))
		in.Limits = s.settings(words[3:]).limits(s.p.Functions[in.Function].Limits)
	case "project":
		in.Kind, in.Concurrency = SetProject, int32(s.settings(words[2:]).int("concurrency", 100))
	case "replace":
		in.Kind, in.Function = Replace, int32(s.p.FunctionNamed(words[2]))
	case "clear", "hold", "release":
		in.Kind = map[string]InputKind{"clear": Clear, "hold": Hold, "release": Release}[words[1]]
		in.Function = int32(s.p.FunctionNamed(words[2]))
	case "last":
		in.Kind = NoMore
	case "end":
		in.Kind = End
	case "wake":
	default:
		s.t.Fatalf("unknown input %q", words)
	}
	for range times {
		s.fx.Reset()
		s.e.Handle(clock.Time(at), in, &s.fx)
		for i := range s.fx.List {
			f := &s.fx.List[i]
			if f.Kind == Start || f.Kind == Send {
				name := fmt.Sprintf("%s-%d", s.p.Functions[f.Function].Name, f.Number)
				s.names[name] = f.Instance
				s.sent[fmt.Sprintf("%s/%d", name, f.Slot)] = f.Invocation
			}
			fmt.Fprintf(&s.out, "  %v %s\n", f.At, f.Describe(&s.p, s.fx.Events))
		}
	}
}

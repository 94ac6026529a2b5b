package session

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/build"
	"nightdrill.dev/internal/session/kept"
)

// twins is a session with a function and two variants of it, that answer alike but for
// one, which says how long it was busy.
func twins(t *testing.T) *Workspace {
	d, _ := open(t, "two bytes", plan.Limits{Max: 2, PerInstance: 1, IdleAfter: 50 * time.Millisecond},
		arrival.Phase{Pattern: arrival.Once})
	p := *d.Project
	p.Functions = slices.Clone(p.Functions)
	f := &p.Functions[0]
	same, busy, away := *f, *f, *f
	same.Name, busy.Name, away.Name, away.Transport = "f@same", "f@busy", "f@away", plan.Attach
	busy.Env = []string{"AS_FUNCTION=busy"}
	f.Variants = []plan.Function{same, busy, away}
	// of three payloads, one never reaches the function
	p.Sources[0].Wires[0].When.Method = "GET"
	request := func(method, target string) payload.Payload {
		return payload.Payload{Request: &event.Request{Method: method, Target: target}}
	}
	p.Sets = []payload.Set{{Name: "others", Payloads: []payload.Payload{request("DELETE", "/")}},
		{Name: "set", Payloads: []payload.Payload{request("GET", "/a"), request("DELETE", "/not/for/it"),
			request("GET", "/b")}}}
	p.Drills[0].Feeds[0].Set = 1
	d.take(&project.Loaded{Project: &p}, d.Objects)
	return d
}

// Each variant is started as often and asked as often as the others, in turns; what
// takes 20 ms is told from what takes none, and what is the same is not.
func TestVariantsAreComparedInTurns(t *testing.T) {
	d := twins(t)
	drill, err := d.VariantDrill("f", []string{"f", "same", "f@busy"}, 8, 60, false, "", "")
	if err != nil {
		t.Fatal(err)
	}
	_, run := carryOut(t, d, drill)
	counts := map[string][3]int{}
	var order []string
	for i := range run.Invocations {
		v := &run.Invocations[i]
		name := run.Functions[v.Function].Name
		c := counts[name]
		c[v.Class]++
		counts[name] = c
		if v.Class == engine.Warm {
			order = append(order, name)
		}
	}
	for _, name := range []string{"f", "f@same", "f@busy"} {
		if c := counts[name]; c[engine.Cold] != 8 || c[engine.Warm] != 60 {
			t.Errorf("%s: %d cold and %d warm, want 8 and 60", name, c[engine.Cold], c[engine.Warm])
		}
	}
	first := map[string]int{}
	for i := 0; i+3 <= len(order); i += 3 { // every round has each of them once
		round := slices.Sorted(slices.Values(order[i : i+3]))
		if strings.Join(round, " ") != "f f@busy f@same" {
			t.Fatalf("round %d is %v", i/3, order[i:i+3])
		}
		first[order[i]]++
	}
	if len(first) != 3 {
		t.Errorf("the order within a round never changes: %v", first)
	}
	all := kept.CompareVariants(run)
	if len(all) != 1 || len(all[0].Sides) != 3 || all[0].Sides[0].Label != "f" {
		t.Fatalf("%+v", all)
	}
	c := all[0]
	for i, side := range c.Sides[1:] {
		for _, k := range c.Contrasts[i] {
			if k.What != "warm service" {
				continue
			}
			if slow := side.Label == "f@busy"; slow && (!k.Beyond || *k.Lo < 2) {
				t.Errorf("%s takes 20 ms more, and the contrast is %s", side.Label, report.ContrastText(&k))
			}
		}
	}
	if c.Compared != 4 || c.Differed != 2 { // busy answers otherwise, to both events
		t.Errorf("of %d events %d were answered otherwise: %+v", c.Compared, c.Differed, c.Replies)
	}
	instances := map[string]int{}
	for i := range run.Instances {
		instances[run.Functions[run.Instances[i].Function].Name]++
	}
	if instances["f"] != 8 || instances["f@busy"] != 8 { // idle_after is 50 ms, and none went in between
		t.Errorf("instances %v", instances)
	}
}

func TestVariantsThatCannotBeCompared(t *testing.T) {
	d := twins(t)
	for want, c := range map[string]struct {
		function    string
		of          []string
		source, set string
	}{
		`unknown function "g"; available: f`:         {function: "g"},
		`f has no variant "fast"; available: f`:      {function: "f", of: []string{"fast"}},
		"one variant cannot be compared with itself": {function: "f", of: []string{"same"}},
		"is started elsewhere":                       {function: "f", of: []string{"f", "away"}},
		"no payload of the set others reaches f":     {function: "f", of: []string{"f", "same"}, set: "others"},
		"at the source x reaches f":                  {function: "f", of: []string{"f", "same"}, source: "x"},
	} {
		if _, err := d.VariantDrill(c.function, c.of, 3, 3, false, c.source, c.set); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	if drill, err := d.VariantDrill("f", []string{"f", "f", "same"}, 3, 3, false, "s", "set"); err != nil ||
		len(drill.Cold.Of) != 2 || drill.Feeds[0].Set != 1 {
		t.Errorf("%+v, %v", drill, err)
	}
	d.Functions[0].Variants = nil
	if _, err := d.VariantDrill("f", nil, 3, 3, false, "", ""); err == nil || !strings.Contains(err.Error(),
		"has no variants to compare; add one under functions.f.variants") {
		t.Error(err)
	}
}

// A run is exported whole or not at all where a file is in the way, and of chosen forms
// those alone are written.
func TestExportsAreWrittenTogether(t *testing.T) {
	d, drill := open(t, "two bytes", plan.Limits{Max: 2, PerInstance: 1, KeepWarm: 1, IdleAfter: time.Second},
		arrival.Phase{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 100, Per: time.Second},
			For: 300 * time.Millisecond})
	r, _ := carryOut(t, d, drill)
	info, err := d.Runs.Find(r.ID)
	if err != nil {
		t.Fatal(err)
	}
	s, err := kept.SourceOf(d.Runs, info)
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "a", "b")
	write := func(x kept.Exporting) ([]string, error) {
		x.Dir = dir
		return kept.Export(s, nil, x)
	}
	if files, err := write(kept.Exporting{Formats: []string{"svg", "csv"},
		Charts: []string{"lanes", "ladder"}}); err != nil || len(files) != 3 {
		t.Fatalf("%v, %v", files, err)
	}
	if err := os.Remove(filepath.Join(dir, r.ID+"-lanes.svg")); err != nil {
		t.Fatal(err)
	}
	if files, err := write(kept.Exporting{}); err == nil || !strings.Contains(err.Error(), "already exists") ||
		len(files) != 0 {
		t.Errorf("with files in the way: %v, %v", files, err)
	}
	if _, err := os.Stat(filepath.Join(dir, r.ID+"-lanes.svg")); err == nil {
		t.Error("a part was written")
	}
	if files, err := write(kept.Exporting{Over: true}); err != nil || len(files) != 22 {
		t.Errorf("over them: %d files, %v", len(files), err)
	}
	if _, err := write(kept.Exporting{Formats: []string{"gif"}}); err == nil || !strings.Contains(err.Error(),
		`unknown export format "gif"`) {
		t.Error(err)
	}
	// what was written without the run being kept is the same as what is kept
	if s.Page.Summary.Machine == "" || s.Page.Summary.Driver.EchoBefore.P50 == nil ||
		s.Page.Summary.Driver.EchoDuring.N == 0 || s.Page.Summary.Driver.TimerP99 == nil {
		t.Errorf("the self-check is %+v, on %q", s.Page.Summary.Driver, s.Page.Summary.Machine)
	}
}

// The package of a function is the files that it names, or what its build makes, or the files that are watched
// and its own program; an interpreter is no part of it.
func TestPackage(t *testing.T) {
	dir := t.TempDir()
	for name, n := range map[string]int{"f/a.py": 100, "f/b.py": 20, "big.bin": 5000, "serve": 3} {
		write(t, dir, name, strings.Repeat("x", n))
	}
	for want, f := range map[int64]plan.Function{
		120:  {Watch: []string{"f/*.py"}, Start: []string{"python3", "f/a.py"}},
		5020: {Watch: []string{"f/*.py"}, Package: []string{"f/b.py", "*.bin"}},
		103:  {Watch: []string{"f/a.py"}, Start: []string{filepath.Join(dir, "serve")}},
		3:    {Watch: []string{"f/a.py"}, Start: []string{filepath.Join(dir, "serve")}, Build: []string{"make"}},
		100: {Watch: []string{"f/a.py"}, Start: []string{filepath.Join(dir, "serve")},
			Handler: &plan.Handler{Language: plan.Python}},
		0: {Start: []string{"python3"}},
	} {
		if _, got := build.Package(&f, dir); got != want {
			t.Errorf("%+v has %d bytes, want %d", f, got, want)
		}
	}
	if kept.Commit(dir) != "" {
		t.Errorf("a folder without a repository is at %q", kept.Commit(dir))
	}
}

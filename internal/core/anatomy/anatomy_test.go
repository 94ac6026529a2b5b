package anatomy

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

const ms1 = time.Millisecond

// waits is a thread that runs for so long and then waits, step by step.
func steps(all ...Step) []Step {
	at := time.Duration(0)
	for i := range all {
		all[i].From, all[i].To = at, at+all[i].To
		at = all[i].To
		all[i].Call = uint64(i + 1)
	}
	return all
}

func partOf(a *Account, class Class, on string) time.Duration {
	for _, p := range a.Parts {
		if p.Class == class && p.On == on {
			return p.Took
		}
	}
	return 0
}

// What the main thread does itself is counted as it is; where it waits for another thread, for a child or for any of
// several things, what that one did takes its place.
func TestAccount(t *testing.T) {
	main := Task{ID: 1, Process: 1, Name: "quote", Steps: steps(
		Step{To: 10 * ms1, Run: 8 * ms1, Ready: 2 * ms1},
		Step{To: 20 * ms1, Way: InSleep},
		Step{To: 30 * ms1, Way: InNetwork, On: "127.0.0.1:5432"},
		Step{To: 5 * ms1, Way: InDisk, On: "/data/fares"},
		Step{To: 40 * ms1, Way: InLock},  // for the thread that runs
		Step{To: 50 * ms1, Way: InChild}, // for the child that sleeps
		Step{To: 25 * ms1, Way: InLoop, Until: 180 * ms1},
		Step{To: 20 * ms1, Way: InLock}, // for no one who did anything
	)}
	worker := Task{ID: 2, Process: 1, Name: "worker", Steps: []Step{{From: 65 * ms1, To: 105 * ms1, Run: 36 * ms1,
		Ready: 4 * ms1}, {From: 105 * ms1, To: 200 * ms1, Way: InLock, Call: 9}}}
	child := Task{ID: 3, Process: 3, Parent: 1, Name: "sleep", Command: "sleep 1", Steps: []Step{{From: 105 * ms1,
		To: 155 * ms1, Way: InSleep, Call: 7}}}
	helper := Task{ID: 4, Process: 1, Name: "C2 CompilerThre", Steps: []Step{{To: 200 * ms1, Run: 20 * ms1, Way: InLock,
		Until: 200 * ms1}}}
	a := Of([]Task{main, worker, child, helper}, 1, 210*ms1)
	for _, c := range []struct {
		class Class
		on    string
		want  time.Duration
	}{{Running, "", 8 * ms1}, {Waiting, "", 2 * ms1}, {Sleeping, "", 45 * ms1}, {Network, "127.0.0.1:5432", 30 * ms1},
		{Disk, "/data/fares", 5 * ms1}, {Running, "worker", 36 * ms1}, {Waiting, "worker", 4 * ms1},
		{Sleeping, "sleep 1", 50 * ms1}, {Unseen, "", 30 * ms1}} {
		if got := partOf(a, c.class, c.on); got < c.want-ms1 || got > c.want+ms1 {
			t.Errorf("%s %q: %v, want %v\n%+v", Words[c.class], c.on, got, c.want, a.Parts)
		}
	}
	r := &Report{Function: "quote", Untraced: []time.Duration{200 * ms1, 210 * ms1, 220 * ms1}, Clock: a,
		ClockTook: 210 * ms1, Tasks: []Task{main, worker, child}}
	for _, want := range []string{"It sleeps 45 ms before it is ready.", "sleep 1 sleeps 50 ms, and the start waits",
		"30 ms waited for 127.0.0.1:5432."} {
		if !strings.Contains(strings.Join(r.Sentences(), "\n"), want) {
			t.Errorf("without %q:\n%s", want, strings.Join(r.Sentences(), "\n"))
		}
	}
	r.ClockTook = 280 * ms1 // looking made it too slow
	if s := r.Sentences(); len(s) != 0 {
		t.Errorf("of a start that took too long: %v", s)
	}
}

// The shares of any start add up to it, whatever was seen, and its line has no holes.
func TestSharesAddUp(t *testing.T) {
	for seed := range uint64(300) {
		random := rand.New(rand.NewPCG(seed, 2))
		var tasks []Task
		for id := range int32(1 + random.IntN(5)) {
			x := Task{ID: id + 1, Process: 1 + id*int32(random.IntN(2)), Name: "t"}
			if x.Process != 1 {
				x.Parent, x.Command = 1, "child"
			}
			at := time.Duration(random.IntN(8)) * ms1
			for range random.IntN(60) {
				s := Step{From: at, To: at + time.Duration(1+random.IntN(9000))*time.Microsecond,
					Way: Way(random.IntN(int(InOther) + 1)), Call: uint64(random.IntN(3))}
				s.Run = time.Duration(random.Int64N(int64(s.To-s.From)*3/2 + 1))
				s.Ready = time.Duration(random.Int64N(int64(s.To-s.From)/2 + 1))
				if random.IntN(2) == 0 {
					s.Until = s.From + time.Duration(random.IntN(40))*ms1
				}
				if at = s.To; random.IntN(9) == 0 {
					at += ms1
				}
				x.Steps = append(x.Steps, s)
			}
			tasks = append(tasks, x)
		}
		total := time.Duration(1+random.IntN(200)) * ms1
		a := Of(tasks, 1, total)
		sum, at := time.Duration(0), time.Duration(0)
		for _, d := range a.Shares {
			sum += d
		}
		for _, s := range a.Line {
			if s.From != at || s.To <= s.From {
				t.Fatalf("seed %d: a hole or an overlap at %v in %+v", seed, at, a.Line)
			}
			at = s.To
		}
		if sum != total || at != total {
			t.Fatalf("seed %d: shares %v, a line to %v, of %v", seed, sum, at, total)
		}
	}
}

func TestImports(t *testing.T) {
	all, rest := PythonImports(strings.Split(`import time: self [us] | cumulative | imported package
import time:       100 |        100 |     json.scanner
hello
import time:       200 |        200 |     json.decoder
import time:        50 |        350 |   json
import time:      1000 |       1350 | quote
import time:        10 |         10 | late`, "\n"))
	want := []Import{{"quote", -1, 1350 * time.Microsecond, ms1, 1},
		{"json", 0, 350 * time.Microsecond, 50 * time.Microsecond, 1},
		{"json.scanner", 1, 100 * time.Microsecond, 100 * time.Microsecond, 1},
		{"json.decoder", 1, 200 * time.Microsecond, 200 * time.Microsecond, 1},
		{"late", -1, 10 * time.Microsecond, 10 * time.Microsecond, 1}}
	if !reflect.DeepEqual(all, want) || !slices.Equal(rest, []string{"hello"}) {
		t.Errorf("%+v, %q", all, rest)
	}
	if got := Largest(all, 2); !slices.Equal(got, []int{0, 4}) {
		t.Errorf("the largest are %v", got)
	}
	if all, rest := GoInits([]string{"init crypto/x509 @2.1 ms, 0.75 ms clock, 10 bytes, 3 allocs", "ready"}); len(
		all,
	) !=
		1 ||
		all[0].Own != 750*time.Microsecond ||
		len(rest) != 1 {
		t.Errorf("%+v, %q", all, rest)
	}
	node := NodeModules(`{"name":"/a/lib.cjs","parent":"/a/main.mjs","total":5,"own":3}
{"name":"/a/x.cjs","parent":"/a/lib.cjs","total":2,"own":2}
{"name":"/a/main.mjs","parent":"","own":1,"total":0}
{"name":"/a/one.mjs","parent":"/a/two.mjs","own":1}
{"name":"/a/two.mjs","parent":"/a/one.mjs","own":1}
{"name":"/a/cut`)
	if len(node) != 5 || node[0].Parent != 2 || node[1].Parent != 0 || node[2].Total != 6*ms1 {
		t.Errorf("%+v", node)
	}
	java := JavaClasses("[1000000ns][info] java.lang.Object source: shared objects file\n"+
		"[1400000ns] ferry.Desk source: file:/a/\n[90000000ns] ferry.Quay source: file:/a/\n", 91*ms1)
	if len(java) != 2 || java[0].Own != 400*time.Microsecond || java[1].N != 2 || java[1].Own != 2*ms1 {
		t.Errorf("%+v", java)
	}
}

func TestReportJSON(t *testing.T) {
	a := Of(
		[]Task{{ID: 1, Process: 1, Steps: steps(Step{To: 100 * ms1, Way: InNetwork, On: "10.0.0.1:80"})}},
		1,
		100*ms1,
	)
	r := &Report{Function: "quote", Untraced: []time.Duration{100 * ms1}, Clock: a, ClockTook: 100 * ms1,
		Imports: []Import{{Name: "json", Parent: -1, Own: ms1, Total: ms1}}, TreeTook: 100 * ms1,
		Names: &Names{Opened: 3, Failed: 1200, Directories: []Count{{"/lib", 1200}},
			Addresses: []Connection{{"10.0.0.1:80", 2}}}}
	content, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	var got map[string]any
	if err := json.Unmarshal(content, &got); err != nil {
		t.Fatal(err)
	}
	shares := got["shares_ms"].(map[string]any)
	if got["format"] != Format || shares["network"] != 100.0 || shares["total_ms"] != 100.0 || shares["unseen"] != 0.0 {
		t.Errorf("%s", content)
	}
	address := got["addresses"].([]any)[0].(map[string]any)
	if address["ms"] != 100.0 || address["count"] != 2.0 || len(got["sentences"].([]any)) != 2 {
		t.Errorf("%s", content)
	}
}

func FuzzPythonImports(f *testing.F) {
	f.Add("import time: 1 | 2 | a\nimport time: 1 | 2 |   b\n")
	f.Fuzz(func(t *testing.T, content string) {
		all, _ := PythonImports(strings.Split(content, "\n"))
		for i, x := range all {
			if x.Parent >= i {
				t.Fatalf("%d has the parent %d", i, x.Parent)
			}
		}
		Largest(all, 5)
		NodeModules(content)
		JavaClasses(content, time.Second)
	})
}

func BenchmarkAccount(b *testing.B) {
	var tasks []Task
	for id := range int32(20) {
		x := Task{ID: id + 1, Process: 1, Name: "t"}
		for i := range 500 {
			s := Step{From: time.Duration(i) * 2 * ms1, To: time.Duration(i+1) * 2 * ms1, Way: InLock}
			if id == 7 {
				s.Run, s.Way = ms1, NoWay
			}
			x.Steps = append(x.Steps, s)
		}
		tasks = append(tasks, x)
	}
	for b.Loop() {
		Of(tasks, 1, time.Second)
	}
}

// The untraced starts decide whether two differ; what is different is listed, what was added and what went too.
func TestCompare(t *testing.T) {
	report := func(sleep time.Duration, imports ...Import) *Report {
		total := 50*ms1 + sleep
		r := &Report{Function: "quote", ClockTook: total, TreeTook: total, Imports: imports,
			Clock: Of([]Task{{ID: 1, Process: 1, Steps: steps(Step{To: 50 * ms1, Run: 50 * ms1},
				Step{To: sleep, Way: InSleep})}}, 1, total)}
		for i := range 6 {
			r.Untraced = append(r.Untraced, total+time.Duration(i)*ms1)
		}
		return r
	}
	json := Import{Name: "json", Parent: -1, Total: 3 * ms1, Own: 3 * ms1}
	big := Import{Name: "pandas", Parent: -1, Total: 30 * ms1, Own: 30 * ms1}
	d := Compare(report(100*ms1, json, big).Side("quote"), report(10*ms1, json).Side("quote@light"))
	if !d.Beyond || !strings.Contains(d.Verdict, "The start of quote takes 153 ms, that of quote@light 62.5 ms: "+
		"0.41 × as long") ||
		!slices.Equal(d.Imports, []Change{{"pandas", 30, 0}}) ||
		!slices.Equal(d.Parts, []Change{{"sleeping", 100, 10}}) {
		t.Errorf("%+v", d)
	}
	if d := Compare(report(10*ms1).Side("quote"), report(11*ms1).Side("quote")); d.Beyond ||
		!strings.Contains(d.Verdict, "no difference beyond noise") {
		t.Errorf("%+v", d)
	}
	for content, want := range map[string]string{"{": "not the JSON", `{"format":"x"}`: `its format is "x"`,
		`{"format":"nightdrill.anatomy/1","parts":[{"class":"tea"}]}`: `unknown class "tea"`} {
		if _, err := ReadSide("a", []byte(content)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", content, err)
		}
	}
	r := report(100*ms1, json, big)
	for figure, want := range map[string]float64{"imports": 33, "sleeping": 100, "network": 0} {
		if v, ok := r.Figure(figure); !ok || v != want {
			t.Errorf("%s is %v, %v", figure, v, ok)
		}
	}
	if _, ok := r.Figure("files"); ok {
		t.Error("files were not counted")
	}
	if folded := r.Folded(); folded != "json 3000\npandas 30000\n" {
		t.Errorf("%q", folded)
	}
}

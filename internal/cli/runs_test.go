package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/store"
)

// From a run to what leaves the program: compared, replayed, held against, exported,
// named and deleted; with good input and with bad.
func TestRunsAreUsed(t *testing.T) {
	dir := lay(t, served, ", budgets: [function quote warm max < 10s, function quote warm p99 < 1s, project done > 0]")
	yaml := read(t, filepath.Join(dir, "nightdrill.yaml"))
	yaml = strings.Replace(yaml, "timeout: 60s}\n", "timeout: 60s, variants: {roomy: {concurrency: {max: 20}}}}\n", 1) +
		"cost: {currency: EUR, memory: 0.00002}\nruns: {keep: 2}\n"
	if err := os.WriteFile(filepath.Join(dir, "nightdrill.yaml"), []byte(yaml), 0o644); err != nil {
		t.Fatal(err)
	}
	do := func(code int, want string, args ...string) string {
		t.Helper()
		out, errs, got := nightdrill(t, append(args, "--project", dir)...)
		if got != code || !strings.Contains(out+errs, want) || code >= 2 && strings.Count(errs, "\n") > 1 {
			t.Fatalf("%v: exit %d (want %d), want %q\n%s%s", args, got, code, want, out, errs)
		}
		return out
	}
	// p99 needs 299 answers, and there are few: open, which fails the gate unless allowed
	do(1, "no verdict  function quote warm p99 < 1s  (too few samples:", "run")
	do(0, "met         function quote warm max", "run", "--allow-few")
	do(0, "", "runs", "name", "last", "base line")
	first := do(0, "base line", "runs", "list")
	// the share not done is always compared, times of a class where both sides have the six that a median needs; how
	// many there are is the machine's
	of := func(content, class string) (n int) {
		if m := regexp.MustCompile(`(?m)^ +(?:quote )?` + class + ` +(\d+) `).FindStringSubmatch(content); m != nil {
			n, _ = strconv.Atoi(m[1])
		}
		return n
	}
	base := do(0, "fares", "runs", "show", "base line")
	held := do(0, "not more than in run", "run", "--allow-few", "--baseline", "base line", "--worse", "9000%")
	for class, what := range map[string]string{"start": "start", "cold": "cold latency", "first": "first latency",
		"warm": "warm latency"} {
		compared := strings.Contains(held, "function quote "+what+" not worse than in run")
		if compared != (of(base, class) >= 6 && of(held, class) >= 6) {
			t.Errorf("%s is compared: %v\n%s\n%s", what, compared, base, held)
		}
	}
	if list := do(0, "", "runs", "list"); strings.Count(list, "short") != 2 { // keep: 2, and one has a name
		t.Errorf("the rule keeps two runs:\n%s\nbefore it were\n%s", list, first)
	}
	for want, args := range map[string][]string{
		"is not a share":                 {"run", "--baseline", "last", "--worse", "5"},
		"--baseline: no run":             {"run", "--baseline", "none"},
		"has no variant":                 {"compare", "quote", "--variants", "quick"},
		"--cold must be from 1":          {"compare", "quote", "--cold", "0"},
		"unknown function":               {"compare", "quoet"},
		"is a drill: give the two sides": {"compare", "short"},
		"cannot be compared with itself": {"compare", "last", "last"},
		"no payload of the set":          {"compare", "quote", "--payloads", "none"},
		"unknown picture":                {"runs", "export", "last", "--chart", "pie"},
		"are in points":                  {"runs", "export", "last", "--width", "-3"},
		"no run \"x\"":                   {"runs", "replay", "x"},
		"is not a name for a run":        {"runs", "name", "last", "last"},
		"no run \"y\"":                   {"runs", "delete", "last", "y"},
		"missing subcommand":             {"runs"},
		"unknown flag: --sgv":            {"runs", "export", "last", "--sgv"},
		"--against: no run":              {"runs", "export", "last", "--against", "none"},
	} {
		do(2, want, args...)
	}
	out := do(0, "against quote", "compare", "quote", "--cold", "6", "--warm", "20")
	for _, want := range []string{"quote@roomy", "no difference", "got the same reply", "cost per million",
		"package on disk", "memory held"} {
		if !strings.Contains(out, want) {
			t.Errorf("the comparison has no %q:\n%s", want, out)
		}
	}
	var c struct {
		Format      string
		Comparisons []measure.Comparison
	}
	if err := json.Unmarshal([]byte(do(0, "", "compare", "base line", "last", "--json", "-")), &c); err != nil ||
		c.Format != "nightdrill.comparison/1" || len(c.Comparisons) != 1 || len(c.Comparisons[0].Sides) != 2 {
		t.Errorf("%v; the comparison is %+v", err, c)
	}
	do(0, "against run base line", "runs", "replay", "base line", "--allow-few")
	limited := do(0, "quote.max=1", "compare", "short", "--limit", "quote.max=1", "--against", "quote.max=8")
	if !strings.Contains(limited, "quote.max=8") || !strings.Contains(limited, "rejected") {
		t.Errorf("two limits:\n%s", limited)
	}
	// exports: nothing is written over unasked
	files := filepath.Join(dir, "out")
	if names := do(0, "-lanes.svg", "runs", "export", "base line", "--out", files); strings.Count(names, "\n") != 22 {
		t.Errorf("these were written:\n%s", names)
	}
	do(3, "already exists; choose another", "runs", "export", "base line", "--out", files, "--csv")
	do(0, "-invocations.csv", "runs", "export", "base line", "--out", files, "--csv", "--force")
	do(3, "", "runs", "export", "base line", "--out", "/proc/nowhere")
	// figures are the same to the last digit wherever they stand
	kept := do(0, "", "runs", "show", "base line", "--json")
	written, err := filepath.Glob(filepath.Join(files, "*-summary.json"))
	if err != nil || len(written) != 1 || read(t, written[0]) != kept {
		t.Errorf("the exported summary is another than the one that is shown: %v", err)
	}
	do(0, "deleted", "runs", "delete", "base line")
	do(2, "no run", "runs", "show", "base line")
	noneLeft(t)
}

// A run whose program was killed is kept up to then: its findings, exports and a
// comparison are of what was measured, and say that it is unfinished.
func TestAKilledRunIsOfUse(t *testing.T) {
	dir := lay(t, served, "")
	yaml := strings.Replace(read(t, filepath.Join(dir, "nightdrill.yaml")), "steady: 20/s, for: 500ms",
		"steady: 40/s, for: 60s", 1)
	if err := os.WriteFile(filepath.Join(dir, "nightdrill.yaml"), []byte(yaml), 0o644); err != nil {
		t.Fatal(err)
	}
	for n := range 2 {
		c := exec.Command(program, "run", "--project", dir)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		until(t, func() bool { // some of it is written
			s, err := store.Open(dir)
			if err != nil {
				return false
			}
			defer s.Close()
			all, err := s.List()
			if err != nil || len(all) <= n || all[0].Finished || all[0].Length < 1500*time.Millisecond ||
				all[0].Headline != nil {
				return false
			}
			run, err := s.Load(all[0].ID)
			return err == nil && slices.ContainsFunc(run.Deliveries,
				func(d record.Delivery) bool { return d.Outcome == engine.Done })
		})
		if err := c.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = c.Wait()           // it was killed
		until(t, func() bool { // no one writes it any more
			out, _, code := nightdrill(t, "runs", "show", "last", "--json", "--project", dir)
			var s measure.Summary
			return code == 0 && json.Unmarshal([]byte(out), &s) == nil && !s.Finished && s.Events.Done > 0
		})
	}
	content, _, _ := nightdrill(t, "runs", "show", "last", "--project", dir)
	if !strings.Contains(content, "This run did not finish") || !strings.Contains(content, "quote: ") {
		t.Errorf("the findings are\n%s", content)
	}
	s, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	all, err := s.List()
	s.Close()
	if err != nil || len(all) != 2 {
		t.Fatalf("%d runs, %v", len(all), err)
	}
	if out, errs, code := nightdrill(t, "compare", all[1].ID, all[0].ID, "--project", dir); code != 0 ||
		!strings.Contains(out, "peak instances") {
		t.Errorf("compared: exit %d\n%s%s", code, out, errs)
	}
	if out, errs, code := nightdrill(t, "runs", "export", "last", "--out", filepath.Join(dir, "out"), "--project",
		dir); code != 0 || strings.Count(out, "\n") != 22 {
		t.Errorf("exported: exit %d\n%s%s", code, out, errs)
	}
	noneLeft(t)
}

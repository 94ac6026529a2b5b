package services

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
)

// A service is seeded once; from then on each drill begins with what the seed made, whatever was done to it since, and
// also in a later program. Another seed is another beginning.
func TestSeed(t *testing.T) {
	dir, state := t.TempDir(), t.TempDir()
	script := filepath.Join(dir, "seed.sh")
	write := func(text string) {
		if err := os.WriteFile(script, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("echo seeded >> \"$DATA/rows\"; echo x >> runs; chmod 500 \"$DATA\"")
	service := plan.Service{Name: "db", Dir: dir, Start: []string{"sh", "-c", "echo ready {data}; exec sleep 600"},
		Seed: []string{"sh", "seed.sh"}, Data: true, Ready: plan.Ready{By: plan.ReadyLine, Line: "ready"},
		StartTimeout: 20 * time.Second}
	rows := func() string {
		text, _ := os.ReadFile(filepath.Join(state, "data", "db", "rows"))
		return string(text)
	}
	runs := func() int {
		text, _ := os.ReadFile(filepath.Join(dir, "runs"))
		return strings.Count(string(text), "x")
	}
	use := func() {
		f, err := os.OpenFile(filepath.Join(state, "data", "db", "rows"), os.O_APPEND|os.O_WRONLY, 0)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = f.WriteString("used\n")
		_ = f.Close()
	}
	for program := range 2 {
		s := New([]plan.Service{service}, state, nil)
		for drill := range 2 {
			if err := s.Need(t.Context(), 0); err != nil {
				t.Fatal(err)
			}
			if err := s.Reset(t.Context()); err != nil {
				t.Fatal(err)
			}
			if rows() != "seeded\n" || runs() != 1 {
				t.Errorf("program %d, drill %d: %q after %d seeds", program, drill, rows(), runs())
			}
			use()
		}
		s.Close()
	}
	write("echo other > \"$DATA/rows\"; echo x >> runs")
	s := New([]plan.Service{service}, state, nil)
	defer s.Close()
	if err := s.Need(t.Context(), 0); err != nil || rows() != "other\n" || runs() != 2 {
		t.Errorf("another seed: %v, %q after %d", err, rows(), runs())
	}
	if all, _ := filepath.Glob(filepath.Join(state, "seeds", "*")); len(all) != 1 {
		t.Errorf("kept: %v", all)
	}
	write("exit 3")
	failing := New([]plan.Service{service}, state, nil)
	defer failing.Close()
	if err := failing.Need(t.Context(), 0); err == nil || !strings.Contains(err.Error(), "could not be seeded") {
		t.Errorf("a seed that fails: %v", err)
	}
}

// A service that leaves nothing in its folder is seeded each time.
func TestSeedWithoutData(t *testing.T) {
	dir, state := t.TempDir(), t.TempDir()
	s := New([]plan.Service{{Name: "cache", Dir: dir, Start: sh("echo ready {data}; exec sleep 600"),
		Seed: sh("echo x >> runs"), Data: true, Ready: plan.Ready{By: plan.ReadyLine, Line: "ready"},
		StartTimeout: 20 * time.Second}}, state, nil)
	defer s.Close()
	for want := range 3 {
		if err := s.Need(t.Context(), 0); err != nil {
			t.Fatal(err)
		}
		if err := s.Reset(t.Context()); err != nil {
			t.Fatal(err)
		}
		// the first time once to see what it keeps
		if text, _ := os.ReadFile(filepath.Join(dir, "runs")); strings.Count(string(text), "x") != want+2 {
			t.Errorf("after %d beginnings: %q", want+1, text)
		}
	}
}

package store

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/text"
)

// random makes a run with n events.
func random(n int, id string) *record.Run {
	r := rng.New(5, 1)
	time := func() clock.Time { return clock.Time(r.Below(1 << 40)) }
	run := &record.Run{Project: "p", Drill: "d", ID: id, Seed: 7, Busy: 0.5, Stolen: 0.1,
		Doubt: record.AlsoDoubt, Concurrency: 24,
		ColdStarts: 3,
		Changes:    []record.Change{{At: 5, Function: -1, Text: "project total 32 → 24"}},
		Functions:  []record.Function{{Name: "f", Max: 3, PerInstance: 1}},
		Sources:    []record.Source{{Name: "s", Kind: "http", Routes: []string{"GET /"}, To: []int{0}}},
		Budgets:    []string{"project done > 0"},
		Payloads:   slices.Repeat([]record.Payload{{Set: "a", N: 1, Label: "GET /"}}, 9),
		Instances: []record.Instance{{ID: 0, Number: 1, PID: 12, Spawned: 1, Ready: 2, Exit: "exited with code 0",
			Version: 2, Cause: engine.AfterStop, After: engine.Replaced, Parked: true, Peak: 42 << 20, CPU: 9,
			Left: new(0.25)}}}
	for i := range 40 { // some of which have stopped
		run.Instances = append(run.Instances, record.Instance{ID: int32(i + 1), Number: int32(i + 2), Spawned: 3,
			Stopped: clock.Time(i % 3)})
	}
	for i := range n {
		run.Arrivals = append(run.Arrivals, record.Arrival{Due: time(), Arrived: time(), From: -1,
			Payload: int32(r.Below(9)), Round: int32(r.Below(3))})
		run.Invocations = append(run.Invocations, record.Invocation{ID: uint64(i + 1), Assigned: time(), Sent: time(),
			Received: clock.Time(r.Below(2)), Done: time(),
			Slot: int32(r.Below(4)), Batch: 1, Status: int32(r.Below(600)), Class: engine.Class(r.Below(3)),
			Result: engine.Result(r.Below(9)), Late: r.Chance(1, 2)})
		run.Attempts = append(run.Attempts, record.Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1,
			Result: engine.Result(r.Below(9))})
		run.Deliveries = append(run.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1),
			Ended: time(), Wire: -1, Attempts: 1, Outcome: engine.Outcome(r.Below(8)),
			Cause: engine.Cause(r.Below(int(engine.Causes)))})
		run.Levels = append(run.Levels, record.Level{At: time(), Waiting: int32(r.Below(99))})
	}
	return run
}

func TestARunComesBackAsItWas(t *testing.T) {
	s, err := Open(t.TempDir() + "/a folder?#%")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	whole := random(500, "20260101-000000-aa")
	part := *whole
	part.Arrivals, part.Invocations = whole.Arrivals[:200], whole.Invocations[:150]
	part.Attempts, part.Deliveries, part.Levels = whole.Attempts[:150], whole.Deliveries[:140], nil
	part.Instances = slices.Clone(whole.Instances[:30])
	part.Instances[5].Stopped, part.Changes = 0, whole.Changes // one that stops later
	w, err := s.Begin(&part, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Append(&part); err != nil {
		t.Fatal(err)
	}
	// cut off here, it would be readable and unfinished
	got, err := s.Load(part.ID)
	if err != nil || got.Finished || len(got.Arrivals) != 200 || len(got.Deliveries) != 140 ||
		len(got.Instances) != 30 || got.Instances[5].ID != 5 || len(got.Changes) != 1 {
		t.Fatalf("cut off: %v, finished %v, %d arrivals", err, got.Finished, len(got.Arrivals))
	}
	whole.Finished, whole.Length, whole.Notes = true, 9e9, []string{"a note"}
	blobs := [][]byte{[]byte("one"), {0, 1}}
	whole.Blobs = blobs
	if err := w.Finish(whole, report.NewPage(whole)); err != nil {
		t.Fatal(err)
	}
	if b, err := s.Blob(part.ID, 2); err != nil || !bytes.Equal(b, blobs[1]) {
		t.Errorf("blob 2 is %q, %v", b, err)
	}
	kept, err := s.Page(part.ID)
	if again := report.NewPage(whole); err != nil || !reflect.DeepEqual(kept, again) {
		t.Errorf("%v; the findings that were kept are\n%+v\nworked out again\n%+v", err, kept, again)
	}
	whole.Blobs = nil // they are read one by one
	if got, err = s.Load(part.ID); err != nil || !reflect.DeepEqual(got, whole) {
		t.Errorf("%v; read back\n%+v\nwas\n%+v", err, got, whole)
	}
}

func TestRunsAreFoundByWhatAUserWrites(t *testing.T) {
	s, _ := Open(t.TempDir())
	defer s.Close()
	if _, err := s.Find("last"); err == nil || !strings.Contains(err.Error(), "no runs yet") {
		t.Errorf("an empty store: %v", err)
	}
	for i, id := range []string{"20260101-000000-aa", "20260101-000000-bb", "20260102-000000-cc"} {
		if _, err := s.Begin(random(0, id), time.Unix(int64(i), 0)); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{"last": "20260102-000000-cc", "20260101-000000-b": "20260101-000000-bb",
		"20260102": "20260102-000000-cc"} {
		if i, err := s.Find(name); err != nil || i.ID != want {
			t.Errorf("%q: %v, %v", name, i.ID, err)
		}
	}
	for name, want := range map[string]string{"20260101": "could be", "x": `no run "x"`, "": `no run ""`} {
		if _, err := s.Find(name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", name, err, want)
		}
	}
}

func TestAStoreOfANewerProgramOrNoStoreIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	s, _ := Open(dir)
	if _, err := s.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "newer Night Drill") {
		t.Errorf("a newer store: %v", err)
	}
	dir = t.TempDir()
	os.Mkdir(dir+"/.nightdrill", 0o755)
	text := []byte(strings.Repeat("this is no database ", 100))
	os.WriteFile(Path(dir), text, 0o644)
	if _, err := Open(dir); err == nil {
		t.Error("a text file was opened")
	}
	if now, _ := os.ReadFile(Path(dir)); string(now) != string(text) {
		t.Error("the file was changed")
	}
}

// A store of the first form is brought to the present one, and its runs are
// readable, also their blocks, which had fewer columns.
func TestAnOldStoreIsBroughtUpToDate(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(dir+"/.nightdrill", 0o755)
	db, err := sql.Open("sqlite", Path(dir))
	if err != nil {
		t.Fatal(err)
	}
	run := random(50, "20260101-000000-aa")
	old := invocations
	old.columns = 15
	old.put = func(v *record.Invocation, c []int64) {
		wide := make([]int64, invocations.columns)
		invocations.put(v, wide)
		copy(c, wide[:old.columns])
	}
	instances, _ := json.Marshal(run.Instances)
	for _, q := range []struct {
		text string
		args []any
	}{
		{steps[0] + "PRAGMA user_version = 1", nil},
		{"INSERT INTO runs (id, drill, began, finished, head) VALUES (?, 'd', '2026-01-01T00:00:00Z', 1, ?)",
			[]any{run.ID, headOf(run)}},
		{"INSERT INTO blocks VALUES (?, 'invocations', 0, ?)", []any{run.ID, old.encode(run.Invocations)}},
		{"INSERT INTO blocks VALUES (?, 'instances', 0, ?)", []any{run.ID, instances}},
		{"INSERT INTO blocks VALUES (?, 'arrivals', 0, ?)", []any{run.ID, arrivals.encode(run.Arrivals)}},
	} {
		if _, err := db.Exec(q.text, q.args...); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	got, err := s.Load(run.ID)
	if err != nil || !reflect.DeepEqual(got.Invocations, run.Invocations) || !reflect.DeepEqual(got.Arrivals,
		run.Arrivals) {
		t.Errorf("%v; the old run is not what it was", err)
	}
	if p, err := s.Page(run.ID); err != nil || p.Summary.Events.Arrived != 50 {
		t.Errorf("its findings: %v", err)
	}
}

func TestTwoProgramsMayMakeTheStoreAtOnce(t *testing.T) {
	for range 5 {
		dir, errs := t.TempDir(), make(chan error)
		for range 4 {
			go func() {
				s, err := Open(dir)
				if err == nil {
					err = s.Close()
				}
				errs <- err
			}()
		}
		for range 4 {
			if err := <-errs; err != nil {
				t.Error(err)
			}
		}
	}
}

// BenchmarkAppend says what keeping an invocation with its arrival, attempt and
// delivery costs, in blocks of half a second at 10,000 events a second.
func BenchmarkAppend(b *testing.B) {
	s, err := Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	run := random(0, "x")
	r := rng.New(1, 1)
	const n = 5000
	for i := range int64(n) {
		at := clock.Time(i * 100_000)
		done := at + 90_000 + clock.Time(r.Below(20_000))
		run.Arrivals = append(run.Arrivals, record.Arrival{Due: at, Arrived: at + 20_000 + clock.Time(r.Below(5000)),
			From: -1, Payload: int32(i % 160)})
		run.Invocations = append(run.Invocations, record.Invocation{ID: uint64(i + 1), Assigned: at + 20_000,
			Sent: at + 40_000, Received: done - 4000, Done: done, Slot: int32(r.Below(8)), Batch: 1, Status: 200,
			Reply: 1})
		run.Attempts = append(run.Attempts, record.Attempt{Event: i, Invocation: uint64(i + 1), N: 1})
		run.Deliveries = append(run.Deliveries, record.Delivery{Event: i, Invocation: uint64(i + 1), Ended: done,
			Attempts: 1})
	}
	w, err := s.Begin(run, time.Now())
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		w.arrivals, w.invocations, w.attempts, w.deliveries, w.levels = 0, 0, 0, 0, 0
		if err := w.Append(run); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/n, "ns/event")
}

// Whatever is written of a run, nothing of it reaches the terminal that it would obey, and the rest is as it was.
func FuzzHarmlessJSON(f *testing.F) {
	for _, name := range []string{"quote", "\x1b[31mred\a", "a\\\n\\u001b", "\u0085\u202e", "\"\\", "ü\x7f"} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		written, err := json.Marshal([]string{name})
		if err != nil {
			t.Skip()
		}
		var as, got []string
		if err := json.Unmarshal(written, &as); err != nil {
			t.Fatal(err)
		}
		if err := ReadJSON(written, &got); err != nil || len(got) != 1 {
			t.Fatalf("%q: %v", name, err)
		}
		want := strings.ReplaceAll(as[0], "\t", "·")
		if want = text.Harmless(want); got[0] != want {
			t.Errorf("%q is read as %q, not %q", name, got[0], want)
		}
	})
}

package session

import (
	"fmt"
	"math"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/session/kept"
)

// A run of all kinds, with faults, chains, a storage source and a schedule, is replayed
// from the bytes that it kept: the payload files say something else by now, and the
// objects are gone. The same events come at the same times, and functions get the same.
func TestARunIsReplayedFromWhatItKept(t *testing.T) {
	s, dir, h := layKinds(t)
	s.Pause("a drill runs")
	r, err := s.Start(t.Context(), s.DrillNamed("evening"), nil)
	if err != nil {
		t.Fatal(err)
	}
	<-r.Done()
	before, err := s.Runs.Load(r.ID)
	if err != nil {
		t.Fatal(err)
	}
	h.mu.Lock()
	first := slices.Clone(h.seen)
	h.seen = nil
	h.mu.Unlock()
	s.Close()
	s.Workspace.Close()

	other := `{"specversion":"1.0","id":"other","source":"s","type":"t","subject":"in/z.csv",` +
		`"datacontenttype":"application/json","data":{"vessel":"Skua"}}` + "\n"
	write(t, dir, "loads.ndjson", other)
	write(t, dir, "positions.ndjson", strings.Repeat(other, 4))
	write(t, dir, "crates/in/c.csv", "heavy, by now")
	if err := os.RemoveAll(filepath.Join(dir, ".nightdrill", "objects")); err != nil {
		t.Fatal(err)
	}
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	again, _, err := d.ReplayOf(before)
	if err != nil {
		t.Fatal(err)
	}
	rr, err := d.Start(t.Context(), again, nil)
	if err != nil {
		t.Fatal(err)
	}
	<-rr.Done()
	after, err := d.Runs.Load(rr.ID)
	if err != nil {
		t.Fatal(err)
	}
	arrivals := func(r *record.Run) (out []string) {
		for i := range r.Arrivals {
			if a := &r.Arrivals[i]; a.From < 0 {
				p := &r.Payloads[a.Payload]
				out = append(out, fmt.Sprint(r.Sources[a.Source].Name, " ", p.Set, p.N, " ", p.Label, " at ", a.Due,
					", round ", a.Round, ", faults ", a.Fault, " ", a.Delay))
			}
		}
		slices.Sort(out)
		return out
	}
	if was, is := arrivals(before), arrivals(after); !slices.Equal(was, is) {
		t.Errorf("it was\n%s\nand is\n%s", strings.Join(was, "\n"), strings.Join(is, "\n"))
	}
	if turns := record.TurnsOf(before, after); turns.Other > 0 || turns.Same != 12+12+4+3 {
		t.Errorf("%+v", turns)
	}
	// what the functions got, but for the batches, whose borders go with the clock, and
	// for the address of the object store
	got := func(all []string) (out []string) {
		for _, x := range all {
			if path, body, _ := strings.Cut(x, " "); path == "/gate" || path == "/strict" {
				out = append(out, path+" "+body)
			}
		}
		slices.Sort(out)
		return out
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if was, is := got(first), got(h.seen); !slices.Equal(was, is) {
		t.Errorf("the functions got\n%s\nand then\n%s", strings.Join(was, "\n"), strings.Join(is, "\n"))
	}
}

// What cannot be replayed says why.
func TestReplaysThatCannotBe(t *testing.T) {
	server := httptest.NewServer(&harbour{})
	defer server.Close()
	s, _ := lay(t, strings.ReplaceAll("nightdrill: 1\nfunctions: {gate: {transport: attach, url: "+
		"\"{url}\"}}\nsources: {fares: {kind: http, wires: [{to: gate}]}}\n", "{url}", server.URL))
	s.Pause("")
	run := func(change func(*record.Run)) *record.Run {
		r := &record.Run{ID: "20260101-000000-aa", Plan: kept.NewManifest(s.Project, &plan.Drill{}),
			Functions: []record.Function{{Name: "gate"}}, Sources: []record.Source{{Name: "fares", Kind: "http"}},
			Payloads: []record.Payload{{Set: "x", N: 1, Label: "GET /"}}, Arrivals: []record.Arrival{{From: -1}}}
		change(r)
		return r
	}
	for want, change := range map[string]func(*record.Run){
		"was recorded by an older version": func(r *record.Run) { r.Plan = nil },
		"was too large to be kept":         func(*record.Run) {},
		"nothing arrived":                  func(r *record.Run) { r.Arrivals, r.Payloads = nil, nil },
		"source ferries of run kept-": func(r *record.Run) {
			r.Sources[0].Name, r.Payloads[0].Set, r.Payloads[0].Blob = "ferries", "kept", 1
		},
	} {
		r := run(change)
		w, err := s.Runs.Begin(&record.Run{ID: "kept-" + fmt.Sprint(len(want)), Busy: math.NaN()}, time.Now())
		if err == nil {
			r.ID = "kept-" + fmt.Sprint(len(want))
			err = w.Append(&record.Run{Blobs: [][]byte{[]byte("GET / HTTP/1.1\n\n")}})
		}
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := s.ReplayOf(r); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// What a run was told to do is kept without what may be secret.
func TestWhatIsToldHoldsNoSecrets(t *testing.T) {
	p := &plan.Project{Functions: []plan.Function{{Name: "f", Env: []string{"API_KEY=hush"},
		Start: []string{"serve", "--token=hush", "--password", "hush", "token=hush", "--port=80", "--token"}}}}
	text := string(kept.NewManifest(p, &plan.Drill{}))
	if strings.Contains(text, "hush") || !strings.Contains(text, "--port=80") || !strings.Contains(text, "API_KEY") {
		t.Errorf("it was told %s", text)
	}
}
